package all_test

import (
	"context"
	"fmt"

	"vaiven/internal/front/all"
	"vaiven/internal/plan/planfile"
)

func ExampleOpen() {
	p, err := planfile.Read("sailings.yaml")
	if err != nil {
		return
	}
	r, err := all.Open(p).Read(context.Background())
	fmt.Println(r.Split.Share, err)
}
