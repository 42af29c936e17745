package fronttest

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"net/http/cookiejar"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/front/held"
	"vaiven/internal/world/permit"
	"vaiven/lab/testkit"
)

// Proxy is a real proxy that runs, and what can be done to it.
type Proxy struct {
	Driver func() front.Driver // a new one each time, as another process would have
	// somebody else puts a share in force, past the driver; nil if nobody can
	Foreign func(t *testing.T, share split.Share)
	Write   func(t *testing.T) // somebody writes what has no place in it; nil if nobody can
	Reload  func(t *testing.T) // somebody reloads it; nil if there is no such thing
	// takes the disk away that the driver writes to; nil if it writes nothing
	Spoil func(t *testing.T)
	Kill  func(t *testing.T) // ends it
	Slow  func(t *testing.T) // makes its configuration one that takes a while to read; nil if there is no such thing
	Door  plan.SpareDoor     // by header, to the spare side; none if it has none
	// makes its configuration such that its checker refuses it; nil if it has none
	Garble func(t *testing.T) (put func())
}

// Ability is something that not every kind of proxy can.
type Ability string

// The abilities. A system that lacks one says so, and is not held to the rules that need it.
const (
	Exact    Ability = "does every share to 0.01 %"
	Seamless Ability = "keeps idle connections open when it changes"
	Counts   Ability = "counts requests by instance"
	Ends     Ability = "sees how an answer ends"
	Diskless Ability = "goes home without its disk"
	Warns    Ability = "says what would not survive a restart"
	Others   Ability = "can be changed by somebody past the driver"
	Reloads  Ability = "can be reloaded by somebody"
	Disk     Ability = "writes to a disk"
	Door     Ability = "has a door of its own to the spare side"
	Checker  Ability = "checks a configuration before it takes it"
	Each     Ability = "places each request of a connection that is kept"
	Ports    Ability = "reaches instances at ports of their own"
	Chooses  Ability = "decides which instance of a side gets a request"
	Divides  Ability = "gives some instances of a side as much as the other side gets"
	Beside   Ability = "keeps what it is told while somebody reloads it"
	Finely   Ability = "gives every instance of a side its part, whatever the share is"
)

// System is a kind of proxy.
type System struct {
	// starts one that listens at w.Listen, with room for 6 instances of each side
	Open  func(t *testing.T, w *World) Proxy
	Lacks []Ability
	// the system is one for all rules, and some of them end it
	Shared bool
	// the rules that are tried with every change, by their names, where another system tries the others in the same
	// way; nil for all
	Short []string
}

func (s System) has(a Ability) bool { return !slices.Contains(s.Lacks, a) }

// rule is what every front is held to.
type rule struct {
	name    string
	promise string // to whoever uses a front
	needs   []Ability
	bare    bool // it can be seen without a request
	run     func(*testing.T, *scene)
}

var rules = []rule{
	{"reads back what it sets", "what is shown is what is in force, in every process", nil, true, readsBack},
	{"does the shares it says", "what is said beforehand is what is done", nil, true, doesShares},
	{"refuses what would lose requests", "what was refused changed nothing", nil, true, refuses},
	{"splits as asked", "the share is what users get", nil, false, splitsAsAsked},
	{"unequal numbers of instances", "a share is one of requests, not of instances", nil, false, unequal},
	{"instances come and go", "instances change and the share stays", nil, false, comeAndGo},
	{"instances come while somebody reads", "other instances are no other split, also for who looks in the middle", nil,
		false, comeWhileRead},
	{"one that is out gets nothing", "an ill instance gets nothing while others can take it", []Ability{Chooses}, false,
		oneOut},
	{"a control group", "some instances of a side get as much as the other side, and home is everybody's",
		[]Ability{Divides}, false, controlGroup},
	{"to and fro", "no change loses a request, and what is counted is what was answered", nil, false, toAndFro},
	{"home from another process", "going home needs the front's address and the side, nothing else", nil, false,
		homeFromElsewhere},
	{"cut in the middle", "an answer that an instance breaks off is the side's, and one that its client leaves is not",
		[]Ability{Counts, Ends}, false, cutInTheMiddle},
	{"names of their own", "a side is known by who was put there, whatever they are called", []Ability{Counts}, false,
		ownNames},
	{"a permission that lapses", "what is permitted is asked when it is done, not only when it was ordered", nil, true,
		permission},
	{"an old revision", "nobody's change is overwritten unseen", nil, true, oldRevision},
	{"home is an order", "what went home stays there until somebody who knows of it lets requests out", nil, true,
		homeIsAnOrder},
	{"a term", "what a keeper that was ended sent off counts no more, and a term is nobody's going home", nil, true,
		aTerm},
	{"a term past a change", "once a term has begun, no change of an earlier one comes into force", nil, false,
		aTermPastAChange},
	{"home past a change", "going home waits for no change, and none undoes it", nil, false, homePastAChange},
	{"home to nobody", "home is a place: never to a side with nobody while the other one serves", nil, true,
		homeToNobody},
	{"a side that is closed", "to a side that was left nothing goes, from whatever process, until it is opened again", nil,
		true, closedSide},
	{"rehearses home", "a rehearsal says whether going home would work, and changes nothing", nil, true, rehearses},
	{"rehearses what would not work", "what is in the way is known before it is needed", []Ability{Checker}, false,
		rehearsesInVain},
	{"somebody else", "what somebody else changed is seen, and not written over but by going home", []Ability{Others},
		false, somebodyElse},
	{"a reload by somebody", "what is in force outlives a reload", []Ability{Reloads}, false, reloaded},
	{"a reload beside a change", "what is said to be done is in force, whoever else reloads at that moment",
		[]Ability{Reloads, Beside}, false, reloadedBeside},
	{"a refused configuration", "what the proxy would refuse is refused, and nothing has changed", []Ability{Checker},
		false, refused},
	{"no disk", "without its disk a change is refused, and going home is not", []Ability{Disk}, false, noDisk},
	{"no proxy", "a front that is gone is said to be", nil, false, noProxy},
	{"drains", "nothing that answers is given up", nil, false, drains},
	{"a door to the spare side", "who knows the secret is led to the spare side whatever the share is, and counts " +
		"for nothing", []Ability{Door}, false, doorToTheSpare},
	{"is held while it serves", "who has a front can hold it to its promises themselves, and harms nobody",
		[]Ability{Finely}, false, heldWhileItServes},
}

// Run holds a system to the suite.
func Run(t *testing.T, s System) {
	for _, r := range rules {
		if slices.ContainsFunc(r.needs, func(a Ability) bool { return !s.has(a) }) {
			continue
		}
		t.Run(r.name, func(t *testing.T) {
			if !s.Shared {
				t.Parallel() // it mostly waits
			}
			t.Log("the rule: " + r.promise)
			if s.Short != nil && !slices.Contains(s.Short, r.name) {
				testkit.Long(t)
			}
			c := open(t, s)
			c.complete()
			r.run(t, c)
		})
	}
	t.Run("the first of all", func(t *testing.T) {
		if !s.Shared {
			t.Parallel()
		}
		if s.Short != nil {
			testkit.Long(t)
		}
		t.Log("the rule: a side that has just been raised gets nothing until somebody asks for it")
		firstOfAll(t, s)
	})
}

