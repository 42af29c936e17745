package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
)

func pauseCommand() *cobra.Command {
	var within time.Duration
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "pause PLAN",
		Short: "Hold all messages of a queue, and count them",
		Long: `Holds everything that is published from now on, lets what was there before be done, and counts: of each
side's queue, what came in has to be what was done, what died and what is still there. Nothing is lost, and publishers
notice nothing: what they publish waits. vaiven resume lets it go on; so does a change of the share, and going back.

A broker may not count what it gave out at the moment when a consumer ended; no more than was given out again is put down to
that, and it is said. Exit status: 0 held, and the numbers agree; 4 held, and they do not, or something is still being done; 1 not held.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			p, d, err := pausable(args[0])
			if err != nil {
				return err
			}
			ctx, cancel := context.WithTimeout(cmd.Context(), within+front.ChangeLimit)
			defer cancel()
			if err := d.Pause(ctx, who()); err != nil {
				return err
			}
			t, err := tally(ctx, p, d.(front.Driver), within)
			if err != nil {
				return err
			}
			if asJSON {
				err = printJSON(cmd.OutOrStdout(), "pause", split.Green, t)
			} else {
				err = t.print(cmd.OutOrStdout())
			}
			if err == nil && !(t.Agrees && t.Still) {
				err = notAllowed(errors.New("all is held; " + t.because()))
			}
			return err
		},
	}
	cmd.Flags().DurationVar(&within, "within", time.Minute, "how long to wait until everything is done that was there")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func resumeCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "resume PLAN",
		Short: "Let held messages go on",
		Long: `Lets messages go on as before they were held by vaiven pause, and ends when none of those that waited waits any more. Where one side gets
everything, what waited goes before what comes meanwhile.`,
		Args: onePlan,
		RunE: func(cmd *cobra.Command, args []string) error {
			_, d, err := pausable(args[0])
			if err != nil {
				return err
			}
			before, err := d.(front.Driver).Read(cmd.Context())
			if err != nil {
				return err
			}
			if err := d.Resume(cmd.Context()); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%d messages that waited go on\n", before.Held)
			return err
		},
	}
}

// pausable is the front of a plan, if it can hold what comes.
func pausable(file string) (*plan.Plan, front.Pauser, error) {
	p, err := readPlan(file)
	if err != nil {
		return nil, nil, err
	}
	d, ok := all.Open(p).(front.Pauser)
	if !ok {
		return nil, nil, usage("%s: a front of kind %s cannot hold what comes: requests do not wait as messages do",
			file, p.Front.Kind())
	}
	return p, d, nil
}

// tallyJSON is what became of all messages.
type tallyJSON struct {
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

// tally waits until nothing is being done any more, and the broker's numbers have come to rest, and adds up.
func tally(ctx context.Context, p *plan.Plan, d front.Driver, within time.Duration) (tallyJSON, error) {
	t := tallyJSON{Service: p.Service}
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
func (t *tallyJSON) take(r reading.Front) {
	t.At, t.Held, t.Agrees = r.At, r.Held, true
	for side, s := range r.Sides {
		t.Queues[side], t.Missing[side] = *s.Queue, missing(*s.Queue)
		t.Agrees = t.Agrees && 0 <= t.Missing[side] && t.Missing[side] <= s.Queue.Redelivered
	}
}

// restFor is how long the numbers have to stay the same: a broker gathers them every five seconds, where nobody says
// otherwise.
const restFor = 6 * time.Second

func (t tallyJSON) because() string {
	if !t.Still {
		return "what was there is not done yet: vaiven pause again, with a longer --within"
	}
	return fmt.Sprintf("what came and what became of it differ by %d at blue and %d at green: messages expired or "+
		"were purged, or the broker was started anew and has forgotten what it counted", t.Missing[split.Blue],
		t.Missing[split.Green])
}

func (t tallyJSON) print(w io.Writer) error {
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
