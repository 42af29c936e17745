package stacktest

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	"vaiven/internal/world/delivered"
	"vaiven/internal/world/permit"
	"vaiven/internal/world/place"
	"vaiven/lab/testkit"
)

// System is what a driver works on, and what can be done to it from outside.
type System struct {
	// Plan is a plan whose first part has two instances a side on the system, made of
	// the subject behaving as it is told. Everything is removed when the test ends.
	Plan func(t *testing.T, as string) *plan.Plan
	// Driver makes a driver, as the program would when it is started.
	Driver func(t *testing.T, p *plan.Plan) stack.Driver
	// Kill ends an instance without asking it.
	Kill func(t *testing.T, p *plan.Plan, i reading.Instance)
	// Remains is what there is of the service, in whatever form.
	Remains func(t *testing.T, p *plan.Plan) []string
	// Cut makes the system unreachable until mend is called. Nil where that cannot be.
	Cut func(t *testing.T, p *plan.Plan) (mend func())
	// Freeze makes the system hang, with connections that stand, until thaw is called. Nil where
	// that cannot be.
	Freeze func(t *testing.T, p *plan.Plan) (thaw func())
	// Blind says that the system shows nothing of how an instance ended but that it
	// did.
	Blind bool
	// Deliver is the folder of the build of version 2. "" where builds are no folders.
	Deliver func(p *plan.Plan) string
	// DropCopies takes away the copies of builds that the system keeps. Nil where it keeps none.
	DropCopies func(t *testing.T, p *plan.Plan)
	// Forget takes the notes on instances away, as somebody would who does not know what they are. Nil where there
	// are none.
	Forget func(t *testing.T, p *plan.Plan)
	// Names says that the system names instances as it likes, and gives them addresses, so that no ports are lacking.
	Names bool
	// Whole says that the system stops a side in one act.
	Whole bool
	// Lacks are the rules that make no sense for it, by their names. Each of the others has to hold.
	Lacks []string
}

// Subject is the program that instances are made of.
func Subject(t *testing.T) string {
	t.Helper()
	return testkit.Program(t, "vaiven/lab/stacktest/subject")
}

// Stack is the stack of the tests' plans; the driver's test adds where it runs.
func Stack(t *testing.T, as string) plan.Stack {
	t.Helper()
	s := plan.Stack{
		Instances: 2, Command: []string{"subject", "-listen", "{address}", "-as", as}, Folder: "/",
		Environment: map[string]string{"REGION": "north of {side}", "NAME": "{instance} of {version}"},
		Grace:       5 * time.Second, Raise: 20 * time.Second, Network: "host",
	}
	s.FirstPort, s.LastPort = testkit.Ports(t, 20)
	return s
}

// The builds of the tests.
var (
	First  = stack.Build{Version: "1", ID: "a1a1"}
	Second = stack.Build{Version: "2", ID: "b2b2"}
)

// Run runs the suite.
func Run(t *testing.T, s System) {
	for _, c := range []struct {
		name string
		run  func(*testing.T, System)
	}{
		{"raise, list, stop", raiseListStop},
		{"repeated and adopted", adopted},
		{"completed and replaced", replaced},
		{"more and less", moreAndLess},
		{"two raises at once", twoAtOnce},
		{"half way", halfWay},
		{"cut short", cutShort},
		{"dies at once", diesAtOnce},
		{"dies later", diesLater},
		{"never answers", neverAnswers},
		{"ignores the signal", stubborn},
		{"a permission that lapses", permission},
		{"where it stands", stands},
		{"unreachable", unreachable},
		{"hangs", hangs},
		{"started again", startedAgain},
		{"started again of the same build", sameBuild},
		{"output put aside", putAside},
		{"notes that are lost", notesLost},
	} {
		if !slices.Contains(s.Lacks, c.name) {
			t.Run(c.name, func(t *testing.T) {
				t.Parallel() // it mostly waits
				c.run(t, s)
			})
		}
	}
}

func raise(t *testing.T, d stack.Driver, side split.Side, b stack.Build) []reading.Instance {
	t.Helper()
	err := d.Raise(t.Context(), side, b)
	for range 2 { // as the engine does: what did not answer in time was busy
		if !errors.Is(err, stack.ErrUnreachable) {
			break
		}
		err = d.Raise(t.Context(), side, b)
	}
	if err != nil {
		t.Fatalf("raise %v: %v", side, err)
	}
	return list(t, d, side)
}

