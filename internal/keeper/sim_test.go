package keeper

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/notice"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/embedded"
	"vaiven/lab/testkit"
	"vaiven/lab/testkit/judge"
)

var (
	crossings = flag.Int("crossings", 100, "crossings to simulate")
	from      = flag.Uint64("from", 0, "first seed (0: the test's own)")
)

// TestSimulation takes crossings of a whole keeper through a world in which everything fails
// in every way it may. A seed is a run; as goroutines take their turns as they like, it is
// not the same to the last step.
func TestSimulation(t *testing.T) {
	first := *from
	if first == 0 {
		first = testkit.Seed(t)
	}
	begun := time.Now()
	var mu sync.Mutex // protects what follows
	total, next := map[string]int{}, 0
	t.Run("crossings", func(t *testing.T) {
		for range 2 {
			t.Run("", func(t *testing.T) {
				t.Parallel()
				for !t.Failed() {
					mu.Lock()
					n := next
					next++
					mu.Unlock()
					if n >= *crossings {
						return
					}
					synctest.Test(t, func(t *testing.T) {
						s := newSim(t, first+uint64(n))
						s.run()
						mu.Lock()
						defer mu.Unlock()
						for what, count := range s.tally {
							total[what] += count
						}
					})
				}
			})
		}
	})
	took := time.Since(begun)
	t.Logf("%d crossings from -from=%d in %v, %.1f a second", min(next, *crossings), first,
		took.Round(time.Millisecond), float64(min(next, *crossings))/took.Seconds())
	for _, what := range slices.Sorted(maps.Keys(total)) {
		t.Logf("%9d  %s", total[what], what)
	}
}

// sim is one run.
type sim struct {
	*rig
	seed  uint64
	r     *rand.Rand
	dice  sync.Mutex // protects r and what follows
	wild  float64
	calm  bool
	tally map[string]int
	story []string
	began time.Time
	asked int
	// who was told of what, and how often, where people are told anything
	notified map[toldOf]int
}

func newSim(t *testing.T, seed uint64) *sim {
	s := &sim{seed: seed, r: rand.New(rand.NewPCG(seed, 11)), tally: map[string]int{}, began: time.Now()}
	s.wild = []float64{0, 0.3, 1}[s.r.IntN(3)]
	s.rig = &rig{world: newWorld(), t: t}
	s.compares = s.r.IntN(2) == 0
	s.queued = s.r.IntN(3) == 0
	s.plan.Route = route.Route{}
	for part := split.Share(500 + s.r.IntN(4000)); part < split.Whole; part += split.Share(1000 + s.r.IntN(6000)) {
		s.plan.Route = append(s.plan.Route,
			route.Leg{Part: part, Dwell: time.Duration(1+s.r.IntN(6)) * time.Second, Ask: s.r.IntN(4) == 0})
	}
	s.plan.Route = append(s.plan.Route, route.Leg{Part: split.Whole})
	if s.r.IntN(2) == 0 {
		s.plan.Front.Settings = embedded.Defaults()
		for n := range s.plan.Route {
			s.plan.Route[n].Control = s.plan.Route[n].Part <= split.Whole/2
		}
	}
	for side := range s.plan.Parts[0].Stacks {
		s.plan.Parts[0].Stacks[side].Restart = s.r.IntN(2) == 0
		if s.r.IntN(2) == 0 { // one at first, and more before some leg
			s.plan.Parts[0].Stacks[side].Instances, s.plan.Parts[0].Stacks[side].Until = 1,
				split.Share(1+s.r.IntN(9000))
			s.plan.Parts[0].Stacks[side].Then = []int{2, plan.AsLive}[s.r.IntN(2)]
		}
	}
	if s.r.IntN(2) == 0 {
		s.offers["4.4.0"] = "e1d4"
		far := []plan.StartFar{plan.FarRaised, plan.FarProven, plan.FarLeg, plan.FarSettled}
		s.plan.Start = plan.Start{When: plan.StartTold, Far: far[s.r.IntN(4)]}
	}
	s.plan.Keep, s.plan.Then = time.Duration(2+s.r.IntN(8))*time.Second,
		[]plan.Then{plan.ThenRetire, plan.ThenAsk, plan.ThenLeave}[s.r.IntN(3)]
	for n := range s.plan.Guards {
		s.plan.Guards[n].Then = []plan.Action{plan.RollBack, plan.Freeze}[s.r.IntN(2)]
	}
	s.trouble = s.troubles
	if seed%3 == 0 { // people are told everything
		all := plan.Notice{To: []plan.Receiver{{Way: plan.ByMail, Address: marit}, {Way: plan.ByMail, Address: ines}},
			About: plan.Abouts, Most: 1, In: 5 * time.Second}
		s.plan.Notices, s.notified = plan.Notices{Rules: []plan.Notice{all}}, map[toldOf]int{}
		s.sends = s.receives
	}
	return s
}

