package told

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/world/place"
)

// proxy is one that has a share, or none, and does as it is told.
type proxy struct {
	mu     sync.Mutex
	share  split.Share // below zero: nobody gets anything
	deaf   bool        // it says that it did, and did not
	mute   bool        // whatever it does, its answer is lost
	looks  int
	blind  int // from which look on it cannot be read
	refuse error
	empty  split.Side // a side that has nobody, if lone
	lone   bool
	before func() // what happens between a decision and its doing, once
}

func (p *proxy) set(share split.Share) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.share = share
}

func (p *proxy) has() split.Share {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.share
}

// steering is a process's own, at the mark in a folder.
func (p *proxy) steering(dir string) *Remote[split.Share] {
	return &Remote[split.Share]{
		Look: func(context.Context) (split.Share, error) {
			p.mu.Lock()
			defer p.mu.Unlock()
			if p.looks++; p.blind > 0 && p.looks >= p.blind {
				return 0, front.ErrUnreachable
			}
			return p.share, nil
		},
		Share: func(s split.Share) (split.Share, error) {
			if s < 0 {
				return 0, fmt.Errorf("%w: nobody", front.ErrRefused)
			}
			return s, nil
		},
		Print: func(s split.Share) string { return s.String() },
		Has: func(_ split.Share, side split.Side) int {
			if p.lone && side == p.empty {
				return 0
			}
			return 3
		},
		Work: func(s, share split.Share, home *reading.Order) (Work, error) {
			return Work{
				Steps:   []string{fmt.Sprint("set ", share, home != nil)},
				Weights: split.Weights{Reached: []split.Share{split.Whole - share, share}, Unused: 2},
				Do: func(context.Context) error {
					p.mu.Lock()
					before := p.before
					p.before = nil
					p.mu.Unlock()
					if before != nil {
						before()
					}
					if p.refuse == nil && !p.deaf {
						p.set(share)
					}
					if p.refuse == nil && p.mute {
						return fmt.Errorf("%w: no answer in time", front.ErrUnreachable)
					}
					return p.refuse
				},
			}, p.refuse
		},
		Most: 9, Mark: front.NewOrderFile(place.Local{}, filepath.Join(dir, "order")),
		instances: front.Known{{{Name: "blue-1"}}},
	}
}

// expect is what a steering sees now.
func expect(t *testing.T, s *Remote[split.Share], p *proxy) front.Expect {
	t.Helper()
	now, o, err := s.Known(s.ChangeMark(), p.has())
	if err != nil {
		t.Fatal(err)
	}
	return front.Expect{Revision: now.Revision, Generation: o.Generation}
}

func home(side split.Side) front.Homing { return front.Homing{Side: side, By: "marit"} }

// Where the answer to a change is lost, what is in force says whether it was made; and where that cannot be read,
// nothing says either.
func TestAnAnswerThatIsLost(t *testing.T) {
	p := &proxy{share: 1000, mute: true}
	s := p.steering(t.TempDir())
	if d, err := s.Set(t.Context(), 2500, expect(t, s, p)); err != nil || d.Share != 2500 {
		t.Errorf("made: %+v, %v", d, err)
	}
	if d, err := s.Home(t.Context(), home(split.Blue)); err != nil || d.Share != 0 {
		t.Errorf("home: %+v, %v", d, err)
	}
	p.deaf = true
	if d, err := s.Set(t.Context(), 5000, expect(t, s, p)); !errors.Is(err, front.ErrUnreachable) ||
		!strings.Contains(err.Error(), "no answer in time") {
		t.Errorf("not made: %+v, %v", d, err)
	}
	if d, err := s.Home(t.Context(), home(split.Green)); !errors.Is(err, front.ErrUnreachable) {
		t.Errorf("not home: %+v, %v", d, err)
	}
	e := expect(t, s, p)
	p.deaf, p.blind = false, p.looks+2
	if d, err := s.Set(t.Context(), 5000, e); !errors.Is(err, front.ErrUnreachable) ||
		!strings.Contains(err.Error(), "not known") {
		t.Errorf("made, and not to be read: %+v, %v", d, err)
	}
}

