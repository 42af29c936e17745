package people_test

import (
	"fmt"

	"vaiven/internal/core/people"
)

func ExampleRules_Has() {
	r := people.Rules{May: map[people.Right][]string{people.Begin: {"deploy"}, people.Approve: {"@oncall"}}}
	fmt.Println(r.Has("deploy", nil, people.Begin, ""), r.Has("deploy", nil, people.Approve, "start"))
	// Output: true false
}