// toldOf is that somebody was told of an event.
type toldOf struct {
	to  string
	seq uint64
}

// receives is a receiver of notices, which may be away, hang, or take what it says that it did not.
func (s *sim) receives(ctx context.Context, to plan.Receiver, m notice.Message) error {
	take := func() {
		s.dice.Lock()
		defer s.dice.Unlock()
		for _, e := range m.Events {
			s.notified[toldOf{to.Address, e.Seq}]++
		}
	}
	switch {
	case s.happens("a notice found nobody", 3):
		return errLost
	case s.happens("a notice hung", 6):
		<-ctx.Done()
		return ctx.Err()
	case s.happens("a notice came, and that was not heard", 6):
		take()
		return errLost
	}
	take()
	return nil
}

// untold is the first event that somebody was not told of, by the world or by the logbook.
func (s *sim) untold() (toldOf, bool) {
	began := s.last().Crossing.Told.Notices
	noted := map[toldOf]bool{}
	for _, e := range s.events {
		if sent, ok := e.What.(crossing.NoticeSent); ok {
			for _, seq := range sent.Letter.Of {
				noted[toldOf{sent.Letter.To, seq}] = true
			}
		}
	}
	s.dice.Lock()
	defer s.dice.Unlock()
	for _, e := range s.events {
		for _, to := range []string{marit, ines} {
			of := toldOf{to, e.Seq}
			if began.On && e.Seq > began.From && notice.Of(e) != "" && (s.notified[of] == 0 || !noted[of]) {
				return of, true
			}
		}
	}
	return toldOf{}, false
}

// tell adds a line to the story.
func (s *sim) tell(format string, args ...any) {
	s.story = append(s.story, fmt.Sprintf("%8.3f  ", time.Since(s.began).Seconds())+fmt.Sprintf(format, args...))
}

// happens reports whether a fault of a kind does.
func (s *sim) happens(what string, once int) bool {
	s.dice.Lock()
	defer s.dice.Unlock()
	if s.calm || s.r.Float64()*float64(once) >= s.wild {
		return false
	}
	s.tally[what]++
	s.tell("    %s", what)
	return true
}

func (s *sim) intN(n int) int {
	s.dice.Lock()
	defer s.dice.Unlock()
	return s.r.IntN(n)
}

func (s *sim) millis(least, most int) time.Duration {
	return time.Duration(least+s.intN(most-least+1)) * time.Millisecond
}

// troubles is what happens before something is done.
func (s *sim) troubles(what string) (late time.Duration, deaf bool, err error) {
	late = s.millis(0, 20)
	if what == "raise" || what == "prove" || what == "stop" {
		late = s.millis(100, 2000)
	}
	rare := map[string]int{"read": 40, "list": 40, "health": 60, "book": 40, "instances": 15}[what]
	if rare == 0 {
		rare = 8
	}
	switch {
	case s.happens(what+" was late", rare):
		late = s.millis(200, 6000)
	case s.happens(what+" hung, and did not heed that nobody waited any more", rare):
		late, deaf = s.millis(200, 6000), true
	case s.happens(what+" failed", rare):
		err = errLost
	case s.happens(what+" failed, or so it seemed", rare):
		err = errors.New("no answer, and it was done")
	}
	return late, deaf, err
}

// ask is a person's command.
func (s *sim) ask(c Command) error {
	c.By = "marit"
	if _, back := c.Act.(crossing.Back); !back { // before it has any effect; one that is refused has none
		s.with(func() { s.judge.Says(time.Now(), "", true, false) })
	}
	_, err := s.keeper.Do(context.Background(), c)
	s.dice.Lock()
	defer s.dice.Unlock()
	s.asked++
	s.tell("marit: %s %+v: %v", c.Act.About().Name, c, err)
	return err
}

