package rotate_test

import (
	"fmt"

	"vaiven/internal/world/rotate"
)

func ExampleCut() {
	var folder rotate.Folder
	if err := rotate.Cut(folder, "out/green-1.log", rotate.Limit{Size: 10 << 20, Keep: 3}); err != nil {
		fmt.Println(err)
	}
}
