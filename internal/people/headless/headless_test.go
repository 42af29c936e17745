package headless

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"vaiven/internal/core/forecast"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayout"
	"vaiven/internal/front"
	"vaiven/internal/keeper"
	"vaiven/internal/plan/tryout"
)

// fakeClient is a keeper in whose world everything goes as perform says, at once.
type fakeClient struct {
	keeper.Client
	state     crossing.State
	share     split.Share // that the front has, on green
	events    chan crossing.Event
	snapshots chan keeper.Snapshot
	commands  []keeper.Command
	begin     crossing.Begin
	perform   func(crossing.Task) crossing.Fact // nil: it is not done yet
	blind     int                               // how many answers come while the front is not read
}

func newClient() *fakeClient {
	c := &fakeClient{events: make(chan crossing.Event, 100), snapshots: make(chan keeper.Snapshot, 100), perform: well}
	c.begin = crossing.Begin{
		Service: "sailings", Number: 4, Target: split.Green, LiveVersion: "4.2.0", Then: plan.ThenLeave,
		Choices: []raise.Choice{{Part: "web", Version: "4.3.0", Build: "b92f"}},
		Route:   route.Route{{Part: 5000}, {Part: split.Whole, Ask: true}},
	}
	c.show()
	return c
}

// well is what comes of a task where everything goes well.
func well(t crossing.Task) crossing.Fact {
	switch t.Do {
	case crossing.TaskRaise:
		return crossing.Raised{Task: t.ID}
	case crossing.TaskProve:
		return crossing.Proved{Task: t.ID, Proof: proof.Proof{Results: []proof.Result{{Check: "search", Pass: true}}}}
	case crossing.TaskMove:
		return crossing.TookEffect{Task: t.ID, Nearest: t.Share, Share: t.Share, Took: time.Millisecond,
			Did: []string{"set weight"}}
	case crossing.TaskHome:
		return crossing.Returned{Task: t.ID, Share: split.Toward(t.Side, split.Whole), Generation: 1}
	}
	return crossing.Retired{Task: t.ID, Side: t.Side}
}

func (c *fakeClient) show() {
	s := keeper.Snapshot{View: engine.View{At: time.Now(), Ready: true, Crossing: c.state}}
	s.Front.Split.Share = c.share
	green := reading.Condition{Instance: reading.Instance{Name: "green-1"}, State: reading.Healthy}
	if c.state.Task.Do == crossing.TaskRaise {
		green.State = reading.Answering
	}
	s.Sides[split.Green].Instances = []reading.Condition{green}
	s.Door = reading.Door{Answers: 1000, Lost: 7, LongestGap: 40 * time.Millisecond} // since the keeper began
	if s.Crossing.Number > 0 {
		s.Door.Answers, s.Door.Lost = 1100, 9
	}
	s.Switch = engine.Switch{At: s.At, Took: 3 * time.Millisecond}
	c.snapshots <- s
}

func (c *fakeClient) decide(by string, in crossing.Input) error {
	events, err := crossing.Decide(c.state,
		crossing.Moment{Confirm: "sailings", At: time.Now(), By: by, Seen: c.state.Seq, Lacks: c.unknown()}, in)
	for _, e := range events {
		c.state = crossing.Apply(c.state, e)
		c.events <- e
	}
	c.share = c.state.Share
	return err
}

func (c *fakeClient) unknown() []crossing.Lack {
	if c.state.Question.ID == 0 || c.blind == 0 {
		return nil
	}
	return []crossing.Lack{crossing.Lacking(crossing.LackFront{Unread: crossing.Unread{Said: "no answer"}})}
}

