package planfile

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/world/section"
)

// based writes a plan and its base into a folder.
func based(t *testing.T, text, base string) (file string) {
	t.Helper()
	dir := t.TempDir()
	file = filepath.Join(dir, "plans", "sailings.yaml")
	if err := errors.Join(os.Mkdir(filepath.Dir(file), 0o755), os.WriteFile(file, []byte(text), 0o644),
		os.WriteFile(filepath.Join(dir, "base.yaml"), []byte(base), 0o644)); err != nil {
		t.Fatal(err)
	}
	return file
}

const (
	overBase = "base: ../base.yaml # shared\nservice: sailings\nfront:\n  listen: 127.0.0.1:81\nstack:\n  instances: 3\n" +
		"smoke:\n  - request: /\nguards:\n  failing: {find: 2 %}\n"
	sharedBase = "front:\n  listen: 127.0.0.1:80\n  key: client\nstack:\n  command: ./{version}/run {address}\n" +
		"  ports: 18100-18109\n  instances: 2\nsmoke:\n  - request: /a\n  - request: /b\nroute: [10 % for 5m, 100 %]\n" +
		"keep: 7m\nguards:\n  failing: {worse-by: 3 %}\n  slow: {after: 2s}\n"
)

// What a plan says wins over its base, key by key; lists and guards are one value.
func TestBase(t *testing.T) {
	p, err := Read(based(t, overBase, sharedBase))
	if err != nil {
		t.Fatal(err)
	}
	failing, _ := p.Guard(plan.Failing)
	slow, _ := p.Guard(plan.Slow)
	if p.Front.Listen != "127.0.0.1:81" || p.Front.Key.From != plan.KeyClient || p.Wanted(0) != 3 ||
		len(p.Main().Smoke) != 1 || p.Keep != 7*time.Minute || len(p.Route) != 2 || slow.After != 2*time.Second {
		t.Errorf("it is %+v", p)
	}
	alone, err := Parse("p.yaml", []byte("service: s\nstack: {command: \"./{version}/r {address}\", ports: 1000-1009}\nsmoke: [{request: /}]\n"+
		"route: [100 %]\nguards: {failing: {find: 2 %}}\n"))
	if err != nil {
		t.Fatal(err)
	}
	if want, _ := alone.Guard(plan.Failing); failing.Margin != want.Margin || failing.Find != want.Find {
		t.Errorf("of a guard that the plan names the base says something too: %+v, not %+v", failing, want)
	}
	if !strings.HasSuffix(p.Base, "/base.yaml") || !strings.HasSuffix(p.State, "/plans/sailings.vaiven") {
		t.Errorf("its base is %s, its state %s", p.Base, p.State)
	}
	other, err := Read(based(t, overBase, sharedBase+"\n# changed\n"))
	if err != nil || other.Digest == p.Digest {
		t.Errorf("another base makes the same plan: %v", err)
	}
	home, err := ReadFront(based(t, overBase, strings.Replace(sharedBase, "keep: 7m", "keep: forever", 1)))
	if err != nil || home.Front.Listen != "127.0.0.1:81" || home.Front.Key.From != plan.KeyClient {
		t.Errorf("with a mistake elsewhere in the base it is not known where home is: %v", err)
	}
}

// A mistake is told in the file that it stands in.
func TestMistakesInABase(t *testing.T) {
	for _, c := range []struct{ plan, base, want string }{
		{overBase, sharedBase + "state: here\n", `base.yaml:16:1: a base has no "state"`},
		{overBase, strings.Replace(sharedBase, "keep: 7m", "keep: forever", 1), "base.yaml:12:7: "},
		{overBase, sharedBase + "\tx: y\n", "base.yaml:16:1: a tab stands"},
		{overBase, "- a\n", "base.yaml:1:1: a base has to be a mapping"},
		{overBase, "a: [\n", "base.yaml:"},
		{overBase + "zzz: 1\n", sharedBase, `sailings.yaml:11:1: the plan has no key "zzz"`},
		{strings.Replace(overBase, "../base", "../none", 1), "", "sailings.yaml:1:1: the base cannot be read"},
		{strings.Replace(overBase, "../base.yaml", "/dev/zero", 1), "", "no file of a plan's size"},
	} {
		_, err := Read(based(t, c.plan, c.base))
		if problems := (section.Problems{}); !errors.As(err, &problems) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%q\nis said as %v", c.want, err)
		}
	}
}

// A plan is shown with what its base says, and where from; what is shown is the same plan.
func TestWhole(t *testing.T) {
	file := based(t, overBase, sharedBase)
	text, err := Whole(file)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"  listen: 127.0.0.1:81   # sailings.yaml:4\n", "  key: client   # base.yaml:3\n",
		"smoke:   # sailings.yaml:7\n  - request: /\n", "keep: 7m   # base.yaml:12\n"} {
		if !strings.Contains(text, want) {
			t.Errorf("it does not have %q:\n%s", want, text)
		}
	}
	_, text, _ = strings.Cut(text, "\n") // without its base
	shown, err := Parse(file, []byte(text))
	p, errRead := Read(file)
	if err := errors.Join(err, errRead); err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	if shown.Keep != p.Keep || len(shown.Route) != len(p.Route) || len(shown.Guards) != len(p.Guards) ||
		shown.Front.Key != p.Front.Key || shown.Wanted(0) != p.Wanted(0) {
		t.Errorf("what is shown is another plan:\n%s", text)
	}
}