func TestAChange(t *testing.T) {
	p := &proxy{share: 1000}
	s := p.steering(t.TempDir())
	c, err := s.Foresee(t.Context(), 2500, front.Change{Notes: []string{"first"}})
	if err != nil || c.From != 1000 || c.Reached != 2500 || p.share != 1000 || len(c.Notes) != 2 ||
		!strings.Contains(c.Notes[1], "1 to 9") {
		t.Errorf("said beforehand: %+v, %v", c, err)
	}
	old := expect(t, s, p)
	done, err := s.Set(t.Context(), 2500, old)
	if err != nil || done.Share != 2500 || done.Nearest != 2500 || done.Revision == old.Revision ||
		len(done.Did) != 1 || done.Did[0] != "set 25 % false" {
		t.Errorf("set: %+v, %v", done, err)
	}
	if _, err := s.Set(t.Context(), 5000, old); !errors.Is(err, front.ErrChanged) || p.share != 2500 {
		t.Errorf("by an old revision: %v, it has %v", err, p.share)
	}
	if _, err := s.Set(t.Context(), split.Whole+1, expect(t, s, p)); !errors.Is(err, front.ErrRefused) {
		t.Errorf("above the whole: %v", err)
	}
	p.share = 7000 // somebody else
	if d, err := s.Home(t.Context(), home(split.Blue)); err != nil || d.Share != 0 || p.share != 0 ||
		d.Order.Generation != 1 || d.Order.By != "marit" {
		t.Errorf("home: %+v, %v", d, err)
	}
	// Whoever does not know of it lets nothing out, though the share is as it was.
	if _, err := s.Set(t.Context(), 2500, front.Expect{Revision: expect(t, s, p).Revision}); !errors.Is(err,
		front.ErrNewer) || p.share != 0 {
		t.Errorf("a change from before the going home: %v, it has %v", err, p.share)
	}
}

func TestAChangeThatIsNotOne(t *testing.T) {
	for what, c := range map[string]struct {
		proxy *proxy
		want  error
		says  string
	}{
		"it does nothing":        {&proxy{share: 2500, deaf: true}, front.ErrChanged, "after 0 % was told"},
		"it cannot be read":      {&proxy{blind: 1}, front.ErrUnreachable, ""},
		"it cannot be read back": {&proxy{blind: 2}, front.ErrUnreachable, "could not be read back"},
		"it refuses":             {&proxy{refuse: front.ErrRefused}, front.ErrRefused, ""},
		"nobody is there":        {&proxy{lone: true, empty: split.Blue}, front.ErrNobody, "blue has no instances"},
	} {
		if _, err := c.proxy.steering(t.TempDir()).Home(t.Context(), home(split.Blue)); !errors.Is(err, c.want) ||
			!strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", what, err)
		}
	}
	p := &proxy{share: split.Whole, lone: true, empty: split.Blue}
	if d, err := p.steering(t.TempDir()).Home(t.Context(), front.Homing{Side: split.Blue, Force: true}); err != nil ||
		d.Share != 0 {
		t.Errorf("by force: %+v, %v", d, err)
	}
}

// Two processes steer one proxy that cannot compare. A change that was decided on before
// another one's going home comes through after it: it takes itself back, and says so.
func TestHomeOfAnotherProcessIsNotUndone(t *testing.T) {
	p := &proxy{share: 2500}
	dir := t.TempDir()
	keeper, back := p.steering(dir), p.steering(dir)
	old := expect(t, keeper, p)
	p.before = func() {
		if d, err := back.Home(context.Background(), home(split.Blue)); err != nil || d.Share != 0 {
			t.Errorf("vaiven back: %+v, %v", d, err)
		}
	}
	if d, err := keeper.Set(t.Context(), 5000, old); !errors.Is(err, front.ErrNewer) {
		t.Errorf("the change says %+v, %v", d, err)
	}
	if p.share != 0 {
		t.Errorf("after going home was confirmed, %v is on green", p.share)
	}
}

// In one process going home ends a change that hangs, and does not wait for it.
// Who goes home says so while it is being done: a reader in the middle of it does not take it for a change that nobody
// has explained.
func TestHomeOfAnotherProcessIsReadInTheMiddle(t *testing.T) {
	dir := t.TempDir()
	p := &proxy{share: 1000}
	keeper, somebody := p.steering(dir), p.steering(dir)
	expect(t, keeper, p)
	middle, through := make(chan struct{}), make(chan struct{})
	p.before = func() { // some of its instances were told, and others were not
		p.set(700)
		close(middle)
		<-through
	}
	gone := make(chan error, 1)
	go func() {
		_, err := somebody.Home(t.Context(), home(split.Blue))
		gone <- err
	}()
	<-middle
	since := keeper.ChangeMark()
	s, err := keeper.Look(t.Context())
	if err == nil {
		s, err = keeper.Steady(t.Context(), s)
	}
	if err != nil {
		t.Fatal(err)
	}
	if now, o, err := keeper.Known(since, s); err != nil || o.Generation != 1 || o.By != "marit" {
		t.Errorf("in the middle of it %v are on green, by %+v, %v", now.Share, o, err)
	}
	close(through)
	if err := <-gone; err != nil {
		t.Error(err)
	}
}

