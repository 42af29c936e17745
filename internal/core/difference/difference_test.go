package difference

import (
	"regexp"
	"slices"
	"strings"
	"testing"

	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
)

func TestCompare(t *testing.T) {
	facts := [2][]Fact{
		split.Blue: {
			{Area: Environment, Name: "REGION", Value: "north"},
			{Area: Environment, Name: "REGION", Value: "north"}, // a second instance that agrees
			{Area: Environment, Name: "FARES_PASSWORD", Value: "salt", Secret: true},
			{Area: Environment, Name: "FEATURE_BERTHS", Value: "off"},
			{Area: Limits, Name: "open files", Value: "1024"},
			{Area: Limits, Name: "open files", Value: "4096"},
			{Area: Build, Value: "7c1e"},
			{Area: Command, Value: "sailings --listen {address}"},
			{Part: "worker", Area: Instances, Value: "2"},
		},
		split.Green: {
			{Area: Environment, Name: "REGION", Value: "south"},
			{Area: Environment, Name: "FARES_PASSWORD", Value: "pepper", Secret: true},
			{Area: Environment, Name: "FEATURE_BERTHS", Value: "on"},
			{Area: Environment, Name: "NEW", Value: ""},
			{Area: Limits, Name: "open files", Value: "1024"},
			{Area: Build, Value: "b92f"},
			{Area: Command, Value: "sailings --listen {address}"},
			{Part: "worker", Area: Instances, Value: "2"},
		},
	}
	r := Compare(facts, []Rule{{Area: Build}, {Area: Environment, Name: "FEATURE_*"}}, Names{})
	var got []string
	for _, d := range r.List {
		line := d.What() + ": " + d.Value[0] + " → " + d.Value[1]
		if d.Meant {
			line += " (meant)"
		}
		got = append(got, line)
	}
	want := []string{
		"environment FARES_PASSWORD: secret, not shown → secret, not shown",
		"environment NEW:  → ",
		"environment REGION: north → south",
		"limits open files: its instances disagree: 1024 | 4096 → 1024",
		"build: 7c1e → b92f (meant)",
		"environment FEATURE_BERTHS: off → on (meant)",
	}
	if !slices.Equal(got, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if n := len(r.Questioned()); n != 4 || r.Compared != 8 {
		t.Errorf("%d of %d are questioned, want 4 of 8", n, r.Compared)
	}
	if d := r.List[1]; d.Has[split.Blue] || !d.Has[split.Green] {
		t.Errorf("a variable that only green has: %+v", d)
	}
}

func TestTheSameFactsDoNotDiffer(t *testing.T) {
	r := testkit.Rand(t)
	var facts []Fact
	for range 200 {
		facts = append(facts, Fact{Area: Areas[r.IntN(len(Areas))], Name: string(rune('a' + r.IntN(26))),
			Value: "same"})
	}
	mixed := slices.Clone(facts)
	r.Shuffle(len(mixed), func(i, j int) { mixed[i], mixed[j] = mixed[j], mixed[i] })
	if got := Compare([2][]Fact{facts, mixed}, nil, Names{}).List; len(got) != 0 {
		t.Errorf("the same facts in another order differ: %+v", got)
	}
}

// Matches agrees with the regular expression that says the same.
func TestMatches(t *testing.T) {
	r := testkit.Rand(t)
	word := func(letters string) string {
		var b strings.Builder
		for range r.IntN(7) {
			b.WriteByte(letters[r.IntN(len(letters))])
		}
		return b.String()
	}
	for range 20_000 {
		pattern, text := word("ab*"), word("ab")
		slow := regexp.MustCompile("^" + strings.ReplaceAll(pattern, "*", ".*") + "$").MatchString(text)
		if got := Matches(pattern, text); got != slow {
			t.Fatalf("Matches(%q, %q) = %v, want %v", pattern, text, got, slow)
		}
	}
}

func TestDocumentsDifferByPath(t *testing.T) {
	blue := Flatten(map[string]any{"at": "21:00", "fares": []any{map[string]any{"price": 900.0}, "one"},
		"empty": map[string]any{}, "n": 1.0})
	green := Flatten(map[string]any{"at": "21:01", "fares": []any{map[string]any{"price": 950.0}}, "n": "1"})
	got := Paths(blue, green, []string{"at"})
	if want := []string{"empty", "fares.0.price", "fares.1", "n"}; !slices.Equal(got, want) {
		t.Errorf("paths %q, want %q", got, want)
	}
	if got := Paths(blue, green, []string{"*"}); len(got) != 0 {
		t.Errorf("all is ignored, and there is %q", got)
	}
}

// What the release is about differs by itself: the build, where each side agrees on its own. One
// instance with another build is not what it is about.
func TestTheReleaseItselfIsPlanned(t *testing.T) {
	build := func(instance, id string) Fact { return Fact{Part: "web", Area: Build, Instance: instance, Value: id} }
	blue := []Fact{build("blue-1", "7c1e"), build("blue-2", "7c1e")}
	for _, c := range []struct {
		green   []Fact
		planned bool
	}{
		{[]Fact{build("green-1", "b92f"), build("green-2", "b92f")}, true},
		{[]Fact{build("green-1", "b92f"), build("green-2", "a001")}, false},
		{[]Fact{build("green-1", "b92f"), {Part: "web", Area: Runtime, Instance: "green-2", Value: "vessa 2"}}, true},
	} {
		r := Compare([2][]Fact{blue, c.green}, nil, Names{})
		for _, d := range r.List {
			if d.Area == Build && d.Meant != c.planned || d.Area != Build && d.Meant {
				t.Errorf("%+v is planned: %v", d, d.Meant)
			}
		}
	}
}

// What an adopted side has from the shell that it was started from is one difference; what was meant, what is the
// service's own, and other parts stay as they are.
func TestWithoutShell(t *testing.T) {
	fact := func(part, name, value string) Fact {
		return Fact{Part: part, Area: Environment, Name: name, Instance: "i", Value: value}
	}
	facts := [2][]Fact{
		{fact("web", "HOME", "/root"), fact("web", "LC_ALL", "C"), fact("web", "SHLVL", "2"), fact("web", "FARES", "a"),
			fact("web", "PATH", "/a"), fact("web", "TERM", "xterm"), fact("queue", "HOME", "/root")},
		{fact("web", "HOME", "/"), fact("web", "FARES", "b"), fact("web", "PATH", "/b"), fact("queue", "HOME", "/")},
	}
	r := Compare(facts, []Rule{{Environment, "TERM"}}, Names{}).
		WithoutShell(func(part string) bool { return part == "web" })
	var got []string
	for _, d := range r.List {
		got = append(got, d.Part+" "+d.Name+": "+d.Value[0]+" / "+d.Value[1])
	}
	want := []string{"queue HOME: /root / /", "web FARES: a / b", "web PATH: /a / /b",
		"web " + FromShell + ": 3 set: HOME=/root LC_ALL=C SHLVL=2 / 1 set: HOME=/", "web TERM: xterm / "}
	if strings.Join(got, "\n") != strings.Join(want, "\n") || len(r.Questioned()) != 4 {
		t.Errorf("it is\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}
