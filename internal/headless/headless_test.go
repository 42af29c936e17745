package headless

import (
	"context"
	"errors"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/keeper"
	"vaiven/internal/logbook"
	"vaiven/internal/plan"
	"vaiven/internal/tryout"
)

// fakeClient is a keeper that plays a crossing back: each command it gets makes it
// take the next steps.
type fakeClient struct {
	state     crossing.State
	events    chan crossing.Event
	snapshots chan keeper.Snapshot
	commands  []keeper.Command
	play      func(*fakeClient, keeper.Command)
}

func newClient(play func(*fakeClient, keeper.Command)) *fakeClient {
	c := &fakeClient{events: make(chan crossing.Event, 100), snapshots: make(chan keeper.Snapshot, 100), play: play}
	c.show()
	return c
}

func (c *fakeClient) show() {
	s := keeper.Snapshot{At: time.Now(), Begun: time.Now().Add(-time.Second), Crossing: c.state}
	s.Ready = true
	s.Door = reading.Door{Answers: 100, Lost: 2, LongestGap: 40 * time.Millisecond}
	s.Switch = keeper.Switch{At: s.At, Took: 3 * time.Millisecond}
	c.snapshots <- s
}

// step takes facts in and shows what comes of them.
func (c *fakeClient) step(facts ...crossing.Fact) {
	for _, f := range facts {
		e := crossing.Event{At: time.Now(), By: "test", What: f}
		next, _, err := crossing.Step(c.state, e)
		if err != nil {
			panic(err)
		}
		c.state = next
		c.events <- e
	}
	c.show()
}

func (c *fakeClient) Do(_ context.Context, command keeper.Command) error {
	c.commands = append(c.commands, command)
	c.play(c, command)
	return nil
}
func (c *fakeClient) Snapshots(context.Context) <-chan keeper.Snapshot { return c.snapshots }
func (c *fakeClient) Events(context.Context) <-chan crossing.Event     { return c.events }
func (c *fakeClient) Tryout(context.Context) (tryout.Report, string, error) {
	return tryout.Report{}, "client", errors.New("the plan names no access log")
}

func (c *fakeClient) Foresee(_ context.Context, share split.Share) (front.Change, error) {
	return front.Change{From: 500, Wanted: share, Reached: share, Steps: []string{"set server sailings/green1 weight 3"}, Connections: "every connection stays open", Usually: 2 * time.Millisecond}, nil
}

func (c *fakeClient) Versions(context.Context) ([]keeper.Offer, error) { return nil, nil }

func begun(build string) crossing.Begun {
	return crossing.Begun{
		Service: "sailings", Number: 4, Target: split.Green, Version: "4.3.0", Build: build, LiveBuild: "7c1e", Then: plan.ThenLeave,
		Route: route.Route{{Part: 5000}, {Part: split.Whole, Ask: true}},
	}
}

// cooperative is a keeper on whose service everything goes well.
func cooperative(c *fakeClient, command keeper.Command) {
	switch command.Do {
	case keeper.Begin:
		c.step(begun("b92f"), crossing.Raised{Effect: 1}, crossing.Proved{Effect: 2, Pass: true}, crossing.Applied{Effect: 3, Share: 5000}, crossing.Tick{})
	case keeper.Next:
		c.step(crossing.NextAsked{}, crossing.Applied{Effect: 4, Share: split.Whole}, crossing.Tick{})
	case keeper.Back:
		c.step(crossing.BackAsked{Why: command.Why})
		if c.state.GoingBack {
			c.step(crossing.Applied{Effect: c.state.Pending.ID, Share: 0})
		} else {
			c.step(crossing.Retired{Effect: c.state.Pending.ID})
		}
	}
}

func run(t *testing.T, c *fakeClient, o Options) (Summary, []any) {
	t.Helper()
	var lines []any
	o.Version, o.By = "4.3.0", "marit"
	o.Emit = func(line any) error {
		lines = append(lines, line)
		return nil
	}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	sum, err := Cross(ctx, c, o)
	if err != nil {
		t.Fatal(err)
	}
	if last, ok := lines[len(lines)-1].(Summary); !ok || last != sum {
		t.Errorf("the last line is %v, not the summary", lines[len(lines)-1])
	}
	return sum, lines
}

