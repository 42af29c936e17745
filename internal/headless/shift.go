package headless

import (
	"context"
	"errors"
	"fmt"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/keeper"
	"vaiven/internal/plan"
)

// ShiftOptions says what to put in force, and with what.
type ShiftOptions struct {
	Plan   *plan.Plan
	Front  keeper.Front
	Stacks keeper.Stacks
	Book   keeper.Book
	Acts   Acts
	Share  split.Share // on green
	By     string
}

// Acts records what is done by hand outside of a crossing: before it is done, or not at
// all, and what it came to.
type Acts interface {
	Act(ctx context.Context, by, what string, do func() (did []string, outcome string, err error)) error
}

// Shifted is what a shift came to.
type Shifted struct {
	Event  string      `json:"event"`  // "shift"
	Before split.Share `json:"before"` // on green
	Share  split.Share `json:"share"`  // on green, as read back
	Took   float64     `json:"took_ms"`
	Did    []string    `json:"did"`
	Notes  []string    `json:"notes,omitempty"`
}

// Shift puts a share in force by hand, for a service that nobody steers. What the core
// refuses in a crossing that is under way is refused here too; in none, the share is the
// person's own responsibility, and the notes say so.
func Shift(ctx context.Context, o ShiftOptions) (Shifted, error) {
	s := Shifted{Event: "shift"}
	r, err := o.Front.Read(ctx)
	if err != nil {
		return s, err
	}
	s.Before = r.Split.Share
	state, err := lastCrossing(ctx, o.Book)
	if err != nil {
		return s, err
	}
	for _, side := range split.Sides {
		if o.Share.Of(side) > 0 && len(r.Sides[side].Instances) == 0 {
			if err := tellInstances(ctx, o, side); err != nil {
				return s, err
			}
		}
	}
	set := func() (done reading.Split, took time.Duration, err error) {
		begun := time.Now()
		done, err = o.Front.Set(ctx, o.Share, r.Split.Revision)
		s.Share, s.Took, s.Did = done.Share, milliseconds(time.Since(begun)), done.Did
		return done, time.Since(begun), err
	}
	if state.Stage.UnderWay() {
		state.Share = r.Split.Share // the front's word over the notes
		s.Notes, err = steer(ctx, o, state, set)
	} else {
		s.Notes = append(s.Notes, "no crossing is under way: nothing was proven, and no guard watches")
		err = o.Acts.Act(ctx, o.By, fmt.Sprintf("shift to %v", o.Share), func() ([]string, string, error) {
			done, took, err := set()
			return done.Did, fmt.Sprintf("%v → %v of the requests on green, in %.1f ms", s.Before, done.Share, milliseconds(took)), err
		})
	}
	if err != nil {
		return s, err
	}
	if s.Share != o.Share {
		s.Notes = append(s.Notes, fmt.Sprintf("%v is the nearest to %v that the front can do", s.Share, o.Share))
	}
	return s, nil
}

// steer puts a share in force as a part of the crossing that is under way.
func steer(ctx context.Context, o ShiftOptions, state crossing.State, set func() (reading.Split, time.Duration, error)) (notes []string, err error) {
	steered := crossing.Event{At: time.Now(), By: o.By, What: crossing.SteerAsked{Share: o.Share}}
	next, effects, err := crossing.Step(state, steered)
	if err != nil {
		return nil, err
	}
	if err := o.Book.Append(ctx, next, steered, effects); err != nil {
		return nil, fmt.Errorf("the logbook cannot be written, so nothing was done: %w", err)
	}
	done, took, err := set()
	var fact crossing.Fact = crossing.Applied{Effect: next.Pending.ID, Share: done.Share, Took: took, Did: done.Did}
	if err != nil {
		fact = crossing.ApplyFailed{Effect: next.Pending.ID, Why: err.Error()}
	}
	e := crossing.Event{At: time.Now(), By: self, What: fact}
	after, effects, errStep := crossing.Step(next, e)
	if errStep == nil {
		errStep = o.Book.Append(context.WithoutCancel(ctx), after, e, effects)
	}
	if errStep != nil {
		notes = append(notes, fmt.Sprintf("what it came to is not in the logbook: %v", errStep))
	}
	return notes, err
}

// self is who reports events that no person asked for.
const self = "vaiven"

// tellInstances gives the front the instances of a side that it does not know yet.
func tellInstances(ctx context.Context, o ShiftOptions, side split.Side) error {
	list, err := o.Stacks.List(ctx, side)
	if err != nil {
		return err
	}
	var wanted []reading.Server
	for _, i := range list {
		if i.Running && i.Part == o.Plan.Main().Name {
			wanted = append(wanted, reading.Server{Name: i.Name, Address: i.Address, Version: i.Version})
		}
	}
	if len(wanted) == 0 {
		return fmt.Errorf("%w: %v has no instances that run", front.ErrRefused, side)
	}
	if err := o.Front.SetInstances(ctx, side, wanted); err != nil {
		return errors.Join(fmt.Errorf("tell the front %v's instances", side), err)
	}
	return nil
}
