package headless

import (
	"context"
	"errors"
	"fmt"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
)

// BackOptions says where home is, if it is known, and who goes.
type BackOptions struct {
	To  string // "blue", "green", or "" for where the crossing came from
	By  string
	Why string
}

// Returned is what going back came to.
type Returned struct {
	Event  string      `json:"event"` // "back"
	To     split.Side  `json:"to"`
	Before string      `json:"before,omitempty"` // the share on green before, if the front could be read
	Share  split.Share `json:"share"`            // on green, as the front confirmed it
	Took   float64     `json:"took_ms"`
	Notes  []string    `json:"notes,omitempty"` // what could not be done beside it
}

// Front is all that going back asks of a front.
type Front interface {
	// Home puts a share on green in force, whatever the split is.
	Home(ctx context.Context, share split.Share) (reading.Split, error)
}

// Back takes all traffic home now. It needs the front and nothing else: with To
// given, neither the logbook nor any side is asked first. book may be nil.
func Back(ctx context.Context, f Front, book keeper.Book, o BackOptions) (Returned, error) {
	r := Returned{Event: "back"}
	var state crossing.State
	if o.To != "" {
		side, err := split.ParseSide(o.To)
		if err != nil {
			return r, err
		}
		r.To = side
	} else {
		var err error
		if state, err = lastCrossing(ctx, book); err != nil {
			return r, fmt.Errorf("which side is home cannot be told from the logbook (%w): say --to blue or --to green", err)
		}
		if state.Stage == crossing.None || state.Stage == crossing.Settled {
			return r, fmt.Errorf("%w: no crossing is under way; to send everything to one side all the same, say --to blue or --to green", crossing.ErrNotNow)
		}
		r.To = state.Target.Other()
	}
	begun := time.Now()
	s, err := f.Home(ctx, split.Toward(r.To, split.Whole))
	if err != nil {
		return r, err
	}
	r.Took = milliseconds(time.Since(begun))
	r.Share = s.Share
	return r, nil
}

func lastCrossing(ctx context.Context, book keeper.Book) (crossing.State, error) {
	if book == nil {
		return crossing.State{}, errors.New("it could not be opened")
	}
	number, err := book.Last(ctx)
	if err != nil || number == 0 {
		return crossing.State{}, err
	}
	return book.Replay(ctx, number)
}

// Record writes down that everything was taken home, for a crossing that no
// keeper is watching. It comes after the deed, and may fail without harm.
func Record(ctx context.Context, book keeper.Book, r Returned, o BackOptions) error {
	state, err := lastCrossing(ctx, book)
	if err != nil {
		return err
	}
	if !state.Stage.UnderWay() || state.Target == r.To {
		return nil
	}
	step := func(what crossing.Fact) error {
		e := crossing.Event{At: time.Now(), By: o.By, What: what}
		next, effects, err := crossing.Step(state, e)
		if err != nil {
			return err
		}
		state = next
		return book.Append(ctx, next, e, effects)
	}
	if err := step(crossing.BackAsked{Why: o.Why}); err != nil || !state.GoingBack {
		return err // without GoingBack it was called off: no traffic had moved
	}
	took := time.Duration(r.Took * float64(time.Millisecond))
	return step(crossing.Applied{Effect: state.Pending.ID, Share: r.Share, Took: took})
}