// Rules holds a front in memory to the rules that can be seen without a request. driver
// makes what another process would have, of a new front whenever maker is called.
func Rules(t *testing.T, maker func(t *testing.T) (driver func() front.Driver)) {
	for _, r := range rules {
		if !r.bare {
			continue
		}
		t.Run(r.name, func(t *testing.T) {
			t.Log("the rule: " + r.promise)
			c := &scene{t: t, Proxy: Proxy{Driver: maker(t)}}
			for n := range 3 {
				c.blue = append(c.blue, reading.Server{Name: fmt.Sprintf("blue-%d", n+1),
					Address: fmt.Sprintf("10.1.0.%d:80", n+1), Version: "1"})
				c.green = append(c.green,
					reading.Server{Name: fmt.Sprintf("green-%d", n+1), Address: fmt.Sprintf("10.1.1.%d:80", n+1),
						Version: "2"})
			}
			c.begin()
			r.run(t, c)
		})
	}
}

// complete fails the test if what the system says it lacks is not what there is no way to do to
// it.
func (c *scene) complete() {
	for a, missing := range map[Ability]bool{Others: c.Foreign == nil, Reloads: c.Reload == nil, Disk: c.Spoil == nil,
		Checker: c.Garble == nil, Door: !c.Door.Asks()} {
		if missing == c.has(a) {
			c.t.Fatalf("the system says %v to this, and does otherwise: %s", c.has(a), a)
		}
	}
}

// firstOfAll raises a version where nobody is on blue: green gets nothing until it is
// asked for.
func firstOfAll(t *testing.T, s System) {
	w := s.World(t)
	p := s.Open(t, w)
	d := p.Driver()
	reads := func(d front.Driver, what string, want split.Share) reading.Front {
		t.Helper()
		r, err := d.Read(t.Context())
		if err != nil || r.Split.Share != want {
			t.Fatalf("%s it reads as %+v, %v, want %v on green", what, r.Split, err, want)
		}
		return r
	}
	reads(d, "before anything", 0)
	if err := d.SetInstances(t.Context(), split.Green, w.Raise(split.Green, 1, 2)); err != nil {
		t.Fatal(err)
	}
	r := reads(d, "with instances on green", 0)
	for range 20 {
		(&client{world: w}).ask("/early") // nobody is to answer
	}
	for _, i := range r.Sides[split.Green].Instances {
		if n := w.Instance(i.Name).Answered.Load(); n > 0 {
			t.Errorf("%s answered %d requests before any were to go there", i.Name, n)
		}
	}
	other := p.Driver() // after a crash, say
	r = reads(other, "by another process", 0)
	if done, err := other.Set(t.Context(), split.Whole, front.AsRead(r)); err != nil || done.Share != split.Whole {
		t.Fatalf("the first share: %+v, %v", done, err)
	}
	reads(d, "afterwards", split.Whole)
	reads(p.Driver(), "by another process", split.Whole)
	testkit.Until(t, "answers of green alone", func() error {
		if _, sides := w.Count(40, true, nil); sides != [2]int{0, 40} {
			return fmt.Errorf("answers of %v", sides)
		}
		return nil
	})
}

// World is one as such a system needs it.
func (s System) World(t *testing.T) *World {
	w := NewWorld(t)
	w.hosts, w.anew = !s.has(Ports), !s.has(Each)
	return w
}

// scene is a proxy with instances behind it and requests flowing.
type scene struct {
	System
	Proxy
	t     *testing.T
	w     *World
	d     front.Driver
	load  *Load
	blue  []reading.Server
	green []reading.Server
}

func open(t *testing.T, s System) *scene {
	t.Helper()
	w := s.World(t)
	c := &scene{System: s, t: t, w: w}
	c.blue, c.green = w.Raise(split.Blue, 1, 3), w.Raise(split.Green, 1, 3)
	c.Proxy = s.Open(t, w)
	c.begin()
	testkit.Until(t, "the first answer", func() error {
		o := (&client{world: w}).ask("/first")
		return o.err
	})
	c.load = w.Flow()
	testkit.Until(t, "requests that flow", func() error {
		if n := c.load.Answers[split.Blue].Load(); n < 20 {
			return fmt.Errorf("%d answers", n)
		}
		return nil
	})
	t.Cleanup(func() {
		lost, first := c.load.End()
		if lost > 0 {
			t.Errorf("%d requests were lost, the first: %v", lost, first)
		}
		if n := c.load.Closed.Load(); n > 0 {
			t.Logf("%d idle connections were closed", n)
			if s.has(Seamless) {
				t.Errorf("%d kept connections were closed under a request", n)
			}
		}
	})
	return c
}

// begin has all requests on blue, and instances on both sides.
func (c *scene) begin() {
	c.t.Helper()
	c.d = c.Driver()
	c.instances(split.Blue, c.blue)
	c.home(split.Blue)
	c.instances(split.Green, c.green)
}

func (c *scene) ctx() context.Context {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(c.t.Context()), 30*time.Second)
	c.t.Cleanup(cancel)
	return ctx
}

func (c *scene) read() reading.Front {
	c.t.Helper()
	r, err := c.d.Read(c.ctx())
	if err != nil {
		c.t.Fatalf("read: %v", err)
	}
	return r
}

func (c *scene) set(share split.Share) front.Done {
	c.t.Helper()
	s, err := c.d.Set(c.ctx(), share, front.AsRead(c.read()))
	if err != nil {
		c.t.Fatalf("set %v: %v", share, err)
	}
	return s
}

func (c *scene) home(side split.Side) {
	c.t.Helper()
	s, err := c.d.Home(c.ctx(), homing(side))
	if err != nil || s.Share != split.Toward(side, split.Whole) {
		c.t.Fatalf("home to %v: %+v, %v", side, s, err)
	}
}

func homing(side split.Side) front.Homing {
	return front.Homing{Side: side, By: "marit", Why: "it looks wrong, 5 % \"fail\""}
}

func (c *scene) instances(side split.Side, list []reading.Server) {
	c.t.Helper()
	if err := c.d.SetInstances(c.ctx(), side, list); err != nil {
		c.t.Fatalf("instances of %v: %v", side, err)
	}
}

// only waits until all requests go to one side: those placed before may still be
// answered.
func (c *scene) only(side split.Side) {
	c.t.Helper()
	if c.w == nil {
		return
	}
	testkit.Until(c.t, fmt.Sprintf("all answers of %v", side), func() error {
		if _, sides := c.w.Count(20, false, nil); sides[side.Other()] > 0 {
			return fmt.Errorf("%d of 20 came from %v", sides[side.Other()], side.Other())
		}
		return nil
	})
}

func readsBack(t *testing.T, c *scene) {
	before := c.read()
	if before.Split.Share != 0 || len(before.Sides[split.Blue].Instances) != 3 ||
		len(before.Sides[split.Green].Instances) != 3 {
		t.Fatalf("at first: %+v", before)
	}
	for n, i := range before.Sides[split.Green].Instances {
		if i.Server != c.green[n] {
			t.Errorf("instance %d is read as %+v, told as %+v", n, i.Server, c.green[n])
		}
	}
	if again := c.read(); again.Split.Revision != before.Split.Revision {
		t.Errorf("the revision grew from %d to %d though nothing happened", before.Split.Revision, again.Split.Revision)
	}
	s := c.set(5000)
	r := c.read()
	if s.Share != 5000 || r.Split.Share != 5000 || r.Split.Revision != s.Revision ||
		s.Revision == before.Split.Revision || len(s.Did) == 0 {
		t.Errorf("set: %+v, read: %+v, before: %+v", s, r.Split, before.Split)
	}
	if same := c.set(5000); same.Share != 5000 {
		t.Errorf("set twice: %+v", same)
	}
	// Another process reads the same.
	if r, err := c.Driver().Read(c.ctx()); err != nil || r.Split.Share != 5000 {
		t.Errorf("another process reads %+v, %v", r.Split, err)
	}
}