func (c *fakeClient) Do(_ context.Context, command keeper.Command) (uint64, error) {
	c.commands = append(c.commands, command)
	begin := c.begin
	in := crossing.Input(command.Act)
	switch a := command.Act.(type) {
	case crossing.Begin:
		begin.SameBuild = a.SameBuild
		in = begin
	case crossing.Shift:
		a.Proven = [2]bool{true, true}
		in = a
	case crossing.Back:
		a.Why, a.Read = command.Why, true
		in = a
	case crossing.Raise:
		a.Side, a.Choices, a.NothingNew = split.Green, begin.Choices, begin.NothingNew
		in = a
	}
	if err := c.decide(command.By, in); err != nil {
		if c.blind > 0 { // a second later the front is tried again
			c.blind--
			time.Sleep(time.Second)
			c.show()
		}
		return 0, err
	}
	seq := c.state.Seq
	for c.state.Task.ID != 0 {
		c.show()
		f := c.perform(c.state.Task)
		if f == nil {
			break
		}
		if err := c.decide("vaiven", crossing.Report{Fact: f}); err != nil {
			return 0, err
		}
		if c.state.Timed() && (c.state.Stage != crossing.Keeping || c.begin.Keep == 0) {
			if err := c.decide("vaiven", crossing.TimeUp{}); err != nil {
				return 0, err
			}
		}
	}
	c.show()
	return seq, nil
}

func (c *fakeClient) Snapshots(context.Context) <-chan keeper.Snapshot {
	if len(c.snapshots) == 0 {
		c.show() // a new watcher is shown the last one
	}
	return c.snapshots
}
func (c *fakeClient) Events(context.Context, uint64) <-chan crossing.Event { return c.events }
func (c *fakeClient) Clients(context.Context) (forecast.Clients, error) {
	return forecast.Clients{Of: 40, Span: 60, Asks: []float64{0.1, 0.4, 2}}, nil
}