// A change that nobody explains is somebody's, once it was looked at twice.
func TestAChangeOfSomebodysIsTheirs(t *testing.T) {
	p := &proxy{share: 1000}
	keeper := p.steering(t.TempDir())
	expect(t, keeper, p)
	p.set(5000)
	s, err := keeper.Look(t.Context())
	if err == nil {
		s, err = keeper.Steady(t.Context(), s)
	}
	now, o, errKnown := keeper.Known(keeper.ChangeMark(), s)
	if err != nil || errKnown != nil || now.Share != 5000 || o.Generation != 0 || p.looks != 2 {
		t.Errorf("%v are on green, by %+v, after %d looks, %v, %v", now.Share, o, p.looks, err, errKnown)
	}
}

func TestHomeEndsAChangeThatHangs(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := &proxy{share: 2500}
		s := p.steering(t.TempDir())
		s.Mark = nil
		s.Order = func(split.Share) reading.Order { return reading.Order{} }
		work := s.Work
		s.Work = func(now, share split.Share, home *reading.Order) (Work, error) {
			w, err := work(now, share, home)
			if home == nil {
				w.Do = func(ctx context.Context) error {
					<-ctx.Done()
					return ctx.Err()
				}
			}
			return w, err
		}
		now, _, err := s.Known(s.ChangeMark(), p.has())
		if err != nil {
			t.Fatal(err)
		}
		changed := make(chan error, 1)
		go func() {
			_, err := s.Set(context.Background(), 5000, front.Expect{Revision: now.Revision})
			changed <- err
		}()
		synctest.Wait()
		begun := time.Now()
		if d, err := s.Home(t.Context(), home(split.Blue)); err != nil || d.Share != 0 || time.Since(begun) > 0 {
			t.Errorf("home: %+v, %v, after %v", d, err, time.Since(begun))
		}
		if err := <-changed; !errors.Is(err, front.ErrNewer) {
			t.Errorf("the change says %v", err)
		}
	})
}

func TestWhoMayBeLeftWithoutInstances(t *testing.T) {
	p := &proxy{share: 2500}
	s := p.steering(t.TempDir())
	one := []reading.Server{{Name: "green-1"}}
	for _, c := range []struct {
		share  split.Share
		side   split.Side
		wanted []reading.Server
		want   Wanted
		err    error
	}{
		{2500, split.Green, one, Wanted{Share: 2500, kept: true}, nil},
		{2500, split.Green, nil, Wanted{Share: 2500, kept: true}, front.ErrRefused},
		{0, split.Green, nil, Wanted{kept: true}, nil},
		{-1, split.Green, one, Wanted{Share: split.Whole, Rest: true}, nil},
		{-1, split.Green, nil, Wanted{Rest: true}, nil},
		{-1, split.Blue, one, Wanted{}, nil},
	} {
		got, err := s.forInstances(c.share, c.side, c.wanted)
		if got != c.want || !errors.Is(err, c.err) {
			t.Errorf("at %v with %d instances of %v: %+v, %v", c.share, len(c.wanted), c.side, got, err)
		}
	}
	if s.Quiet(0, split.Green) != nil || s.Quiet(1, split.Green) == nil || s.Quiet(-1, split.Green) == nil {
		t.Error("a side is quiet when it gets nothing, and that is known")
	}
	before := expect(t, s, p)
	p.share = 2600
	if err := s.Told(t.Context(), 2500, AsItWas); err != nil {
		t.Fatal(err)
	}
	if now := expect(t, s, p); now.Revision != before.Revision {
		t.Errorf("what is ours is a new split: revision %d after %d", now.Revision, before.Revision)
	}
}

