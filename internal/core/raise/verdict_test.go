package raise

import (
	"reflect"
	"slices"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

var began = time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)

// instance is one of green's web part, at 4.3.0 of build 7c1e, which took 8 s to be healthy.
func instance(name string, change func(*reading.Condition)) reading.Condition {
	c := reading.Condition{State: reading.Healthy, Since: began.Add(8 * s)}
	c.Name, c.Part, c.Version, c.Build, c.Started, c.Running = name, "web", "4.3.0", "7c1e", began, true
	if change != nil {
		change(&c)
	}
	return c
}

func TestNumber(t *testing.T) {
	for _, c := range []struct {
		stack plan.Stack
		live  int
		first int
		until split.Share
		then  int
	}{
		{plan.Stack{Instances: 3}, 5, 3, 0, 0},
		{plan.Stack{Instances: plan.AsLive}, 5, 5, 0, 0},
		{plan.Stack{Instances: 2, Until: 1000, Then: plan.AsLive}, 5, 2, 1000, 5},
		{plan.Stack{Instances: 2, Until: 1000, Then: 4}, 5, 2, 1000, 4},
		{plan.Stack{Instances: 4, Until: 1000, Then: 4}, 5, 4, 0, 0}, // no more than at first
		{plan.Stack{Instances: 4, Until: 1000, Then: 3}, 5, 4, 0, 0},
		{plan.Stack{Instances: plan.AsLive}, 0, 0, 0, 0},
	} {
		if first, until, then := Number(c.stack, c.live); first != c.first || until != c.until || then != c.then {
			t.Errorf("%+v with %d live: %d, %v, %d", c.stack, c.live, first, until, then)
		}
	}
}

func TestGrownByAPart(t *testing.T) {
	choices := []Choice{{Part: "web", Instances: 2, Until: 1000, Then: 5}, {Part: "berths", Instances: 1}}
	for _, c := range []struct {
		part split.Share
		want int
		more bool
	}{{0, 3, false}, {1000, 3, false}, {1001, 6, true}} {
		grown, more := Grown(choices, c.part)
		if Wanted(grown) != c.want || more != c.more || more && grown[0].Until != 0 {
			t.Errorf("with %v: %+v, %v", c.part, grown, more)
		}
	}
	if choices[0].Instances != 2 {
		t.Error("the choices before have changed")
	}
}

