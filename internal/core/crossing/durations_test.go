package crossing

import (
	"testing"
	"time"

	"vaiven/internal/core/proof"
)

func TestDurations(t *testing.T) {
	at := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	var d Durations
	seq := uint64(0)
	add := func(after time.Duration, f Fact) time.Duration {
		seq++
		at = at.Add(after)
		return d.Add(Event{Seq: seq, At: at, What: f})
	}
	for n, took := range []time.Duration{4, 2, 9} {
		add(0, Ordered{Task: Task{Do: TaskRaise}})
		if usual, known := d.Usual()[TaskRaise]; known != (n >= 2) {
			t.Errorf("after %d it is usually %v, %v", n, usual, known)
		}
		if got := add(took*time.Second, Raised{Task: seq}); got != took*time.Second {
			t.Errorf("it took %v, not %v s", got, took)
		}
		add(0, Ordered{Task: Task{Do: TaskProve}})
		add(time.Second, Failed{Task: seq}) // that it did not end well says nothing of how long it takes
	}
	add(0, Ordered{Task: Task{Do: TaskProve}})
	if got := add(time.Second, Proved{Task: seq - 1, Proof: proof.Proof{}}); got != 0 {
		t.Errorf("what ends another task took %v", got)
	}
	if usual := d.Usual(); len(usual) != 1 || usual[TaskRaise] != 4*time.Second {
		t.Errorf("usually %v", usual)
	}
}
