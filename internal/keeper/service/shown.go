package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/logbook"
	"vaiven/internal/world/state"
)

// shownIn is the file that says to the socket's group which crossing there is or was last, and so where home is: they
// cannot read the logbook, and have to find home when the keeper is dead.
const shownIn = "crossing.json"

// brief is what is shown of a crossing.
func brief(s crossing.State) crossing.State {
	return crossing.State{Seq: s.Seq, Number: s.Number, Service: s.Service, Target: s.Target, Version: s.Version,
		Stage: s.Stage, Leg: s.Leg, Begun: s.Begun, BegunBy: s.BegunBy}
}

// show keeps the file up to date, for a group that there is. One that cannot be written is removed: an old one would
// lead home to the wrong side. It ends with the context.
func show(ctx context.Context, in *state.Folder, group int, k *keeper.Keeper) {
	s := k.Crossing()
	write := func() {
		data, err := json.Marshal(brief(s))
		if err == nil {
			err = in.WriteShown(shownIn, data, group)
		}
		if err != nil {
			slog.Warn("the socket's group is not told which crossing there is: vaiven back needs --to", "err", err)
			_ = in.Remove(shownIn) // tried again with what comes next
		}
	}
	write()
	stage, number := s.Stage, s.Number
	for e := range k.Events(ctx, s.Seq) {
		if s = crossing.Apply(s, e); s.Stage != stage || s.Number != number {
			stage, number = s.Stage, s.Number
			write()
		}
	}
}

// Shown is what another user's keeper shows of its last crossing: its number, stage, target, version and who began it.
func Shown(p *plan.Plan) (s crossing.State, err error) {
	in, err := state.Visit(p.State)
	if err != nil {
		return s, err
	}
	defer in.Close()
	data, err := in.ReadFile(shownIn)
	if err == nil {
		err = json.Unmarshal(data, &s)
	}
	return s, err
}

// HomeOf is the side that the last crossing came from, as the keeper shows it; false where there was none, or where it
// shows nothing.
func HomeOf(p *plan.Plan) (split.Side, bool) {
	s, err := Shown(p)
	return s.Target.Other(), err == nil && s.Stage != crossing.None
}

// OwnLogbook is an error if there is no logbook of ours in the plan's state folder. It wraps [state.ErrOthers] if that
// is another user's.
func OwnLogbook(p *plan.Plan) error {
	in, err := state.Look(p.State)
	if err == nil {
		err = in.Close()
	}
	if err == nil {
		_, err = os.Stat(p.Logbook())
	}
	return err
}

// Logbook is the plan's logbook, to be read. Where that is another user's it is a copy of what the keeper tells, which
// goes with the book.
func (r Reach) Logbook(ctx context.Context) (book *logbook.Book, drop func() error, err error) {
	if err := OwnLogbook(r.Plan); !errors.Is(err, state.ErrOthers) {
		if err != nil {
			return nil, nil, fmt.Errorf("there is no logbook yet: %w", err)
		}
		if book, err = OpenBook(r.Plan); err != nil {
			return nil, nil, err
		}
		return book, book.Close, nil
	}
	k, err := r.Open(ctx)
	if err != nil {
		return nil, nil, err
	}
	defer k.Close()
	dir, err := os.MkdirTemp("", "vaiven-logbook-")
	if err != nil {
		return nil, nil, err
	}
	if book, err = logbook.Open(filepath.Join(dir, "logbook.db")); err != nil {
		return nil, nil, errors.Join(err, os.RemoveAll(dir))
	}
	drop = func() error { return errors.Join(book.Close(), os.RemoveAll(dir)) }
	if err := k.copyTo(ctx, book); err != nil {
		return nil, nil, errors.Join(fmt.Errorf("read the logbook through its keeper: %w", err), drop())
	}
	return book, drop, nil
}

// copyTo writes all events that there are into a logbook.
func (r *Reached) copyTo(ctx context.Context, book *logbook.Book) error {
	now, err := r.View(ctx)
	if err != nil || now.Crossing.Seq == 0 {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var s crossing.State
	var some []crossing.Event
	for e := range r.Events(ctx, 0) {
		next := crossing.Apply(s, e)
		if _, begins := e.What.(crossing.Begun); begins && len(some) > 0 { // the one before has ended
			if err := book.Append(ctx, s, some); err != nil {
				return err
			}
			some = nil
		}
		s, some = next, append(some, e)
		if e.Seq >= now.Crossing.Seq {
			return book.Append(ctx, s, some)
		}
	}
	return ctx.Err()
}