func (c *fakeClient) Tryout(context.Context) (tryout.Report, string, error) {
	return tryout.Report{}, "client", errors.New("the plan names no access log")
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

func TestWhatIsNoPointAndNoApproval(t *testing.T) {
	for _, text := range []string{"leg", "leg 0", "leg x", "later", "proven, kept"} {
		if u, err := ParseUntil(text); err == nil {
			t.Errorf("until %q is %+v", text, u)
		}
	}
	for _, text := range []string{"", "leg", "leg 0", "start,", "findings", "leg 2 start"} {
		if a, err := ParseApproved(text); err == nil {
			t.Errorf("approved %q is %+v", text, a)
		}
	}
	all, err := ParseApproved("true")
	if err != nil || !all.Of(crossing.Question{Is: crossing.AskRetire{}}) ||
		all.Of(crossing.Question{Is: crossing.AskFindings{}}) {
		t.Errorf("all is %+v, %v", all, err)
	}
}

func TestCross(t *testing.T) {
	t.Run("to its end", func(t *testing.T) {
		c := newClient()
		sum, lines := run(t, c, Options{Yes: ApprovedAll})
		if sum.Outcome != Settled || sum.Answers != 100 || sum.Lost != 2 || sum.LongestGap != 40*time.Millisecond ||
			sum.Switch != 3*time.Millisecond || sum.Crossing != 4 {
			t.Errorf("summary %+v", sum)
		}
		for n, line := range lines[:len(lines)-1] {
			if e, ok := line.(crossing.Event); !ok || e.Seq != uint64(n+1) {
				t.Errorf("line %d is %+v", n, line)
			}
		}
		if uint64(len(lines)-1) != c.state.Seq {
			t.Errorf("%d lines for %d events", len(lines)-1, c.state.Seq)
		}
	})
	t.Run("not approved", func(t *testing.T) {
		asked := ""
		sum, _ := run(t, newClient(), Options{Ask: func(q string) (bool, error) { asked = q; return false, nil }})
		if sum.Outcome != RolledBack || sum.Why != "no: go on to 100 % on green?" || !strings.Contains(asked, "100 %") {
			t.Errorf("summary %+v, asked %q", sum, asked)
		}
	})
	t.Run("nobody is there to be asked", func(t *testing.T) {
		c := newClient()
		sum, _ := run(t, c, Options{})
		if sum.Outcome != Waits || sum.Question == 0 || sum.Question != c.state.Question.ID || len(c.commands) != 1 ||
			!strings.Contains(sum.Why, "100 %") {
			t.Errorf("summary %+v after %v", sum, c.commands)
		}
		leg, err := ParseApproved("start,  leg 2")
		if err != nil {
			t.Fatal(err)
		}
		c.show()
		c.show()                                                           // as a keeper does again and again
		if sum, _ = run(t, c, Options{Yes: leg}); sum.Outcome != Settled { // the same again, with what is named
			t.Errorf("taken up: %+v", sum)
		}
		other, _ := ParseApproved("leg 1")
		if sum, _ = run(t, newClient(), Options{Yes: other}); sum.Outcome != Waits {
			t.Errorf("another leg is approved: %+v", sum)
		}
	})
	t.Run("as far as it is to be followed", func(t *testing.T) {
		for _, text := range []string{"proven", "leg 1", "leg 2", "kept"} {
			until, err := ParseUntil(text)
			if err != nil {
				t.Fatal(err)
			}
			c := newClient()
			c.begin.Keep = time.Hour
			sum, _ := run(t, c, Options{Yes: ApprovedAll, Until: until})
			if sum.Outcome != Reached {
				t.Errorf("until %s: %+v", text, sum)
			}
		}
		c := newClient()
		if sum, _ := run(t, c, Options{Detach: true}); sum.Outcome != Detached || len(c.commands) != 1 {
			t.Errorf("left to the keeper: %+v after %v", sum, c.commands)
		}
	})
	t.Run("another version is in the way", func(t *testing.T) {
		kept, _ := ParseUntil("kept")
		cross := func(c *fakeClient, o Options) (Summary, error) {
			ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
			defer cancel()
			o.Version, o.By, o.Emit, o.Confirm = "4.4.0", "jonna", func(any) error { return nil }, "sailings"
			c.begin.Choices = []raise.Choice{{Part: "web", Version: o.Version, Build: "c5"}}
			return Cross(ctx, c, o)
		}
		c := newClient()
		c.begin.Keep = time.Hour
		run(t, c, Options{Yes: ApprovedAll, Until: kept})
		_, err := cross(c, Options{Yes: ApprovedAll})
		var refused crossing.StillUnderWay
		if refused, _ = crossing.Refused[crossing.StillUnderWay](err); refused.By != "marit" ||
			refused.Version != "4.3.0" || refused.Stage != crossing.Keeping {
			t.Errorf("in the keep: %+v, %v", refused, err)
		}
		c.begin.Target, c.begin.Front.Share = split.Blue, split.Whole
		if sum, err := cross(c, Options{Yes: ApprovedAll, Supersede: true, Until: kept}); err != nil ||
			sum.Version != "4.4.0" {
			t.Errorf("in place of the keep: %+v, %v", sum, err)
		}
		c = newClient() // it asks before the second leg: traffic has moved
		run(t, c, Options{})
		if _, err := cross(c, Options{Supersede: true}); !errors.Is(err, crossing.ErrNotNow) {
			t.Errorf("with traffic on its way: %v", err)
		}
		c = newClient()
		c.begin.Hold = true
		run(t, c, Options{}) // it asks before the first
		if sum, err := cross(c, Options{Supersede: true, Yes: ApprovedAll, Detach: true}); err != nil ||
			sum.Version != "4.4.0" || c.state.BegunBy != "jonna" {
			t.Errorf("in place of what had not begun: %+v, %v", sum, err)
		}
	})
	t.Run("the same build", func(t *testing.T) {
		c := newClient()
		c.begin.NothingNew = true
		sum, _ := run(t, c, Options{Yes: ApprovedAll})
		if sum.Outcome != CalledOff || !strings.Contains(sum.Why, "nothing has changed") ||
			!strings.Contains(sum.Why, "--same-build") {
			t.Errorf("summary %+v", sum)
		}
		c = newClient()
		c.begin.NothingNew = true
		if sum, _ := run(t, c, Options{Yes: ApprovedAll, SameBuild: true}); sum.Outcome != Settled {
			t.Errorf("even so: %+v", sum)
		}
	})
	t.Run("findings", func(t *testing.T) {
		for accept, want := range map[bool]Outcome{false: Waits, true: Settled} {
			c := newClient()
			c.perform = func(task crossing.Task) crossing.Fact {
				if task.Do == crossing.TaskProve {
					return crossing.Proved{Task: task.ID,
						Proof: proof.Proof{Results: []proof.Result{{Check: "differences", Instance: "green", Ask: true,
							Want: "none", Got: "1: environment REGION"}}}}
				}
				return well(task)
			}
			if sum, _ := run(t, c, Options{Yes: ApprovedAll, Accept: accept}); sum.Outcome != want ||
				!accept && sum.Question == 0 {
				t.Errorf("accepted %v: %+v", accept, sum)
			}
		}
	})
	t.Run("frozen with nobody there", func(t *testing.T) {
		c := newClient()
		c.perform = func(task crossing.Task) crossing.Fact {
			if task.Do == crossing.TaskMove {
				return crossing.Failed{Task: task.ID,
					Trouble: crossing.Went(crossing.TroubleFront{Said: "the pier is closed"})}
			}
			return well(task)
		}
		sum, _ := run(t, c, Options{Yes: ApprovedAll})
		if sum.Outcome != Frozen || sum.Freeze == 0 || !strings.Contains(sum.Why, "the front did not take the new "+
			"share: the pier is closed") || len(c.commands) != 1 {
			t.Errorf("summary %+v after %v", sum, c.commands)
		}
	})
	t.Run("a yes waits for what has to be known", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			for blind, want := range map[int]Outcome{5: Settled, 100: Frozen} {
				c := newClient()
				c.blind = blind
				asked := 0
				r := runner{Options: Options{Ask: func(string) (bool, error) { asked++; return true, nil },
					Emit: func(any) error { return nil }}, client: c}
				if _, err := c.Do(t.Context(), keeper.Command{Act: crossing.Begin{}}); err != nil {
					t.Fatal(err)
				}
				for over := false; !over; {
					var sum Summary
					var err error
					if sum, over, err = r.look(t.Context(), <-c.snapshots); err != nil {
						t.Fatal(err)
					}
					if over && (sum.Outcome != want || asked != 1 ||
						want == Frozen && !strings.Contains(sum.Why,
							"without being watched: the front was not read since the start (no answer)")) {
						t.Errorf("asked %d times, it ends with %+v", asked, sum)
					}
				}
			}
		})
	})
	t.Run("what it stands for", func(t *testing.T) {
		freeze := func(kinds ...crossing.CauseKind) keeper.Snapshot {
			var s keeper.Snapshot
			s.Crossing = crossing.State{Stage: crossing.Shifting, Seq: 9}
			for _, k := range kinds {
				s.Crossing.Freezes = append(s.Crossing.Freezes, crossing.Freezing{Cause: crossing.Because(k)})
			}
			return s
		}
		for _, c := range []struct {
			s    keeper.Snapshot
			want Outcome
		}{
			{freeze(crossing.NotKnown{}), Frozen}, {freeze(crossing.ByGuard{}), Frozen},
			{freeze(crossing.NobodyHome{}), Frozen}, {freeze(crossing.NobodyLeft{}), Frozen},
			{freeze(crossing.Foreign{}), Frozen}, {freeze(crossing.ByHand{}), Frozen},
			{freeze(crossing.FoundAgain{}), Frozen}, {freeze(crossing.ByGuard{}, crossing.HomeIll{}), LiveIll},
		} {
			r := runner{}
			if sum, done, err := r.look(t.Context(), c.s); err != nil || !done || sum.Outcome != c.want {
				t.Errorf("%v: %+v, %v, %v", c.s.Crossing, sum, done, err)
			}
		}
		// While a guard may yet roll back it is waited for, for a while, unless nobody wants that.
		yet := freeze(crossing.ByGuard{})
		yet.At = time.Now()
		yet.Crossing.Freezes[0].At = yet.At.Add(-rollBackFor + time.Second)
		for _, c := range []struct {
			status   guard.Status
			atFreeze bool
			long     time.Duration
			done     bool
		}{
			{guard.Status{Then: plan.RollBack, Watch: plan.Failing, State: guard.Watching, Evidence: 1.5, Needed: 2.5},
				false, 0, false},
			{guard.Status{Then: plan.RollBack, Watch: plan.Failing, State: guard.Watching, Evidence: 1.5, Needed: 2.5},
				false, 2 * time.Second, true},
			{guard.Status{Then: plan.RollBack, Watch: plan.Failing, State: guard.Watching, Evidence: 1.5, Needed: 2.5},
				true, 0, true},
			{guard.Status{Then: plan.RollBack, Watch: plan.Failing, State: guard.Watching, Evidence: 1, Needed: 2.5},
				false, 0, true},
			{guard.Status{Then: plan.Freeze, Watch: plan.Failing, State: guard.Watching, Evidence: 1.5, Needed: 2.5},
				false, 0, true},
		} {
			r := runner{}
			if c.atFreeze {
				r.Until = UntilFrozen
			}
			s := yet
			s.At, s.Guards = yet.At.Add(c.long), []guard.Status{c.status}
			if _, done, err := r.look(t.Context(), s); err != nil || done != c.done {
				t.Errorf("%+v: done is %v, %v", c, done, err)
			}
		}
		// A retirement waits where the side that serves is ill, and nobody waits for that.
		settled := keeper.Snapshot{}
		settled.Crossing = crossing.State{Stage: crossing.Settled, Seq: 9, Target: split.Green,
			Task: crossing.Task{ID: 9, Do: crossing.TaskRetire, Side: split.Blue}}
		if _, done, _ := (&runner{}).look(t.Context(), settled); done {
			t.Error("it does not wait for the retirement")
		}
		for _, c := range []struct {
			kind crossing.LackKind
			done bool
		}{{crossing.LackAstray{Have: 40, Need: 50}, true}, {crossing.LackTime{}, false}} {
			r := runner{}
			s := settled
			s.At, s.Held = time.Now(), []crossing.Lack{crossing.Lacking(c.kind)}
			if _, done, _ := r.look(t.Context(), s); done {
				t.Errorf("%s: it does not wait at all", c.kind)
			}
			s.At = s.At.Add(heldLimit + time.Second)
			if sum, done, _ := r.look(t.Context(), s); done != c.done ||
				done && (sum.Outcome != Kept || !strings.Contains(sum.Why, "40 of 50")) {
				t.Errorf("%s: it ends with %+v, %v", c.kind, sum, done)
			}
		}
		settled.Crossing.Ails = []crossing.Ail{{ID: 10, Cause: crossing.Because(crossing.HomeIll{})}}
		if sum, done, _ := (&runner{}).look(t.Context(), settled); !done || sum.Outcome != LiveIll ||
			!strings.Contains(sum.Why, "blue is kept") {
			t.Errorf("with the live side ill it ends with %+v, %v", sum, done)
		}
		// A side that is being raised or proven helps, whatever comes then.
		s := freeze(crossing.HomeIll{})
		s.WaysOut = []wayout.Way{{Do: wayout.Forward, Rate: 40}}
		s.Crossing.Stage, s.Crossing.Task = crossing.Raising, crossing.Task{ID: 4, Do: crossing.TaskRaise}
		r := runner{}
		if _, done, _ := r.look(t.Context(), s); done {
			t.Error("it does not wait for the raise")
		}
		s.Crossing.Stage, s.Crossing.Task = crossing.Proving, crossing.Task{}
		if sum, done, _ := r.look(t.Context(), s); !done ||
			!strings.Contains(sum.Why, "What can be done: all to blue, ~0 of 40 /s fail") {
			t.Errorf("proven it ends with %+v, %v", sum, done)
		}
	})
	t.Run("moved after it settled", func(t *testing.T) {
		c := newClient()
		c.begin.Then = plan.ThenRetire
		c.perform = func(task crossing.Task) crossing.Fact {
			if task.Do == crossing.TaskRetire {
				c.state = crossing.Apply(c.state,
					crossing.Event{Seq: c.state.Seq + 1, At: time.Now(),
						What: crossing.Changed{From: split.Whole, Share: split.Whole,
							Apart: []reading.Apart{{Front: "gate2", Share: 0}}}})
				return crossing.Failed{Task: task.ID,
					Trouble: crossing.Went(crossing.TroubleOutsider{From: split.Whole, To: split.Whole,
						Apart: c.state.Apart})}
			}
			return well(task)
		}
		sum, _ := run(t, c, Options{Yes: ApprovedAll})
		if sum.Outcome != Kept ||
			sum.Why != "somebody changed a front after the end: gate2 has 0 % on green, and the first one 100 %" {
			t.Errorf("summary %+v", sum)
		}
	})
	t.Run("not before an earlier one has been cleared away", func(t *testing.T) {
		c := newClient()
		<-c.snapshots
		c.state = crossing.State{Stage: crossing.CalledOff, Number: 3,
			Task: crossing.Task{ID: 9, Do: crossing.TaskRetire}, Seq: 9}
		c.show()
		c.state.Task = crossing.Task{}
		c.show()
		c.begin.Number = 4
		if sum, _ := run(t, c, Options{Yes: ApprovedAll}); sum.Outcome != Settled || sum.Crossing != 4 {
			t.Errorf("summary %+v", sum)
		}
		if len(c.snapshots) > 0 {
			t.Error("it began at the sight of a side that was being retired")
		}
	})
}

