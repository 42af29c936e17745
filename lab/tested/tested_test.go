package main

import (
	"bytes"
	"errors"
	"os"
	"strings"
	"testing"
	"time"
)

// Each end of a test comes out as what it is: only a failure while the machine stood still is tried again, and only a
// skip that the list names is let through.
func TestEnds(t *testing.T) {
	const (
		passes  = "func TestA(t *testing.T) {}"
		fails   = `func TestA(t *testing.T) { t.Run("b", func(t *testing.T) { t.Error("the pier is closed") }) }`
		fails1  = `func TestA(t *testing.T) { if os.Mkdir("seen", 0o700) == nil { t.Error("the first time") } }`
		skips   = `func TestA(t *testing.T) { t.Skip("no berth") }`
		panics  = "func TestA(t *testing.T) { panic(1) }"
		nothing = "func TestA(t *testing.T) { nothing }"
		exits   = "func TestA(t *testing.T) { os.Exit(3) }"
	)
	for what, c := range map[string]struct {
		text    string
		still   time.Duration
		allowed []skip
		well    bool
		says    []string
	}{
		"passes":                  {passes, 0, nil, true, []string{"1 passed, 0 failed, 0 skipped"}},
		"fails":                   {fails, 0, nil, false, []string{"the pier is closed", "FAILED pier TestA\n", "1 failed"}},
		"fails at once":           {fails1, 0, nil, false, []string{"the first time", "FAILED pier TestA\n"}},
		"fails while it is still": {fails1, 3 * time.Second, nil, true, []string{"the first time", "RETRY pier TestA: passed"}},
		"fails again":             {fails, 3 * time.Second, nil, false, []string{"RETRY pier TestA: the machine", "FAILED pier TestA\n"}},
		"skips":                   {skips, 0, nil, false, []string{"SKIPPED pier TestA without", "no berth"}},
		"skips another":           {skips, 0, []skip{{"pier", "TestB", "x"}}, false, []string{"SKIPPED pier TestA"}},
		"skips by the list":       {skips, 0, []skip{{"pier", "TestA", "the tide is out"}}, true, []string{"pier TestA: the tide is out"}},
		"panics":                  {panics, 0, nil, false, []string{"panic: 1", "FAILED pier TestA\n"}},
		"is not built":            {nothing, 0, nil, false, []string{"undefined: nothing", "FAILED"}},
		"exits":                   {exits, 0, nil, false, []string{"FAILED"}},
	} {
		t.Run(what, func(t *testing.T) {
			t.Chdir(t.TempDir())
			err := errors.Join(os.WriteFile("go.mod", []byte("module pier\n"), 0o600),
				os.WriteFile("pier_test.go", []byte("package pier\n\nimport (\n\t\"os\"\n\t\"testing\"\n)\n\nvar _ = os.Args\n\n"+
					c.text+"\n"), 0o600))
			if err != nil {
				t.Fatal(err)
			}
			var out bytes.Buffer
			r := newRun(&out, func(time.Time) time.Duration { return c.still }, c.allowed)
			list, err := build(t.TempDir(), parseGroup([]string{"GOFLAGS=-mod=mod", "."}))
			if err != nil {
				r.breaks(err.Error())
			}
			r.runAll(list, 2)
			r.retry()
			if well := r.summary(); well != c.well {
				t.Errorf("all well: %v\n%s", well, &out)
			}
			for _, want := range c.says {
				if !strings.Contains(out.String(), want) {
					t.Errorf("it does not say %q:\n%s", want, &out)
				}
			}
		})
	}
}

// Packages of one name are built beside each other, and a group is what its words say.
func TestBuild(t *testing.T) {
	t.Chdir(t.TempDir())
	err := os.WriteFile("go.mod", []byte("module pier\n"), 0o600)
	for _, dir := range []string{"a/berth", "b/berth", "c"} {
		err = errors.Join(err, os.MkdirAll(dir, 0o700),
			os.WriteFile(dir+"/x_test.go", []byte("package x\n\nimport \"testing\"\n\nfunc TestA(t *testing.T) {}\n"), 0o600))
	}
	if err != nil {
		t.Fatal(err)
	}
	list, err := build(t.TempDir(),
		parseGroup([]string{"CGO_ENABLED=0", "-trimpath", "-test.short", "-exec=env", "./c", "./..."}))
	if err != nil || len(list) != 3 || list[0].pkg != "pier/c" {
		t.Fatalf("built %+v, %v", list, err)
	}
	files := map[string]bool{}
	for _, b := range list {
		files[b.file] = true
		if out, err := b.command().CombinedOutput(); err != nil || !strings.Contains(string(out), `"Action":"pass"`) {
			t.Errorf("%s: %v\n%s", b.pkg, err, out)
		}
	}
	if len(files) != 3 {
		t.Errorf("files %v", files)
	}
}

// The list of skips is read as it is written, and a line without a reason is refused.
func TestSkips(t *testing.T) {
	if list, err := parseSkips(skips); err != nil {
		t.Errorf("skips.txt: %v, %v", list, err)
	}
	if list, err := parseSkips("# x\n\npier TestA the tide is out\n"); err != nil || len(list) != 1 ||
		list[0] != (skip{"pier", "TestA", "the tide is out"}) {
		t.Errorf("read as %v, %v", list, err)
	}
	if _, err := parseSkips("pier TestA\n"); err == nil {
		t.Error("a line without a reason is taken")
	}
}
