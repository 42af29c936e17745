package headless

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/words"
)

// Options says how to cross.
type Options struct {
	Version   string
	By        string
	As        *uint64           // see [keeper.Command]
	Versions  map[string]string // of other parts than the first
	Yes       Approved          // of what the route asks
	Accept    bool              // accept what the proof finds and the plan leaves to a person
	SameBuild bool              // begin even if nothing has changed
	AtOnce    bool              // in one step, because the live side does not serve
	Why       string            // what to write into the logbook
	TakeWheel bool              // also from somebody else
	Until     Until             // how far it is followed
	Detach    bool              // it is begun, and not followed
	// end the keep of a crossing to another version, or call off one that has moved no traffic; Confirm is the word
	// that retiring takes
	Supersede bool
	Confirm   string
	// it is not begun, but said to have arrived: the keeper begins it when it is its turn. Commit is what it is made of
	Arrive bool
	Commit string
	Ask    func(question string) (bool, error) // what is not approved; nil where nobody is there to be asked
	Member Member                              // of one in a fleet's crossing
	Emit   func(line any) error                // each event, then the summary
	Tell   func(text string)                   // how it stands while it waits; nil for nobody
}

// Member is what is more to say of a crossing that is part of a fleet's. The zero value is of one that is not.
type Member struct {
	With  string // the fleet that it arrives with, if it stays only with others
	After *int   // number of the last crossing before: a later one to the version is followed, and none begun beside it
	// whether its keep may end; asked again and again when it has lasted as long as it should
	Together func() bool
	// told how it stands, with a summary where a person is waited for; it is followed on then, until it has ended
	Seen func(s keeper.Snapshot, waits *Summary)
}

// Outcome is how a crossing ended.
type Outcome string

// The outcomes.
const (
	Settled Outcome = "settled"
	// which was to be retired: somebody moved traffic, or it is not known to be safe
	Kept       Outcome = "settled, old side kept"
	RolledBack Outcome = "rolled back"
	CalledOff  Outcome = "called off"
	Failed     Outcome = "failed"        // nothing was begun
	Frozen     Outcome = "frozen"        // it has not ended and stands where it stood, until a person goes on or back
	LiveIll    Outcome = "live side ill" // the same, and the live side does not serve as it should
	Waits      Outcome = "waits"         // it goes on when somebody answers
	Reached    Outcome = "reached"       // it is as far as it was to be followed, and goes on
	Detached   Outcome = "begun"         // it is the keeper's
	Noted      Outcome = "noted"         // the version waits for its turn
	NotBegun   Outcome = "not begun"     // the version that has arrived is not taken
)

// Summary is the last line of a crossing. Its counts are the prober's.
type Summary struct {
	Crossing int     `json:"crossing"`
	Outcome  Outcome `json:"outcome"`
	Why      string  `json:"why,omitempty"`
	// number of the last freeze, which an answer names; 0 if it is not frozen
	Freeze     uint64        `json:"freeze,omitempty"`
	Question   uint64        `json:"question,omitempty"` // that it waits for an answer to, which names it; 0 for none
	Version    string        `json:"version"`
	Target     split.Side    `json:"target"`
	Took       time.Duration `json:"took"`
	Answers    int64         `json:"answers"`
	Failing    int64         `json:"failing"`
	Lost       int64         `json:"lost"`
	LongestGap time.Duration `json:"longest_gap"`
	Switch     time.Duration `json:"last_change"` // from command to confirmation, of the last change of the share
	OldAfter   time.Duration `json:"old_after"`   // how long after it requests still began that the left side answered
	Share      split.Share   `json:"share"`
}