// What is done by hand waits for what comes of it, and says it.
func TestByHand(t *testing.T) {
	c := newClient()
	var told []reading.Health
	side, choices, err := Raise(t.Context(), c, RaiseOptions{Version: "4.3.0", By: "marit"},
		func(list []reading.Condition) {
			told = append(told, list[0].State)
		})
	if len(told) == 0 || told[len(told)-1] != reading.Healthy {
		t.Errorf("what made it raised was not told: %v", told)
	}
	if err != nil || side != split.Green || raise.Main(choices).Version != "4.3.0" {
		t.Errorf("raised %v at %v, %v", side, choices, err)
	}
	s, err := Shift(t.Context(), c, crossing.Shift{Share: 2500}, keeper.Command{By: "marit"})
	if err != nil || s.Before != 0 || s.Share != 2500 || len(s.Did) != 1 || len(s.Notes) != 1 {
		t.Errorf("shifted %+v, %v", s, err)
	}
	if _, err := Shift(t.Context(), c, crossing.Shift{Share: 20_000}, keeper.Command{By: "marit"}); !errors.Is(err,
		crossing.ErrNotNow) {
		t.Errorf("a share that is none: %v", err)
	}
	if _, err := Retire(t.Context(), c, "sailings", keeper.Command{By: "marit"}, untold); !errors.Is(err,
		crossing.ErrNotNow) {
		t.Errorf("retire a side with traffic: %v", err)
	}
	c.perform = func(task crossing.Task) crossing.Fact {
		if task.Do == crossing.TaskMove {
			return crossing.TookEffect{Task: task.ID, Nearest: 0, Share: 5000}
		}
		return well(task)
	}
	if s, err := Shift(t.Context(), c, crossing.Shift{Share: 0}, keeper.Command{By: "marit"}); err == nil ||
		!strings.Contains(err.Error(), "somebody else changed the front to 50 %") {
		t.Errorf("changed under our hands: %+v, %v", s, err)
	}
	c.perform = well
	if _, err := Shift(t.Context(), c, crossing.Shift{Share: 0}, keeper.Command{By: "marit"}); err != nil {
		t.Error(err)
	}
	if side, err := Retire(t.Context(), c, "sailings", keeper.Command{By: "marit"}, untold); err != nil ||
		side != split.Green {
		t.Errorf("retired %v, %v", side, err)
	}
	c.perform = func(task crossing.Task) crossing.Fact {
		return crossing.Failed{Task: task.ID,
			Trouble: crossing.Went(crossing.TroubleRaise{Said: "no berth is free"})}
	}
	if _, _, err := Raise(t.Context(), c, RaiseOptions{Version: "4.3.0"}, func([]reading.Condition) {}); !errors.Is(err,
		ErrNotDone) || !strings.Contains(err.Error(), "no berth is free") {
		t.Errorf("a raise that fails: %v", err)
	}
	// Something else takes its place, and no event says so.
	synctest.Test(t, func(t *testing.T) {
		c := newClient()
		c.perform = func(task crossing.Task) crossing.Fact {
			v := keeper.Snapshot{View: engine.View{Ready: true, Crossing: c.state}}
			v.Crossing.Seq, v.Crossing.Task = task.ID+1, crossing.Task{ID: task.ID + 1, Do: crossing.TaskHome}
			time.AfterFunc(time.Second, func() { c.snapshots <- v })
			return nil
		}
		if _, err := Shift(t.Context(), c, crossing.Shift{Share: 2500}, keeper.Command{By: "marit"}); !errors.Is(err,
			ErrNotDone) {
			t.Errorf("something else: %v", err)
		}
	})
}