func doesShares(t *testing.T, c *scene) {
	shares := []split.Share{1, 25, 100, 1234, 3333, 6667, 9999, 10_000, 0}
	if !c.has(Seamless) { // each is a reload
		shares = []split.Share{1, 3333, 10_000, 0}
	}
	for _, share := range shares {
		change, err := c.d.Foresee(c.ctx(), share)
		if err != nil || change.Wanted != share || change.Connections == "" || change.Usually <= 0 {
			t.Fatalf("what it would do for %v: %+v, %v", share, change, err)
		}
		if c.has(Exact) && change.Error() != 0 {
			t.Errorf("%v would be %v", share, change.Reached)
		}
		if change.Error() > 0 && (share == 0 || share == split.Whole) {
			t.Errorf("%v would be %v", share, change.Reached)
		}
		s := c.set(share)
		if s.Share != change.Reached {
			t.Errorf("%v: said %v, did %v", share, change.Reached, s.Share)
		}
		if !slices.Equal(s.Did, change.Steps) {
			t.Errorf("%v: said\n%s\ndid\n%s", share, strings.Join(change.Steps, "\n"), strings.Join(s.Did, "\n"))
		}
	}
}

func refuses(t *testing.T, c *scene) {
	c.set(2500)
	before := c.read()
	for what, try := range map[string]func() error{
		"a side with a share left without instances": func() error {
			return c.d.SetInstances(c.ctx(), split.Green,
				nil)
		},
		"a side with a share given up": func() error {
			return second(front.Drain(c.ctx(), c.d,
				split.Green))
		},
		"a share of more than all": func() error {
			return second(c.d.Set(c.ctx(), split.Whole+1,
				front.AsRead(before)))
		},
	} {
		if err := try(); !errors.Is(err, front.ErrRefused) {
			t.Errorf("%s: %v", what, err)
		}
		if r := c.read(); r.Split.Share != before.Split.Share || r.Split.Revision != before.Split.Revision ||
			len(r.Sides[split.Green].Instances) != 3 {
			t.Errorf("%s: then it has %+v with %d instances on green", what, r.Split,
				len(r.Sides[split.Green].Instances))
		}
	}
	c.home(split.Blue)
	c.instances(split.Green, nil)
	if s, err := c.d.Set(c.ctx(), 100, front.AsRead(c.read())); !errors.Is(err, front.ErrRefused) {
		t.Errorf("requests to a side without instances: %+v, %v", s, err)
	}
	if s := c.read().Split.Share; s != 0 {
		t.Errorf("after the refusal %v are on green", s)
	}
}

func splitsAsAsked(t *testing.T, c *scene) {
	for _, share := range []split.Share{2500, 9000, 100} {
		s := c.set(share)
		const n = 4000
		_, sides := c.w.Count(n, true, nil)
		seen := evidence.Asked(s.Share.Fraction(), evidence.Count{Bad: int64(sides[split.Green]), Of: n}, 0.002)
		if seen.Verdict == evidence.Wrong {
			t.Errorf("asked %v: %d of %d on green: %+v", share, sides[split.Green], n, seen)
		}
	}
	c.set(split.Whole)
	c.only(split.Green)
	c.home(split.Blue)
	c.only(split.Blue)
}

func unequal(t *testing.T, c *scene) {
	more := append(slices.Clone(c.green), c.w.Raise(split.Green, 4, 2)...)
	c.instances(split.Green, more)
	s := c.set(4000)
	const n = 4000
	names, sides := c.w.Count(n, true, nil)
	if seen := evidence.Asked(s.Share.Fraction(), evidence.Count{Bad: int64(sides[split.Green]), Of: n},
		0.002); seen.Verdict == evidence.Wrong {
		t.Errorf("3 and 5 instances, asked %v: %d of %d on green", s.Share, sides[split.Green], n)
	}
	if !c.has(Finely) {
		return
	}
	if len(names) != 8 {
		t.Errorf("answers of %v", names)
	}
	for _, i := range more {
		// 320 are expected; fronts with fewest-connections rules deviate more.
		if got := names[i.Name]; got < 160 || got > 520 {
			t.Errorf("%s answered %d of about 320", i.Name, got)
		}
	}
	c.home(split.Blue)
}

func comeAndGo(t *testing.T, c *scene) {
	c.set(5000)
	share := c.read().Split
	others := c.w.Raise(split.Green, 4, 2)
	c.instances(split.Green, append(slices.Clone(c.green), others...))
	c.instances(split.Green, others)
	r := c.read()
	if r.Split.Share != 5000 || r.Split.Revision != share.Revision {
		t.Errorf("the split was %+v, and is %+v after other instances came", share, r.Split)
	}
	var names []string
	for _, i := range r.Sides[split.Green].Instances {
		names = append(names, i.Name)
	}
	if want := []string{"green-4", "green-5"}; !slices.Equal(names, want) {
		t.Errorf("instances %v, want %v", names, want)
	}
	if !c.has(Chooses) {
		return
	}
	testkit.Until(t, "answers of the new instances alone", func() error {
		seen, _ := c.w.Count(60, false, nil)
		for _, i := range c.green {
			if seen[i.Name] > 0 {
				return fmt.Errorf("%s still answers", i.Name)
			}
		}
		if seen["green-4"] == 0 || seen["green-5"] == 0 {
			return fmt.Errorf("answers of %v", seen)
		}
		return nil
	})
	c.home(split.Blue)
	c.instances(split.Green, nil)
	if n := len(c.read().Sides[split.Green].Instances); n != 0 {
		t.Errorf("%d instances are left of a side that was cleared", n)
	}
}

func comeWhileRead(t *testing.T, c *scene) {
	c.set(5000)
	before := c.read()
	more := append(slices.Clone(c.green), c.w.Raise(split.Green, 4, 2)...)
	stop, odd := make(chan struct{}), make(chan string, 1)
	go func() {
		defer close(odd)
		for {
			r, err := c.d.Read(c.ctx())
			if err == nil && (r.Split.Share != before.Split.Share || r.Split.Revision != before.Split.Revision) {
				select {
				case odd <- fmt.Sprintf("%v, revision %d", r.Split.Share, r.Split.Revision):
				default:
				}
			}
			select {
			case <-stop:
				return
			case <-time.After(time.Millisecond):
			}
		}
	}()
	for range 3 {
		c.instances(split.Green, more)
		c.instances(split.Green, c.green)
	}
	close(stop)
	for seen := range odd {
		t.Errorf("in between it read %s, and before %v, revision %d", seen, before.Split.Share, before.Split.Revision)
	}
	if done := c.set(2500); done.Share != 2500 {
		t.Errorf("then 25 %% is %+v", done)
	}
}

func oneOut(t *testing.T, c *scene) {
	before := c.read().Split
	list := slices.Clone(c.blue)
	list[1].Out = true
	c.instances(split.Blue, list)
	if r := c.read(); r.Split.Revision != before.Revision || r.Split.Share != 0 ||
		!r.Sides[split.Blue].Instances[1].Out {
		t.Errorf("with one out: %+v", r)
	}
	testkit.Until(t, "nothing for the one that is out", func() error {
		if seen, _ := c.w.Count(40, false, nil); seen[list[1].Name] > 0 {
			return fmt.Errorf("it answered %d of 40", seen[list[1].Name])
		}
		return nil
	})
	for n := range list {
		list[n].Out = true // then nobody is
	}
	c.instances(split.Blue, list)
	c.w.Count(40, false, nil)
	c.instances(split.Blue, c.blue)
	testkit.Until(t, "all in again", func() error {
		if seen, _ := c.w.Count(60, false, nil); len(seen) != 3 {
			return fmt.Errorf("answers of %v", seen)
		}
		return nil
	})
}

