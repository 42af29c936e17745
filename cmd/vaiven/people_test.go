package main

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"vaiven/internal/core/wayback"
	"vaiven/internal/keeper"
	"vaiven/internal/people/headless"
	"vaiven/lab/demo"
	"vaiven/lab/testkit"
)

// account is a user of this machine with Unix groups: ones that every Debian has.
type account struct {
	name     string
	uid, gid uint32
	groups   []uint32
}

// Games is the Unix group that the socket is for, and staff that of those who are on call.
const games, staff = 60, 50

var (
	deploys  = account{"bin", 2, 2, []uint32{games}}        // may begin
	approves = account{"sys", 3, 3, []uint32{games, staff}} // may approve
	watches  = account{"man", 6, 12, []uint32{games}}       // may watch, and go home
	stranger = account{"lp", 7, 7, nil}                     // is not in the group
)

// runs runs the program as a user.
func (a account) runs(t *testing.T, args ...string) (out string, status int) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "LANG=C.UTF-8", "USER=" + a.name}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: a.uid, Gid: a.gid, Groups: a.groups}}
	data, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return string(data), cmd.ProcessState.ExitCode()
}

// step runs the program as a user, and wants a status and what it is to say.
func (a account) step(t *testing.T, status int, says []string, args ...string) string {
	t.Helper()
	out, got := a.runs(t, args...)
	if got != status {
		t.Fatalf("vaiven %v as %s: status %d, want %d\n%s", args, a.name, got, status, out)
	}
	for _, text := range says {
		if !strings.Contains(out, text) {
			t.Errorf("vaiven %v as %s does not say %q:\n%s", args, a.name, text, out)
		}
	}
	return out
}