// homeFront is a front that goes home, and that something may be done to after.
type homeFront struct {
	share      split.Share
	generation uint64
	homes      []front.Homing
	fail       []error // what the next tries come to
	reads      int
	before     func(f *homeFront) // what happens before each reading
	counts     [2]int64           // requests that each side has answered; none where the front counts nothing
}

func (f *homeFront) Home(_ context.Context, h front.Homing) (front.Done, error) {
	f.homes = append(f.homes, h)
	if len(f.fail) > 0 {
		err := f.fail[0]
		f.fail = f.fail[1:]
		if err != nil {
			return front.Done{}, err
		}
	}
	f.share, f.generation = split.Toward(h.Side, split.Whole), f.generation+1
	return front.Done{Split: reading.Split{Share: f.share}, Nearest: f.share,
		Order: reading.Order{Generation: f.generation, Side: h.Side}}, nil
}

func (f *homeFront) Read(context.Context) (reading.Front, error) {
	f.reads++
	if f.before != nil {
		f.before(f)
	}
	r := reading.Front{At: time.Now(), Split: reading.Split{Share: f.share},
		Order: reading.Order{Generation: f.generation}, Tells: reading.Capabilities{Counts: f.counts != [2]int64{}}}
	for side, n := range f.counts {
		c := reading.Count{Server: reading.Server{Name: split.Side(side).String() + "-1"}, Requests: n}
		r.Sides[side].Instances = []reading.Count{c}
	}
	return r, nil
}