// A control group gets as much as the other side as long as that has no more than half, nothing beside one that gets
// nothing, and is one with its side else. Every process reads who is of it.
func controlGroup(t *testing.T, c *scene) {
	list := append(slices.Clone(c.blue), c.w.Raise(split.Blue, 4, 2)...)
	before := c.read().Split
	list[3].Control, list[4].Control = true, true
	c.instances(split.Blue, list)
	part := func(n int, names map[string]int) float64 {
		return float64(names[list[3].Name]+names[list[4].Name]) / float64(n)
	}
	holds := func(what string, want float64) {
		t.Helper()
		const n = 1500
		names, sides := c.w.Count(n, true, nil)
		if got := part(n, names); math.Abs(got-want) > 0.05 {
			t.Errorf("%s: the control group answered %.3f of all, want about %.3f: %v", what, got, want, names)
		}
		if got := c.read().Split.Share.Fraction(); math.Abs(float64(sides[split.Green])/n-got) > 0.06 {
			t.Errorf("%s: green answered %d of %d, and is to get %.2f", what, sides[split.Green], n, got)
		}
	}
	for _, side := range split.Sides {
		for n, i := range c.read().Sides[side].Instances {
			if want := side == split.Blue && n > 2; i.Control != want {
				t.Errorf("%s is read as %+v", i.Name, i.Server)
			}
		}
	}
	if now := c.read().Split; now.Share != before.Share {
		t.Errorf("the split was %+v, and is %+v with a control group", before, now)
	}
	holds("beside one that gets nothing", 0)
	c.set(2000)
	holds("beside 20 %", 0.2)
	c.set(4000)
	holds("beside 40 %", 0.4)
	c.set(7500)
	holds("beside 75 %", 0.25*2/5)
	c.set(3000)
	list[3].Control, list[4].Control = false, false
	c.instances(split.Blue, list)
	holds("without a group", 0.7*2/5)
	list[3].Control, list[4].Control = true, true
	c.instances(split.Blue, list)
	for n := range 3 {
		list[n].Out = true // then the group is all that is left
	}
	c.instances(split.Blue, list)
	testkit.Until(t, "the group serves for those that are out", func() error {
		names, _ := c.w.Count(60, false, nil)
		if names[list[0].Name]+names[list[1].Name]+names[list[2].Name] > 0 {
			return fmt.Errorf("answers of %v", names)
		}
		return nil
	})
	for n := range 3 {
		list[n].Out = false
	}
	c.instances(split.Blue, list)
	c.home(split.Blue)
	c.only(split.Blue)
	c.instances(split.Blue, c.blue)
}

// Going to and fro: 100 changes, or fewer where they take long on a machine that is
// busy, for the sake of all other tests.
const (
	changes       = 100
	leastChanges  = 20
	changesWithin = 10 * time.Second
)

func toAndFro(t *testing.T, c *scene) {
	begun := time.Now()
	made := 0
	for ; made < changes && (made < leastChanges || time.Since(begun) < changesWithin); made++ {
		share := split.Share(0)
		if made%2 == 0 {
			share = split.Whole
		}
		c.set(share)
	}
	t.Logf("%d changes", made)
	c.set(split.Whole)
	c.only(split.Green)
	c.home(split.Blue)
	c.only(split.Blue)
	for _, side := range split.Sides {
		if c.load.Answers[side].Load() == 0 {
			t.Errorf("%v never answered", side)
		}
	}
	if !c.has(Counts) {
		return
	}
	// What it tells is what it gives. On a machine that is busy a log may be late.
	var r reading.Front
	testkit.Until(t, "a reading with counts", func() error {
		if r = c.read(); !r.Tells.Counts || r.Blind != "" {
			return fmt.Errorf("it counts, and says %+v, %q", r.Tells, r.Blind)
		}
		return nil
	})
	for side := range r.Sides {
		for _, i := range r.Sides[side].Instances {
			if i.Requests > 0 && r.Tells.Times != (len(i.Latency) > 0) || r.Tells.Waits != (len(i.Waiting) > 0) {
				t.Errorf("it tells %+v, and of %s there are %d bytes of times and %d of waiting", r.Tells, i.Name,
					len(i.Latency), len(i.Waiting))
			}
		}
	}
	// Its counts are those of the instances, give or take what is under way.
	testkit.Until(t, "counts that agree", func() error {
		before := map[string]int64{} // more is answered while it is read
		for side := range r.Sides {
			for _, i := range r.Sides[side].Instances {
				before[i.Name] = c.w.Instance(i.Name).Answered.Load()
			}
		}
		r := c.read()
		for _, side := range split.Sides {
			for _, i := range r.Sides[side].Instances {
				if answered := c.w.Instance(i.Name).Answered.Load(); i.Requests < before[i.Name]-20 ||
					i.Requests > answered+20 {
					return fmt.Errorf("%s answered %d to %d, the front counts %d", i.Name, before[i.Name], answered,
						i.Requests)
				}
			}
			if r.Sides[side].Lost > 0 {
				return fmt.Errorf("the front says that %v lost %d", side, r.Sides[side].Lost)
			}
		}
		return nil
	})
}

// homeFromElsewhere goes home by a process that was told nothing, as vaiven back does.
func homeFromElsewhere(t *testing.T, c *scene) {
	c.set(split.Whole)
	c.only(split.Green)
	if s, err := c.Driver().Home(c.ctx(), homing(split.Blue)); err != nil || s.Share != 0 {
		t.Fatalf("home: %+v, %v", s, err)
	}
	c.only(split.Blue)
	if r := c.read(); r.Split.Share != 0 {
		t.Errorf("afterwards %v are on green", r.Split.Share)
	}
}

// ownNames has a stack that gives its instances names of its own, in which no side is said.
// Whoever only goes home finds the sides all the same.
func ownNames(t *testing.T, c *scene) {
	c.instances(split.Green, c.w.RaiseAs(split.Green, "vm-a01", "vm-7f3"))
	c.instances(split.Blue, c.w.RaiseAs(split.Blue, "vm-b02", "vm-8e4"))
	if d := c.set(split.Whole / 2); d.Share != split.Whole/2 {
		t.Errorf("half is %+v", d)
	}
	before := c.read()
	if got := before.Sides[split.Green].Instances; len(got) != 2 || got[0].Name != "vm-a01" || got[1].Name != "vm-7f3" {
		t.Errorf("green's instances read as %+v", got)
	}
	testkit.Until(t, "counts of both sides", func() error {
		now := c.read()
		for _, side := range split.Sides {
			if now.Sides[side].Instances[0].Requests+now.Sides[side].Instances[1].Requests == 0 {
				return fmt.Errorf("none were counted for %v (%s %s)", side, now.Notice, now.Blind)
			}
		}
		return nil
	})
	if s, err := c.Driver().Home(c.ctx(), homing(split.Green)); err != nil || s.Share != split.Whole {
		t.Fatalf("home from another process: %+v, %v", s, err)
	}
	c.only(split.Green)
}

// permission holds a change to being asked for when it takes effect, and to doing nothing if it may not.
func permission(t *testing.T, c *scene) {
	c.set(2500)
	before := c.read()
	asked := 0
	ctx := permit.With(c.ctx(), func(context.Context) error { asked++; return errLapsed })
	if d, err := c.d.Set(ctx, 7500, front.AsRead(before)); !errors.Is(err, errLapsed) {
		t.Errorf("a change that is not permitted any more: %+v, %v", d, err)
	}
	after := c.read()
	if asked == 0 || after.Split.Share != before.Split.Share || after.Split.Revision != before.Split.Revision {
		t.Errorf("asked %d times; the split was %+v and is %+v", asked, before.Split, after.Split)
	}
	if _, err := c.d.Home(ctx, homing(split.Blue)); err != nil {
		t.Errorf("going home needs no permission: %v", err)
	}
}

