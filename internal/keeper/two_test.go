package keeper

import (
	"context"
	"errors"
	"math/rand/v2"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
)

// whose is the key under which a context has whose acts they are, where that is not the only keeper.
type whose struct{}

// first is a keeper that another one takes over from, on another machine: it is cut off, or frozen in the middle of
// what it does, or neither, and has a logbook of its own.
type first struct {
	worldBook
	t *testing.T

	mu     sync.Mutex    // protects what follows
	cut    chan struct{} // closed when it is not cut off any more; nil if it is not
	frozen bool          // what it was about to do then is done when that ends
	copied bool          // another one goes on from its logbook: what it records from here on is its own
	term   uint64        // of the front while it keeps: a later one is another's
	sees   time.Time     // since when it could know that
}

// meets is what comes before each of its acts.
func (f *first) meets(ctx context.Context, what string) error {
	f.mu.Lock()
	cut, frozen := f.cut, f.frozen
	knows := cut == nil && !f.sees.IsZero() && time.Since(f.sees) > knowsWithin
	if acts := what == "stop" || what == "raise"; acts && knows {
		f.t.Errorf("it was about to %s %v after it could know that another one had taken over", what, time.Since(f.sees))
	}
	f.mu.Unlock()
	switch {
	case cut == nil:
		return nil
	case frozen:
		<-cut
		return nil
	}
	select {
	case <-cut:
	case <-ctx.Done():
	}
	return errLost
}

// knowsWithin is how long a keeper that can read the front may take to know that another one has taken over.
const knowsWithin = 5 * time.Second

// moves is told of a share that it has moved. The caller has the world's lock.
func (f *first) moves(share split.Share) {
	if f.order.Term > f.term {
		f.t.Errorf("after another one had begun term %d it moved the share to %v", f.order.Term, share)
	}
}

// Append writes into its own logbook, once another one has taken over from what is in the world's.
func (f *first) Append(ctx context.Context, s crossing.State, events []crossing.Event) error {
	f.mu.Lock()
	copied := f.copied
	f.mu.Unlock()
	if copied {
		return nil
	}
	return f.worldBook.Append(ctx, s, events)
}

// Two keepers, one of which takes over from the other at any moment of a crossing, as a standby does: by what happens
// at the front and to instances only one of them has the word, and the other one ends as soon as it can know.
func TestTwoKeepers(t *testing.T) {
	runs := 100
	if testing.Short() {
		runs = 10
	}
	first := testkit.Seed(t)
	for n := range runs {
		seed := first + uint64(n)
		synctest.Test(t, func(t *testing.T) {
			r := rand.New(rand.NewPCG(seed, 7))
			defer func() {
				if t.Failed() {
					t.Logf("seed %d", seed)
				}
			}()
			twoKeepers(t, r)
		})
	}
}

func twoKeepers(t *testing.T, r *rand.Rand) {
	w := &rig{world: newWorld(), t: t}
	w.compares = true
	f := &first{worldBook: worldBook{w.world}, t: t}
	w.trouble = func(what string) (time.Duration, bool, error) {
		return time.Duration(1+len(what)) * 20 * time.Millisecond, false, nil // all takes a moment
	}
	c := w.config()
	c.Book = f
	k, err := New(t.Context(), c)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.WithValue(context.Background(), whose{}, f))
	defer cancel()
	go k.Run(ctx)
	w.keeper = k
	w.until("the front is read", func(s Snapshot) bool { return s.Ready })
	w.with(func() { f.term = w.order.Term })
	if _, err := k.Followed(t.Context(), "pier-2"); err != nil {
		t.Fatal(err)
	}
	w.do(Command{Act: crossing.Begin{Version: "4.3.0"}})
	person := func(k *Keeper) { // says yes to everything, and goes on
		for range 200 {
			switch c := k.Crossing(); {
			case c.Question.ID != 0:
				_, _ = k.Do(context.Background(), Command{By: "marit", Act: crossing.Yes{Question: c.Question.ID}})
			case c.Frozen():
				_, _ = k.Do(context.Background(), Command{By: "marit", Act: crossing.Resume{}, Seen: c.Seq})
			}
			time.Sleep(500 * time.Millisecond)
		}
	}
	go person(k)
	time.Sleep(time.Duration(r.Int64N(int64(40 * time.Second))))

	healed := make(chan struct{})
	f.mu.Lock()
	cut := r.IntN(3) > 0
	if cut {
		f.cut, f.frozen = healed, r.IntN(2) == 0
	}
	f.mu.Unlock()
	time.Sleep(time.Duration(r.Int64N(int64(20 * time.Second))))

	f.mu.Lock()
	f.copied = true
	f.mu.Unlock()
	w.locked()
	book := worldBook{w.world}
	s, _, _ := book.Load(t.Context())
	number, err := worldFront{w.world}.NewTerm(t.Context(), s.Term.Number)
	if err != nil {
		t.Fatal(err)
	}
	f.mu.Lock()
	f.sees = time.Now()
	f.mu.Unlock()
	e := crossing.Event{Seq: s.Seq + 1, At: time.Now(), What: crossing.TermBegan{Number: number, From: "pier-1"}}
	if err := book.Append(t.Context(), crossing.Apply(s, e), []crossing.Event{e}); err != nil {
		t.Fatal(err)
	}
	w.start()
	go person(w.keeper)
	time.Sleep(time.Duration(r.Int64N(int64(30 * time.Second))))
	f.mu.Lock()
	f.cut, f.sees = nil, time.Now()
	f.mu.Unlock()
	close(healed)

	select {
	case <-k.Done():
		if !k.TakenOver() {
			t.Error("the first one has ended, and does not say why")
		}
	case <-time.After(time.Minute):
		t.Error("the first one goes on a minute after it could know that it was taken over from")
	}
	time.Sleep(2 * time.Minute)
	if w.keeper.TakenOver() {
		t.Error("the second one has ended")
	}
	if c := w.last().Crossing; c.Stage.UnderWay() && c.Stage != crossing.Keeping {
		t.Errorf("the second one has not brought it to an end: %s, %+v", c.Stage, c.Freezes)
	}
	if errors.Is(ctx.Err(), context.Canceled) {
		t.Error("it was ended by the test")
	}
	w.end()
}