// After going home it is counted where requests go, for no longer than it takes to know.
func TestArrived(t *testing.T) {
	for _, c := range []struct {
		name        string
		blue, green int64 // between two readings
		any         bool
		within      time.Duration
	}{
		{"all of them", 10, 0, false, time.Second}, {"all elsewhere", 0, 10, true, straysFor + time.Second},
		{"some", 8, 2, true, straysFor + time.Second},
		{"one in a hundred", 99, 1, false, straysFor + time.Second},
		{"nobody asks", 0, 0, false, straysFor + time.Second},
	} {
		synctest.Test(t, func(t *testing.T) {
			f := &homeFront{share: 0, generation: 1, counts: [2]int64{500, 500}}
			f.before = func(f *homeFront) {
				f.counts[split.Blue], f.counts[split.Green] = f.counts[split.Blue]+c.blue, f.counts[split.Green]+c.green
			}
			begun := time.Now()
			s := Arrived(t.Context(), f, Returned{To: split.Blue, Order: reading.Order{Generation: 1}})
			if s.Any() != c.any || time.Since(begun) > c.within || !s.Until.IsZero() {
				t.Errorf("%s: %+v after %v", c.name, s, time.Since(begun))
			}
		})
	}
	synctest.Test(t, func(t *testing.T) {
		f := &homeFront{generation: 1} // which counts nothing
		until := time.Now().Add(time.Minute)
		if s := Arrived(t.Context(), f,
			Returned{To: split.Blue, Order: reading.Order{Generation: 1}, Everywhere: until}); s.Any() ||
			s.Until != until || f.reads != 1 {
			t.Errorf("of a front that counts nothing: %+v after %d readings", s, f.reads)
		}
	})
}

func TestBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := &homeFront{share: 5000,
			fail: []error{front.ErrUnreachable, front.ErrNotLoaded, fmt.Errorf("full: %w", front.ErrNotLoaded)}}
		var tried []error
		r, err := Back(t.Context(), f,
			BackOptions{To: split.Blue, By: "marit", Why: "it looks wrong", For: time.Minute},
			func(err error) { tried = append(tried, err) })
		if err != nil || r.Share != 0 || r.Order.Generation != 1 || len(tried) != 3 {
			t.Errorf("back: %+v, %v after %v", r, err, tried)
		}
		if h := f.homes[0]; h.Side != split.Blue || h.By != "marit" || h.Why != "it looks wrong" || h.Force {
			t.Errorf("it went home as %+v", h)
		}
		f = &homeFront{share: 5000, fail: []error{front.ErrNobody}}
		if _, err := Back(t.Context(), f, BackOptions{To: split.Green, For: time.Minute},
			func(error) {}); !errors.Is(err, crossing.ErrNotNow) || !strings.Contains(err.Error(), "--force") {
			t.Errorf("to nobody: %v", err)
		}
		f = &homeFront{share: 5000, fail: []error{front.ErrUnreachable, front.ErrUnreachable}}
		if _, err := Back(t.Context(), f, BackOptions{To: split.Blue},
			func(error) { t.Error("it tries again") }); !errors.Is(err, front.ErrUnreachable) {
			t.Errorf("once: %v", err)
		}
	})
}