var errLapsed = errors.New("not any more")

func oldRevision(t *testing.T, c *scene) {
	old := front.AsRead(c.read())
	c.set(2500)
	if s, err := c.d.Set(c.ctx(), 7500, old); !errors.Is(err, front.ErrChanged) {
		t.Errorf("set by an old revision: %+v, %v", s, err)
	}
	if s := c.read().Split.Share; s != 2500 {
		t.Errorf("after the refusal %v are on green", s)
	}
}

// homeIsAnOrder holds a going home to its rule: it holds until somebody who knows of it lets
// requests out again, from whatever process and whatever the share was before.
func homeIsAnOrder(t *testing.T, c *scene) {
	first := c.read()
	c.home(split.Blue) // the share is the same as before
	second := c.read()
	o := second.Order
	if o.Generation <= first.Order.Generation || o.Side != split.Blue || o.By != "marit" || o.Why != homing(0).Why ||
		time.Since(o.At) > time.Hour {
		t.Fatalf("after going home the order is %+v, before it was %+v", o, first.Order)
	}
	if d, err := c.d.Set(c.ctx(), 2500,
		front.Expect{Revision: second.Split.Revision, Generation: first.Order.Generation}); !errors.Is(err,
		front.ErrNewer) {
		t.Errorf("a change from before the going home: %+v, %v", d, err)
	}
	other := c.Driver()
	if r, err := other.Read(c.ctx()); err != nil || r.Order.Generation != o.Generation || r.Order.Side != split.Blue ||
		r.Order.By != "marit" {
		t.Errorf("another process reads the order %+v, %v", r.Order, err)
	} else if d, err := other.Set(c.ctx(), 2500, front.AsRead(r)); err != nil || d.Share != 2500 ||
		d.Order.Generation != o.Generation {
		t.Errorf("let out again by somebody who knows: %+v, %v", d, err)
	}
	if d, err := other.Home(c.ctx(), homing(split.Blue)); err != nil || d.Order.Generation <= o.Generation {
		t.Errorf("home again: %+v, %v", d, err)
	}
	if s := c.read().Split.Share; s != 0 {
		t.Errorf("in the end %v are on green", s)
	}
}

// aTerm holds a term to its rule: changes of an earlier one are refused, nothing else is changed, and it outlives
// a going home and a reload.
func aTerm(t *testing.T, c *scene) {
	c.set(2500)
	before := c.read()
	other := c.Driver()
	term, err := other.NewTerm(c.ctx(), 0)
	if err != nil || term <= before.Order.Term {
		t.Fatalf("another term after %d: %d, %v", before.Order.Term, term, err)
	}
	if c.Reload != nil {
		c.Reload(t)
	}
	testkit.Until(t, "the term", func() error {
		r, err := c.d.Read(c.ctx())
		if err == nil && (r.Order.Term != term || r.Split.Share != before.Split.Share ||
			r.Order.Generation != before.Order.Generation || r.Order.By != before.Order.By) {
			err = fmt.Errorf("%+v, %+v, before it %+v, %+v", r.Split, r.Order, before.Split, before.Order)
		}
		return err
	})
	old := front.AsRead(c.read())
	old.Term = before.Order.Term
	if d, err := c.d.Set(c.ctx(), 7500, old); !errors.Is(err, front.ErrTaken) {
		t.Errorf("a change of the term before: %+v, %v", d, err)
	}
	if now := c.read(); now.Split.Share != before.Split.Share {
		t.Errorf("it was refused, and %v are on green", now.Split.Share)
	}
	if d, err := c.d.Home(c.ctx(), homing(split.Blue)); err != nil || d.Order.Term != term ||
		d.Order.Generation <= before.Order.Generation {
		t.Errorf("home in another term: %+v, %v", d, err)
	}
	if r, err := other.Read(c.ctx()); err != nil || r.Order.Term != term {
		t.Errorf("after going home it is term %d, %v", r.Order.Term, err)
	} else if d, err := other.Set(c.ctx(), 2500, front.AsRead(r)); err != nil || d.Share != 2500 {
		t.Errorf("a change of this term: %+v, %v", d, err)
	}
	if again, err := c.d.NewTerm(c.ctx(), term+5); err != nil || again <= term+5 {
		t.Errorf("a term after %d: %d, %v", term+5, again, err)
	}
	c.home(split.Blue)
}

// aTermPastAChange begins a term at random moments of a change that another process makes in the one before: from the
// moment at which it has begun, nothing of that change comes into force.
func aTermPastAChange(t *testing.T, c *scene) {
	r := testkit.Rand(t)
	tries := 12
	if !c.has(Seamless) {
		tries = 4
	}
	c.set(2500)
	begun := time.Now()
	c.set(5000)
	usual := time.Since(begun)
	for n := range tries {
		share, before := split.Share(1000+n), c.read()
		var done front.Done
		changed := make(chan error, 1)
		go func() {
			var err error
			done, err = c.d.Set(c.ctx(), share, front.AsRead(before))
			changed <- err
		}()
		time.Sleep(time.Duration(r.Int64N(int64(usual) + 1))) // the moment is the test's input
		other := c.Driver()
		testkit.Until(t, "a term past a change", func() error {
			_, err := other.NewTerm(c.ctx(), before.Order.Term)
			return err
		})
		now, err := other.Read(c.ctx())
		if err != nil {
			t.Fatal(err)
		}
		errChange := <-changed
		if after, err := other.Read(c.ctx()); err != nil || after.Split.Share != now.Split.Share {
			t.Errorf("when another term had begun %v were on green, and %v when the change before had said %v (%v)",
				now.Split.Share, after.Split.Share, errChange, err)
		}
		// One that was made before the term, and that the term came over, is as it was.
		if errChange == nil && done.Share != now.Split.Share && now.Split.Share != before.Split.Share {
			t.Errorf("a change to %v is said to be made, and %v are on green", done.Share, now.Split.Share)
		}
	}
	c.home(split.Blue)
}

// homePastAChange goes home again and again at random moments of a change, from the same
// process and from another: what went home is home, and stays there.
func homePastAChange(t *testing.T, c *scene) {
	r := testkit.Rand(t)
	tries := 20
	if !c.has(Seamless) { // each is two reloads
		tries = 6
	}
	c.set(2500)
	begun := time.Now()
	c.set(5000)
	usual := time.Since(begun)
	for n := range tries {
		expect := front.AsRead(c.read())
		changed := make(chan error, 1)
		go func() {
			_, err := c.d.Set(c.ctx(), split.Share(1000+n), expect)
			changed <- err
		}()
		time.Sleep(time.Duration(r.Int64N(int64(usual) + 1))) // the moment is the test's input
		d := c.d
		if n%2 == 0 {
			d = c.Driver()
		}
		if done, err := d.Home(c.ctx(), homing(split.Blue)); err != nil || done.Share != 0 {
			t.Fatalf("home past a change: %+v, %v", done, err)
		}
		errChange := <-changed
		testkit.Until(t, "all at home", func() error {
			now, err := c.d.Read(c.ctx())
			if err == nil && now.Split.Share != 0 {
				err = fmt.Errorf("%v are on green, after the change said %v", now.Split.Share, errChange)
			}
			return err
		})
		c.only(split.Blue)
	}
}

