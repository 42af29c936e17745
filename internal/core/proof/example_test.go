package proof_test

import (
	"fmt"

	"vaiven/internal/core/proof"
)

func ExampleJudge() {
	j := proof.Judge{UpAfter: 3, DownAfter: 2}
	j = j.Read(true)
	fmt.Println(j.Health == proof.Unknown) // one reading proves nothing
	fmt.Println(j.Read(true).Read(true).Health)
	// Output: true
	// up
}
