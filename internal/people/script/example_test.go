package script_test

import (
	"fmt"
	"time"

	"vaiven/internal/core/split"
	"vaiven/internal/people/script"
)

func ExampleMarshal() {
	data, err := script.Marshal("shift", split.Green, struct {
		Share split.Share   `json:"share"`
		Took  time.Duration `json:"took"`
	}{25 * split.Percent, 2100 * time.Microsecond})
	fmt.Println(string(data), err)
	// Output: {"schema":1,"kind":"shift","share_green":25,"share_new":25,"took_s":0.0021} <nil>
}