// homeToNobody goes home to a side that has nobody, while the other one serves.
func homeToNobody(t *testing.T, c *scene) {
	c.set(split.Whole)
	c.only(split.Green)
	c.instances(split.Blue, nil)
	if d, err := c.Driver().Home(c.ctx(), homing(split.Blue)); !errors.Is(err, front.ErrNobody) {
		t.Fatalf("all went to nobody: %+v, %v", d, err)
	}
	c.only(split.Green)
	c.instances(split.Blue, c.blue)
	c.home(split.Blue)
	c.only(split.Blue)
}

// closedSide leaves a side, and holds to it that nothing goes there: by no change, no going home, not with force, not
// after another term or a reload.
func closedSide(t *testing.T, c *scene) {
	leave := front.Homing{Side: split.Green, By: "marit", Why: "the hall is under water", Close: true}
	if d, err := c.Driver().Home(c.ctx(), leave); err != nil || d.Share != split.Whole || !d.Order.Closes(split.Blue) {
		t.Fatalf("left: %+v, %v", d, err)
	}
	c.only(split.Green)
	other := c.Driver()
	still := func(after string) {
		t.Helper()
		r, err := other.Read(c.ctx())
		if err != nil || !r.Order.Closes(split.Blue) || r.Split.Share != split.Whole {
			t.Fatalf("after %s: %v on green, under %+v, %v", after, r.Split.Share, r.Order, err)
		}
		if d, err := other.Set(c.ctx(), split.Whole/2, front.AsRead(r)); !errors.Is(err, front.ErrClosed) {
			t.Errorf("after %s, a change: %+v, %v", after, d, err)
		}
	}
	still("leaving")
	back := homing(split.Blue)
	back.Force = true
	if d, err := c.Driver().Home(c.ctx(), back); !errors.Is(err, front.ErrClosed) {
		t.Errorf("back to it: %+v, %v", d, err)
	}
	still("going back")
	if _, err := c.Driver().Rehearse(c.ctx(), split.Blue); !errors.Is(err, front.ErrClosed) {
		t.Errorf("a rehearsal of going back: %v", err)
	}
	if d, err := c.d.Home(c.ctx(), homing(split.Green)); err != nil || d.Share != split.Whole {
		t.Errorf("to where all goes: %+v, %v", d, err)
	}
	still("going to the other side again")
	if _, err := c.Driver().NewTerm(c.ctx(), 0); err != nil {
		t.Error(err)
	}
	still("another term")
	if c.Reload != nil {
		c.Reload(t)
		testkit.Until(t, "a reading after a reload", func() error {
			_, err := other.Read(c.ctx())
			return err
		})
		still("a reload")
	}
	c.only(split.Green)
	leave.Close, leave.Reopen = false, true
	if d, err := c.Driver().Home(c.ctx(), leave); err != nil || d.Share != split.Whole || d.Order.Closed {
		t.Fatalf("opened again: %+v, %v", d, err)
	}
	c.set(split.Whole / 2)
	c.home(split.Blue)
	c.only(split.Blue)
}

// rehearses rehearses going home while shares are set, beside it and by another process.
func rehearses(t *testing.T, c *scene) {
	c.set(2500)
	before := c.read()
	for _, d := range []front.Driver{c.d, c.Driver()} {
		steps, err := d.Rehearse(c.ctx(), split.Blue)
		if err != nil || len(steps) == 0 ||
			slices.ContainsFunc(steps, func(s wayback.Step) bool { return s.What == "" || s.Took < 0 }) {
			t.Errorf("a rehearsal: %v, %v", steps, err)
		}
		t.Logf("rehearsed: %v", steps)
	}
	if after := c.read(); after.Split != before.Split || after.Order != before.Order {
		t.Errorf("after the rehearsals there is %+v, %+v, before there was %+v, %+v", after.Split, after.Order,
			before.Split, before.Order)
	}
	if d, err := c.d.Set(c.ctx(), 5000, front.AsRead(before)); err != nil || d.Share != 5000 {
		t.Errorf("set by what was read before them: %+v, %v", d, err)
	}
	done := make(chan error, 1)
	go func() {
		var failed []error
		for range 5 {
			if _, err := c.Driver().Rehearse(c.ctx(), split.Blue); err != nil {
				failed = append(failed, err)
			}
		}
		done <- errors.Join(failed...)
	}()
	for n := range 5 {
		c.set(split.Share(1000 * (n + 1)))
	}
	c.home(split.Blue)
	if err := <-done; err != nil {
		t.Errorf("beside changes: %v", err)
	}
	if s := c.read().Split.Share; s != 0 {
		t.Errorf("gone home beside a rehearsal, %v are on green", s)
	}
	c.set(split.Whole)
	c.instances(split.Blue, nil)
	if _, err := c.d.Rehearse(c.ctx(), split.Blue); !errors.Is(err, front.ErrNobody) {
		t.Errorf("home to nobody was rehearsed: %v", err)
	}
}

func rehearsesInVain(t *testing.T, c *scene) {
	c.set(2500)
	c.w.Count(200, false, nil) // a reload that was told just before is over
	put := c.Garble(t)
	if steps, err := c.d.Rehearse(c.ctx(), split.Blue); err == nil || len(err.Error()) < 20 {
		t.Errorf("a configuration that its checker refuses: %v, %v", steps, err)
	}
	put()
	if steps, err := c.d.Rehearse(c.ctx(), split.Blue); err != nil {
		t.Errorf("when it is mended: %v, %v", steps, err)
	}
}

func somebodyElse(t *testing.T, c *scene) {
	c.set(2500)
	ours := c.read().Split
	expect := front.AsRead(c.read())
	c.Foreign(t, 5000)
	if s, err := c.d.Set(c.ctx(), 7500, expect); !errors.Is(err, front.ErrChanged) {
		t.Fatalf("their change was overwritten: %+v, %v", s, err)
	}
	testkit.Until(t, "their change", func() error {
		if r := c.read().Split; r.Share != 5000 || r.Revision == ours.Revision {
			return fmt.Errorf("read as %+v, ours was %+v", r, ours)
		}
		return nil
	})
	if s := c.set(2500); s.Share != 2500 { // ours is put back, by the revision that was read
		t.Errorf("put back: %+v", s)
	}
	if c.Write != nil {
		c.Write(t)
		r := c.read()
		if _, err := c.d.Set(c.ctx(), 7500, front.AsRead(r)); !errors.Is(err, front.ErrChanged) ||
			!strings.Contains(err.Error(), "not Vaiven's") {
			t.Errorf("lines that somebody wrote would have been lost: %v", err)
		}
		if err := c.d.SetInstances(c.ctx(), split.Green, c.green[:2]); !errors.Is(err, front.ErrChanged) {
			t.Errorf("lines that somebody wrote would have been lost for other instances: %v", err)
		}
		if !strings.Contains(r.Notice, "not Vaiven's") {
			t.Errorf("of lines that somebody wrote the reading says %q", r.Notice)
		}
	}
	c.Foreign(t, 5000)
	c.home(split.Blue) // going home asks nobody
	c.only(split.Blue)
}

// reloadedBeside has somebody reload at random moments before a change: it is not said to be made while there are
// answers of before.
func reloadedBeside(t *testing.T, c *scene) {
	r := testkit.Rand(t)
	if c.Slow != nil {
		c.Slow(t)
	}
	begun := time.Now()
	c.Reload(t)
	usual := time.Since(begun)
	for n := range 12 {
		share, side := split.Whole, split.Green
		if n%2 == 1 {
			share, side = 0, split.Blue
		}
		before := c.read()
		var reload sync.WaitGroup
		reload.Go(func() { c.Reload(t) })
		time.Sleep(time.Duration(r.Int64N(int64(usual) + 1))) // the moment is the test's input
		var err error
		if n%4 == 1 {
			_, err = c.d.Home(c.ctx(), homing(split.Blue))
		} else {
			_, err = c.d.Set(c.ctx(), share, front.AsRead(before))
		}
		if _, sides := c.w.Count(4, false, nil); err == nil && sides[side.Other()] > 0 {
			t.Errorf("it is said to be all on %v, and %d of 4 came from %v", side, sides[side.Other()], side.Other())
		}
		reload.Wait()
		if err != nil { // it may be refused, as what the proxy has forgotten is told again
			testkit.Until(t, fmt.Sprintf("all on %v after %v", side, err), func() error {
				_, err := c.d.Set(c.ctx(), share, front.AsRead(c.read()))
				return err
			})
		}
	}
}

