package section_test

import (
	"fmt"

	"vaiven/internal/world/section"
)

func ExampleReader() {
	data := []byte("service: sailings\n")
	var service string
	r := section.New("sailings.yaml", data)
	r.Mapping(r.Tree(data), "the plan", section.Need("service", section.Parsed(r, "service", &service, section.Word)))
	fmt.Println(service, len(r.Problems.List))
	// Output: sailings 0
}
