package people

import (
	"slices"
	"testing"
)

var rules = Rules{
	Groups: map[string][]string{"crew": {"marit", "@oncall"}, "pipelines": {"deploy"}, "nobody": {"jon"}},
	May:    map[Right][]string{Begin: {"crew", "pipelines"}, Steer: {"crew"}, Approve: {"crew"}, Retire: {Everybody}},
	Asks:   map[string][]string{"leg 2": {"ines"}},
}

func TestHas(t *testing.T) {
	for _, c := range []struct {
		user   string
		groups []string
		right  Right
		ask    string
		want   bool
	}{
		{"marit", nil, Begin, "", true},
		{"deploy", nil, Begin, "", true},
		{"deploy", nil, Approve, "start", false},
		{"bo", []string{"staff", "oncall"}, Approve, "start", true},
		{"oncall", nil, Approve, "start", false}, // a user of the group's name
		{"marit", nil, Approve, "leg 2", false},
		{"ines", nil, Approve, "leg 2", true},
		{"ines", nil, Steer, "leg 2", false},
		{"marit", nil, Force, "", false}, // nobody's
		{"jon", nil, Watch, "", true},    // not said
		{"jon", nil, Retire, "", true},
		{"", []string{"oncall"}, Begin, "", false},
		{"root", nil, Begin, "", false},
		{"crew", nil, Begin, "", false}, // a user of the name of one of the plan's groups
	} {
		if got := rules.Has(c.user, c.groups, c.right, c.ask); got != c.want {
			t.Errorf("%s %v may %s %s: %v", c.user, c.groups, c.right, c.ask, got)
		}
	}
	if !(Rules{}).Has("jon", nil, Force, "") {
		t.Error("without rules somebody may not")
	}
	if got := rules.Unused(); !slices.Equal(got, []string{"nobody"}) {
		t.Errorf("unused are %v", got)
	}
}

func TestParseMember(t *testing.T) {
	for _, text := range []string{"marit", "@oncall", "_apt", "svc-1$", "a.b"} {
		if got, err := ParseMember(text); err != nil || got != text {
			t.Errorf("%q: %q, %v", text, got, err)
		}
	}
	for _, text := range []string{"", "@", "two words", "1st", "@@x", "a:b", "a\nb", "-x"} {
		if got, err := ParseMember(text); err == nil {
			t.Errorf("%q is %q", text, got)
		}
	}
}