// Before anybody has asked for anything, all are at home, where nobody is yet.
func TestAtRest(t *testing.T) {
	p := &proxy{share: -1}
	s := p.steering(t.TempDir())
	if now, _, err := s.Known(s.ChangeMark(), -1); err == nil {
		t.Errorf("nobody gets anything, and it reads as %+v", now)
	}
	if err := s.Told(t.Context(), -1, Wanted{Share: split.Whole, Rest: true}); err != nil {
		t.Fatal(err)
	}
	now, _, err := s.Known(s.ChangeMark(), -1)
	if err != nil || now.Share != 0 {
		t.Fatalf("at rest it reads as %+v, %v", now, err)
	}
	if err := s.Quiet(-1, split.Green); err != nil {
		t.Errorf("at rest green is not quiet: %v", err)
	}
	if done, err := s.Set(t.Context(), split.Whole, front.Expect{Revision: now.Revision}); err != nil ||
		done.Share != split.Whole {
		t.Errorf("the first share: %+v, %v", done, err)
	}
	p.share = -2 // somebody took everything away
	if _, _, err := s.Known(s.ChangeMark(), p.share); err == nil {
		t.Error("nobody gets anything any more, and nothing says so")
	}
}

// What somebody looked at while a side was given other instances is no other split, when ever it is
// made out: not in the middle of it, and not when it is over.
func TestALookInTheMiddle(t *testing.T) {
	p := &proxy{share: 5000}
	s := p.steering(t.TempDir())
	before, _, err := s.Known(s.ChangeMark(), p.has())
	if err != nil {
		t.Fatal(err)
	}
	same := func(when string, g front.ChangeMark, seen split.Share) {
		t.Helper()
		if now, _, err := s.Known(g, seen); err != nil || now.Share != 5000 || now.Revision != before.Revision {
			t.Errorf("%s: %+v, %v", when, now, err)
		}
	}
	begun := s.ChangeMark()
	var within front.ChangeMark
	err = s.SetInstances(t.Context(), split.Green, []reading.Server{{Name: "green-1"}},
		func(context.Context, split.Share, front.Known, Wanted) error {
			within = s.ChangeMark()
			same("in the middle", within, 8333)
			p.set(5100)
			return nil
		})
	if err != nil {
		t.Fatal(err)
	}
	same("from before, made out after", begun, 5000)
	same("from the middle, made out after", within, 8333)
	if now, _, err := s.Known(s.ChangeMark(), 5100); err != nil || now.Revision != before.Revision {
		t.Errorf("after: %+v, %v", now, err)
	}
	if now, _, err := s.Known(s.ChangeMark(), 7000); err != nil || now.Revision == before.Revision ||
		now.Share != 7000 {
		t.Errorf("somebody else: %+v, %v", now, err)
	}
}

// A front that goes home unread finds out too late that the side is closed: it is taken back, also where a change takes
// its time and a reading does not show it yet.
func TestHomeToAClosedSideIsTakenBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := &proxy{share: split.Whole}
		s := p.steering(t.TempDir())
		now := s.Work
		told := make(chan split.Share, 9) // what takes its time comes in the order in which it was told
		go func() {
			for share := range told {
				time.Sleep(50 * time.Millisecond)
				p.set(share)
			}
		}()
		defer close(told)
		s.Work = func(was, share split.Share, home *reading.Order) (Work, error) {
			w, err := now(was, share, home)
			w.Do = func(context.Context) error {
				told <- share
				return nil
			}
			w.Wait = func(ctx context.Context) error {
				for p.has() != share {
					select {
					case <-ctx.Done():
						return ctx.Err()
					case <-time.After(time.Millisecond):
					}
				}
				return nil
			}
			return w, err
		}
		s.Blind = func(h front.Homing) Work {
			w, err := s.Work(0, split.Toward(h.Side, split.Whole), &reading.Order{})
			if err != nil {
				t.Error(err)
			}
			return w
		}
		closes := home(split.Green)
		closes.Close = true
		if _, err := s.Home(t.Context(), closes); err != nil {
			t.Fatal(err)
		}
		if d, err := s.Home(t.Context(), home(split.Blue)); !errors.Is(err, front.ErrClosed) {
			t.Errorf("to the side that is closed: %+v, %v", d, err)
		}
		if got := p.has(); got != split.Whole {
			t.Errorf("when it is said to be closed, %v is on green", got)
		}
		time.Sleep(time.Second)
		if got := p.has(); got != split.Whole {
			t.Errorf("a while later %v is on green", got)
		}
	})
}
