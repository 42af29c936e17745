package main

import (
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/split"
)

// What a person reads of a first release says nothing of a side on which nothing was.
func TestAFirstReleaseRetiresNothing(t *testing.T) {
	at := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	facts := []crossing.Fact{
		crossing.Begun{Number: 1, Target: split.Green, Choices: []raise.Choice{{Version: "4.2.0", Build: "7c1e"}}, First: true},
		crossing.InForce{Share: split.Whole}, crossing.Ended{Stage: crossing.Settled},
		crossing.Ordered{Task: crossing.Task{Do: crossing.Retire, Side: split.Blue}}, crossing.Stopping{}, crossing.Retired{Side: split.Blue},
	}
	for _, first := range []bool{true, false} {
		var said strings.Builder
		emit := emitter(&said, false, crossing.State{})
		for n, f := range facts {
			if b, ok := f.(crossing.Begun); ok {
				b.First = first
				if !first {
					b.LiveVersion = "4.1.0"
				}
				f = b
			}
			if err := emit(crossing.Event{Seq: uint64(n + 1), At: at, By: "marit", What: f}); err != nil {
				t.Fatal(err)
			}
		}
		if got := strings.Contains(said.String(), "retire"); got == first {
			t.Errorf("of a first release: %v, it says\n%s", first, said.String())
		}
		if want := "the first release"; strings.Contains(said.String(), want) != first {
			t.Errorf("of a first release: %v, it says\n%s", first, said.String())
		}
	}
}