func TestCross(t *testing.T) {
	t.Run("to its end", func(t *testing.T) {
		sum, lines := run(t, newClient(cooperative), Options{Yes: true})
		if sum.Outcome != Settled || sum.Answers != 100 || sum.Lost != 2 || sum.LongestGap != 40 || sum.Switch != 3 || sum.Crossing != 4 {
			t.Errorf("summary %+v", sum)
		}
		if len(lines) != 9 {
			t.Errorf("%d lines, want 8 events and a summary", len(lines))
		}
	})
	t.Run("not approved", func(t *testing.T) {
		asked := ""
		sum, _ := run(t, newClient(cooperative), Options{Ask: func(q string) (bool, error) { asked = q; return false, nil }})
		if sum.Outcome != RolledBack || !strings.Contains(sum.Why, "not approved") || !strings.Contains(asked, "100 %") {
			t.Errorf("summary %+v, asked %q", sum, asked)
		}
	})
	t.Run("the same build", func(t *testing.T) {
		c := newClient(func(c *fakeClient, command keeper.Command) {
			if command.Do == keeper.Begin {
				c.step(begun("7c1e"))
				return
			}
			cooperative(c, command)
		})
		sum, _ := run(t, c, Options{Yes: true})
		if sum.Outcome != CalledOff || !strings.Contains(sum.Why, "nothing has changed") {
			t.Errorf("summary %+v", sum)
		}
	})
	t.Run("frozen with nobody there", func(t *testing.T) {
		c := newClient(func(c *fakeClient, command keeper.Command) {
			c.step(begun("b92f"), crossing.Raised{Effect: 1}, crossing.Proved{Effect: 2, Pass: true}, crossing.Applied{Effect: 3, Share: 5000},
				crossing.Tripped{Guard: "failing", Action: plan.Freeze, Why: "worse"})
		})
		sum, _ := run(t, c, Options{Yes: true})
		if sum.Outcome != Failed || !strings.Contains(sum.Why, "frozen: failing") || len(c.commands) != 1 {
			t.Errorf("summary %+v after %v", sum, c.commands)
		}
	})
	t.Run("not before an earlier one has been cleared away", func(t *testing.T) {
		c := newClient(cooperative)
		<-c.snapshots
		c.state = crossing.State{Stage: crossing.CalledOff, Number: 3, Retiring: true}
		c.show()
		c.play = func(c *fakeClient, command keeper.Command) {
			if len(c.snapshots) > 0 {
				t.Error("it began at the sight of a side that was being retired")
			}
			c.state = crossing.State{}
			c.play = cooperative
			cooperative(c, command)
		}
		c.state.Retiring = false
		c.show()
		if sum, _ := run(t, c, Options{Yes: true}); sum.Outcome != Settled {
			t.Errorf("summary %+v", sum)
		}
	})
	t.Run("a crossing from before is not taken for this one", func(t *testing.T) {
		c := newClient(cooperative)
		c.state = crossing.State{Stage: crossing.RolledBack, Number: 3, Version: "4.3.0"}
		c.show()
		c.state = crossing.State{}
		if sum, _ := run(t, c, Options{Yes: true}); sum.Crossing != 4 || sum.Outcome != Settled {
			t.Errorf("summary %+v", sum)
		}
	})
}

// homeFront is a front that can only go home.
type homeFront struct {
	share split.Share
	err   error
}

func (f *homeFront) Home(_ context.Context, share split.Share) (reading.Split, error) {
	f.share = share
	return reading.Split{Share: share}, f.err
}

func openBook(t *testing.T) *logbook.Book {
	t.Helper()
	b, err := logbook.Open(filepath.Join(t.TempDir(), "log.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.Close() })
	return b
}

// record writes a crossing into a book, as a keeper that was killed left it.
func record(t *testing.T, b *logbook.Book, facts ...crossing.Fact) {
	t.Helper()
	var s crossing.State
	for _, f := range facts {
		e := crossing.Event{At: time.Now(), What: f}
		next, effects, err := crossing.Step(s, e)
		if err != nil {
			t.Fatal(err)
		}
		s = next
		if err := b.Append(t.Context(), s, e, effects); err != nil {
			t.Fatal(err)
		}
	}
}

func TestBackReadsWhereHomeIsAndWritesItDown(t *testing.T) {
	b := openBook(t)
	record(t, b, begun("b92f"), crossing.Raised{Effect: 1}, crossing.Proved{Effect: 2, Pass: true}, crossing.Applied{Effect: 3, Share: 5000})
	f := &homeFront{share: 5000}
	o := BackOptions{By: "marit", Why: "it looks wrong"}
	r, err := Back(t.Context(), f, b, o)
	if err != nil || f.share != 0 || r.To != split.Blue {
		t.Fatalf("back: %+v, %v, the front has %v", r, err, f.share)
	}
	if err := Record(t.Context(), b, r, o); err != nil {
		t.Fatal(err)
	}
	s, err := b.Replay(t.Context(), 4)
	if err != nil || s.Stage != crossing.RolledBack || s.Why != "it looks wrong" || s.Share != 0 {
		t.Errorf("the logbook says %v, %v", s, err)
	}
	if err := Record(t.Context(), b, r, o); err != nil {
		t.Errorf("written down twice: %v", err)
	}
	if _, err := b.Replay(t.Context(), 4); err != nil {
		t.Errorf("after that it cannot be replayed: %v", err)
	}
}

func TestBackBeforeAnyTrafficMoved(t *testing.T) {
	b := openBook(t)
	record(t, b, begun("b92f"), crossing.Raised{Effect: 1})
	f := &homeFront{share: 1}
	r, err := Back(t.Context(), f, b, BackOptions{})
	if err != nil || f.share != 0 {
		t.Fatalf("back: %+v, %v", r, err)
	}
	if err := Record(t.Context(), b, r, BackOptions{}); err != nil {
		t.Fatal(err)
	}
	if s, err := b.Replay(t.Context(), 4); err != nil || s.Stage != crossing.CalledOff {
		t.Errorf("the logbook says %v, %v", s, err)
	}
}

func TestBackWithoutALogbook(t *testing.T) {
	f := &homeFront{share: 5000}
	if _, err := Back(t.Context(), f, nil, BackOptions{}); err == nil || !strings.Contains(err.Error(), "--to blue or --to green") || f.share != 5000 {
		t.Errorf("without a logbook and without a side: %v, the front has %v", err, f.share)
	}
	if r, err := Back(t.Context(), f, nil, BackOptions{To: "green"}); err != nil || f.share != split.Whole || r.To != split.Green {
		t.Errorf("to green: %+v, %v, the front has %v", r, err, f.share)
	}
	if _, err := Back(t.Context(), f, nil, BackOptions{To: "grene"}); err == nil {
		t.Error("a misspelt side was taken")
	}
	if _, err := Back(t.Context(), &homeFront{err: front.ErrUnreachable}, nil, BackOptions{To: "blue"}); !errors.Is(err, front.ErrUnreachable) {
		t.Errorf("with the front gone: %v", err)
	}
	if _, err := Back(t.Context(), f, openBook(t), BackOptions{}); !errors.Is(err, crossing.ErrNotNow) {
		t.Errorf("with nothing under way: %v", err)
	}
}
