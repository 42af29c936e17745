package headless

import (
	"context"
	"fmt"
	"io"
	"text/tabwriter"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// Tally is what became of all messages.
type Tally struct {
	Service string    `json:"service"`
	At      time.Time `json:"at"`
	Still   bool      `json:"still"` // nothing is being done any more
	// what came is what was done, what died and what is there, but for what the broker may not have counted
	Agrees  bool             `json:"agrees"`
	Held    int64            `json:"held"`   // messages that wait to go on
	Queues  [2]reading.Queue `json:"queues"` // blue's, green's
	Missing [2]int64         `json:"missing"`
}

// missing is how many messages came and are neither done, nor dead, nor there; below zero if there are more than have
// come.
func missing(q reading.Queue) int64 { return q.Published - q.Done - q.Carried - q.Dead - q.There() }

// TallyUp waits until nothing is being done any more, and the broker's numbers have come to rest, and adds up.
func TallyUp(ctx context.Context, p *plan.Plan, d front.Driver, within time.Duration) (Tally, error) {
	t := Tally{Service: p.Service}
	var before [2]reading.Queue
	var since time.Time // when they last changed
	for end := time.Now().Add(within); ; {
		r, err := d.Read(ctx)
		if err == nil && (r.Sides[split.Blue].Queue == nil || r.Sides[split.Green].Queue == nil) {
			err = fmt.Errorf("what the queues have is not known: %s", r.Blind)
		}
		if err == nil {
			t.take(r)
			there := int64(0)
			for side, q := range t.Queues {
				if q.In, q.Out, q.Oldest = 0, 0, 0; q != before[side] {
					before[side], since = q, r.At
				}
				if q.Consumers > 0 {
					there += q.There()
				}
			}
			rests := r.At.Sub(since)
			t.Still = there == 0 && rests >= restFor
			if t.Still && t.Agrees || t.Still && rests >= 3*restFor {
				return t, nil
			}
		}
		if time.Now().After(end) { // a broker that did not answer in time may the next time
			return t, err
		}
		select {
		case <-ctx.Done():
			return t, context.Cause(ctx)
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// take adds up a reading.
func (t *Tally) take(r reading.Front) {
	t.At, t.Held, t.Agrees = r.At, r.Held, true
	for side, s := range r.Sides {
		t.Queues[side], t.Missing[side] = *s.Queue, missing(*s.Queue)
		t.Agrees = t.Agrees && 0 <= t.Missing[side] && t.Missing[side] <= s.Queue.Redelivered
	}
}

// restFor is how long the numbers have to stay the same: a broker gathers them every five seconds, where nobody says
// otherwise.
const restFor = 6 * time.Second

// Because says why it is not as it should be: something is still being done, or the numbers differ.
func (t Tally) Because() string {
	if !t.Still {
		return "what was there is not done yet: vaiven pause again, with a longer --within"
	}
	return fmt.Sprintf("what came and what became of it differ by %d at blue and %d at green: messages expired or "+
		"were purged, or the broker was started anew and has forgotten what it counted", t.Missing[split.Blue],
		t.Missing[split.Green])
}

// Print says it for people.
func (t Tally) Print(w io.Writer) error {
	fmt.Fprintf(w, "all messages of %s are held: %d wait to go on\n\n", t.Service, t.Held)
	table := tabwriter.NewWriter(w, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(table, "\tpublished\tdone\tdied\twaiting\tbeing done\tredelivered\t")
	for _, side := range split.Sides {
		q := t.Queues[side]
		fmt.Fprintf(table, "%v %s\t%d\t%d\t%d\t%d\t%d\t%d\t\n", side, q.Name, q.Published, q.Done, q.Dead, q.Ready,
			q.Unacked, q.Redelivered)
	}
	if err := table.Flush(); err != nil {
		return err
	}
	text := "\nall that was published is done, died or is still there\n"
	switch n := t.Missing[split.Blue] + t.Missing[split.Green]; {
	case !t.Agrees:
		text = "\nthe numbers do not agree\n"
	case n > 0:
		text = fmt.Sprintf("\nall that was published is done, died or is still there, but for %d: as many were given "+
			"out again to others when a consumer ended, and then a broker may not have counted the first time\n", n)
	}
	_, err := io.WriteString(w, text)
	return err
}
