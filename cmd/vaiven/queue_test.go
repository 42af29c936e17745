package main

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"vaiven/internal/core/split"
	"vaiven/internal/front/queue"
	"vaiven/internal/keeper"
	"vaiven/lab/demo"
	"vaiven/lab/testkit"
)

// Bookings are led from one side's printers to the other's and back by hand, while the keeper is killed and printers
// are; held, counted and let go. By the broker's own numbers nothing is missing.
func TestAQueueByHand(t *testing.T) {
	t.Parallel() // it mostly waits
	s := scenarioOf(t, demo.Options{Rate: 100, Front: queue.Kind.Name})
	step := steps(t)
	step(0, []string{"0 % of the requests go to green"}, "where", s.File, "--for", "0s")
	step(0, nil, "raise", s.File, "--version", demo.NewVersion)
	step(0, []string{"29 of 29 passing"}, "prove", s.File)
	step(0, []string{"bind bookings-green to vaiven.sailings.mix", "unbind bookings-blue to vaiven.sailings"}, "shift",
		s.File, "--to", "25 on green", "--dry-run")
	step(0, []string{"25 % of the requests go to green"}, "shift", s.File, "--to", "25 on green")
	flows := func(side split.Side) {
		t.Helper()
		until(t, s, side.String()+" does bookings", func(v keeper.Snapshot) bool {
			q := v.Sides[side].Queue
			return q != nil && q.Out > 1 && q.Done > 20 && q.Consumers == 3
		})
	}
	flows(split.Green)
	kill(t, keeperOf(t, s.File))
	step(0, []string{"0 % on green"}, "back", s.File, "--to", "blue", "--for", "20s")
	step(0, []string{"100 % of the requests go to green"}, "shift", s.File, "--to", "green", "--unproven", "--why",
		"the keeper is another one")
	flows(split.Green)
	for _, pid := range pids(t, filepath.Join(s.Folder, "builds"), "--instance green-2") {
		if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
	}
	flows(split.Green) // it was started again
	stdout := step(0, []string{`"agrees":true`, `"still":true`}, "pause", s.File, "--json")
	var held struct {
		Held   int64
		Queues struct{ Blue, Green struct{ Done int64 } }
	}
	if err := json.Unmarshal([]byte(stdout), &held); err != nil || held.Held < 100 || held.Queues.Blue.Done < 20 ||
		held.Queues.Green.Done < 20 {
		t.Errorf("held are %+v, %v: %s", held, err, stdout)
	}
	step(0, []string{"messages that waited go on"}, "resume", s.File)
	flows(split.Green)
	step(0, []string{"0 % on green"}, "back", s.File, "--to", "blue")
	step(0, []string{"all that was published is done"}, "pause", s.File)
	kill(t, keeperOf(t, s.File))
	// which lets what is held go on, with nobody who carries yet
	step(0, []string{"0 % on green"}, "back", s.File, "--to", "blue")
	step(0, []string{"0 % of the requests go to green"}, "shift", s.File, "--to", "0 on green")
	testkit.Eventually(t, "what was held is done", func() bool {
		stdout, _, status := vaiven(t, "pause", s.File, "--within", "8s", "--json")
		_, _, resumed := vaiven(t, "resume", s.File)
		return status == 0 && resumed == 0 && strings.Contains(stdout, `"agrees":true`)
	})
}

// What is no queue is not held.
func TestOnlyMessagesAreHeld(t *testing.T) {
	s := scenario(t)
	steps(t)(2, []string{"a front of kind embedded cannot hold what comes"}, "pause", s.File)
}
