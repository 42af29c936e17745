package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"vaiven/internal/people/headless"
	"vaiven/lab/demo"
	"vaiven/lab/testkit"
)

// A job goes as far as it may and ends; somebody else answers, and the same command takes it up again. A version that
// comes meanwhile is told what is in its way, and takes its place where that may be.
func TestAJob(t *testing.T) {
	t.Parallel() // it mostly waits
	s := scenario(t)
	text, err := os.ReadFile(s.File)
	if err != nil {
		t.Fatal(err)
	}
	text = regexp.MustCompile(`(?m)^(  - 50 %.*)$`).ReplaceAll(text, []byte("  - ask\n$1"))
	text = regexp.MustCompile(`(?m)^keep: .*$`).ReplaceAll(text, []byte("keep: 2m"))
	if err := os.WriteFile(s.File, text, 0o600); err != nil {
		t.Fatal(err)
	}
	step := steps(t)
	cross := func(more ...string) []string {
		return append([]string{"cross", s.File, "--version", demo.NewVersion, "--accept"}, more...)
	}
	step(0, []string{"reached", "it is the keeper's, and goes on"}, cross("--until", "proven")...)
	out := step(10, []string{`"outcome":"waits"`}, cross("--json")...)
	lines := strings.Split(strings.TrimSpace(out), "\n")
	var sum headless.Summary
	if err := json.Unmarshal([]byte(lines[len(lines)-1]), &sum); err != nil || sum.Question == 0 {
		t.Fatalf("the summary is %s, %v", lines[len(lines)-1], err)
	}
	step(10, []string{"waits after", "vaiven say "}, cross("--yes=leg 9")...)
	step(4, []string{"crossing 1 to 4.3.0, begun by ", "vaiven back PLAN"}, "cross", s.File, "--version", "4.4.0", "--yes",
		"--accept")
	step(0, []string{"would be done"}, "say", s.File, "yes", "--question", jsonNumber(sum.Question), "--dry-run")
	step(0, nil, "say", s.File, "yes", "--question", jsonNumber(sum.Question))
	step(0, []string{"reached"}, cross("--yes", "--until", "kept")...)
	step(4, []string{"vaiven retire PLAN --yes ends that", "--supersede"}, "cross", s.File, "--version", "4.4.0", "--yes",
		"--accept")
	step(0, []string{"begun", "it is the keeper's"}, "cross", s.File, "--version", "4.4.0", "--yes", "--accept", "--supersede",
		"--detach")
	step(0, nil, "back", s.File)
}

// As long as there is an embargo nothing leaves home, whoever wants it, and going home is free.
func TestAnEmbargo(t *testing.T) {
	t.Parallel() // it mostly waits
	s := scenario(t)
	embargo := filepath.Join(s.Folder, "embargo")
	text, err := os.ReadFile(s.File)
	if err == nil {
		err = os.WriteFile(s.File, append(text, "embargo: "+embargo+"\n"...), 0o600)
	}
	if err == nil {
		err = os.WriteFile(embargo, []byte("why: the regatta\nby: harbour office\n"), 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	step := steps(t)
	step(0, []string{"begun"}, "cross", s.File, "--version", demo.NewVersion, "--yes", "--accept", "--detach")
	testkit.Eventually(t, "it waits for the end of the embargo", func() bool {
		stdout, _, _ := vaiven(t, "where", s.File, "--for", "0s")
		return strings.Contains(stdout, "embargo by harbour office: nothing leaves home (the regatta)")
	})
	step(4, []string{"embargo by harbour office"}, "say", s.File, "steer", "25", "--dry-run")
	step(4, []string{"embargo by harbour office", "Rolling back is free"}, "say", s.File, "steer", "25")
	if err := os.Remove(embargo); err != nil {
		t.Fatal(err)
	}
	step(0, []string{"reached"}, "cross", s.File, "--version", demo.NewVersion, "--yes", "--accept", "--until", "leg 1")
	if err := os.WriteFile(embargo, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	step(0, []string{"all requests go to blue"}, "back", s.File)
}

func jsonNumber(n uint64) string {
	text, _ := json.Marshal(n) // a number
	return string(text)
}