// opened lets all users of the machine into a folder, as far as its own mode is concerned.
func opened(t *testing.T, path string) {
	t.Helper()
	for dir := path; dir != filepath.Clean(os.TempDir()) && dir != "/"; dir = filepath.Dir(dir) {
		info, err := os.Stat(dir)
		if err == nil {
			err = os.Chmod(dir, info.Mode().Perm()|0o055)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// shared is a demo whose keeper is shared by a group, with the rules of a plan about people.
func shared(t *testing.T, rules string) *demo.Scenario {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("only root can be several users")
	}
	s := scenario(t)
	text, err := os.ReadFile(s.File)
	if err == nil {
		text = regexp.MustCompile(`% for [0-9]+s`).ReplaceAll(text, []byte("% for 1s"))
		text = append(regexp.MustCompile(`(?m)^(  - 50 %.*)$`).ReplaceAll(text, []byte("  - ask\n$1")), rules...)
		err = os.WriteFile(s.File, text, 0o644)
	}
	if err == nil {
		err = os.Chmod(s.File, 0o644)
	}
	if err != nil {
		t.Fatal(err)
	}
	opened(t, filepath.Dir(program))
	opened(t, s.Folder)
	said := steps(t)(0, []string{"it replaces process"}, "front", s.File, "--take-over", "--detach", "--grace", "1s")
	endsWith(t, said)
	return s
}

// keptBy runs a plan's keeper, as vaiven keep does, until the test ends.
func keptBy(t *testing.T, s *demo.Scenario) *exec.Cmd {
	t.Helper()
	cmd := exec.Command(program, "keep", s.File)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	until(t, s, "its keeper is ready", func(v keeper.Snapshot) bool { return v.Ready })
	return cmd
}

const rules = `
people:
  socket-group: games
  groups:
    crew: ["@staff"]
  may:
    begin: [bin, crew]
    steer: [crew]
    approve: [bin, crew]
    accept: [bin, crew]
    retire: [crew]
  four-eyes: yes
`

// One begins, another approves, a third may only watch, and everybody goes home; who somebody is, is not what they say.
func TestPeople(t *testing.T) {
	t.Parallel() // it mostly waits
	s := shared(t, rules)
	holds := keptBy(t, s)
	stranger.step(t, 1, []string{"socket-group", "(lp)"}, "say", s.File, "freeze")
	root := steps(t)
	root(4, []string{"the plan lets only bin, crew begin", "you are uid 0 (root)"}, "cross", s.File, "--version",
		demo.NewVersion, "--yes", "--accept")
	watches.step(t, 4, []string{"only bin, crew begin (people, may, begin)", "uid 6 (man)"}, "cross", s.File,
		"--version", demo.NewVersion)
	deploys.step(t, 4, []string{"the plan lets nobody force"}, "cross", s.File, "--version", "4.2.1", "--same-build")
	waits := func(out string) string {
		t.Helper()
		lines := strings.Split(strings.TrimSpace(out), "\n")
		for _, line := range lines {
			var sum headless.Summary
			if json.Unmarshal([]byte(line), &sum) == nil && sum.Question > 0 {
				return jsonNumber(sum.Question)
			}
		}
		t.Fatalf("no question is named:\n%s", out)
		return ""
	}
	cross := []string{"cross", s.File, "--version", demo.NewVersion, "--yes", "--accept", "--json"}
	question := waits(deploys.step(t, 10, []string{"bin began this crossing: somebody else has to say yes"}, cross...))
	deploys.step(t, 4, []string{"four-eyes"}, "say", s.File, "yes", "--question", question)
	watches.step(t, 4, []string{"the plan lets only bin, crew", "uid 6 (man)"}, "say", s.File, "yes", "--question", question)
	root(4, []string{"you are uid 0 (root)"}, "say", s.File, "yes", "--question", question)
	watches.step(t, 4, []string{"steer"}, "say", s.File, "steer", "25")
	approves.step(t, 0, nil, "say", s.File, "yes", "--question", question)
	approves.step(t, 4, nil, "say", s.File, "yes", "--question", question)
	testkit.Eventually(t, "requests are on the new side", func() bool {
		v, ok := viewOf(t, s)
		return ok && v.Crossing.Moved
	})
	watches.step(t, 1, []string{"home is blue"}, "back", s.File, "--to", "green", "--for", "0s")
	watches.step(t, 0, []string{"crossing 1"}, "where", s.File, "--for", "0s")
	watches.step(t, 0, []string{"bin          begun", "sys          answered"}, "log", s.File, "1")
	thaw := testkit.Freeze(t, holds.Process.Pid)
	watches.step(t, 0, []string{"all requests go to blue"}, "back", s.File) // it hangs, and nobody waits for it
	thaw()
	until(t, s, "the keeper has taken it in", taken)

	approves.step(t, 0, []string{"reached"}, "cross", s.File, "--version", demo.NewVersion, "--accept", "--until",
		"leg 1")
	if v, _ := viewOf(t, s); v.WayBack.State == wayback.Closed || rehearsedAlone(v) != "" {
		t.Errorf("the way back is %v, without the keeper: %q", v.WayBack.State, rehearsedAlone(v))
	}
	if err := holds.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = holds.Wait()
	watches.step(t, 0, []string{"crossing 2", "no keeper answers"}, "where", s.File, "--for", "0s")
	watches.step(t, 1, []string{"root's to start", "vaiven back"}, "say", s.File, "freeze")
	stranger.step(t, 1, []string{"front does not answer"}, "back", s.File, "--to", "blue", "--for", "0s")
	watches.step(t, 0, []string{"all requests go to blue"}, "back", s.File)
}

// taken is a crossing that is over.
func taken(v keeper.Snapshot) bool { return v.Crossing.Stage.Over() }

// rehearsedAlone is why the group could not go home without the keeper.
func rehearsedAlone(v keeper.Snapshot) string {
	for _, c := range v.WayBack.Conditions {
		if f, ok := c.Is.(wayback.Front); ok {
			return f.Rehearsal.Alone
		}
	}
	return "no front is rehearsed"
}