// Cross takes a crossing from begin to end; one to the same version that is under way it takes up
// where it is. One that freezes stays where it is, for a person
// to go on or go back, and no Yes answers that. What is asked and not approved is left to somebody, who may be asked
// here. The outcome says what it is about.
func Cross(ctx context.Context, c keeper.Client, o Options) (Summary, error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	events, snapshots := c.Events(ctx, keeper.FromNow), c.Snapshots(ctx)
	before, err := free(ctx, snapshots)
	if err != nil {
		return Summary{}, err
	}
	if before, err = supersede(ctx, c, o, snapshots, before); err != nil {
		return Summary{}, err
	}
	begun := before.Crossing.Seq
	if o.Arrive {
		sum, from, done, err := arrive(ctx, c, o, events, snapshots)
		if done || err != nil {
			return sum, err
		}
		begun = from
	} else if !o.takesUp(before.Crossing) {
		command := keeper.Command{Act: crossing.Begin{Version: o.Version, Versions: o.Versions, SameBuild: o.SameBuild,
			AtOnce: o.AtOnce, With: o.Member.With}, By: o.By, As: o.As, Why: o.Why, TakeWheel: o.TakeWheel}
		begun, err = c.Do(ctx, command)
		// it has just come to that
		if busy, ok := crossing.Refused[crossing.IsBusy](err); ok && busy.Task.Do == crossing.TaskRetire {
			if before, err = free(ctx, snapshots); err == nil {
				begun, err = c.Do(ctx, command)
			}
		}
		if err != nil {
			return Summary{}, err
		}
	}
	r := runner{Options: o, client: c, begun: begun, before: before.Door, door: before.Door}
	if o.Detach {
		return r.detached(ctx, events, snapshots)
	}
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
			r.tell(s)
			sum, done, err := r.look(ctx, s)
			if err != nil {
				return sum, err
			}
			if done = r.seen(s, sum, done); done {
				return sum, errors.Join(r.drain(ctx, events, s.Crossing.Seq), r.Emit(sum))
			}
		case <-ctx.Done():
			return Summary{}, context.Cause(ctx)
		}
	}
}

// takesUp reports whether a crossing is the one that is meant, and nothing is to be begun.
func (o Options) takesUp(s crossing.State) bool {
	if o.Member.After != nil {
		return s.Number > *o.Member.After && s.Version == o.Version
	}
	return s.Stage.UnderWay() && s.Version == o.Version
}

// supersede ends what is in the way of a crossing to another version, if that was asked for and may be: a keep, or what
// has moved no traffic.
func supersede(ctx context.Context, c keeper.Client, o Options, snapshots <-chan keeper.Snapshot,
	s keeper.Snapshot) (keeper.Snapshot, error) {
	is := s.Crossing
	if !o.Supersede || !is.Stage.UnderWay() || is.Version == o.Version {
		return s, nil
	}
	command := keeper.Command{By: o.By, As: o.As, Why: cmp.Or(o.Why, o.Version+" takes its place"),
		TakeWheel: o.TakeWheel}
	switch {
	case is.Stage == crossing.Keeping:
		command.Act = crossing.Retire{Typed: o.Confirm}
	case !is.Moved:
		command.Act = crossing.Back{}
	default:
		return s, nil // the refusal says what can be done
	}
	if _, err := c.Do(ctx, command); err != nil {
		return s, err
	}
	ended, stop := context.WithTimeout(ctx, freeLimit)
	defer stop()
	for {
		select {
		case s, ok := <-snapshots:
			if !ok {
				return s, errStopped
			}
			if s.Crossing.Stage.Over() && s.Crossing.Task.ID == 0 {
				return s, nil
			}
		case <-ended.Done():
			return s, fmt.Errorf("crossing %d was to end for %s, and has not ended yet: %w", is.Number, o.Version,
				context.Cause(ended))
		}
	}
}