func list(t *testing.T, d stack.Driver, side split.Side) []reading.Instance {
	t.Helper()
	l, err := d.List(t.Context(), side)
	if err != nil {
		t.Fatalf("list %v: %v", side, err)
	}
	return l
}

func stop(t *testing.T, d stack.Driver, side split.Side) {
	t.Helper()
	if err := d.Stop(t.Context(), side); err != nil {
		t.Fatalf("stop %v: %v", side, err)
	}
}

// says is what an instance answers, "" if it does not.
func says(i reading.Instance) string {
	c, err := net.DialTimeout("tcp", i.Address, time.Second)
	if err != nil {
		return ""
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(2 * time.Second))
	line, _ := bufio.NewReader(c).ReadString('\n')
	return strings.TrimSpace(line)
}

func answer(t *testing.T, instances []reading.Instance) {
	t.Helper()
	for _, i := range instances {
		testkit.Eventually(t, i.Name+" answers", func() bool { return says(i) != "" })
	}
}

// clean holds the system to having nothing left of the service.
func clean(t *testing.T, s System, p *plan.Plan) {
	t.Helper()
	for w := testkit.Waiting(t, "nothing is left behind"); ; w.Again() {
		left := s.Remains(t, p)
		if len(left) == 0 {
			return
		}
		w.Last(left)
	}
}

func raiseListStop(t *testing.T, s System) {
	p := s.Plan(t, "well")
	d := s.Driver(t, p)
	if got := list(t, d, split.Green); len(got) != 0 {
		t.Fatalf("before anything was raised there is %+v", got)
	}
	blue := raise(t, d, split.Blue, First)
	green := raise(t, d, split.Green, Second)
	if len(green) != 2 || green[0].Address == green[1].Address || green[0].Name == green[1].Name {
		t.Fatalf("raised %+v", green)
	}
	for n, i := range green {
		if want := fmt.Sprintf("green-%d", n+1); i.Name != want && !s.Names || !strings.HasPrefix(i.Name, "green-") {
			t.Errorf("instance %d is called %s", n+1, i.Name)
		}
	}
	for _, i := range green {
		if i.Version != "2" || i.Build != "b2b2" || i.Side != split.Green || i.Part != "web" || !i.Running ||
			i.Started.IsZero() {
			t.Errorf("an instance is not what was raised: %+v", i)
		}
	}
	answer(t, slices.Concat(blue, green))
	if got := says(green[0]); got != "north of green" {
		t.Errorf("its environment says %q", got)
	}
	testkit.Eventually(t, "its output is read", func() bool {
		return len(list(t, d, split.Green)[0].Output) > 0
	})
	if out := list(t, d, split.Green)[0].Output; !strings.HasPrefix(out[0], "listening on") {
		t.Errorf("its output is %q", out)
	}
	stop(t, d, split.Green)
	if got := list(t, d, split.Green); len(got) != 0 {
		t.Errorf("stopped, there is still %+v", got)
	}
	if says(green[0]) != "" {
		t.Error("a stopped instance answers")
	}
	untouched(t, d, blue)
	stop(t, d, split.Green) // once more does no harm
	stop(t, d, split.Blue)
	clean(t, s, p)
}

// untouched holds the live side to being as it was.
func untouched(t *testing.T, d stack.Driver, before []reading.Instance) {
	t.Helper()
	now := list(t, d, before[0].Side)
	if len(now) != len(before) {
		t.Fatalf("the live side has %d instances, had %d", len(now), len(before))
	}
	for n, i := range now {
		if !i.Running || !i.Started.Equal(before[n].Started) || i.Address != before[n].Address || says(i) == "" {
			t.Errorf("the live side was touched: %+v, was %+v", i, before[n])
		}
	}
}

func adopted(t *testing.T, s System) {
	p := s.Plan(t, "well")
	first := raise(t, s.Driver(t, p), split.Green, Second)
	answer(t, first)
	again := raise(t, s.Driver(t, p), split.Green, Second)
	if len(again) != 2 || !again[0].Started.Equal(first[0].Started) || again[1].Address != first[1].Address {
		t.Errorf("raised again by a program that was started anew, the instances are others:\n%+v\n%+v", first, again)
	}
	stop(t, s.Driver(t, p), split.Green)
	clean(t, s, p)
}

