package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/spf13/cobra"

	"vaiven/internal/people/script"
	"vaiven/lab/testkit"
)

const schemaFile = "../../docs/json.schema.json"

// theSchema is the one in the documentation.
var theSchema = sync.OnceValues(func() (*testkit.Schema, error) {
	data, err := os.ReadFile(schemaFile)
	if err != nil {
		return nil, err
	}
	return testkit.NewSchema(data)
})

// fitsSchema holds everything that a command printed for scripts to the documentation's schema.
func fitsSchema(t *testing.T, args []string, stdout string) {
	t.Helper()
	s, err := theSchema()
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(stdout) {
		if err := s.Validate([]byte(line)); err != nil {
			t.Errorf("vaiven %v: %v in %s", args, err, line)
		}
	}
}

// summaryLine is what tests look at in a summary.
type summaryLine struct {
	Kind, Outcome string
	Answers, Lost int64
}

func summaryOf(t *testing.T, lines []string) summaryLine {
	t.Helper()
	var sum summaryLine
	if last := lines[len(lines)-1]; json.Unmarshal([]byte(last), &sum) != nil || sum.Kind != "summary" {
		t.Fatalf("the last line is %q", last)
	}
	return sum
}

// The schema in the documentation is the one of what is printed.
func TestTheSchemaIsTrue(t *testing.T) {
	made, err := script.Schema(printed)
	if err != nil {
		t.Fatal(err)
	}
	if os.Getenv("UPDATE_SCHEMA") != "" {
		if err := os.WriteFile(schemaFile, append(made, '\n'), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	file, err := os.ReadFile(schemaFile)
	if err != nil || string(file) != string(made)+"\n" {
		t.Errorf("docs/json.schema.json is not what is printed (%v): UPDATE_SCHEMA=1 writes it anew; review the "+
			"difference, and the schema number", err)
	}
	text, err := os.ReadFile("../../docs/json.md")
	if err != nil {
		t.Fatal(err)
	}
	for kind := range printed {
		if !strings.Contains(string(text), "`"+kind+"`") {
			t.Errorf("docs/json.md does not name the kind %q", kind)
		}
	}
}

// Every command has examples, and they are commands that there are.
func TestExamplesAreTrue(t *testing.T) {
	for _, cmd := range root().Commands() {
		if cmd.Hidden || cmd.Name() == "help" || cmd.Name() == "completion" {
			continue
		}
		if cmd.Example == "" {
			t.Errorf("vaiven %s has no example", cmd.Name())
		}
		for line := range strings.Lines(cmd.Example) {
			line, _, _ = strings.Cut(line, "|")
			line, _, _ = strings.Cut(line, ">")
			words := strings.Fields(strings.NewReplacer("'", "", "passenger", "").Replace(line))
			found, rest, err := root().Find(words[1:])
			if err != nil || found.Name() != cmd.Name() {
				t.Errorf("%q is an example of %q: %v", line, found.Name(), err)
				continue
			}
			if err := found.ParseFlags(rest); err != nil {
				t.Errorf("%q: %v", line, err)
			}
		}
	}
}

// Shells complete plans, versions and words; the manual has a page for every command.
func TestCompletionAndManual(t *testing.T) {
	s := scenario(t)
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"cross", s.File, "--version", ""}, "4.5.0"}, {[]string{"say", s.File, ""}, "resume"},
		{[]string{"shift", s.File, "--to", ""}, "25"},
		{[]string{"open", ""}, "yaml"}, {[]string{"split", "--key", ""}, "client"},
	} {
		if stdout, _, _ := vaiven(t,
			append([]string{cobra.ShellCompRequestCmd}, c.args...)...); !strings.Contains(stdout, c.want) {
			t.Errorf("vaiven %v is completed with %q, want %q among it", c.args, stdout, c.want)
		}
	}
	folder := filepath.Join(t.TempDir(), "man")
	steps(t)(0, []string{" pages in "}, "man", folder)
	page, err := os.ReadFile(filepath.Join(folder, "vaiven-cross.1"))
	if err != nil || !strings.Contains(string(page), ".Sh EXAMPLES") ||
		!strings.Contains(string(page), ".It Fl Fl version Ar ") || !strings.Contains(string(page),
		".Dt VAIVEN-CROSS 1") {
		t.Errorf("the page of cross: %v\n%s", err, page)
	}
	pages, _ := filepath.Glob(filepath.Join(folder, "*.1"))
	if out, err := exec.Command("mandoc", append([]string{"-Tlint", "-Wwarning"},
		pages...)...).CombinedOutput(); err != nil {
		t.Errorf("the pages are not well formed: %v\n%s", err, out)
	}
}