// A raise is over when every part has its number of instances of what was chosen, all of them healthy.
func TestJudge(t *testing.T) {
	adopted := plan.Stack{Stands: []plan.Stand{{}}, Instances: 2}
	exited := func(c *reading.Condition) { c.State, c.Exit = reading.Exited, "exit status 3" }
	for _, c := range []struct {
		name       string
		stack      plan.Stack
		choice     Choice
		conditions []reading.Condition
		want       Verdict
		exited     bool
	}{
		{"up", plan.Stack{Instances: 2}, Choice{},
			[]reading.Condition{instance("green-1", nil), instance("green-2", nil)},
			Verdict{Names: []string{"green-1", "green-2"},
				Times: map[string]time.Duration{"green-1": 8 * s, "green-2": 8 * s}}, false},
		{"fewer than planned", plan.Stack{Instances: 2}, Choice{}, []reading.Condition{instance("green-1", nil)},
			Verdict{Names: []string{"green-1"}, Times: map[string]time.Duration{"green-1": 8 * s},
				Missing: []Missing{{"web", 1, 2}}}, false},
		{"as many as were chosen", plan.Stack{Instances: 2}, Choice{Instances: 1},
			[]reading.Condition{instance("green-1", nil)},
			Verdict{Names: []string{"green-1"}, Times: map[string]time.Duration{"green-1": 8 * s}}, false},
		{"of another version, build or part", plan.Stack{Instances: 1}, Choice{}, []reading.Condition{
			instance("a", func(c *reading.Condition) { c.Version = "4.2.0" }),
			instance("b", func(c *reading.Condition) { c.Build = "0" }),
			instance("c", func(c *reading.Condition) { c.Part = "berths" }),
		}, Verdict{Missing: []Missing{{"web", 0, 1}}}, false},
		{"not healthy", plan.Stack{Instances: 1}, Choice{},
			[]reading.Condition{instance("green-1", func(c *reading.Condition) {
				c.State, c.Said, c.Output = reading.Answering, "status 503", []string{"first", "last"}
			})}, Verdict{Names: []string{"green-1"},
				Stuck: []Stuck{{"green-1", reading.Answering, "status 503", "last"}}},
			false},
		{"ended", plan.Stack{Instances: 1}, Choice{}, []reading.Condition{instance("green-1", exited)},
			Verdict{Names: []string{"green-1"}, Stuck: []Stuck{{Name: "green-1", Health: reading.Exited}}}, true},
		{"stands at the version", adopted, Choice{},
			[]reading.Condition{instance("a", nil), instance("b", func(c *reading.Condition) { c.Build = "0" })},
			Verdict{Names: []string{"a", "b"}, Times: map[string]time.Duration{"a": 8 * s, "b": 8 * s}}, false},
		{"stands, at another or ended", adopted, Choice{}, []reading.Condition{
			instance("a", func(c *reading.Condition) { c.Version = "4.2.0" }), instance("b", exited),
		}, Verdict{Stuck: []Stuck{{Name: "a", Health: reading.Starting, Said: "it runs 4.2.0"},
			{Name: "b", Health: reading.Starting, Said: "exit status 3"}}}, false},
		{"stands, and only its build is known", adopted, Choice{}, []reading.Condition{
			instance("a", func(c *reading.Condition) { c.Version, c.Build = "", "sha256:0123456789abcdef" }),
			instance("b", func(c *reading.Condition) { c.Version = "" }),
		}, Verdict{Names: []string{"b"}, Times: map[string]time.Duration{"b": 8 * s},
			Stuck: []Stuck{{Name: "a", Health: reading.Starting, Said: "it runs build 0123456789ab"}}}, false},
	} {
		c.choice.Part, c.choice.Version, c.choice.Build = "web", "4.3.0", "7c1e"
		p := &plan.Plan{Parts: []plan.Part{{Name: "web", Stacks: [2]plan.Stack{{}, c.stack}}}}
		if c.want.Times == nil {
			c.want.Times = map[string]time.Duration{}
		}
		got := Judge(p, split.Green, []Choice{{Part: "berths"}, c.choice}, c.conditions)
		if !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s:\n%+v, want\n%+v", c.name, got, c.want)
		}
		if up := len(c.want.Stuck)+len(c.want.Missing) == 0; got.Healthy() != up || got.Exited() != c.exited {
			t.Errorf("%s: healthy %v, exited %v", c.name, got.Healthy(), got.Exited())
		}
	}
}

func TestStands(t *testing.T) {
	for _, c := range []struct {
		version, build string
		of             Choice
		want           bool
	}{
		{"4.3.0", "0", Choice{Version: "4.3.0", Build: "7c1e"}, true},
		{"4.2.0", "7c1e", Choice{Version: "4.3.0", Build: "7c1e"}, false},
		{"", "7c1e", Choice{Version: "4.3.0", Build: "7c1e"}, true},
		{"", "0", Choice{Version: "4.3.0", Build: "7c1e"}, false},
		{"", "", Choice{Version: "4.3.0", Build: "7c1e"}, true}, {"", "0", Choice{Version: "4.3.0"}, true},
	} {
		if got := Stands(reading.Instance{Version: c.version, Build: c.build}, c.of.Version,
			c.of.Build); got != c.want {
			t.Errorf("%q of build %q at %+v: %v", c.version, c.build, c.of, got)
		}
	}
}

