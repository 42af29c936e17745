package main

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"vaiven/internal/core/crossing"
	"vaiven/internal/keeper"
	"vaiven/lab/demo"
	"vaiven/lab/testkit"
)

// makes stands for a build: it puts a version where builds are, or fails.
const makes = `#!/bin/sh
echo "making $VAIVEN_VERSION of $VAIVEN_SERVICE from commit $VAIVEN_COMMIT with $TOKEN"
cp -a "$(dirname "$0")/made/$VAIVEN_VERSION" "$(dirname "$0")/builds/$VAIVEN_VERSION"
`

// Versions arrive: one is made first, one at most waits, and what is live, older, gone or cannot be made is told.
func TestVersionsArrive(t *testing.T) {
	t.Parallel() // it mostly waits
	s := scenario(t)
	text, err := os.ReadFile(s.File)
	if err == nil {
		text = regexp.MustCompile(`(?ms)^route:.*^keep: [^\n]*$`).ReplaceAll(text, []byte("route: [100 %]\nkeep: 10m"))
		text = append(text, `
start: {until: settled}
build:
  run: ./make-version
  environment: {TOKEN: "{secret token}"}
secrets: {token: file token}
`...)
		err = os.WriteFile(s.File, text, 0o600)
	}
	made := filepath.Join(s.Folder, "made")
	if err == nil {
		err = os.Mkdir(made, 0o755)
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(s.Folder, "make-version"), []byte(makes), 0o755)
	}
	if err == nil {
		err = os.Rename(filepath.Join(s.Folder, "builds", demo.NewVersion), filepath.Join(made, demo.NewVersion))
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(s.Folder, "token"), []byte("rope-and-anchor"), 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	step := steps(t)
	step(4, []string{"it could not be made", "status 1"}, "arrived", s.File, "4.9.9", "--until", "proven")
	step(4, []string{"4.2.1: it is live already"}, "arrived", s.File, "4.2.1", "--until", "proven")
	step(0, []string{"built", "reached"}, "arrived", s.File, demo.NewVersion, "--commit", "5eaf00d", "--accept",
		"--until", "kept")
	said, err := os.ReadFile(filepath.Join(s.Plan.State, "builds", demo.NewVersion+".log"))
	if err != nil || !strings.Contains(string(said), "making 4.3.0 of sailings from commit 5eaf00d with ") ||
		strings.Contains(string(said), "rope") {
		t.Errorf("its build said %q, %v", said, err)
	}

	step(0, []string{"noted", "4.4.0 waits for the keep of 4.3.0 to end"}, "arrived", s.File, "4.4.0")
	step(0, []string{"4.5.0 waits for"}, "arrived", s.File, "4.5.0")
	step(0, []string{"4.4.0: 4.5.0 takes its place"}, "log", s.File)
	step(0, nil, "retire", s.File, "--yes")
	v := until(t, s, "it is the turn of 4.5.0", func(v keeper.Snapshot) bool {
		return v.Crossing.Version == "4.5.0" && v.Crossing.Question.ID > 0 // what its proof has found is nobody's yet
	})
	step(0, nil, "say", s.File, "yes", "--question", jsonNumber(v.Crossing.Question.ID))
	until(t, s, "it is kept", func(v keeper.Snapshot) bool {
		return v.Crossing.Stage == crossing.Keeping && v.Crossing.Task.ID == 0
	})

	step(0, []string{"4.4.0 waits for the keep of 4.5.0"}, "arrived", s.File, "4.4.0")
	kill(t, keeperOf(t, s.File))
	testkit.Eventually(t, "it is rolled back", func() bool { // a disk that is slow to say which side is home is asked again
		out, _, status := vaiven(t, "back", s.File)
		return status == 0 && strings.Contains(out, "all requests go to green")
	})
	holds := keptBy(t, s)
	until(t, s, "it has taken in the rollback", func(v keeper.Snapshot) bool {
		return v.Crossing.Stage == crossing.RolledBack && v.Crossing.Task.ID == 0
	})
	step(0, []string{"4.4.0 waits for somebody: 4.5.0 was rolled back"}, "where", s.File, "--for", "0s")
	if err := os.RemoveAll(filepath.Join(s.Folder, "builds", "4.4.0")); err != nil {
		t.Fatal(err)
	}
	step(4, []string{"4.4.0: it could not be made"}, "arrived", s.File, "4.4.0", "--until", "proven")
	step(4, []string{"4.4.0 does not wait"}, "arrived", s.File, "4.4.0", "--withdraw")
	step(4, []string{"4.2.0: it is older than 4.3.0, which is live"}, "arrived", s.File, "4.2.0", "--until", "proven")
	if err := holds.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "the keeper has ended", func() bool { _, ok := viewOf(t, s); return !ok })
}
