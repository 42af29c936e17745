package headless

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// BackOptions says where home is, and who goes.
type BackOptions struct {
	To    split.Side
	By    string
	Why   string
	Force bool          // also to a side that has nobody, while the other one serves
	For   time.Duration // how long to try; at least once
	Close bool          // the other side is left, and closed
	// Name tells the front who runs on the side, where it has forgotten that, and reports whether somebody does; nil
	// if nobody can.
	Name func(context.Context) bool
}

// Returned is what going back came to.
type Returned struct {
	To    split.Side    `json:"to"`
	Share split.Share   `json:"share"` // on green, as the front confirmed it
	Order reading.Order `json:"order"` // that holds from now on
	Took  time.Duration `json:"took"`
	Did   []string      `json:"did"`
	Notes []string      `json:"notes,omitempty"` // what there is to know beside it

	// until when those who ask may still go by what was before, where that is later than now
	Everywhere time.Time `json:"everywhere,omitzero"`
}

// Front is all that going back asks of a front.
type Front interface {
	Home(context.Context, front.Homing) (front.Done, error)
	Read(context.Context) (reading.Front, error)
}

// Back takes all traffic home now, and tries for a while until it works. It needs the front
// and the side, and nothing else. tried is told why a try did not work.
func Back(ctx context.Context, f Front, o BackOptions, tried func(error)) (Returned, error) {
	r := Returned{To: o.To}
	begun := time.Now()
	named := o.Name == nil
	for tries := 1; ; tries++ {
		d, err := front.TryHome(ctx, f.Home, o.homing())
		if err == nil {
			r.Took, r.Share, r.Order, r.Did, r.Everywhere = time.Since(begun), d.Share, d.Order, d.Did, d.Everywhere
			return r, nil
		}
		if errors.Is(err, front.ErrNobody) && !named {
			if named = true; o.Name(ctx) {
				continue
			}
		}
		if errors.Is(err, front.ErrNobody) {
			return r, fmt.Errorf("%w: %w. To go there all the same, say --force", crossing.ErrNotNow, err)
		}
		if errors.Is(err, front.ErrClosed) {
			return r, fmt.Errorf("%w: %w", crossing.ErrNotNow, err)
		}
		pause := front.HomePause(tries)
		if time.Since(begun)+pause > o.For {
			return r, err
		}
		tried(err)
		select {
		case <-ctx.Done():
			return r, err
		case <-time.After(pause):
		}
	}
}

// Strays are requests that were counted after all was sent home.
type Strays struct {
	Home, Elsewhere int64
	// when those who ask go by it, at the latest; zero if nothing is known that would explain them
	Until time.Time
}

// Any reports whether so many go elsewhere that it is no chance, and none that was under way.
func (s Strays) Any() bool {
	return s.Elsewhere >= straysLeast && float64(s.Elsewhere) >= straysPart*float64(s.Home+s.Elsewhere)
}

const (
	straysFor   = 2 * time.Second // requests are counted for so long, at most,
	straysEvery = 100 * time.Millisecond
	straysTail  = 500 * time.Millisecond // beginning after those that were under way
	straysLeast = 5
	straysPart  = 0.1
	homeLeast   = 20 // so many at home, and none elsewhere, are enough
)

// Arrived counts for a moment where requests go after all were sent home: what users get is more than what a front
// says of itself. A front that counts nothing is taken at its word.
func Arrived(ctx context.Context, f Front, r Returned) Strays {
	s := Strays{}
	if r.Everywhere.After(time.Now()) {
		s.Until = r.Everywhere
	}
	var series figures.Series
	begun := time.Now()
	for time.Since(begun) < straysFor {
		limited, cancel := context.WithTimeout(ctx, straysFor)
		now, err := f.Read(limited)
		cancel()
		// what waits on a side is done there
		queued := now.Sides[split.Blue].Queue != nil || now.Sides[split.Green].Queue != nil
		if err != nil || !now.Tells.Counts || now.Order.Generation > r.Order.Generation || now.Sessions || queued {
			return Strays{Until: s.Until}
		}
		if series.Add(now) != nil {
			return Strays{Until: s.Until}
		}
		from := begun.Add(straysTail)
		s.Home, s.Elsewhere = series.Count(r.To, from, 0).Requests, series.Count(r.To.Other(), from, 0).Requests
		if s.Home >= homeLeast && s.Elsewhere == 0 {
			return s
		}
		select {
		case <-ctx.Done():
			return s
		case <-time.After(straysEvery):
		}
	}
	return s
}

func (o BackOptions) homing() front.Homing {
	return front.Homing{Side: o.To, By: o.By, Why: o.Why, Force: o.Force, Close: o.Close}
}

// HoldFor is how long a front that cannot compare is held at home.
const HoldFor = 5 * time.Second

// holdEvery is how often it is read meanwhile.
const holdEvery = 200 * time.Millisecond

// Hold reads a front that went home until its reading has been stable for a while, and goes
// home again if a change that was begun before comes through after it. It says how often
// that was so. Somebody who sends traffic out again under a newer order is not undone.
func Hold(ctx context.Context, f Front, o BackOptions, r Returned) (again int, err error) {
	stable := time.Now()
	for time.Since(stable) < HoldFor {
		select {
		case <-ctx.Done():
			return again, ctx.Err()
		case <-time.After(holdEvery):
		}
		now, err := f.Read(ctx)
		if err == nil {
			err = now.Whole()
		}
		if err != nil {
			return again, err
		}
		if now.Order.Generation > r.Order.Generation {
			return again, nil // somebody else's going home
		}
		away := now.Split.Share != split.Toward(o.To, split.Whole) ||
			slices.ContainsFunc(now.Apart,
				func(a reading.Apart) bool { return a.Share != split.Toward(o.To, split.Whole) })
		if !away {
			continue
		}
		d, err := front.TryHome(ctx, f.Home, o.homing())
		if err != nil {
			return again, err
		}
		again++
		r.Order, stable = d.Order, time.Now()
	}
	return again, nil
}

// HomeOf is the side that a crossing came from, as its logbook's state says.
func HomeOf(s crossing.State) (split.Side, error) {
	if s.Stage == crossing.None {
		return 0, errors.New("no crossing is known that could say which side to roll back to: say --to blue or --to " +
			"green")
	}
	return s.Target.Other(), nil
}