func replaced(t *testing.T, s System) {
	p := s.Plan(t, "well")
	d := s.Driver(t, p)
	blue := raise(t, d, split.Blue, First)
	green := raise(t, d, split.Green, Second)
	answer(t, slices.Concat(blue, green))
	s.Kill(t, p, green[1])
	testkit.Eventually(t, "it is seen to be gone", func() bool {
		l := list(t, d, split.Green)
		return len(l) == 2 && !l[1].Running && l[1].Exit != ""
	})
	healed := raise(t, d, split.Green, Second)
	answer(t, healed)
	if !healed[0].Started.Equal(green[0].Started) || !healed[1].Running || healed[1].Started.Equal(green[1].Started) {
		t.Errorf("what was missing was not completed, or more than that: %+v, was %+v", healed, green)
	}
	other := raise(t, d, split.Green, First)
	answer(t, other)
	if len(other) != 2 || other[0].Version != "1" || other[0].Started.Equal(green[0].Started) {
		t.Errorf("another version did not replace the first: %+v", other)
	}
	untouched(t, d, blue)
}

func twoAtOnce(t *testing.T, s System) {
	p := s.Plan(t, "well")
	d := s.Driver(t, p)
	var wait sync.WaitGroup
	for range 2 {
		wait.Go(func() {
			if err := d.Raise(t.Context(), split.Green, Second); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	got := list(t, d, split.Green)
	if len(got) != 2 || !got[0].Running || !got[1].Running {
		t.Fatalf("two raises made %+v", got)
	}
	answer(t, got)
	stop(t, d, split.Green)
	clean(t, s, p)
}

func halfWay(t *testing.T, s System) {
	p := s.Plan(t, "well")
	whole := p.Parts[0].Stacks[split.Green]
	p.Parts[0].Stacks[split.Green].LastPort = whole.FirstPort // room for one
	d := s.Driver(t, p)
	err := d.Raise(t.Context(), split.Green, Second)
	if err == nil || !strings.Contains(err.Error(), "green-2") || strings.Contains(err.Error(), "green-1") {
		t.Fatalf("error %v, want it to name the instance that was not started, and no other", err)
	}
	one := list(t, d, split.Green)
	if len(one) != 1 || one[0].Name != "green-1" || !one[0].Running {
		t.Fatalf("half raised: %+v", one)
	}
	p.Parts[0].Stacks[split.Green] = whole
	both := raise(t, s.Driver(t, p), split.Green, Second)
	if len(both) != 2 || !both[0].Started.Equal(one[0].Started) {
		t.Errorf("repeated, it was not completed: %+v, was %+v", both, one)
	}
	stop(t, d, split.Green)
	clean(t, s, p)
}

// cutShort ends a raise at several moments, as a crash would.
func cutShort(t *testing.T, s System) {
	p := s.Plan(t, "well")
	for _, after := range []time.Duration{time.Millisecond, 20 * time.Millisecond, 150 * time.Millisecond} {
		ctx, cancel := context.WithTimeout(t.Context(), after)
		_ = s.Driver(t, p).Raise(ctx, split.Green, Second) // may have been done by then
		cancel()
	}
	d := s.Driver(t, p)
	// What was cut short may take one with it a moment later, which the next raise completes.
	var got []reading.Instance
	testkit.Eventually(t, "both run after raises that were cut short", func() bool {
		got = raise(t, d, split.Green, Second)
		return len(got) == 2 && got[0].Running && got[1].Running
	})
	answer(t, got)
	stop(t, d, split.Green)
	clean(t, s, p)
}

func diesAtOnce(t *testing.T, s System) {
	p := s.Plan(t, "die")
	d := s.Driver(t, p)
	if err := d.Raise(t.Context(), split.Green, Second); err != nil && !strings.Contains(err.Error(), "green-") {
		t.Fatalf("the error names no instance: %v", err)
	}
	ended(t, s, d, "exit status 7", "no berth is free")
	stop(t, d, split.Green)
	clean(t, s, p)
}

// ended waits until the first instance is seen to have ended in a way.
func ended(t *testing.T, s System, d stack.Driver, exit, output string) {
	t.Helper()
	var got []reading.Instance
	testkit.Eventually(t, "it is seen to have ended", func() bool {
		got = list(t, d, split.Green)
		return len(got) > 0 && !got[0].Running && got[0].Exit != "" &&
			(s.Blind || strings.HasPrefix(got[0].Exit, exit) && len(got[0].Output) > 0)
	})
	if !s.Blind && !slices.Contains(got[0].Output, output) {
		t.Errorf("its last output is %q, want %q among it", got[0].Output, output)
	}
}

func diesLater(t *testing.T, s System) {
	p := s.Plan(t, "later")
	d := s.Driver(t, p)
	got := raise(t, d, split.Green, Second)
	answer(t, got[:1])
	ended(t, s, d, "exit status 3", "berth 14 is nil")
}

func neverAnswers(t *testing.T, s System) {
	p := s.Plan(t, "silent")
	d := s.Driver(t, p)
	raise(t, d, split.Green, Second)
	testkit.Eventually(t, "its last output is there", func() bool {
		l := list(t, d, split.Green)
		return l[0].Running && slices.Contains(l[0].Output, "waiting for the timetable")
	})
	stop(t, d, split.Green)
	clean(t, s, p)
}

// permission holds a driver to asking before it stops and starts: what is not permitted any more is left as it is.
func permission(t *testing.T, s System) {
	p := s.Plan(t, "well")
	d := s.Driver(t, p)
	before := raise(t, d, split.Green, First)
	no := errors.New("not any more")
	asked := 0
	refuses := func(after int) context.Context {
		asked = 0
		return permit.With(t.Context(), func(context.Context) error {
			if asked++; asked > after {
				return no
			}
			return nil
		})
	}
	for what, do := range map[string]func(context.Context) error{
		"stop":  func(ctx context.Context) error { return d.Stop(ctx, split.Green) },
		"raise": func(ctx context.Context) error { return d.Raise(ctx, split.Green, Second) },
	} {
		if err := do(refuses(0)); !errors.Is(err, no) || asked == 0 {
			t.Errorf("%s, which is not permitted: %v, asked %d times", what, err, asked)
		}
		for n, i := range list(t, d, split.Green) {
			if !i.Running || i.Started.Sub(before[n].Started).Abs() > time.Second {
				t.Errorf("%s was not permitted, and %s is %+v", what, i.Name, i)
			}
		}
	}
	defer clean(t, s, p)
	defer stop(t, d, split.Green)
	if s.Whole {
		return
	}
	if err := d.Stop(refuses(1), split.Green); !errors.Is(err, no) {
		t.Errorf("a stop that is permitted for the first alone: %v", err)
	}
	run := 0
	for _, i := range list(t, d, split.Green) {
		if i.Running {
			run++
		}
	}
	if run != len(before)-1 {
		t.Errorf("%d of %d run on after one was to be stopped", run, len(before))
	}
}

func stubborn(t *testing.T, s System) {
	p := s.Plan(t, "stubborn")
	p.Parts[0].Stacks[split.Green].Grace = time.Second
	d := s.Driver(t, p)
	got := raise(t, d, split.Green, Second)
	answer(t, got)
	stop(t, d, split.Green)
	if says(got[0]) != "" {
		t.Error("it still answers")
	}
	clean(t, s, p)
}

// stands asks for what an instance can reach from where it stands, and what it
// runs with.
func stands(t *testing.T, s System) {
	p := s.Plan(t, "well")
	d := s.Driver(t, p)
	i := raise(t, d, split.Green, Second)[0]
	answer(t, []reading.Instance{i})
	from, err := d.Place(t.Context(), i)
	if err != nil {
		t.Fatal(err)
	}
	defer from.Close()
	c, err := from.Dial(t.Context(), "tcp", i.Address)
	if err != nil {
		t.Fatalf("from where it stands, its own address: %v", err)
	}
	_ = c.SetDeadline(time.Now().Add(5 * time.Second))
	if line, err := bufio.NewReader(c).ReadString('\n'); err != nil || line != "north of green\n" {
		t.Errorf("its own address says %q, %v", line, err)
	}
	c.Close()
	if _, err := from.Dial(t.Context(), "tcp", testkit.Address(t)); place.CauseOf(err) != place.Refused {
		t.Errorf("a closed port is %q: %v", place.CauseOf(err), err)
	}
	if _, err := from.Dial(t.Context(), "tcp", "no-such-host.invalid:80"); place.CauseOf(err) != place.NoName {
		t.Errorf("a name that does not resolve is %q: %v", place.CauseOf(err), err)
	}
	if out, err := from.Run(t.Context(), place.Command{Words: []string{"sh", "-c", "exit 3"}}); err == nil &&
		out.Status != 3 {
		t.Errorf("a command that exits with 3 ends with %d", out.Status)
	}
	about, err := d.Describe(t.Context(), i)
	if err != nil {
		t.Fatal(err)
	}
	if about.Environment["REGION"] != "north of green" || !slices.Contains(about.Command, i.Address) {
		t.Errorf("it runs %q with %v", about.Command, about.Environment)
	}
}

func unreachable(t *testing.T, s System) {
	p := s.Plan(t, "well")
	d := s.Driver(t, p)
	before := raise(t, d, split.Green, Second)
	answer(t, before)
	mend := s.Cut(t, p)
	if _, err := d.List(t.Context(), split.Green); !errors.Is(err, stack.ErrUnreachable) {
		t.Errorf("list: %v, want ErrUnreachable", err)
	}
	if err := d.Raise(t.Context(), split.Green, First); err == nil {
		t.Error("raised on a system that is gone")
	}
	if err := d.Stop(t.Context(), split.Green); err == nil {
		t.Error("stopped on a system that is gone")
	}
	mend()
	after := list(t, d, split.Green)
	if len(after) != 2 || !after[0].Running || !after[0].Started.Equal(before[0].Started) {
		t.Errorf("when it is back: %+v, was %+v", after, before)
	}
	stop(t, d, split.Green)
	clean(t, s, p)
}

// hangs holds a driver to giving up on a system that hangs: by itself when it reads, and when
// its context ends otherwise. What it began goes on when the system does.
func hangs(t *testing.T, s System) {
	p := s.Plan(t, "well")
	d := s.Driver(t, p)
	before := raise(t, d, split.Green, Second)
	answer(t, before)
	from, err := d.Place(t.Context(), before[0])
	if err != nil {
		t.Fatal(err)
	}
	if p, ok := from.(place.Preparer); ok {
		if err := p.Prepare(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	thaw := s.Freeze(t, p)
	back := sync.OnceFunc(thaw)
	defer back()
	for _, c := range []struct {
		what  string
		limit time.Duration // 0: the driver's own
		do    func(context.Context) error
	}{
		{"list", 0, func(ctx context.Context) error { _, err := d.List(ctx, split.Green); return err }},
		{"raise", time.Second, func(ctx context.Context) error { return d.Raise(ctx, split.Green, First) }},
		{"stop", time.Second, func(ctx context.Context) error { return d.Stop(ctx, split.Green) }},
		{"dial", time.Second, func(ctx context.Context) error {
			_,
				err := from.Dial(ctx, "tcp", before[0].Address)
			return err
		}},
		{"read", time.Second, func(ctx context.Context) error {
			_,
				err := from.ReadFile(ctx, "/etc/hostname")
			return err
		}},
		// whatever it says
		{"leave", 0, func(context.Context) error { return errors.Join(from.Close(), context.DeadlineExceeded) }},
		{"describe", time.Second, func(ctx context.Context) error { _, err := d.Describe(ctx, before[0]); return err }},
	} {
		ctx, cancel := t.Context(), context.CancelFunc(func() {})
		if c.limit > 0 {
			ctx, cancel = context.WithTimeout(ctx, c.limit)
		}
		done := make(chan error, 1)
		go func() { done <- c.do(ctx) }()
		select {
		case err := <-done:
			if err == nil {
				t.Errorf("%s: a system that hangs did it", c.what)
			}
		case <-time.After(time.Minute):
			t.Fatalf("%s: it waits for a system that hangs", c.what)
		}
		cancel()
	}
	back()
	testkit.Eventually(t, "it can be listed again",
		func() bool { _, err := d.List(t.Context(), split.Green); return err == nil })
	raise(t, d, split.Green, Second) // whatever of it was done
	stop(t, d, split.Green)
	clean(t, s, p)
}

// startedAgain kills an instance and has it started again, where the system can: by the same name,
// of the same build, at the same address, with its output going on. What its environment is not
// any more is said.
func startedAgain(t *testing.T, s System) {
	p := s.Plan(t, "well")
	d := s.Driver(t, p)
	r, ok := d.(stack.Restarter)
	if !ok {
		t.Fatal("it starts nothing again")
	}
	before := raise(t, d, split.Green, Second)
	answer(t, before)
	if is, err := r.Restart(t.Context(), before[0], stack.Again{}); err != nil || is != (stack.Restarted{}) {
		t.Errorf("one that runs: %+v, %v", is, err)
	}
	again := func(r stack.Restarter, d stack.Driver, want bool) {
		t.Helper()
		s.Kill(t, p, list(t, d, split.Green)[0])
		testkit.Eventually(t, "it is seen to have ended", func() bool { return !list(t, d, split.Green)[0].Running })
		is, err := r.Restart(t.Context(), list(t, d, split.Green)[0], stack.Again{})
		if err != nil || is.Environment != want || is.Build != "" {
			t.Fatalf("started again: %+v, want %v, %v", is, want, err)
		}
		var now []reading.Instance
		testkit.Eventually(t, "it is seen to run",
			func() bool { now = list(t, d, split.Green); return len(now) > 0 && now[0].Running })
		if len(now) != 2 || now[0].Name != before[0].Name || !Second.Made(now[0]) ||
			now[0].Address != before[0].Address || now[0].Place != before[0].Place {
			t.Fatalf("started again it is %+v, and was %+v", now, before)
		}
		answer(t, now)
		testkit.Eventually(t, "its output goes on", func() bool { return len(list(t, d, split.Green)[0].Output) >= 2 })
	}
	again(r, d, false)
	another := *p
	another.Parts = slices.Clone(p.Parts)
	green := &another.Parts[0].Stacks[split.Green]
	green.Environment = map[string]string{"REGION": "south of {side}"}
	d = s.Driver(t, &another)
	again(d.(stack.Restarter), d, true)
	if got := says(list(t, d, split.Green)[0]); got != "south of green" {
		t.Errorf("its environment says %q", got)
	}
	nobody := before[0]
	nobody.Name = "green-7"
	if _, err := r.Restart(t.Context(), nobody, stack.Again{}); err == nil {
		t.Error("one that never was is started again")
	}
	stop(t, d, split.Green)
	if _, err := r.Restart(t.Context(), before[0], stack.Again{}); err == nil {
		t.Error("one that was stopped is started again")
	}
	clean(t, s, p)
}

// sameBuild has an instance started again of what was delivered, and of nothing else unless it is wanted even so. What
// running a build adds to it does not make it another one.
func sameBuild(t *testing.T, s System) {
	p := s.Plan(t, "well")
	folder := s.Deliver(p)
	deliver := func(name, text string) {
		t.Helper()
		if err := errors.Join(os.MkdirAll(folder, 0o755),
			os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	deliver("fares", "one")
	d := s.Driver(t, p)
	r := d.(stack.Restarter)
	raise(t, d, split.Green, Second)
	deliver("cache", "made while it runs")
	again := func(a stack.Again) (stack.Restarted, error) {
		t.Helper()
		if i := list(t, d, split.Green)[0]; i.Running {
			s.Kill(t, p, i)
			testkit.Eventually(t, "it is seen to have ended",
				func() bool { return !list(t, d, split.Green)[0].Running })
		}
		return r.Restart(t.Context(), list(t, d, split.Green)[0], a)
	}
	if is, err := again(stack.Again{}); err != nil || is.Build != "" {
		t.Fatalf("with what it made itself: %+v, %v", is, err)
	}
	deliver("fares", "two")
	is, err := again(stack.Again{})
	if s.DropCopies != nil {
		if err != nil || is.Build != "fares differs" || !is.Copy {
			t.Errorf("with something else in its place, and a copy: %+v, %v", is, err)
		}
		if i := list(t, d, split.Green)[0]; !i.Running || i.Other != "" {
			t.Errorf("then it is %+v", i)
		}
		s.DropCopies(t, p)
		is, err = again(stack.Again{})
	}
	if !errors.Is(err, delivered.ErrOther) || !strings.Contains(err.Error(), "fares differs") {
		t.Errorf("with something else in its place: %v", err)
	}
	if i := list(t, d, split.Green)[0]; i.Running {
		t.Error("it runs all the same")
	}
	if is, err := again(stack.Again{Even: true}); err != nil || is.Build != "fares differs" {
		t.Fatalf("even so: %+v, %v", is, err)
	}
	var even reading.Instance
	testkit.Eventually(t, "it is seen to run", func() bool { even = list(t, d, split.Green)[0]; return even.Running })
	if even.Other != "fares differs" || !Second.Made(even) {
		t.Errorf("then it is %+v", even)
	}
	more := Second
	more.Instances = 3
	if err := d.Raise(t.Context(), split.Green, more); !errors.Is(err, delivered.ErrOther) {
		t.Errorf("it gets another instance, of something else: %v", err)
	}
	deliver("fares", "one")
	if is, err := again(stack.Again{}); err != nil || is.Build != "" {
		t.Errorf("with what was delivered: %+v, %v", is, err)
	}
	if i := list(t, d, split.Green)[0]; !i.Running || i.Other != "" {
		t.Errorf("then it is %+v", i)
	}
	stop(t, d, split.Green)
	deliver("fares", "three") // nothing of it runs: it is what is delivered now
	raise(t, d, split.Green, Second)
	stop(t, d, split.Green)
	clean(t, s, p)
}

// moreAndLess gives a side more instances and takes them away again: those that stood run on, untouched. A driver that
// cannot say which go says so by its kind: see [plan.Plan.Controls].
func moreAndLess(t *testing.T, s System) {
	p := s.Plan(t, "well")
	d := s.Driver(t, p)
	before := raise(t, d, split.Green, Second)
	more := Second
	more.Instances = len(before) + 2
	if all := raise(t, d, split.Green, more); len(all) != more.Instances {
		t.Errorf("with two more there are %d of %d", len(all), more.Instances)
	}
	less := Second
	less.Instances = len(before)
	after := raise(t, d, split.Green, less)
	if len(after) != len(before) {
		t.Fatalf("without them there are %+v", after)
	}
	for n, was := range before {
		if now := after[n]; now.Name != was.Name || now.Address != was.Address || !now.Started.Equal(was.Started) ||
			!now.Running {
			t.Errorf("%+v is %+v", was, now)
		}
	}
	stop(t, d, split.Green)
	clean(t, s, p)
}

// notesLost takes the notes on running instances away: what runs still says what it is, also to a driver that never saw
// them, and can be stopped.
func notesLost(t *testing.T, s System) {
	p := s.Plan(t, "well")
	d := s.Driver(t, p)
	raise(t, d, split.Blue, First)
	before := raise(t, d, split.Green, Second)
	for what, d := range map[string]func() stack.Driver{"that listed them": func() stack.Driver { return d },
		"that never did": func() stack.Driver { return s.Driver(t, p) }} {
		s.Forget(t, p)
		d := d()
		for _, side := range split.Sides {
			now := list(t, d, side)
			if len(now) != 2 || !now[0].Running || !now[1].Running {
				t.Fatalf("to a driver %s, there is %+v on %v", what, now, side)
			}
			if side == split.Green && (now[0].Address != before[0].Address || !Second.Made(now[0]) ||
				now[0].Place != before[0].Place || !now[0].Started.Equal(before[0].Started)) {
				t.Errorf("to a driver %s, green is %+v, and was %+v", what, now, before)
			}
		}
	}
	if err := d.Raise(t.Context(), split.Green, Second); err != nil {
		t.Error(err)
	}
	if now := list(t, d, split.Green); len(now) != 2 || !now[0].Started.Equal(before[0].Started) {
		t.Errorf("they were started a second time: %+v", now)
	}
	s.Forget(t, p)
	stop(t, d, split.Blue)
	stop(t, d, split.Green)
	clean(t, s, p)
}

// putAside has output put aside that has become too large, and nothing of it left in the end.
func putAside(t *testing.T, s System) {
	p := s.Plan(t, "well")
	p.Parts[0].Stacks[split.Green].Output = plan.Output{Size: 1, Keep: 2}
	d := s.Driver(t, p)
	r, ok := d.(stack.Rotator)
	if !ok {
		t.Fatal("it puts no output aside")
	}
	raise(t, d, split.Green, Second)
	testkit.Eventually(t, "there is output", func() bool { return len(list(t, d, split.Green)[0].Output) > 0 })
	for range 4 {
		if err := r.Rotate(t.Context(), split.Green); err != nil {
			t.Fatal(err)
		}
	}
	if got := list(t, d, split.Green)[0]; len(got.Output) > 0 || !got.Running {
		t.Errorf("after it was put aside it is %+v", got)
	}
	if len(s.Remains(t, p)) == 0 {
		t.Error("nothing was there")
	}
	stop(t, d, split.Green)
	clean(t, s, p)
}
