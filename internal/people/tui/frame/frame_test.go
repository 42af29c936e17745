package frame

import (
	"fmt"
	"testing"
)

// However narrow it is, the key for all others is named, if it fits at all.
func TestKeysThatFit(t *testing.T) {
	hints := []Hint{{Key: "a", Does: "say yes"}, {Key: "n", Does: "next leg"}, {Key: Help, Does: "keys"},
		{Key: "q", Does: "quit"}}
	for _, c := range []struct {
		width int
		want  string
	}{
		{100, "a n ? q"}, {9 + 3 + 10 + 3 + 6 + 3 + 6, "a n ? q"}, {9 + 3 + 10 + 3 + 6 + 3 + 5, "a n ?"},
		{9 + 3 + 10 + 3 + 5, "a ?"},
		{9 + 3 + 6, "a ?"}, {9 + 3 + 5, "?"}, {6, "?"},
	} {
		got := ""
		for n, k := range fitting(hints, c.width) {
			if n > 0 {
				got += " "
			}
			got += k.Key
		}
		if got != c.want {
			t.Errorf("into %d columns fit %q, want %q", c.width, got, c.want)
		}
	}
	if got := fmt.Sprint(fitting(hints[:2], 12)); got != "[{a say yes false}]" {
		t.Errorf("without help, there is %s", got)
	}
	if got := fmt.Sprint(fitting(Stay(hints, "q"), 9+3+6+3+6)); got != "[{a say yes false} {? keys false} {q quit true}]" {
		t.Errorf("with a key that stays, there is %s", got)
	}
	if got := fmt.Sprint(fitting(Stay(hints, "q"), 6)); got != "[{? keys false}]" {
		t.Errorf("with room for one, there is %s", got)
	}
}
