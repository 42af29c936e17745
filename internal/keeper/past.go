package keeper

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/past"
	"vaiven/internal/core/plan"
	"vaiven/internal/words"
)

// Past is what is remembered of a service: what a keeper tells, or its files where there is none.
type Past interface {
	// Logbook is all crossings, and what was done outside of them.
	Logbook(context.Context) (Logbook, error)
	// EventsOf is all that happened in a crossing, up to an event, or until now where that is 0. The error wraps
	// [logbook.ErrNoCrossing] if there is none.
	EventsOf(ctx context.Context, number int, upTo uint64) (Told, error)
	// Recorded is what was seen of a crossing, as the file of its recording has it. The error wraps
	// [ErrNotRecorded] if there is none.
	Recorded(ctx context.Context, number int) ([]byte, error)
}

// Logbook is what a service's logbook comes to.
type Logbook struct {
	Crossings []past.Crossing `json:"crossings"`        // the newest first
	Acts      []words.Act     `json:"acts"`             // outside of crossings, the newest first
	Unread    string          `json:"unread,omitempty"` // what of it cannot be read, "" for nothing
}

// Crossing is the one of a number, and false if the logbook has none.
func (l Logbook) Crossing(number int) (past.Crossing, bool) {
	for _, c := range l.Crossings {
		if c.Number == number {
			return c, true
		}
	}
	return past.Crossing{}, false
}

// LogbookOf is what events come to.
func LogbookOf(b *past.Book, p *plan.Plan, unread string) Logbook {
	return Logbook{b.Crossings(p.Parts, time.Now()), words.Acts(b.Hand()), unread}
}

// Told is the events of one crossing, and what they are known by.
type Told struct {
	Events []crossing.Event `json:"events"`
	Digest past.Digest      `json:"digest"`           // of nothing if they cannot all be read
	Unread string           `json:"unread,omitempty"` // what of the logbook cannot be read, "" for nothing
}

// remembered is what the logbook came to when somebody asked last: only what is new is read again.
type remembered struct {
	mu   sync.Mutex // protects what follows
	book past.Book
}

// Logbook is all crossings. See [Past].
func (k *Keeper) Logbook(ctx context.Context) (Logbook, error) {
	m := &k.remembered
	m.mu.Lock()
	defer m.mu.Unlock()
	for {
		list, err := k.Book.Since(ctx, m.book.Seq, recentMost)
		if err != nil {
			return Logbook{}, err
		}
		for _, e := range list {
			m.book.Add(e)
		}
		if len(list) < recentMost {
			return LogbookOf(&m.book, k.Plan, ""), nil
		}
	}
}

// EventsOf is all that happened in a crossing. See [Past].
func (k *Keeper) EventsOf(ctx context.Context, number int, upTo uint64) (Told, error) {
	return ToldOf(ctx, k.Book, number, upTo)
}

// ToldOf is the events of a crossing in a logbook, and their digest.
func ToldOf(ctx context.Context, b interface {
	Events(context.Context, int) ([]crossing.Event, error)
	Digest(context.Context, int, uint64) (string, int, error)
}, number int, upTo uint64) (t Told, err error) {
	if t.Events, err = b.Events(ctx, number); err != nil {
		return t, err
	}
	if last := t.Events[len(t.Events)-1].Seq; upTo == 0 || upTo > last {
		upTo = last
	}
	for n, e := range t.Events {
		if e.Seq > upTo {
			t.Events = t.Events[:n]
			break
		}
	}
	t.Digest = past.Digest{Crossing: number, UpTo: upTo}
	t.Digest.SHA256, t.Digest.Events, err = b.Digest(ctx, number, upTo)
	return t, err
}

// ErrNotRecorded is wrapped when there is no recording of a crossing, or nothing in it.
var ErrNotRecorded = errors.New("nothing is recorded of it")

// Recorded is what was seen of a crossing. See [Past].
func (k *Keeper) Recorded(_ context.Context, number int) ([]byte, error) {
	if k.Recording == nil {
		return nil, fmt.Errorf("crossing %d: %w", number, ErrNotRecorded)
	}
	return k.Recording.Read(number)
}
