package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/past"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/logbook"
	"vaiven/internal/keeper/recording"
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

// Remembered is what is remembered of the service: by its keeper if one runs, else by its files, which are read as well
// where what the keeper says of them cannot be read. Close what is given with it.
func (r Reach) Remembered(ctx context.Context) (keeper.Past, func() error, error) {
	own := OwnLogbook(r.Plan)
	if own != nil && !errors.Is(own, state.ErrOthers) {
		return nil, nil, fmt.Errorf("there is no logbook yet: %w", own)
	}
	k, err := r.Open(ctx)
	switch {
	case err == nil && own == nil:
		return either{k, r.Plan}, k.Close, nil
	case err == nil:
		return k, k.Close, nil
	case own != nil:
		return nil, nil, err
	}
	f, err := openFiles(r.Plan)
	if err != nil {
		return nil, nil, err
	}
	return f, f.close, nil
}

// either is what a keeper remembers and, of a logbook that it cannot read, what the files do.
type either struct {
	keeper.Past
	plan *plan.Plan
}

// Logbook is all crossings. See [keeper.Past].
func (e either) Logbook(ctx context.Context) (keeper.Logbook, error) {
	return fromEither(ctx, e, func(p keeper.Past) (keeper.Logbook, error) { return p.Logbook(ctx) })
}

// EventsOf is all that happened in a crossing. See [keeper.Past].
func (e either) EventsOf(ctx context.Context, number int, upTo uint64) (keeper.Told, error) {
	return fromEither(ctx, e, func(p keeper.Past) (keeper.Told, error) { return p.EventsOf(ctx, number, upTo) })
}

// fromEither asks the keeper, and the files where it cannot say.
func fromEither[T any](ctx context.Context, e either, ask func(keeper.Past) (T, error)) (T, error) {
	said, err := ask(e.Past)
	if err == nil || ctx.Err() != nil {
		return said, err
	}
	f, errFiles := openFiles(e.plan)
	if errFiles != nil {
		return said, err
	}
	said, err = ask(f)
	return said, errors.Join(err, f.close())
}

// files is what a state folder remembers.
type files struct {
	plan *plan.Plan
	in   *state.Folder
	book *logbook.Book
}

func openFiles(p *plan.Plan) (f files, err error) {
	f.plan = p
	if f.in, err = state.Look(p.State); err != nil {
		return f, err
	}
	if f.book, err = logbook.Read(p.Logbook()); err != nil {
		return f, errors.Join(mended(p, err), f.in.Close())
	}
	return f, nil
}

func (f files) close() error { return errors.Join(f.book.Close(), f.in.Close()) }

// Logbook is all crossings. See [keeper.Past].
func (f files) Logbook(ctx context.Context) (keeper.Logbook, error) {
	events, unread, err := f.book.Everything(ctx)
	if err != nil {
		return keeper.Logbook{}, err
	}
	var b past.Book
	for _, e := range events {
		b.Add(e)
	}
	return keeper.LogbookOf(&b, f.plan, unread), nil
}

// EventsOf is all that happened in a crossing, or what can be read of it. See [keeper.Past].
func (f files) EventsOf(ctx context.Context, number int, upTo uint64) (keeper.Told, error) {
	told, err := keeper.ToldOf(ctx, f.book, number, upTo)
	if !errors.Is(err, logbook.ErrDamaged) {
		return told, err
	}
	events, unread, err := f.book.Everything(ctx)
	if err != nil {
		return told, err
	}
	told = keeper.Told{Unread: unread, Events: slices.DeleteFunc(events, func(e crossing.Event) bool {
		return e.Crossing != number || upTo > 0 && e.Seq > upTo
	})}
	if len(told.Events) == 0 {
		err = fmt.Errorf("%w: %d", logbook.ErrNoCrossing, number)
	}
	return told, err
}

// Recorded is what was seen of a crossing. See [keeper.Past].
func (f files) Recorded(_ context.Context, number int) ([]byte, error) {
	return recording.Find(f.in, number)
}
