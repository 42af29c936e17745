package headless

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/proving/prove"
	"vaiven/internal/words"
)

// How long a command waits for the keeper.
const (
	readLimit = 10 * time.Second // to have read front and stacks
	freeLimit = 2 * time.Minute  // to finish what an earlier command or crossing left to do
)

// errStopped is a keeper that ended under a command.
var errStopped = errors.New("the keeper has stopped")

// ErrNotDone is wrapped when what was asked for was begun and came to nothing.
var ErrNotDone = errors.New("not done")

// free waits until the keeper has read what there is, and has nothing left to do for an
// earlier crossing. Past the limits it goes on all the same, and the keeper says what is in
// the way.
func free(ctx context.Context, snapshots <-chan keeper.Snapshot) (last keeper.Snapshot, err error) {
	limit := time.NewTimer(readLimit)
	defer limit.Stop()
	busy := false
	for {
		select {
		case s, ok := <-snapshots:
			switch {
			case !ok:
				return last, errStopped
			case !s.Ready:
				continue
			case s.Crossing.Stage.UnderWay() || s.Crossing.Task.ID == 0:
				return s, nil
			case !busy:
				busy = true
				limit.Reset(freeLimit)
			}
		case <-limit.C:
			return last, nil
		case <-ctx.Done():
			return last, ctx.Err()
		}
	}
}