func TestNothingNew(t *testing.T) {
	runs := func(part, build string) reading.Instance {
		return reading.Instance{Part: part, Build: build, Running: true}
	}
	web, berths := Choice{Part: "web", Build: "7c1e"}, Choice{Part: "berths", Build: "a"}
	for _, c := range []struct {
		name    string
		choices []Choice
		live    []reading.Instance
		want    bool
	}{
		{"all of it", []Choice{web, berths},
			[]reading.Instance{runs("web", "7c1e"), runs("web", "7c1e"), runs("berths", "a")}, true},
		{"another build", []Choice{web}, []reading.Instance{runs("web", "0")}, false},
		{"two builds", []Choice{web}, []reading.Instance{runs("web", "7c1e"), runs("web", "0")}, false},
		{"one that has ended does not count", []Choice{web},
			[]reading.Instance{runs("web", "7c1e"), {Part: "web", Build: "0"}}, true},
		{"a build that is not known", []Choice{{Part: "web"}}, []reading.Instance{runs("web", "")}, false},
		{"a part that is not live", []Choice{web, berths}, []reading.Instance{runs("web", "7c1e")}, false},
		{"nothing", nil, []reading.Instance{runs("web", "7c1e")}, false},
	} {
		if got := NothingNew(c.choices, c.live); got != c.want {
			t.Errorf("%s: %v", c.name, got)
		}
	}
	if Main(nil) != (Choice{}) || Main([]Choice{web, berths}).Part != "web" {
		t.Error("the first part is not the front's")
	}
}

func TestVersions(t *testing.T) {
	for want, v := range map[string]Version{
		"cannot be raised: no manifest": {Name: "4.3.0", Wrong: "no manifest", Note: "the tide"},
		"not looked at yet":             {Name: "4.3.0"},
		"the tide":                      {Name: "4.3.0", Note: "the tide"}, "": {Name: "4.3.0", ID: "7c1e"},
	} {
		if got := v.Remark(); got != want {
			t.Errorf("%+v: %q", v, got)
		}
	}
	for id, want := range map[string]string{"sha256:0123456789abcdef": "0123456789ab",
		"0123456789abcdef": "0123456789ab", "7c1e": "7c1e", "": ""} {
		if got := Short(id); got != want {
			t.Errorf("%q is %q", id, got)
		}
	}
	list := []Version{{Name: "4.3.0", ID: "sha256:0123456789abcdef"}, {Name: "0123456", ID: "sha256:ffff"},
		{Name: "4.2.0", ID: "0123456789"}}
	for name, want := range map[string]string{
		"4.3.0": "4.3.0", "0123456": "0123456", "01234567": "4.3.0", "sha256:01": "4.3.0", "0123456789": "4.3.0",
		"012345": "", "4.4.0": "", "sha256:ff": "0123456",
	} {
		got, found := Pick(list, name)
		if got.Name != want || found != (want != "") {
			t.Errorf("%q is %+v, %v", name, got, found)
		}
	}
	if v, _ := Pick(slices.Concat(list[2:], list), "4.3.0"); v.ID != list[0].ID {
		t.Errorf("picked %+v", v)
	}
	if v, found := Pick([]Version{{Name: "x", ID: "0123456"}}, "0123456"); !found || v.Name != "x" {
		t.Errorf("seven digits are enough: %+v", v)
	}
}

// What would be stopped for more instances is what runs and was not chosen.
func TestUnchosen(t *testing.T) {
	choices := []Choice{{Part: "web", Version: "4.3.0", Build: "b2", Instances: 2}, {Part: "worker", Version: "4.3.0"}}
	run := func(part, build string, running bool) reading.Instance {
		return reading.Instance{Name: part + build, Part: part, Version: "4.3.0", Build: build, Running: running}
	}
	for name, c := range map[string]struct {
		list  []reading.Instance
		odd   bool
		about int
	}{
		"as chosen":      {[]reading.Instance{run("web", "b2", true), run("web", "b2", true)}, false, 0},
		"another build":  {[]reading.Instance{run("web", "b1", true)}, true, 0},
		"one that ended": {[]reading.Instance{run("web", "b1", false), run("web", "b2", true)}, false, 0},
		"one too many": {[]reading.Instance{run("web", "b2", true), run("web", "b2", true), run("web", "b2", true)},
			true, 2},
		"a part unknown": {[]reading.Instance{run("mail", "b2", true)}, true, 0},
	} {
		if odd, found := Unchosen(choices, c.list); found != c.odd || odd.Wanted != c.about {
			t.Errorf("%s: %+v, %v", name, odd, found)
		}
	}
}
