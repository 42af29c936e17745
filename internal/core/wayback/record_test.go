package wayback

import (
	"fmt"
	"strings"
	"testing"
)

// What is not as it was is named, by where it is, and no more than a screen can show.
func TestCompare(t *testing.T) {
	was := Record{
		Instances: []Stood{{"web", "blue-1", "a1"}, {"web", "blue-2", "a1"}},
		Facts:     []Fact{{"web", "environment FARES", []string{"11"}}, {"web", "limits open files", []string{"22"}}},
	}
	text := func(now Record, whole bool) string {
		var list []string
		for _, f := range Compare(was, now, whole).Failed {
			list = append(list, fmt.Sprintf("%s %s %s", f.Where, f.What, f.Said))
		}
		return strings.Join(list, "; ")
	}
	if got := text(was, true); got != "" {
		t.Errorf("the same differs by %s", got)
	}
	now := Record{
		Instances: []Stood{{"web", "blue-1", "b2"}, {"web", "blue-3", "a1"}},
		Facts: []Fact{{"web", "environment FARES", []string{"11", "12"}},
			{"web", "environment NEW", []string{"33"}}},
	}
	want := "blue-1 build is b2, and was a1; blue-2 instance does not run any more; blue-3 instance was not there; " +
		"web environment FARES is not what it was; web limits open files is gone; web environment NEW was not there"
	if got := text(now, true); got != want {
		t.Errorf("it differs by\n%s\nnot\n%s", got, want)
	}
	if got := text(Record{}, false); got != "" {
		t.Errorf("what could not be read differs by %s", got)
	}
	for n := range 50 {
		now.Facts = append(now.Facts, Fact{"web", fmt.Sprint("environment ", n), nil})
	}
	if l := Compare(was, now, true); len(l.Failed) != failingMost+1 ||
		!strings.Contains(l.Failed[failingMost].Said, "36 more") {
		t.Errorf("%d are named, the last is %+v", len(l.Failed), l.Failed[len(l.Failed)-1])
	}
}