// A change that was begun before the going home and comes through after it is undone; what
// somebody sends out under a newer order is not.
func TestHold(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		o := BackOptions{To: split.Blue, For: time.Minute}
		f := &homeFront{share: 5000}
		f.before = func(f *homeFront) {
			if f.reads == 3 || f.reads == 20 {
				f.share = 5000
			}
		}
		r, err := Back(t.Context(), f, o, func(error) {})
		if err != nil {
			t.Fatal(err)
		}
		begun := time.Now()
		again, err := Hold(t.Context(), f, o, r)
		if err != nil || again != 2 || f.share != 0 || time.Since(begun) < HoldFor {
			t.Errorf("sent home again %d times in %v, %v; it has %v", again, time.Since(begun), err, f.share)
		}
		f = &homeFront{}
		f.before = func(f *homeFront) { f.share, f.generation = 5000, 7 }
		if again, err := Hold(t.Context(), f, o, Returned{Order: reading.Order{Generation: 1}}); err != nil ||
			again != 0 || f.share != 5000 {
			t.Errorf("under a newer order: %d times, %v; it has %v", again, err, f.share)
		}
	})
}

func TestWhereHomeIs(t *testing.T) {
	if side, err := HomeOf(crossing.State{Stage: crossing.Settled, Target: split.Green}); err != nil ||
		side != split.Blue {
		t.Errorf("after a crossing to green home is %v, %v", side, err)
	}
	if _, err := HomeOf(crossing.State{}); err == nil || !strings.Contains(err.Error(), "--to blue or --to green") {
		t.Errorf("before the first crossing: %v", err)
	}
}

// What was counted at the door goes on over a keeper that was ended, whose successor counts from 0.
func TestCountedOverKeepers(t *testing.T) {
	door := func(answers, lost int64) reading.Door { return reading.Door{Answers: answers, Lost: lost} }
	r := runner{before: door(100, 1), door: door(100, 1)}
	for _, d := range []reading.Door{door(160, 2), door(5, 0), door(40, 1), door(3, 3)} {
		r.goOn(d)
	}
	if got, want := r.counted(), (tally{answers: 103, lost: 5}); got != want {
		t.Errorf("counted %+v, want %+v", got, want)
	}
}

func untold(split.Side, engine.SideView) {}

// noting is a keeper that notes what it is told, and has just begun what arrived.
type noting struct{ keeper.Client }

func (noting) Do(context.Context, keeper.Command) (uint64, error) { return 36, nil }

// Of a version that arrives, what is followed begins with its own crossing: what is seen of the one before, which has
// ended, is no end of it.
func TestWhatArrivedIsFollowedFromItsBeginning(t *testing.T) {
	events, snapshots := make(chan crossing.Event, 1), make(chan keeper.Snapshot)
	events <- crossing.Event{Seq: 38, Crossing: 3, What: crossing.Begun{Number: 3, Target: split.Blue,
		Choices: []raise.Choice{{Part: "web", Version: "4.4.0"}}}}
	o := Options{Version: "4.4.0", Emit: func(any) error { return nil }}
	_, begun, done, err := arrive(t.Context(), noting{}, o, events, snapshots)
	if begun != 38 || done || err != nil {
		t.Fatalf("it is followed from %d on, done %v, %v", begun, done, err)
	}
	r := runner{Options: o, client: noting{}, begun: begun}
	ended := keeper.Snapshot{View: engine.View{At: time.Now(), Ready: true,
		Crossing: crossing.State{Seq: 37, Number: 2, Version: "4.3.0", Stage: crossing.RolledBack}}}
	if sum, done, err := r.look(t.Context(), ended); done || err != nil {
		t.Errorf("the crossing before is its end: %+v, %v", sum, err)
	}
}