// act has the keeper do something, and waits for what comes of it: the first event that is
// wanted, or that the task was not done. A task's number is that of the event that ordered it.
func act(ctx context.Context, c keeper.Client, command keeper.Command, wanted func(task uint64, f crossing.Fact) bool,
	shown func(keeper.Snapshot)) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	events, snapshots := c.Events(ctx, keeper.FromNow), c.Snapshots(ctx)
	before, err := free(ctx, snapshots)
	if err != nil {
		return err
	}
	shown(before)
	shownTo := before.Crossing.Seq
	task, err := c.Do(ctx, command)
	if err != nil {
		return err
	}
	var gone <-chan time.Time // something else is done in its place, and no event says so
	var held heldSince
	for {
		select {
		case e, ok := <-events:
			if !ok {
				return errStopped
			}
			if wanted(task, e.What) {
				if shownTo < e.Seq {
					caughtUp(snapshots, e.Seq, shown)
				}
				return nil
			}
			if f, failed := e.What.(crossing.Failed); failed && f.Task == task {
				return fmt.Errorf("%w: %s", ErrNotDone, words.Trouble(f.Trouble))
			}
		case s, ok := <-snapshots:
			if !ok {
				return errStopped
			}
			shown(s)
			shownTo = s.Crossing.Seq
			if held.long(s) {
				return fmt.Errorf("%w: %s. The keeper does it when that is over", ErrNotDone, words.Lacks(s.Held, s.At))
			}
			if gone == nil && s.Crossing.Seq > task && s.Crossing.Task.ID != task {
				gone = time.After(eventLimit)
			}
		case <-gone:
			return fmt.Errorf("%w: something else came in between", ErrNotDone)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// heldLimit is how long something that is withheld is waited for.
const heldLimit = 10 * time.Second

// heldSince is since when something is withheld for a reason that does not pass by itself, zero while it is not.
type heldSince time.Time

// long takes in a snapshot, and reports whether nobody waits for it any longer.
func (h *heldSince) long(s keeper.Snapshot) bool {
	switch withheld := slices.ContainsFunc(s.Held,
		func(l crossing.Lack) bool { return !oneof.IsA[crossing.LackTime](l) }); {
	case !withheld:
		*h = heldSince{}
	case time.Time(*h).IsZero():
		*h = heldSince(s.At)
	default:
		return s.At.Sub(time.Time(*h)) > heldLimit
	}
	return false
}

// eventLimit is how long an event may come after a snapshot that knows of it, and the other
// way round.
const eventLimit = time.Second

// caughtUp shows the snapshots up to the first that knows of an event, so that what brought
// it about has been shown.
func caughtUp(snapshots <-chan keeper.Snapshot, seq uint64, shown func(keeper.Snapshot)) {
	late := time.After(eventLimit)
	for {
		select {
		case s, ok := <-snapshots:
			if !ok {
				return
			}
			shown(s)
			if s.Crossing.Seq >= seq {
				return
			}
		case <-late:
			return
		}
	}
}

// RaiseOptions says what to raise the spare side at.
type RaiseOptions struct {
	Version   string
	Versions  map[string]string // of other parts than the first
	SameBuild bool              // also what the live side runs already
	By        string
	As        *uint64 // see [keeper.Command]
	Why       string  // what to write into the logbook
	TakeWheel bool    // also from somebody else
}

// Raise stands the spare side up at a version and waits until every instance is healthy.
// What failed is left standing to be looked at; a second Raise completes or replaces it.
// told is given the instances as they are, again and again.
func Raise(ctx context.Context, c keeper.Client, o RaiseOptions, told func([]reading.Condition)) (split.Side,
	[]raise.Choice, error) {
	var side split.Side
	var choices []raise.Choice
	raising := false
	command := keeper.Command{Act: crossing.Raise{Version: o.Version, Versions: o.Versions, SameBuild: o.SameBuild},
		By: o.By, As: o.As, Why: o.Why, TakeWheel: o.TakeWheel}
	err := act(ctx, c, command, func(task uint64, f crossing.Fact) bool {
		switch f := f.(type) {
		case crossing.Ordered:
			if f.Task.Do == crossing.TaskRaise {
				side, choices = f.Task.Side, f.Task.Choices
			}
		case crossing.Raised:
			return f.Task == task
		}
		return false
	}, func(s keeper.Snapshot) {
		if t := s.Crossing.Task; t.Do == crossing.TaskRaise {
			side, raising = t.Side, true
		}
		if raising {
			told(s.Sides[side].Instances)
		}
	})
	return side, choices, err
}

// Shifted is what a shift came to.
type Shifted struct {
	Before split.Share   `json:"before"` // on green
	Share  split.Share   `json:"share"`  // on green, as read back
	Took   time.Duration `json:"took"`
	Did    []string      `json:"did"`
	Notes  []string      `json:"notes,omitempty"`
}

// Shift puts a share on green in force by hand. Within a crossing that is a steering, with
// its rules; in none the share is the person's own responsibility, and the notes say so.
func Shift(ctx context.Context, c keeper.Client, to crossing.Shift, command keeper.Command) (Shifted, error) {
	command.Act = to
	share := to.Share
	s := Shifted{}
	first, crossed := true, false
	err := act(ctx, c, command, func(task uint64, f crossing.Fact) bool {
		switch f := f.(type) {
		case crossing.TookEffect:
			if f.Task != task {
				return false
			}
			s.Share, s.Took, s.Did = f.Share, f.Took, f.Did
			return true
		case crossing.Changed:
			if f.Foreign {
				s.Share = f.Share
				return true
			}
		}
		return false
	}, func(snapshot keeper.Snapshot) {
		if first {
			first, s.Before = false, snapshot.Front.Split.Share
		}
		crossed = snapshot.Crossing.Stage.UnderWay()
	})
	if err != nil {
		return s, err
	}
	if s.Did == nil && s.Share != share {
		return s, fmt.Errorf("%w: somebody else changed the front to %v on green meanwhile", ErrNotDone, s.Share)
	}
	if !crossed {
		s.Notes = append(s.Notes, "no crossing is under way: nothing was proven, and no guard watches")
	}
	if s.Share != share {
		s.Notes = append(s.Notes, fmt.Sprintf("%v is the nearest to %v that the front can do", s.Share, share))
	}
	return s, nil
}

// Retire drains and removes the side without traffic. told is given what is known of it, again and again.
func Retire(ctx context.Context, c keeper.Client, typed string, command keeper.Command,
	told func(side split.Side, is engine.SideView)) (split.Side, error) {
	var side split.Side
	command.Act = crossing.Retire{Typed: typed}
	err := act(ctx, c, command, func(task uint64, f crossing.Fact) bool {
		retired, done := f.(crossing.Retired)
		side = retired.Side
		return done && retired.Task == task
	}, func(s keeper.Snapshot) {
		if t := s.Crossing.Task; t.Do == crossing.TaskRetire {
			told(t.Side, s.Sides[t.Side])
		}
	})
	return side, err
}

// Prove has the keeper make the whole proof of the spare side, as it stands, and waits for it.
func Prove(ctx context.Context, c keeper.Client, command keeper.Command) (proof.Proof, prove.About, error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	snapshots := c.Snapshots(ctx)
	before, err := free(ctx, snapshots)
	if err != nil {
		return proof.Proof{}, prove.About{}, err
	}
	command.Act = crossing.Prove{}
	if _, err := c.Do(ctx, command); err != nil {
		return proof.Proof{}, prove.About{}, err
	}
	for {
		select {
		case s, ok := <-snapshots:
			switch {
			case !ok:
				return proof.Proof{}, prove.About{}, errStopped
			case s.Proofs > before.Proofs && !s.Proving:
				return s.Proof, s.About, nil
			}
		case <-ctx.Done():
			return proof.Proof{}, prove.About{}, ctx.Err()
		}
	}
}