func reloaded(t *testing.T, c *scene) {
	c.set(split.Whole)
	c.only(split.Green)
	ours := c.read().Split
	c.Reload(t)
	testkit.Until(t, "the share after a reload", func() error {
		r, err := c.d.Read(c.ctx())
		if err != nil {
			return err
		}
		if r.Split.Share != split.Whole || r.Split.Revision != ours.Revision ||
			len(r.Sides[split.Green].Instances) != 3 {
			return fmt.Errorf("%+v with %d instances, was %+v", r.Split, len(r.Sides[split.Green].Instances), ours)
		}
		return nil
	})
	c.only(split.Green)
	c.home(split.Blue)
	c.only(split.Blue)
}

func refused(t *testing.T, c *scene) {
	c.set(2500)
	before := c.read()
	was := before.Split
	put := c.Garble(t)
	s, err := c.d.Set(c.ctx(), 7500, front.AsRead(before))
	if !errors.Is(err, front.ErrRefused) {
		t.Errorf("a configuration that its checker refuses: %+v, %v", s, err)
	}
	if r := c.read().Split; r.Share != 2500 || r.Revision != was.Revision {
		t.Errorf("afterwards: %+v, was %+v", r, was)
	}
	c.w.Count(100, false, nil)
	put()
	c.set(7500)
	c.home(split.Blue)
}

func noDisk(t *testing.T, c *scene) {
	c.set(2500)
	was := c.read()
	c.Spoil(t)
	if s, err := c.d.Set(c.ctx(), 7500, front.AsRead(was)); !errors.Is(err, front.ErrRefused) {
		t.Errorf("without a disk: %+v, %v", s, err)
	}
	const n = 800
	_, sides := c.w.Count(n, true, nil)
	if seen := evidence.Asked(0.25, evidence.Count{Bad: int64(sides[split.Green]), Of: n},
		0.002); seen.Verdict == evidence.Wrong {
		t.Errorf("afterwards %d of %d are on green", sides[split.Green], n)
	}
	if !c.has(Diskless) {
		return
	}
	c.home(split.Blue)
	c.only(split.Blue)
	if c.has(Warns) {
		testkit.Until(t, "a word that it would not survive", func() error { // the disk is seen to after, beside
			if c.read().Notice == "" {
				return errors.New("nothing says so")
			}
			return nil
		})
	}
}

func heldWhileItServes(t *testing.T, c *scene) {
	// for all of its rules together
	ctx, cancel := context.WithTimeout(context.WithoutCancel(t.Context()), 3*time.Minute)
	defer cancel()
	results, err := held.Try(ctx, c.Driver, func(context.Context) (int64, string) {
		c.w.Count(20, false, nil) // fails the test if one is lost
		return 0, ""
	}, false)
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range results {
		if r.Err != nil {
			t.Errorf("%s: %v", r.Rule, r.Err)
		}
	}
}

func doorToTheSpare(t *testing.T, c *scene) {
	read := func() string {
		t.Helper()
		data, err := os.ReadFile(c.Door.File)
		if err != nil {
			t.Fatal(err)
		}
		return strings.TrimSpace(string(data))
	}
	leads := func(when, secret string, side split.Side) {
		t.Helper()
		testkit.Until(t, fmt.Sprintf("%s, a door to %v", when, side), func() error {
			for range 10 {
				o := (&client{world: c.w}).ask("/look?a=1&b=%2F", c.Door.Header+": "+secret)
				if o.err != nil || o.instance.Side != side {
					return fmt.Errorf("it leads to %+v", o)
				}
			}
			return nil
		})
	}
	secret := read()
	opens := func(side split.Side) {
		t.Helper()
		if doors, err := front.Doors(c.ctx(), c.Driver()); err != nil ||
			!slices.Equal(doors, []front.Spare{{Secret: read(), Side: side}}) {
			t.Errorf("the door is said to be %+v, %v", doors, err)
		}
	}
	opens(split.Green)
	leads("at first", secret, split.Green)
	if r := c.read(); r.Sides[split.Green].Lost != 0 ||
		slices.ContainsFunc(r.Sides[split.Green].Instances, func(i reading.Count) bool { return i.Requests > 0 }) {
		t.Errorf("what came by the door is counted: %+v", r.Sides[split.Green])
	}
	for _, i := range c.green {
		if c.w.Instance(i.Name).Knows.Load() {
			t.Errorf("%s was told the secret", i.Name)
		}
	}
	foreseen, err := c.d.Foresee(c.ctx(), 2500)
	if err != nil || strings.Contains(fmt.Sprint(foreseen), secret) {
		t.Errorf("what is foreseen tells the secret: %+v, %v", foreseen, err)
	}
	c.instances(split.Green, c.green[:2])
	leads("with one less", secret, split.Green)
	c.instances(split.Green, c.green)
	c.set(2500)
	leads("at 25 %", secret, split.Green)
	done := c.set(split.Whole)
	if strings.Contains(fmt.Sprint(done), secret) {
		t.Errorf("what was done tells the secret: %+v", done)
	}
	opens(split.Blue)
	leads("when green is live", secret, split.Blue)
	c.set(7500)
	leads("at 75 %", secret, split.Blue)
	c.home(split.Blue)
	leads("at home", secret, split.Green)
	for _, wrong := range []string{"x", secret + "x", "x" + secret, secret[1:], ""} {
		leads("for "+wrong, wrong, split.Blue)
	}
	if c.Reload != nil {
		c.set(2500) // which waits for the disk, as going home does not
		c.set(0)
		c.Reload(t)
		leads("after a reload", secret, split.Green)
	}
	c.instances(split.Green, nil)
	leads("for who knew it before", secret, split.Blue)
	c.instances(split.Green, c.green)
	if now := read(); now == secret {
		t.Error("the secret is what it was")
	} else {
		leads("anew", now, split.Green)
	}
}

func noProxy(t *testing.T, c *scene) {
	c.set(5000)
	r := c.read()
	c.load.forgiven.Store(true)
	c.Kill(t)
	for what, err := range map[string]error{
		"read": second(c.d.Read(c.ctx())), "set": second(c.d.Set(c.ctx(), 7500, front.AsRead(r))),
		"home": second(c.d.Home(c.ctx(), homing(split.Blue))),
	} {
		if !errors.Is(err, front.ErrUnreachable) {
			t.Errorf("%s without a proxy: %v", what, err)
		}
	}
	ctx, cancel := context.WithCancel(c.ctx())
	cancel()
	if _, err := c.d.Read(ctx); err == nil {
		t.Error("read though it was cancelled")
	}
}

func second[T any](_ T, err error) error { return err }

