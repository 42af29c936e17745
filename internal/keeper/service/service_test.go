package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/api"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/state"
)

// planOf is a plan whose front nobody has started.
func planOf(t *testing.T) *plan.Plan {
	t.Helper()
	dir := t.TempDir()
	file := filepath.Join(dir, "p.yaml")
	text := "service: fares\nfront: {listen: '127.0.0.1:1'}\nstack: {command: './builds/{version}/x {address}', " +
		"ports: 18100-18109}\nsmoke: [{request: /}]\nroute: [100 %]\n"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	p, err := planfile.Read(file)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// kept runs a keeper of a plan until it ends, or the test does.
func kept(t *testing.T, k Keep) (ended <-chan error, end func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	ready := make(chan struct{})
	k.Ready = func() { close(ready) }
	go func() { done <- k.Run(ctx, keeper.Memory{}) }()
	select {
	case <-ready:
	case err := <-done:
		t.Fatalf("it did not get ready: %v", err)
	}
	t.Cleanup(cancel)
	return done, cancel
}

func reachOf(p *plan.Plan) Reach {
	return Reach{Plan: p, Digest: p.Digest, Client: api.Config{By: "marit"}, Note: func(string) {}}
}

// A keeper that nobody needs ends by itself, but not while somebody watches, and one that is kept
// stays.
func TestAKeeperThatNobodyNeedsEnds(t *testing.T) {
	p := planOf(t)
	ended, _ := kept(t, Keep{Plan: p, Digest: p.Digest, Secrets: secret.Values{}, By: "marit",
		EndAfter: time.Millisecond})
	r, err := reachOf(p).Open(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	watch, leave := context.WithCancel(t.Context())
	snapshots := r.Snapshots(watch)
	begun := time.Now()
	for s := range snapshots { // they come for longer than it would wait for anybody
		if s.At.Sub(begun) > 2*BeatEvery {
			break
		}
	}
	select {
	case err := <-ended:
		t.Fatalf("it ended under somebody's eyes: %v", err)
	default:
	}
	leave()
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
	if err := <-ended; err != nil {
		t.Errorf("it ended with %v", err)
	}
	if _, err := reachOf(p).Open(t.Context()); !errors.Is(err, ErrNoKeeper) {
		t.Errorf("after its end: %v", err)
	}
}

// There is one keeper of a service; a second one says who the first is, and one that only holds the
// lock is not waited for for ever.
func TestOneKeeper(t *testing.T) {
	p := planOf(t)
	if _, err := reachOf(p).Open(t.Context()); !errors.Is(err, ErrNoKeeper) {
		t.Errorf("before there is a state folder: %v", err)
	}
	_, end := kept(t, Keep{Plan: p, Digest: p.Digest, By: "marit", Kept: true})
	err := Keep{Plan: p, By: "ines"}.Run(t.Context(), keeper.Memory{})
	if !errors.Is(err, ErrSteered) || !strings.Contains(err.Error(), fmt.Sprintf("(marit, process %d)", os.Getpid())) {
		t.Errorf("a second one: %v", err)
	}
	r, err := reachOf(p).Open(t.Context())
	if err != nil || !r.Info.Kept || r.Info.Service != "fares" || r.Info.Digest != p.Digest || !r.Info.Idle {
		t.Fatalf("%+v, %v", r, err)
	}
	if err := r.Close(); err != nil {
		t.Error(err)
	}
	if err := End(t.Context(), p); err != nil {
		t.Errorf("ended from outside: %v", err)
	}
	end()
	in, err := state.Open(p.State)
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	unlock, err := Lock(in, "somebody")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := reachOf(p).Open(t.Context()); !errors.Is(err, ErrSteered) ||
		!strings.Contains(err.Error(), "vaiven back") {
		t.Errorf("one that does not answer: %v", err)
	}
	if err := unlock(); err != nil {
		t.Error(err)
	}
	if err := End(t.Context(), p); err != nil {
		t.Errorf("there is none to end: %v", err)
	}
}

// A keeper goes by the plan as it read it: one that has something to do, or stays, is not replaced
// because of another.
func TestThePlanHasChanged(t *testing.T) {
	p := planOf(t)
	kept(t, Keep{Plan: p, Digest: p.Digest, By: "marit", Kept: true})
	other := reachOf(p)
	other.Digest, other.Start = "another", []string{"/bin/false"}
	var notes []string
	other.Note = func(text string) { notes = append(notes, text) }
	r, err := other.Open(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	if len(notes) != 1 || !strings.Contains(notes[0], "the plan has changed since the keeper read it") ||
		!strings.Contains(notes[0], "--take-over") {
		t.Errorf("said is %q", notes)
	}
}

// One that does not get ready says why to who started it.
func TestAStartThatFails(t *testing.T) {
	p := planOf(t)
	for name, c := range map[string]struct{ script, says string }{
		"ends":         {"exit 3", "said nothing"},
		"says why":     {`echo '{"error":"there is no berth"}' >&3`, "there is no berth"},
		"another's":    {`echo '{"error":"x","steered":true}' >&3`, "no keeper runs"},
		"is no keeper": {`echo '{}' >&3`, "no keeper runs"},
		"is not there": {"", "start a keeper"},
	} {
		r := reachOf(p)
		r.Start = []string{"/bin/sh", "-c", c.script}
		if c.script == "" {
			r.Start = []string{"/nowhere/vaiven"}
		}
		if _, err := r.Open(t.Context()); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("one that %s: %v", name, err)
		}
	}
}
