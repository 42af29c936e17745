package main

import (
	"os/exec"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front/all"
	"vaiven/internal/front/embedded"
	"vaiven/internal/front/haproxy"
	"vaiven/internal/front/httpd"
	"vaiven/lab/demo"
	"vaiven/lab/testkit"
)

// A keeper that is held up at any instant of a change, and goes on after everybody went home
// past it, moves nothing for long.
func TestAHeldUpShift(t *testing.T) {
	for _, kind := range []plan.FrontKind{embedded.Kind.Name, haproxy.Kind.Name, httpd.Kind.Name} {
		t.Run(string(kind), func(t *testing.T) {
			t.Parallel() // it mostly waits
			s := scenarioOf(t, demo.Options{Rate: 50, Front: kind})
			step := steps(t)
			step(0, nil, "raise", s.File, "--version", demo.NewVersion)
			front := all.Open(s.Plan)
			r := testkit.Rand(t)
			keeper := keeperOf(t, s.File)
			for range 3 {
				cmd := exec.Command(program, "shift", s.File, "--to", "50 on green", "--unproven", "--why", "a try")
				if err := cmd.Start(); err != nil {
					t.Fatal(err)
				}
				instant := time.Duration(100+r.IntN(900)) * time.Millisecond
				time.Sleep(instant) // the instant is the test's input, nothing waits for it to be right
				thaw := testkit.Freeze(t, keeper)
				step(0, []string{"all requests go to blue"}, "back", s.File, "--to", "blue", "--why", "it looks wrong")
				thaw()
				_ = cmd.Wait() // done, or refused: whichever it was, it is at home now
				now, err := front.Read(t.Context())
				if err != nil || now.Split.Share != 0 || now.Order.Side != split.Blue ||
					now.Order.Why != "it looks wrong" {
					t.Fatalf("held up after %v: %+v, %+v, %v", instant, now.Split, now.Order, err)
				}
			}
			// The order is taken into the logbook, and nothing is in the way of a person's will,
			// once the keeper that was held up has read the front again.
			testkit.Eventually(t, "a share is taken after everybody went home", func() bool {
				stdout, _, status := vaiven(t, "shift", s.File, "--to", "25 on green", "--unproven", "--why", "a try")
				return status == 0 && strings.Contains(stdout, "25 % of the requests go to green")
			})
			step(0, []string{"all traffic to blue: it looks wrong, by hand"}, "log", s.File)
		})
	}
}