func drains(t *testing.T, c *scene) {
	c.set(split.Whole)
	if _, err := front.Drain(c.ctx(), c.d, split.Green); !errors.Is(err, front.ErrRefused) {
		t.Errorf("the live side was drained: %v", err)
	}
	c.only(split.Green)
	held := make(chan outcome, 1)
	go func() { held <- (&client{world: c.w}).ask("/hold") }()
	testkit.Until(t, "the held request", func() error {
		for _, i := range c.green {
			if c.w.Instance(i.Name).held.Load() > 0 {
				return nil
			}
		}
		return errors.New("it has not come yet")
	})
	c.home(split.Blue)
	c.only(split.Blue)
	w := testkit.Waiting(c.t, "nobody goes by the change before")
	for r := c.read(); r.Everywhere.After(time.Now()); r = c.read() {
		if _, err := front.Drain(c.ctx(), c.d, split.Green); !errors.Is(err, front.ErrRefused) &&
			r.Everywhere.After(time.Now()) {
			t.Fatalf("given up %v before nobody comes any more: %v", time.Until(r.Everywhere), err)
		}
		w.Again()
	}
	left, err := front.Drain(c.ctx(), c.d, split.Green)
	if err != nil || c.has(Counts) && left == (front.Left{}) {
		t.Errorf("drain: %+v, %v", left, err)
	}
	for _, i := range c.green {
		close(c.w.Instance(i.Name).hold)
	}
	if o := <-held; o.err != nil || o.instance.Side != split.Green {
		t.Errorf("the held request ended as %+v", o)
	}
	testkit.Until(t, "nothing open", func() error {
		if left, err := front.Drain(c.ctx(), c.d, split.Green); err != nil || left != (front.Left{}) {
			return fmt.Errorf("%+v, %v", left, err)
		}
		return nil
	})
}

// Grows raises instances and then the share on green, step by step, and looks whether any of a hundred
// clients, told apart by their headers, ever goes back to blue.
func Grows(t *testing.T, w *World, d front.Driver, headers func(client int) []string) {
	t.Helper()
	for _, side := range split.Sides {
		if err := d.SetInstances(t.Context(), side, w.Raise(side, 1, 2)); err != nil {
			t.Fatal(err)
		}
	}
	const clients = 100
	on := [clients]split.Side{}
	for _, share := range []split.Share{0, 500, 2500, 2501, 6000, 9900, split.Whole} {
		r, err := d.Read(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if _, err := d.Set(t.Context(), share, front.AsRead(r)); err != nil {
			t.Fatalf("set %v: %v", share, err)
		}
		green := 0
		for n := range clients {
			c := &client{world: w}
			for range 2 {
				o := c.ask("/client", headers(n)...)
				if o.err != nil {
					t.Fatal(o.err)
				}
				if on[n] == split.Green && o.instance.Side == split.Blue {
					t.Errorf("client %d went back to blue at %v", n, share)
				}
				on[n] = o.instance.Side
			}
			if on[n] == split.Green {
				green++
			}
		}
		if seen := evidence.Asked(share.Fraction(), evidence.Count{Bad: int64(green), Of: clients},
			evidence.Independent); seen.Verdict == evidence.Wrong {
			t.Errorf("at %v, %d of %d clients are on green", share, green, clients)
		}
	}
	if o := (&client{world: w}).ask("/stranger"); o.err != nil || o.instance.Side != split.Green {
		t.Errorf("with all on green, somebody without the key is answered by %v, %v", o.instance, o.err)
	}
}

// Sessions holds a front with sticky sessions to its promise: who has one stays on its
// side while shares change, until the side is drained or everybody is taken home.
func Sessions(t *testing.T, w *World, d front.Driver) {
	t.Helper()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	set := func(share split.Share) {
		t.Helper()
		r, err := d.Read(t.Context())
		must(err)
		_, err = d.Set(t.Context(), share, front.AsRead(r))
		must(err)
	}
	must(d.SetInstances(t.Context(), split.Blue, w.Raise(split.Blue, 1, 2)))
	must(second(d.Home(t.Context(), homing(split.Blue))))
	must(d.SetInstances(t.Context(), split.Green, w.Raise(split.Green, 1, 2)))
	var clients []*http.Client
	// come begins a session, or comes back to one, several times, and holds it to a side.
	come := func(what string, n int, want split.Side) {
		t.Helper()
		for n >= len(clients) {
			jar, err := cookiejar.New(nil)
			must(err)
			clients = append(clients,
				&http.Client{Jar: jar, Transport: &http.Transport{DisableKeepAlives: true}, Timeout: patience})
		}
		for range 6 {
			a, err := clients[n].Get("http://" + w.Listen + "/session")
			must(err)
			_ = a.Body.Close()
			i := w.Instance(a.Header.Get(nameHeader))
			if i == nil || i.Side != want {
				t.Errorf("%s: %s answers, %s", what, a.Header.Get(nameHeader), a.Status)
				return
			}
		}
	}
	come("a first one, with all on blue", 0, split.Blue)
	set(split.Whole)
	come("with a session on blue, and all on green", 0, split.Blue)
	come("without one, and all on green", 1, split.Green)
	set(0)
	come("with a session on green, and all on blue", 1, split.Green)
	come("without one, and all on blue", 2, split.Blue)
	set(split.Whole)
	must(second(front.Drain(t.Context(), d, split.Blue)))
	come("with a session on blue, after that was drained", 0, split.Green)
	come("with a session on green, all the time", 1, split.Green)
	must(second(d.Home(t.Context(), homing(split.Blue))))
	come("with a session on green, after going home", 1, split.Blue)
	r, err := d.Read(t.Context())
	must(err)
	if r.Split.Share != 0 {
		t.Errorf("after going home %v are on green", r.Split.Share)
	}
}

// Answers holds a front to who answers a client of its own.
func Answers(t *testing.T, w *World, want split.Side) {
	t.Helper()
	for range 6 {
		if o := (&client{world: w}).ask("/"); o.err != nil || o.instance == nil || o.instance.Side != want {
			t.Errorf("%v answers, %v; want %v", o.instance, o.err, want)
			return
		}
	}
}

// ToldAgain holds a driver to telling a front again what it has forgotten, also what somebody else did meanwhile.
// forget starts the front again without what it was told.
func ToldAgain(t *testing.T, w *World, open func() front.Driver, forget func()) {
	t.Helper()
	keeper := open()
	for _, side := range split.Sides {
		if err := keeper.SetInstances(t.Context(), side, w.Raise(side, 1, 2)); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := keeper.Home(t.Context(), homing(split.Blue)); err != nil {
		t.Fatal(err)
	}
	r, err := keeper.Read(t.Context())
	if err == nil {
		_, err = keeper.Set(t.Context(), split.Whole/4, front.AsRead(r))
	}
	if err != nil {
		t.Fatal(err)
	}
	forget()
	if r, err := open().Read(t.Context()); err == nil && len(r.Sides[split.Blue].Instances) > 0 &&
		r.Split.Share == split.Whole/4 {
		t.Errorf("it has forgotten nothing: %+v", r)
	}
	if r, err := keeper.Read(t.Context()); err != nil || r.Split.Share != split.Whole/4 || !r.Forgot {
		t.Errorf("told again: %+v, %v", r.Split, err)
	}
	other := open()
	if r, err := other.Read(t.Context()); err != nil || r.Split.Share != split.Whole/4 ||
		len(r.Sides[split.Blue].Instances) != 2 || len(r.Sides[split.Green].Instances) != 2 || r.Forgot {
		t.Errorf("for others: %+v, %v", r, err)
	}
	w.Count(200, true, nil) // it fails the test if anything is lost
	if _, err := other.Home(t.Context(), homing(split.Blue)); err != nil {
		t.Fatal(err)
	}
	forget()
	if r, err := keeper.Read(t.Context()); err != nil || r.Split.Share != 0 || r.Order.Generation == 0 {
		t.Errorf("told again after somebody went home: %+v, %v", r, err)
	}
}
