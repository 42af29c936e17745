package headless

import (
	"context"
	"errors"
	"fmt"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/keeper"
	"vaiven/internal/words"
)

// Options says how to cross.
type Options struct {
	Version   string
	By        string
	Asked     time.Time                           // when the person asked
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
	events, snapshots := c.Events(ctx), c.Snapshots(ctx)
	if _, err := free(ctx, snapshots); err != nil {
		return Summary{}, err
	}
	begun, err := c.Do(ctx, keeper.Command{Do: keeper.Begin, By: o.By, Version: o.Version, Versions: o.Versions, SameBuild: o.SameBuild, Asked: o.Asked})
	if err != nil {
		return Summary{}, err
	}
	r := runner{Options: o, client: c, begun: begun}
	for {
		select {
		case e, ok := <-events:
			if !ok {
				return Summary{}, errStopped
			}
			if err := r.emit(e); err != nil {
				return Summary{}, err
			}
		case s, ok := <-snapshots:
			if !ok {
				return Summary{}, errStopped
			}
			sum, done, err := r.look(ctx, s)
			if err != nil {
				return sum, err
			}
			if done {
				return sum, errors.Join(r.drain(ctx, events, s.Crossing.Seq), r.Emit(sum))
			}
		case <-ctx.Done():
			return Summary{}, context.Cause(ctx)
		}
	}
}

// runner is a crossing under way.
type runner struct {
	Options
	client   keeper.Client
	begun    uint64 // sequence number of a state of the crossing
	told     uint64 // of the last event that was passed on
	answered uint64 // the question that was answered last
}

// emit passes an event on.
func (r *runner) emit(e crossing.Event) error {
	r.told = e.Seq
	return r.Emit(e)
}

// drain passes on the events up to the last snapshot that were not taken yet.
func (r *runner) drain(ctx context.Context, events <-chan crossing.Event, last uint64) error {
	limit := time.After(eventLimit)
	for r.told < last {
		select {
		case e, ok := <-events:
			if !ok {
				return nil
			}
			if err := r.emit(e); err != nil {
				return err
			}
		case <-limit:
			return nil
		case <-ctx.Done():
			return nil
		}
	}
	return nil
}

// look does what a snapshot calls for, and says whether the crossing is over.
func (r *runner) look(ctx context.Context, s keeper.Snapshot) (Summary, bool, error) {
	c := s.Crossing
	q := c.Question
	switch {
	case c.Seq < r.begun:
		return Summary{}, false, nil // from before
	case c.Stage.Over() && !c.Retiring():
		return r.summary(s, outcomeOf(c.Stage), words.Cause(c.Why, c)+wayOut(c.Why)), true, nil
	case c.Frozen():
		return r.summary(s, Failed, "frozen: "+words.Frozen(c)), true, nil
	case q.ID == 0 || q.ID == r.answered:
		return Summary{}, false, nil
	}
	r.answered = q.ID
	answer := keeper.Command{Do: keeper.No, By: r.By, Question: q.ID}
	text := words.Whole(q, c)
	switch {
	case q.Kind == crossing.AskSameBuild: // --same-build says yes, before it is asked
	case q.Kind == crossing.AskFindings && r.Accept, q.Kind != crossing.AskFindings && r.Yes:
		answer.Do = keeper.Yes
	case r.Ask != nil:
		yes, err := r.Ask(text)
		if err != nil {
			return Summary{}, false, fmt.Errorf("ask %q: %w", text, err)
		}
		if yes {
			answer.Do = keeper.Yes
		}
	}
	_, err := r.client.Do(ctx, answer)
	if errors.Is(err, crossing.ErrNotNow) {
		err = nil // something has happened meanwhile, which the next snapshot tells
	}
	return Summary{}, false, err
}

// wayOut is the flag that says yes where this command said no.
func wayOut(why crossing.Cause) string {
	switch {
	case why.Kind != crossing.Declined:
		return ""
	case why.Question.Kind == crossing.AskSameBuild:
		return " (--same-build says yes)"
	case why.Question.Kind == crossing.AskFindings:
		return " (--accept says yes)"
	}
	return ""
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
		Took: s.At.Sub(c.Begun).Seconds(), Answers: s.Door.Answers, Failing: s.Door.Failing, Lost: s.Door.Lost,
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
