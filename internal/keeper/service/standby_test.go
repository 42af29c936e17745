package service

import (
	"context"
	"errors"
	"path/filepath"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/front/haproxy"
	"vaiven/internal/keeper/api"
	"vaiven/internal/keeper/logbook"
	"vaiven/internal/world/secret"
	"vaiven/lab/testkit"
)

// away is a plan of which no machine has anything alone, with HAProxy by a map or by weights.
func away(weights bool) *plan.Plan {
	s := &haproxy.Settings{Address: "10.1.0.3:9999", Map: "/etc/haproxy/sailings.map"}
	if weights {
		s.Map = ""
	}
	stands := plan.Stack{Stands: []plan.Stand{{Kind: plan.StandAddress, Address: "10.1.0.7:8080"}}}
	return &plan.Plan{Service: "sailings", Front: plan.Front{Listen: "10.1.0.3:8000", Settings: s},
		Parts: []plan.Part{{Name: "web", Stacks: [2]plan.Stack{stands, stands}}}}
}

func TestFits(t *testing.T) {
	here := away(false)
	here.Front.Listen = "127.0.0.1:8000"
	for name, c := range map[string]struct {
		b    Standby
		fits bool
	}{
		"told to":                {Standby{Plan: away(false)}, true},
		"by itself":              {Standby{Plan: away(false), After: time.Minute}, true},
		"told to, by weights":    {Standby{Plan: away(true)}, true},
		"by itself, by weights":  {Standby{Plan: away(true), After: time.Minute}, false},
		"a front of one machine": {Standby{Plan: here}, false},
	} {
		if err := c.b.Fits(); (err == nil) != c.fits || !c.fits && !errors.Is(err, ErrTied) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// standing is a standby with a logbook, whose keeper says what is asked of it.
func standing(t *testing.T, follow func(ctx context.Context, since uint64, opened func(),
	take func(crossing.Event) error) error) *following {
	t.Helper()
	book, err := logbook.Open(filepath.Join(t.TempDir(), "logbook.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { book.Close() })
	return &following{Standby: Standby{Plan: away(false), Secrets: secret.Values{}, For: "pier-1", Follow: follow,
		After: time.Nanosecond}, book: book, wanted: make(chan wanted)}
}

var at = time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)

func event(seq uint64, from string) crossing.Event {
	return crossing.Event{Seq: seq, At: at, What: crossing.Followed{From: from, Term: 3}}
}

// What is on the keeper's record is taken down, and followed from the last that was: a keeper that has another one
// there is no longer the one that was followed.
func TestTakenDown(t *testing.T) {
	other := errors.New("nothing more")
	said := []crossing.Event{event(1, "a"), event(2, "b"), event(3, "c")}
	f := standing(t, nil)
	var asked []uint64
	f.Follow = func(_ context.Context, since uint64, opened func(), take func(crossing.Event) error) error {
		asked = append(asked, since)
		opened()
		for _, e := range said {
			if e.Seq > since {
				if err := take(e); err != nil {
					return err
				}
			}
		}
		said = append(said, event(4, "d"))
		if len(asked) == 2 {
			said[3] = event(4, "somebody else")
		}
		return other
	}
	err := f.follow(t.Context())
	if !errors.Is(err, api.ErrApart) {
		t.Errorf("of another life: %v", err)
	}
	if len(asked) != 3 || asked[0] != 0 || asked[1] != 2 || asked[2] != 3 {
		t.Errorf("asked for what is after %v", asked)
	}
	if s, _, err := f.book.Load(t.Context()); err != nil || s.Seq != 4 || s.Term.Number != 3 {
		t.Errorf("taken down: %+v, %v", s, err)
	}
	if f.due() {
		t.Error("it would take over from a keeper that answers something else than it knows")
	}
	gap := standing(t, nil)
	if err := gap.take(t.Context(), event(3, "a")); err == nil {
		t.Error("an event was taken down without those before it")
	}
}

// Only a keeper that has been followed, and that does not answer at all, is gone.
func TestGone(t *testing.T) {
	for name, c := range map[string]struct {
		ever bool
		err  error
		gone bool
	}{
		"followed, and gone":          {true, api.ErrGone, true},
		"never followed":              {false, api.ErrGone, false},
		"busy":                        {true, api.ErrBusy, false},
		"it refuses":                  {true, crossing.ErrNotNow, false},
		"our own disk":                {true, errNotTakenDown, false},
		"our own disk, and then gone": {true, errors.Join(errNotTakenDown, api.ErrGone), false},
	} {
		f := standing(t, nil)
		if c.ever {
			f.opened()
			f.stand.Follows = false
		}
		f.After = time.Hour
		f.heard = time.Now().Add(-2 * time.Hour)
		f.broke(time.Now(), c.err)
		if f.due() != c.gone {
			t.Errorf("%s: due is %v", name, f.due())
		}
		if taken := f.stand.Trouble; taken == "" {
			t.Errorf("%s: it is not said", name)
		}
	}
	f := standing(t, nil)
	f.opened()
	f.broke(time.Now(), api.ErrGone)
	f.heard, f.state.Term.Over = time.Now().Add(-time.Hour), true
	if f.due() {
		t.Error("it would take over from a keeper that has ended because another one took over")
	}
}

// A word to take over is asked again for what it depends on when it is its turn.
func TestAWordToTakeOver(t *testing.T) {
	f := standing(t, func(ctx context.Context, _ uint64, opened func(), _ func(crossing.Event) error) error {
		opened()
		<-ctx.Done()
		return ctx.Err()
	})
	done := make(chan error, 1)
	go func() {
		by, answer, err := f.until(t.Context())
		if err != nil || by != "ines" {
			done <- errors.Join(err, errors.New("on the word of "+by))
			return
		}
		answer <- nil
		done <- nil
	}()
	testkit.Eventually(t, "it follows", func() bool { return f.standing().Follows })
	if err := f.told(t.Context(), "marit", false); !errors.Is(err, api.ErrNotTaken) {
		t.Errorf("while that keeper answers: %v", err)
	}
	late := wanted{"marit", false, make(chan error, 1)}
	f.wanted <- late // said while it did not
	if err := <-late.answer; !errors.Is(err, api.ErrNotTaken) {
		t.Errorf("a word that waited until that keeper answers again: %v", err)
	}
	if err := f.told(t.Context(), "ines", true); err != nil {
		t.Errorf("a word that says so all the same: %v", err)
	}
	if err := <-done; err != nil {
		t.Error(err)
	}
}