// person does something sensible, most of the time.
func (s *sim) person() {
	c := s.last().Crossing
	leg, _ := c.Next()
	share := split.Share(s.intN(10_001))
	odd := []crossing.Act{
		crossing.Steer{Share: share}, crossing.PutBack{}, crossing.Freeze{}, crossing.Resume{}, crossing.Next{Leg: leg},
		crossing.Prove{}, crossing.Retire{Typed: "sailings"},
		crossing.Back{}, crossing.Back{Force: true}, crossing.Shift{Share: share}, crossing.No{Question: c.Question.ID},
		crossing.Raise{Version: "4.3.0"}, crossing.Yes{Question: c.Seq},
		crossing.Arrive{Version: []string{"4.3.0", "4.4.0", "9.9"}[s.intN(3)]},
	}
	var command Command
	switch {
	case s.intN(4) == 0:
		command.Act = odd[s.intN(len(odd))]
	case c.Question.ID != 0:
		command = Command{Act: crossing.Yes{Question: c.Question.ID}}
	case c.Foreign:
		command = Command{Act: []crossing.Act{crossing.PutBack{}, crossing.Resume{}}[s.intN(2)]}
	case c.Frozen():
		command = Command{Act: crossing.Resume{}}
	default:
		return
	}
	if s.intN(6) == 0 { // two people at once
		go func() { _ = s.ask(command) }()
	}
	_ = s.ask(command)
}

// strikes lets something happen to the whole.
func (s *sim) strikes() {
	side := split.Sides[s.intN(2)]
	switch {
	case s.happens("somebody went home past the keeper", 25):
		home := s.last().Crossing.Target.Other()
		_, _ = worldFront{s.world}.Home(context.Background(), front.Homing{Side: home, By: "ada"})
	case s.happens("a side was left, and closed", 10):
		_, _ = worldFront{s.world}.Home(context.Background(), front.Homing{Side: side, By: "ada", Close: true})
		time.AfterFunc(s.millis(500, 15_000), s.reopens)
	case s.happens("somebody changed the share", 25):
		share := split.Share(s.intN(10_001))
		s.with(func() { s.put(judge.Outside, share); s.foreign = time.Now() })
	case s.happens("the front forgot its instances", 25):
		s.with(func() { s.counts = [2][]reading.Count{}; s.foreign = time.Now() })
	case s.happens("an instance fell ill", 15):
		name := fmt.Sprintf("%v-%d", side, 1+s.intN(2))
		s.with(func() { s.health[name] = reading.Failing })
		after := s.millis(500, 20_000)
		time.AfterFunc(after, func() { s.with(func() { delete(s.health, name) }) })
	case s.happens("answers failed", 15):
		s.with(func() { s.failing[side] = 0.5 })
		after := s.millis(500, 10_000)
		time.AfterFunc(after, func() { s.with(func() { s.failing[side] = 0 }) })
	case s.happens("requests stayed open", 12):
		s.with(func() { s.open[side] = 3 })
		after := s.millis(500, 20_000)
		time.AfterFunc(after, func() { s.with(func() { s.open[side] = 0 }) })
	case s.queued && s.happens("messages came to lie", 6):
		n := float64(s.intN(1000))
		s.with(func() {
			if s.share.Of(side) > 0 { // nobody publishes to the other one
				s.lies[side] += n
			}
		})
	case s.happens("an instance ended", 15):
		n := s.intN(2)
		s.with(func() {
			if n < len(s.sides[side]) {
				s.sides[side][n].Running, s.sides[side][n].Exit = false, "exit status 3"
			}
		})
	case s.happens("another process took the keeper over", 12):
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		m, err := s.keeper.HandOver(ctx)
		cancel()
		if err != nil {
			return // it is not left half way
		}
		s.stop()
		time.Sleep(s.millis(10, 2000))
		s.memory = m
		s.locked()
		s.start()
	case s.happens("the keeper was ended and started again", 12):
		since := time.Now()
		s.stop()
		time.Sleep(s.millis(10, 5000))
		s.locked()
		s.missed(since)
		s.start()
	}
}

// reopens opens a side again that is closed.
func (s *sim) reopens() {
	var o reading.Order
	s.with(func() { o = s.order })
	if o.Closed {
		_, _ = worldFront{s.world}.Home(context.Background(), front.Homing{Side: o.Side, By: "ada", Reopen: true,
			Force: true})
	}
}

func (s *sim) run() {
	s.start()
	time.Sleep(4 * time.Second)
	for range 20 {
		if s.ask(Command{Act: crossing.Begin{Version: "4.3.0", Hold: s.intN(2) == 0,
			With: []string{"", "", "ferries"}[s.intN(3)]}}) == nil {
			break
		}
		time.Sleep(time.Second)
	}
	end := time.Now().Add(time.Duration(10+s.intN(40)) * time.Second)
	for time.Now().Before(end) {
		time.Sleep(s.millis(200, 3000))
		s.strikes()
		if s.intN(2) == 0 {
			s.person()
		}
		if c := s.last().Crossing; c.Stage.Over() && c.Task.ID == 0 && s.intN(3) == 0 {
			break
		}
	}
	s.ends()
}

