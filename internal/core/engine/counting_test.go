package engine

import (
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// What users met with while a crossing was under way stands in the event that ends it, also where a keeper took over or
// was killed meanwhile; what nobody watched is told.
func TestWhatACrossingCounted(t *testing.T) {
	for _, how := range []string{"one keeper", "handed over", "killed"} {
		t.Run(how, func(t *testing.T) {
			b := newBench(t)
			b.answer(20*time.Second, 50, 0) // before it begins
			b.doored = true
			lost, asked := int64(3), int64(100)
			door := func(gap time.Duration) {
				b.e.DoorRead(reading.Door{At: b.now, Answers: asked, Lost: lost, Gap: gap})
			}
			door(9 * time.Second) // not in it
			b.shifts()
			for range 8 {
				asked, lost = asked+10, lost+1
				door(300 * time.Millisecond)
				b.answer(time.Second, 40, 10)
			}
			unwatched := time.Duration(0)
			switch how {
			case "handed over":
				b.e = New(b.e.plan, b.e.State(), b.now, b.e.Hand(b.now))
			case "killed":
				kept := b.e.Gathered()
				track := b.e.track
				unwatched = 30 * time.Second
				b.now = b.now.Add(unwatched)
				b.e = New(b.e.plan, b.e.State(), b.now, Memory{Track: track, Gathered: kept})
			}
			b.look()
			if err := b.command(crossing.Back{Home: crossing.Serving{Side: split.Blue, Known: true, Healthy: 1},
				Stands: true,
				Read:   true}); err != nil {
				t.Fatal(err)
			}
			o := b.order(crossing.TaskHome)
			b.front.Split.Share = 0
			var got crossing.Counted
			for _, e := range b.e.Report(b.now, crossing.Returned{Task: o.ID}) {
				if f, ok := e.What.(crossing.Ended); ok {
					got = f.Counted
				}
			}
			if got.Requests < 60 || got.Requests > 80 || got.All < 300 || got.All > 400 {
				t.Errorf("of 80 requests on green, 400 in all, it counted %+v", got)
			}
			if got.Asked < 80 || got.Lost != 8 || got.LongestGap != 300*time.Millisecond {
				t.Errorf("of the prober's it counted %+v", got)
			}
			if got.Unwatched < unwatched || got.Unwatched > unwatched+5*time.Second {
				t.Errorf("nobody watched for %v, and it says %v", unwatched, got.Unwatched)
			}
		})
	}
}
