package headless

import (
	"context"
	"errors"
	"fmt"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/keeper"
)

// Options says how to cross.
type Options struct {
	Version   string
	By        string
	Versions  map[string]string                   // of other parts than the first
	Yes       bool                                // approve what the route asks
	Accept    bool                                // accept what the proof finds and the plan leaves to a person
	SameBuild bool                                // begin even if nothing has changed
	Ask       func(question string) (bool, error) // where Yes is not set
	Emit      func(line any) error                // each event, then the summary
}

// Outcome is how a crossing ended.
type Outcome string

// The outcomes.
const (
	Settled    Outcome = "settled"
	RolledBack Outcome = "rolled back"
	CalledOff  Outcome = "called off"
	Failed     Outcome = "failed" // it has not ended: it stands where it stood
)

// Summary is the last line of a crossing. Its counts are the prober's.
type Summary struct {
	Event      string  `json:"event"` // "summary"
	Crossing   int     `json:"crossing"`
	Outcome    Outcome `json:"outcome"`
	Why        string  `json:"why,omitempty"`
	Version    string  `json:"version"`
	Target     string  `json:"target"`
	Took       float64 `json:"took_s"`
	Answers    int64   `json:"answers"`
	Failing    int64   `json:"failing"`
	Lost       int64   `json:"lost"`
	LongestGap float64 `json:"longest_gap_ms"`
	Switch     float64 `json:"switch_ms"`    // of the last change of the share, from command to confirmation
	OldAfter   float64 `json:"old_after_ms"` // how long after it requests still began that the left side answered
	Share      string  `json:"share_on_green"`
}

// Cross takes a crossing from begin to end. A crossing that freezes with nobody
// there to look at it fails: it stays where it is, for a person to go on or go
// back.
func Cross(ctx context.Context, c keeper.Client, o Options) (Summary, error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	events := c.Events(ctx)
	snapshots := c.Snapshots(ctx)
	begin := keeper.Command{Do: keeper.Begin, By: o.By, Version: o.Version, Versions: o.Versions, SameBuild: o.SameBuild}
	if err := beginWhenRead(ctx, c, begin, snapshots); err != nil {
		return Summary{}, err
	}
	r := runner{Options: o, client: c}
	var latest keeper.Snapshot
	for {
		select {
		case e, ok := <-events:
			if !ok {
				return Summary{}, errors.New("the keeper has stopped")
			}
			if err := r.emit(e); err != nil {
				return Summary{}, err
			}
		case s, ok := <-snapshots:
			if !ok {
				return Summary{}, errors.New("the keeper has stopped")
			}
			latest = s
		case <-ctx.Done():
			return Summary{}, context.Cause(ctx)
		}
		sum, done, err := r.look(ctx, latest)
		if err != nil {
			return sum, err
		}
		if done {
			return sum, errors.Join(r.drain(events), r.Emit(sum))
		}
	}
}

// emit passes an event on, and learns the crossing's number from the first.
func (r *runner) emit(e crossing.Event) error {
	if b, ok := e.What.(crossing.Begun); ok {
		r.number = b.Number
	}
	return r.Emit(e)
}

// drain passes on the events that came before the last snapshot and were not
// taken yet.
func (r *runner) drain(events <-chan crossing.Event) error {
	for {
		select {
		case e, ok := <-events:
			if !ok {
				return nil
			}
			if err := r.emit(e); err != nil {
				return err
			}
		case <-time.After(50 * time.Millisecond):
			return nil
		}
	}
}

// How long a beginning waits for the keeper.
const (
	readLimit   = 10 * time.Second // to have read front and stacks
	retireLimit = 2 * time.Minute  // to finish retiring a side that an earlier crossing gave up
)

// beginWhenRead begins once the keeper has read what there is and has nothing left
// to do for an earlier crossing. Past the limits it begins all the same, and the
// keeper says what is missing.
func beginWhenRead(ctx context.Context, c keeper.Client, begin keeper.Command, snapshots <-chan keeper.Snapshot) error {
	limit := time.NewTimer(readLimit)
	defer limit.Stop()
	retiring := false
	for {
		select {
		case s := <-snapshots:
			if !s.Ready {
				continue
			}
			if s.Crossing.Retiring {
				if !retiring {
					retiring = true
					limit.Reset(retireLimit)
				}
				continue
			}
		case <-limit.C:
		case <-ctx.Done():
			return ctx.Err()
		}
		return c.Do(ctx, begin)
	}
}

// runner is a crossing under way.
type runner struct {
	Options
	client   keeper.Client
	number   int    // of the crossing, 0 until it is known
	answered string // the question that was answered last
}

// look does what a snapshot calls for, and says whether the crossing is over.
func (r *runner) look(ctx context.Context, s keeper.Snapshot) (Summary, bool, error) {
	c := s.Crossing
	if r.number == 0 || c.Number != r.number {
		return Summary{}, false, nil // of an earlier crossing
	}
	switch {
	case c.Stage.Over() && !c.Retiring:
		return r.summary(s, outcomeOf(c.Stage), c.Why), true, nil
	case c.Frozen != "":
		return r.summary(s, Failed, "frozen: "+c.Frozen), true, nil
	case c.Waiting == "" || c.Waiting == r.answered:
		return Summary{}, false, nil
	case c.Stage == crossing.Raise: // the only question there is whether to raise the same build
		r.answered = c.Waiting
		return Summary{}, false, r.client.Do(ctx, keeper.Command{Do: keeper.Back, By: r.By, Why: c.Waiting + " (--same-build says yes)"})
	}
	r.answered = c.Waiting
	yes := r.Yes
	if len(c.Asked) > 0 {
		yes = r.Accept
	}
	if !yes && r.Ask == nil {
		return Summary{}, false, r.client.Do(ctx, keeper.Command{Do: keeper.Back, By: r.By, Why: "not accepted: " + c.Waiting})
	}
	if !yes {
		var err error
		if yes, err = r.Ask(c.Waiting); err != nil {
			return Summary{}, false, fmt.Errorf("ask %q: %w", c.Waiting, err)
		}
	}
	if yes {
		return Summary{}, false, r.client.Do(ctx, keeper.Command{Do: keeper.Next, By: r.By})
	}
	return Summary{}, false, r.client.Do(ctx, keeper.Command{Do: keeper.Back, By: r.By, Why: "not approved: " + c.Waiting})
}

func outcomeOf(s crossing.Stage) Outcome {
	switch s {
	case crossing.Settled:
		return Settled
	case crossing.RolledBack:
		return RolledBack
	case crossing.CalledOff:
		return CalledOff
	}
	return Failed
}

func (r *runner) summary(s keeper.Snapshot, o Outcome, why string) Summary {
	c := s.Crossing
	sum := Summary{
		Event: "summary", Crossing: c.Number, Outcome: o, Why: why, Version: c.Version, Target: c.Target.String(),
		Took: s.At.Sub(s.Begun).Seconds(), Answers: s.Door.Answers, Failing: s.Door.Failing, Lost: s.Door.Lost,
		LongestGap: milliseconds(s.Door.LongestGap), Switch: milliseconds(s.Switch.Took), Share: s.Front.Split.Share.String(),
	}
	left := c.Target
	if o == Settled {
		left = c.Target.Other()
	}
	if last := s.Door.LastBegun[left.String()]; !s.Switch.At.IsZero() && last.After(s.Switch.At) {
		sum.OldAfter = milliseconds(last.Sub(s.Switch.At))
	}
	return sum
}

func milliseconds(d time.Duration) float64 {
	return float64(d.Round(10*time.Microsecond)) / float64(time.Millisecond)
}