// detached is the summary of a crossing that was just begun.
func (r *runner) detached(ctx context.Context, events <-chan crossing.Event,
	snapshots <-chan keeper.Snapshot) (Summary, error) {
	for {
		select {
		case s, ok := <-snapshots:
			if !ok {
				return Summary{}, errStopped
			}
			if s.Crossing.Seq >= r.begun {
				sum := r.summary(s, Detached, "")
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
	begun    uint64       // sequence number of a state of the crossing
	before   reading.Door // the door log until then, of the keeper that there is
	door     reading.Door // as it was last
	earlier  tally        // by keepers that have ended since
	told     uint64       // of the last event that was passed on
	answered uint64       // the question that was answered last
	answer   keeper.Command
	asked    uint64    // the question that it is about
	since    time.Time // when it was first refused because nothing goes on without being watched
	lost     time.Time // since when a keeper knows nothing of it
	served   bool      // in a first release, requests go to the new side
	said     string    // how it stood when that was told last
	saidAt   time.Time
	held     heldSince
}

// tally is what was counted at the door.
type tally struct{ answers, failing, lost int64 }

// counted is what was counted since the crossing began.
func (r *runner) counted() tally {
	return tally{
		r.earlier.answers + r.door.Answers - r.before.Answers, r.earlier.failing + r.door.Failing - r.before.Failing,
		r.earlier.lost + r.door.Lost - r.before.Lost,
	}
}

// goOn takes in the door log. A keeper that has begun another one counts from 0.
func (r *runner) goOn(d reading.Door) {
	if d.Answers < r.door.Answers {
		r.earlier, r.before = r.counted(), reading.Door{}
	}
	r.door = d
}

// unwatchedLimit is how long an answer waits for what has to be known for it to count.
const unwatchedLimit = 90 * time.Second

// lostLimit is how long a crossing may be unknown that was begun.
const lostLimit = 10 * time.Second

// tellEvery is how often it is told how it stands, where nothing changes.
const tellEvery = 15 * time.Second

// tell says how it stands: at once when that has changed in kind, else now and then.
func (r *runner) tell(s keeper.Snapshot) {
	r.goOn(s.Door)
	if s.Crossing.First && !r.served {
		r.before, r.served = s.Door, s.Crossing.Moved // nobody answered anything before, so nothing was lost
	}
	if r.Tell == nil || s.Crossing.Seq < r.begun && s.Trouble == "" || s.Crossing.Stage.Over() {
		return
	}
	kind, text := words.Progress(s.View, s.Trouble, s.Usual[s.Crossing.Task.Do], s.At)
	if text == "" || kind == r.said && s.At.Sub(r.saidAt) < tellEvery {
		return
	}
	r.said, r.saidAt = kind, s.At
	r.Tell(text)
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
	case c.Seq < r.begun: // from before
		if r.lost.IsZero() || !s.Ready {
			r.lost = s.At
		}
		if s.At.Sub(r.lost) > lostLimit {
			return r.summary(s, Failed, "the keeper was ended before it had recorded the beginning: nothing was begun"),
				true, nil
		}
		return Summary{}, false, nil
	case c.Stage.Over() && !c.Retiring():
		if c.Stage == crossing.Settled && !c.Everyone(c.Full()) {
			return r.summary(s, Kept, words.Trouble(c.Trouble)), true, nil
		}
		return r.summary(s, outcomeOf(c.Stage), words.Cause(c.Why, c)+wayOut(c.Why)), true, nil
	case c.Retiring() && c.Stage == crossing.Settled && len(c.Ails) > 0: // the old side is not retired while that is so
		return r.summary(s, LiveIll, words.Cause(c.Ails[len(c.Ails)-1].Cause, c)+", and "+c.Task.Side.String()+
			" is kept"), true, nil
	case c.Retiring() && c.Stage == crossing.Settled && r.held.long(s):
		return r.summary(s, Kept, words.Lacks(s.Held, s.At)), true, nil
	case c.Frozen() && c.Task.ID != 0 && (c.Stage == crossing.Raising || c.Stage == crossing.Proving):
		return Summary{}, false, nil // a side that is proven helps, whatever comes then
	case c.Frozen() && r.Until != UntilFrozen && mayRollBack(s.Guards) &&
		s.At.Sub(c.Freezes[len(c.Freezes)-1].At) < rollBackFor:
		return Summary{}, false, nil // guards go on, and may have the last word
	case c.Frozen():
		outcome, why := standsAs(c), words.Frozen(c)
		if help := words.WaysOut(s.WaysOut, c.Target); help != "" {
			why += ". What can be done: " + help
		}
		return r.summary(s, outcome, why), true, nil
	case r.Until.Reached(c):
		return r.summary(s, Reached, ""), true, nil
	case q.ID == 0 || q.ID == r.answered, isTogether(q) && r.Member.Together != nil && !r.Member.Together():
		return Summary{}, false, nil
	case r.left(q):
		return r.waits(s, words.Whole(q, c)), true, nil
	}
	if r.asked != q.ID {
		var err error
		r.asked = q.ID
		if r.answer, err = r.say(q, c); err != nil {
			return Summary{}, false, err
		}
		r.since = time.Time{}
	}
	_, err := r.client.Do(ctx, r.answer)
	unwatched, ok := crossing.Refused[crossing.NotWatched](err)
	switch {
	case ok:
		if r.since.IsZero() {
			r.since = s.At
		}
		if s.At.Sub(r.since) > unwatchedLimit {
			return r.summary(s, Frozen, words.Refusal(crossing.Refuse(unwatched))), true, nil
		}
		return Summary{}, false, nil // with the next snapshot
	case isTogether(q) && errors.Is(err, crossing.ErrNotNow): // it is not safe yet
		return Summary{}, false, nil
	case notOurs(err):
		return r.waits(s, words.Whole(q, c)+" It is somebody else's to answer: "+because(err)), true, nil
	case errors.Is(err, crossing.ErrNotNow):
		err = nil // something has happened meanwhile, which the next snapshot tells
	}
	r.answered = q.ID
	return Summary{}, false, err
}

func isTogether(q crossing.Question) bool { return oneof.IsA[crossing.AskTogether](q) }

// seen tells how one stands that is part of a fleet's crossing, and reports whether it is over: where a person is
// waited for, it is not.
func (r *runner) seen(s keeper.Snapshot, sum Summary, done bool) bool {
	if r.Member.Seen == nil || s.Crossing.Seq < r.begun {
		return done
	}
	if done && s.Crossing.Stage.UnderWay() {
		r.Member.Seen(s, &sum)
		return false
	}
	r.Member.Seen(s, nil)
	return done
}

// waits is the summary where a question waits for somebody.
func (r *runner) waits(s keeper.Snapshot, why string) Summary {
	sum := r.summary(s, Waits, why)
	sum.Question = s.Crossing.Question.ID
	return sum
}

// notOurs reports whether the plan's rules about people refuse something.
func notOurs(err error) bool {
	_, right := crossing.Refused[crossing.NotAllowed](err)
	_, other := crossing.Refused[crossing.NotFourEyes](err)
	return right || other
}

// because is why something was refused, in words.
func because(err error) string {
	var r *crossing.Refusal
	if errors.As(err, &r) {
		return words.Refusal(r)
	}
	return err.Error()
}

// left reports whether a question is left to somebody who is not here.
func (r *runner) left(q crossing.Question) bool {
	switch finds := oneof.IsA[crossing.AskFindings](q); {
	case oneof.IsA[crossing.AskSameBuild](q), r.Ask != nil, isTogether(q) && r.Member.Together != nil:
		return false
	case finds:
		return !r.Accept
	}
	return !r.Yes.Of(q)
}

// say is the answer to a question.
func (r *runner) say(q crossing.Question, c crossing.State) (keeper.Command, error) {
	answer := keeper.Command{Act: crossing.No{Question: q.ID}, By: r.By}
	text := words.Whole(q, c)
	finds := oneof.IsA[crossing.AskFindings](q)
	switch {
	case oneof.IsA[crossing.AskSameBuild](q): // --same-build says yes, before it is asked
	case finds && r.Accept, !finds && r.Yes.Of(q), isTogether(q) && r.Member.Together != nil:
		answer.Act = crossing.Yes{Question: q.ID}
	case r.Ask != nil:
		yes, err := r.Ask(text)
		if err != nil {
			return answer, fmt.Errorf("ask %q: %w", text, err)
		}
		if yes {
			answer.Act = crossing.Yes{Question: q.ID}
		}
	}
	return answer, nil
}

// wayOut is the flag that says yes where this command said no.
func wayOut(why crossing.Cause) string {
	declined, _ := why.Is.(crossing.Declined)
	switch declined.Question.Is.(type) {
	case crossing.AskSameBuild:
		return " (--same-build says yes)"
	case crossing.AskFindings:
		return " (--accept says yes)"
	}
	return ""
}

// rollBackFor is how long a crossing that is frozen is waited for because a guard may yet roll it back.
const rollBackFor = 30 * time.Second

// mayRollBack reports whether a guard that rolls back has half of the evidence that it needs, or more.
func mayRollBack(list []guard.Status) bool {
	return slices.ContainsFunc(list, func(s guard.Status) bool {
		return s.Then == plan.RollBack && s.Watch.Gathers() && s.State == guard.Watching && 2*s.Evidence >= s.Needed
	})
}

// standsAs is how a crossing stands that is frozen, by whatever froze it: the gravest first.
func standsAs(s crossing.State) Outcome {
	if _, ill := crossing.FrozenBy[crossing.HomeIll](s); ill {
		return LiveIll
	}
	return Frozen
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
	c, n := s.Crossing, r.counted()
	sum := Summary{
		Crossing: c.Number, Outcome: o, Why: why, Version: c.Version, Target: c.Target,
		Took: s.At.Sub(c.Begun), Answers: n.answers, Failing: n.failing, Lost: n.lost,
		LongestGap: s.Door.LongestGap, Switch: s.Switch.Took, Share: s.Front.Split.Share,
	}
	if n := len(c.Freezes); n > 0 {
		sum.Freeze = c.Freezes[n-1].ID
	}
	left := c.Target
	if o == Settled || o == Kept {
		left = c.Target.Other()
	}
	if last := s.Door.LastBegun[left.String()]; !s.Switch.At.IsZero() && last.After(s.Switch.At) {
		sum.OldAfter = last.Sub(s.Switch.At)
	}
	return sum
}