// ends holds the run to its end: once nothing goes wrong any more, going home ends, and the
// logbook has everything.
func (s *sim) ends() {
	s.dice.Lock()
	s.calm = true
	s.tell("nothing goes wrong any more")
	s.dice.Unlock()
	s.reopens()
	if w := s.last().Crossing.Waiting; w.Any() { // nothing more is to begin
		_ = s.ask(Command{Act: crossing.Arrive{Version: w.Version, Withdraw: true}})
	}
	time.Sleep(12 * time.Second)
	c := s.last().Crossing
	if c.GoingBack {
		s.with(func() { s.broke("nothing is in its way any more, and it is still going back: %v", c) })
	}
	home := split.Toward(c.Target.Other(), split.Whole)
	there := false
	s.with(func() { there = len(s.counts[c.Target.Other()]) > 0 || len(s.sides[c.Target.Other()]) > 0 })
	if c.Stage != crossing.None && there {
		if err := s.ask(Command{Act: crossing.Back{Force: true}}); err == nil {
			s.soon("it was sent home and is not there",
				func(v Snapshot) bool { return s.share == home && v.Crossing.Stage.Over() })
		}
	}
	s.soon("what was to be done is never done", func(v Snapshot) bool {
		t := v.Crossing.Task
		return t.ID == 0 || v.Crossing.Stage.UnderWay() || t.Do == crossing.TaskRetire && !s.serves(t.Side.Other())
	})
	if c := s.last().Crossing; c.LeavesControl() {
		if c.Trouble.Is != nil {
			time.Sleep(6 * time.Minute) // until it is tried again
		}
		s.soon("a control group was left behind", func(Snapshot) bool {
			return !slices.ContainsFunc(s.sides[c.Target.Other()], c.OfControl)
		})
		s.tally["a control group was stopped that had come to nothing"]++
	}
	s.soon("what is shown is not what is so", func(v Snapshot) bool {
		return v.Crossing.Task.ID != 0 ||
			v.Crossing.Share == s.share
	})
	if s.notified != nil {
		s.soon("somebody was not told", func(Snapshot) bool {
			_, missing := s.untold()
			return !missing
		})
		s.dice.Lock()
		s.tally["events that people were told of"] += len(s.notified)
		s.dice.Unlock()
	}
	s.soon("not everything is recorded", func(v Snapshot) bool {
		n := len(s.events)
		return v.Trouble == "" && (n == 0 && v.Crossing.Seq == 0 || n > 0 && s.events[n-1].Seq == v.Crossing.Seq)
	})
	s.stop()
	state, _, _ := worldBook{s.world}.Load(context.Background())
	s.with(func() {
		if !reflect.DeepEqual(state.String(), s.keeper.engine.State().String()) {
			s.broke("the logbook ends with %v, and the keeper with %v", state, s.keeper.engine.State())
		}
		if n := len(s.events); n > 400+20*s.asked {
			s.broke("%d events: a retry is no entry", n)
		}
	})
	for _, e := range s.events {
		if o, ok := e.What.(crossing.Ordered); ok && o.Task.Grows() {
			s.tally["a side was to get more instances"]++
		} else if ok && o.Task.Control && !o.Task.Act {
			s.tally["a control group was to come up"]++
		}
	}
	time.Sleep(time.Minute) // what was left behind ends
	if broken := s.judge.Broken(); broken != "" {
		s.broken = append(s.broken, broken)
	}
	for rule, n := range s.judge.Looked() {
		s.tally["looked at: "+rule] += n
	}
	if len(s.broken) > 0 {
		var lines []string
		for _, e := range s.events {
			lines = append(lines, fmt.Sprintf("%8.3f  %s: %s %+v", e.At.Sub(s.began).Seconds(), e.By, e.What.Kind(),
				e.What))
		}
		s.t.Errorf("-from=%d: %s\n%s\nrecorded:\n%s", s.seed, strings.Join(s.broken, "\n"), strings.Join(s.story, "\n"),
			strings.Join(lines, "\n"))
	}
}

// soon holds the world to something that must be so within a while.
func (s *sim) soon(what string, so func(Snapshot) bool) {
	for range 1200 { // the way back is not retired in the first minute after a hole
		done := false
		v := s.last()
		s.with(func() { done = so(v) })
		if done {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	s.with(func() { s.broke("%s: %v on green, %v", what, s.share, s.last().Crossing) })
}
