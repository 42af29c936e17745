package engine

import (
	"cmp"
	"container/heap"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"vaiven/internal/core/calendar"
	"vaiven/internal/core/crossing"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
	"vaiven/lab/testkit/judge"
)

var (
	crossings = flag.Int("crossings", 800, "crossings to simulate")
	from      = flag.Uint64("from", 0, "first seed (0: the test's own)")
	telling   = flag.Bool("story", false, "tell the story of the first seed")
)

// TestSimulation takes crossings through a world in which everything fails in every way it
// may, and holds them to the promises. A seed is a run; a broken promise prints its seed,
// and what happened.
func TestSimulation(t *testing.T) {
	first := *from
	if first == 0 {
		first = testkit.Seed(t)
	}
	begun := time.Now()
	var mu sync.Mutex // protects what follows
	total, looked, moments, next := map[string]int{}, map[string]int{}, []int{}, 0
	var wait sync.WaitGroup
	for range 2 {
		wait.Go(func() {
			for {
				mu.Lock()
				n := next
				next++
				mu.Unlock()
				if n >= *crossings || t.Failed() {
					return
				}
				s := newSim(first + uint64(n))
				s.run()
				if s.broken != "" || *telling && n == 0 {
					s = newSim(s.seed) // the same again, with its story
					s.tells = true
					s.run()
					t.Errorf("-from=%d: %s\n%s", s.seed, s.broken, strings.Join(s.story, "\n"))
				}
				mu.Lock()
				for what, count := range s.tally {
					total[what] += count
				}
				for rule, count := range s.judge.Looked() {
					total["looked at: "+rule] += count
					looked[rule] += count
				}
				moments = append(moments, s.moments)
				mu.Unlock()
			}
		})
	}
	wait.Wait()
	took := time.Since(begun)
	slices.Sort(moments)
	t.Logf("%d crossings from -from=%d in %v, %.0f a second, a median of %d moments", len(moments), first,
		took.Round(time.Millisecond),
		float64(len(moments))/took.Seconds(), moments[len(moments)/2])
	for _, what := range slices.Sorted(maps.Keys(total)) {
		t.Logf("%9d  %s", total[what], what)
	}
	if t.Failed() || *crossings < 800 || *crossings < 10_000 && (*from != 0 || os.Getenv(testkit.SeedIs) != "") {
		return // too few to say so of any seeds
	}
	if list := judge.Seldom(looked, 8); len(list) > 0 {
		t.Errorf("hardly looked at: %s", strings.Join(list, ", "))
	}
	for _, fault := range faults(t) {
		if total[fault] < 5 {
			t.Errorf("%q has happened %d times only", fault, total[fault])
		}
	}
	for _, stage := range []crossing.Stage{crossing.Raising, crossing.Proving, crossing.Shifting, crossing.Keeping,
		crossing.Settled, crossing.RolledBack, crossing.CalledOff} {
		if n := total["stage: "+string(stage)]; n < 50 {
			t.Errorf("%d crossings came to the stage %q", n, stage)
		}
	}
}

// faults are all that the simulation says can happen, by its source.
func faults(t *testing.T) (list []string) {
	t.Helper()
	source, err := os.ReadFile("sim_test.go")
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range regexp.MustCompile(`s\.happens\("([^"]+)"`).FindAllSubmatch(source, -1) {
		list = append(list, string(m[1]))
	}
	if len(list) < 30 {
		t.Fatalf("found %q", list)
	}
	return list
}

// sim is one run: an engine with a keeper's hands, and the world around it. Time jumps from
// one moment at which something happens to the next.
type sim struct {
	seed    uint64
	r       *rand.Rand
	now     time.Time
	queue   moments
	last    uint64 // number of the last moment that was put into the queue
	moments int
	tells   bool // the story
	story   []string
	broken  string
	tally   map[string]int // faults, by kind
	judge   *judge.Judge   // of the world alone
	wild    float64        // how much goes wrong, from 0 to 1
	calm    bool           // nothing goes wrong any more
	plan    *plan.Plan

	// The keeper.

	engine  *Engine
	life    int           // of the keeper's process: what an earlier one began says nothing to this one
	held    time.Time     // until when the process stands still
	skew    time.Duration // of the machine's clock
	clockOf time.Duration // the skew when the process began: within it nobody sets the clock
	running uint64        // the task that is being performed
	cancel  *bool         // of what performs it
	giving  bool          // the front is being given instances
	all     []crossing.Event
	kept    int    // events of all that are on disk
	full    bool   // the disk takes nothing
	writes  bool   // the disk is being written to
	seen    uint64 // the state that a slow person has seen
	asked   int    // commands so far

	heldFrom time.Time       // since when the process stands still
	begun    time.Time       // when this keeper did
	endedAt  time.Time       // when the last keeper did
	away     map[string]bool // clients that nothing is heard of
	retiring uint64          // the task of a retire that was ordered and is not done
	grows    raise.Choice    // what the target is raised at, where it gets more instances on the way
	accepted bool            // somebody has accepted, in this crossing, what proofs find
	accepts  func()          // what it means that somebody accepts what the last proof found
	first    bool            // nobody is live
	patient  bool            // people see it through to its end
	fronts   bool            // one of two fronts is changed again and again,
	holes    bool            // or the machine sleeps in the keep

	// The front. It compares if it holds the order of going home itself.

	compares bool
	down     bool
	share    split.Share
	two      bool        // there is another one beside it,
	beside   split.Share // which has the same share as long as nobody changes it
	order    reading.Order
	revision uint64
	servers  [2][]reading.Server
	answers  [2]float64
	bad      [2]float64
	counted  time.Time
	open     [2]int64
	rate     float64   // requests a second
	hung     time.Time // since when the target's answers do not come, zero while they do
	waiting  float64   // requests that wait for them
	homeAt   time.Time // when all went home last, by whomever
	ourHome  time.Time // by the keeper
	outside  time.Time // when somebody else changed it last

	embargo   bool      // nothing is to leave home
	embargoAt time.Time // since when that is so, or is not
	homeIll   time.Time // when somebody of home was last not well

	remembers  time.Duration // how long those who ask go by what was before
	everywhere time.Time     // until when some do
	changed    time.Time     // when it changed last

	// The sides.

	sides   [2][]reading.Instance
	health  map[string]reading.Health
	failing float64 // of the target's answers

	// The prober.

	door      reading.Door
	asking    [2]float64 // its requests, by side, that have not been counted yet
	cutOff    bool       // it does not reach the front
	doorHeard time.Time  // when something came of its requests last

	watched      time.Duration // of the present leg or keep, as far as all was known
	answered     float64       // by the target since it first got requests, or since the keeper began
	answeredFrom time.Time     // when that was
	termed       time.Time     // when a keeper last began a term
	stillLost    float64       // what would have failed since the live side was known to be dead, had everything stayed
	lost         float64       // what has failed since
	deadShare    split.Share   // that everything would have stayed at,
	deadParts    [2]float64    // and what each side gets of all then
	deadSince    time.Time     // from when on; zero while it is not known, or a person has said something since
	frontRead    time.Time     // when the front was last read for the keeper, and the sides
	sidesRead    [2]time.Time
	dead         time.Time      // until when the engine knows since its last step that nobody of the target serves
	strayAt      time.Time      // when a change came through after a going home
	backAt       time.Time      // when it was decided to go back, and it is not home yet
	backBy       string         // and by whom
	nobody       int            // how often in a row a going home found nobody there,
	nobodyAt     time.Time      // and when last
	elsewhere    time.Time      // when somebody went home past the keeper last
	outAt        time.Time      // when a person let traffic out last
	ordered      uint64         // the last task
	folded       crossing.State // of all events
	surprises    bool           // the front has had another share than the keeper was told of
	disturbed    int            // how often the keeper or its sight of the front was
}

// moment is something that happens at a time.
type moment struct {
	at   time.Time
	n    uint64
	life int // of the keeper that it belongs to; -1 for the world's
	do   func()
}

type moments []moment

func (m moments) Len() int { return len(m) }
func (m moments) Less(i, j int) bool {
	return m[i].at.Before(m[j].at) || m[i].at.Equal(m[j].at) && m[i].n < m[j].n
}
func (m moments) Swap(i, j int) { m[i], m[j] = m[j], m[i] }
func (m *moments) Push(x any)   { *m = append(*m, x.(moment)) }
func (m *moments) Pop() any {
	old := *m
	x := old[len(old)-1]
	*m = old[:len(old)-1]
	return x
}

func newSim(seed uint64) *sim {
	s := &sim{seed: seed, r: rand.New(rand.NewPCG(seed, 7)), now: time.Unix(1_800_000_000, 0).UTC(),
		tally: map[string]int{}, health: map[string]reading.Health{}, away: map[string]bool{}}
	s.judge = judge.New(s.now)
	s.wild = []float64{0, 0.3, 1}[s.r.IntN(3)]
	s.compares = s.r.IntN(2) == 0
	s.rate = []float64{200, 200, 200, 10}[s.r.IntN(4)]
	s.revision, s.counted = 7, s.now
	s.plan = s.random()
	if s.r.IntN(3) == 0 {
		s.remembers = s.millis(100, 8000)
	}
	if s.r.IntN(4) == 0 {
		s.plan.Embargo = "embargo"
	}
	s.two = s.r.IntN(5) == 0
	s.first, s.patient = s.r.IntN(10) == 0, s.r.IntN(6) == 0
	if s.r.IntN(3) == 0 {
		s.grows = raise.Choice{Part: "web", Version: "4.3.0", Build: "b-4.3.0", Instances: 1 + s.r.IntN(2),
			Until: split.Share(1000 + s.r.IntN(8500)), Then: 3}
	}
	switch seed % 8 { // what happens seldom by itself, to people who go on all the same
	case 0:
		s.wild, s.two, s.first, s.patient, s.fronts = 0.3, true, false, true, true
	case 1:
		s.wild, s.first, s.patient, s.holes, s.plan.Then = 0.3, false, true, true, plan.ThenRetire
	}
	if s.first {
		return s
	}
	s.stand(split.Blue, "4.2.0", 2, false)
	var servers []reading.Server
	for _, i := range s.sides[split.Blue] {
		servers = append(servers, reading.Server{Name: i.Name, Address: i.Address, Version: i.Version})
	}
	s.lists(judge.Outside, split.Blue, servers)
	return s
}

// lists lets the front have other instances of a side.
func (s *sim) lists(by judge.By, side split.Side, servers []reading.Server) {
	s.servers[side] = servers
	var names []string
	for _, server := range servers {
		names = append(names, server.Name)
	}
	s.judge.Lists(s.now, by, side, names)
}

// feels lets an instance be as it is; "" is healthy.
func (s *sim) feels(side split.Side, name string, h reading.Health) {
	if s.health[name] = h; h == "" {
		delete(s.health, name)
	}
	s.judge.Well(s.now, side, name, h == "")
}

// random is a plan.
func (s *sim) random() *plan.Plan {
	then := func() plan.Action { return []plan.Action{plan.RollBack, plan.Freeze}[s.r.IntN(2)] }
	p := &plan.Plan{
		Service: "sailings", Front: plan.Front{Key: plan.Key{From: plan.KeyRandom}},
		Parts: []plan.Part{{Name: "web", Health: plan.Check{Every: time.Second, Up: 1, Down: 2}}},
		Keep:  time.Duration(2+s.r.IntN(8)) * time.Second,
		Then:  []plan.Then{plan.ThenRetire, plan.ThenAsk, plan.ThenLeave}[s.r.IntN(3)],
		Guards: []plan.Guard{
			{Name: "failing", Watch: plan.Failing, Margin: 0.01, Find: 0.02, Then: then()},
			{Name: "unhealthy", Watch: plan.Unhealthy, Then: then()},
			{Name: "no answer at the front", Watch: plan.Lost, Then: then()},
		},
		Quiet: []plan.Quiet{plan.QuietAsk, plan.QuietGoOn}[s.r.IntN(2)],
		Find:  0.02, Sure: 0.99,
	}
	if s.r.IntN(2) == 0 {
		p.Guards = append(p.Guards, plan.Guard{Name: "door", Watch: plan.Door, Margin: 0.05, Find: 0.1, Then: then()})
	}
	for part := split.Share(500 + s.r.IntN(4000)); part < split.Whole; part += split.Share(1000 + s.r.IntN(6000)) {
		p.Route = append(p.Route,
			route.Leg{Part: part, Dwell: time.Duration(1+s.r.IntN(6)) * time.Second, Ask: s.r.IntN(4) == 0,
				Sure: s.r.IntN(4) == 0})
	}
	p.Route = append(p.Route, route.Leg{Part: split.Whole})
	for _, side := range split.Sides {
		p.Parts[0].Stacks[side] = plan.Stack{Instances: 2, Raise: 20 * time.Second, Grace: 5 * time.Second,
			Capacity: plan.Capacity{Each: 1000}}
	}
	return p
}

// stand makes a side consist of so many instances of a version. Where it is to get more, those that stand stay.
func (s *sim) stand(side split.Side, version string, number int, more bool) {
	if !more {
		for _, i := range s.sides[side] {
			s.judge.Gone(s.now, side, i.Name)
		}
		s.sides[side] = nil
	}
	for n := len(s.sides[side]); n < number; n++ {
		name := fmt.Sprintf("%v-%d", side, n+1)
		delete(s.health, name)
		s.judge.Stands(s.now, side, name)
		s.sides[side] = append(s.sides[side], reading.Instance{
			Name: name, Part: "web", Side: side, Version: version, Build: "b-" + version,
			Address: "10.1.0." + name + ":80", Started: s.now, Running: true,
		})
	}
}

// tell adds a line to the story.
func (s *sim) tell(format string, args ...any) {
	if !s.tells {
		return
	}
	s.story = append(s.story,
		fmt.Sprintf("%8.3f  ", s.now.Sub(time.Unix(1_800_000_000, 0)).Seconds())+fmt.Sprintf(format, args...))
}

// broke notes the first broken promise.
func (s *sim) broke(format string, args ...any) {
	if s.broken == "" {
		s.broken = fmt.Sprintf(format, args...)
		s.tell("BROKEN: %s", s.broken)
	}
}

// after has something happen to the world after a time.
func (s *sim) after(d time.Duration, do func()) { s.at(s.now.Add(d), -1, do) }

// later has the present keeper's process do something after a time, if it lives.
func (s *sim) later(d time.Duration, do func()) { s.at(s.now.Add(d), s.life, do) }

func (s *sim) at(at time.Time, life int, do func()) {
	s.last++
	heap.Push(&s.queue, moment{at, s.last, life, do})
}

// until lets time jump from moment to moment.
func (s *sim) until(end time.Time) {
	for len(s.queue) > 0 && !s.queue[0].at.After(end) && s.broken == "" {
		m := heap.Pop(&s.queue).(moment)
		if m.life >= 0 && m.life != s.life {
			continue
		}
		if m.life >= 0 && m.at.Before(s.held) { // the process stands still
			m.at = s.held
			heap.Push(&s.queue, m)
			continue
		}
		s.count(m.at)
		s.now = m.at
		if s.moments++; s.moments > 100_000 {
			s.broke("it comes to no end")
		}
		m.do()
		if broken := s.judge.Broken(); broken != "" {
			s.broke("%s", broken)
		}
	}
	if s.broken == "" && s.now.Before(end) {
		s.count(end)
		s.now = end
	}
}

// happens reports whether a fault of a kind does, which it does once in so many times where
// all is wild.
func (s *sim) happens(what string, once int) bool {
	if s.calm || s.r.Float64()*float64(once) >= s.wild {
		return false
	}
	s.tally[what]++
	s.tell("    %s", what)
	return true
}

func (s *sim) millis(least, most int) time.Duration {
	return time.Duration(least+s.r.IntN(most-least+1)) * time.Millisecond
}

// --- the world

// count lets answers be given until a time, and the keep be watched.
func (s *sim) count(until time.Time) {
	d := until.Sub(s.counted)
	s.counted = until
	for _, side := range split.Sides {
		more := s.rate * d.Seconds() * s.fraction(side)
		isTarget := s.engine != nil && side == s.engine.state.Target
		if hangs := isTarget && !s.hung.IsZero(); hangs {
			s.waiting += more
			s.answered += more // one that hangs is a bad answer
		} else if len(s.servers[side]) > 0 {
			s.answers[side] += more
			if isTarget {
				s.bad[side] += more * s.failing
				s.answered += more
			}
		}
		// one that serves again may not have been heard of yet
		if !s.deadSince.IsZero() && !s.serves(s.engine.state.Target.Other()) {
			s.lost += more * s.fails(side)
			s.stillLost += s.rate * d.Seconds() * s.deadParts[side] * s.fails(side)
		}
		s.asking[side] += 20 * d.Seconds() * s.fraction(side)
	}
	s.ring(until)
	part := 0.0
	for _, side := range split.Sides {
		part += s.fraction(side) * s.fails(side)
	}
	able := s.engine != nil && !s.down && !s.cutOff && !s.now.Before(s.held) && s.now.Sub(s.outside) > 30*time.Second &&
		s.now.Sub(s.begun) > 10*time.Second
	s.judge.Suffers(until, part, able)
	if e := s.engine; e != nil && e.state.Timed() && !e.state.Frozen() && s.known(until, time.Second) &&
		!s.now.Before(s.everywhere) {
		s.watched += d
	}
}

// fails is the part of a side's requests that come to nothing.
func (s *sim) fails(side split.Side) float64 {
	isTarget := s.engine != nil && side == s.engine.state.Target
	switch {
	case !s.serves(side), isTarget && !s.hung.IsZero():
		return 1
	case isTarget:
		return s.failing
	}
	return 0
}

// serves reports whether anybody of a side does.
func (s *sim) serves(side split.Side) bool {
	return len(s.servers[side]) > 0 &&
		slices.ContainsFunc(s.sides[side], func(i reading.Instance) bool { return s.health[i.Name] == "" })
}

// ring lets the prober's requests come to what they come to.
func (s *sim) ring(at time.Time) {
	if len(s.door.Ended) == 0 || at.Add(s.clockOf).Sub(s.door.Ended[len(s.door.Ended)-1].At) >= time.Second {
		s.door.Ended = append(s.door.Ended[max(0, len(s.door.Ended)-120):], reading.Ended{At: at.Add(s.clockOf)})
	}
	last := &s.door.Ended[len(s.door.Ended)-1]
	for _, side := range split.Sides {
		n := int64(s.asking[side])
		s.asking[side] -= float64(n)
		switch bad := int64(float64(n)*s.fails(side) + s.r.Float64()); {
		case n == 0:
		case s.cutOff || s.down:
			last.Unreached += n
		case s.fails(side) == 1:
			last.Nobody.Of += n
			last.Nobody.Bad += n
			s.doorHeard = at
		default:
			last.Sides[side].Of += n
			last.Sides[side].Bad += min(bad, n)
			s.doorHeard = at
		}
	}
}

// known reports whether all that the route needs was read lately, give or take.
func (s *sim) known(at time.Time, slack time.Duration) bool {
	for _, side := range split.Sides {
		waitedFor := s.engine == nil || !s.engine.state.AtOnce || side == s.engine.state.Target
		if waitedFor && at.Sub(s.sidesRead[side]) > 5*time.Second+slack {
			return false
		}
	}
	return at.Sub(s.frontRead) <= freshFront+slack
}

// fraction is the part of all requests that a side gets, and sends the most that either front sends there.
func (s *sim) fraction(side split.Side) float64 {
	return (s.share.Of(side).Fraction() + s.beside.Of(side).Fraction()) / 2
}

func (s *sim) sends(side split.Side) split.Share { return max(s.share.Of(side), s.beside.Of(side)) }

// put puts a share in force. task is what ordered it, where something did.
func (s *sim) put(by judge.By, share split.Share, task uint64, who string) {
	s.judge.Share(s.now, by, share, task, s.onDisk(task))
	if s.remembers > 0 && s.share != share {
		s.everywhere, s.changed = s.now.Add(s.remembers), s.now
	}
	s.share, s.beside, s.revision = share, share, s.revision+1
	s.judge.Beside(s.now, s.beside)
	s.tell("    the front has %v on green now, by %s", share, who)
}

// somebody changes the front past the keeper.
func (s *sim) somebody() {
	switch s.r.IntN(4) {
	case 0:
		s.tally["somebody went home past the keeper"]++
		side := split.Sides[s.r.IntN(2)]
		if s.engine != nil && s.r.IntN(3) > 0 {
			side = s.engine.state.Target.Other()
		}
		if len(s.servers[side]) > 0 {
			s.order = reading.Order{Generation: s.order.Generation + 1, Side: side, At: s.now, By: "ada"}
			s.put(judge.Outside, split.Toward(side, split.Whole), 0, "ada, who goes home")
			s.homeAt, s.outside, s.elsewhere = s.now, s.now, s.now
		}
	case 1:
		s.tally["the front forgot its instances"]++
		s.tell("    the front forgot its instances")
		for _, side := range split.Sides {
			s.lists(judge.Outside, side, nil)
		}
		s.outside = s.now
	default:
		if s.two && s.r.IntN(2) == 0 {
			s.tally["somebody changed one of two fronts"]++
			s.oneOfTwo()
			return
		}
		s.tally["somebody changed the share"]++
		s.put(judge.Outside, []split.Share{0, split.Whole, split.Share(s.r.IntN(10_001))}[s.r.IntN(3)], 0, "somebody")
		s.outside = s.now
	}
}

// oneOfTwo has somebody change the front beside.
func (s *sim) oneOfTwo() {
	s.beside = []split.Share{0, split.Whole, split.Share(s.r.IntN(10_001))}[s.r.IntN(3)]
	s.judge.Beside(s.now, s.beside)
	s.tell("    the front beside has %v on green now, by somebody", s.beside)
	s.outside = s.now
}

// ills makes an instance ill, or well again.
func (s *sim) ills() {
	side := split.Sides[s.r.IntN(2)]
	if len(s.sides[side]) == 0 {
		return
	}
	i := &s.sides[side][s.r.IntN(len(s.sides[side]))]
	switch {
	case s.health[i.Name] != "":
		s.feels(side, i.Name, "")
		s.tell("    %s is well again", i.Name)
	case s.r.IntN(4) == 0:
		s.tally["an instance ended"]++
		i.Running, i.Exit = false, "exit status 3"
		s.feels(side, i.Name, reading.Exited)
		s.tell("    %s ended", i.Name)
	default:
		s.tally["an instance fell ill"]++
		s.feels(side, i.Name, reading.Failing)
		s.tell("    %s is ill", i.Name)
	}
}

// --- the keeper's hands

// start starts a keeper with what is on disk, and with what another one has handed it.
func (s *sim) start(m Memory) {
	s.life++
	s.begun = s.now
	if m.At.IsZero() && !s.endedAt.IsZero() {
		s.judge.Missed(s.endedAt, s.now)
	}
	s.held, s.running, s.cancel, s.giving, s.writes = time.Time{}, 0, new(bool), false, false
	s.all = s.all[:s.kept:s.kept]
	var state crossing.State
	for _, e := range s.all {
		state = crossing.Apply(state, e)
		if _, ok := e.What.(crossing.Ordered); ok {
			s.ordered = e.Seq
		}
	}
	s.folded = state
	if m.At.IsZero() && (state.Task.Do == crossing.TaskMove || state.Late.ID != 0) {
		s.termed = s.now
	}
	s.clockOf = s.skew
	s.frontRead, s.sidesRead, s.watched, s.deadSince = time.Time{}, [2]time.Time{}, state.Whole()-state.Left,
		time.Time{}
	if m.At.IsZero() {
		s.answered, s.door.Ended = 0, nil
	} else {
		s.watched = max(state.Whole()-m.Left, 0)
	}
	var freezes []uint64
	for _, f := range state.Freezes {
		freezes = append(freezes, f.ID)
	}
	s.judge.Recorded(s.now, state.Target, state.Stage.UnderWay(), state.Wheel.Client, freezes...)
	s.engine = New(s.plan, state, s.clock(), m)
	s.tell("a keeper starts: %v", state)
	s.later(s.millis(1, 500), s.readFront)
	for _, side := range split.Sides {
		s.later(s.millis(1, 900), func() { s.readSide(side) })
	}
	if s.plan.Embargo != "" {
		s.later(s.millis(1, 500), s.readOutside)
	}
	s.later(0, s.tick)
}

// readOutside reads again and again whether there is an embargo.
func (s *sim) readOutside() {
	o := Outside{Embargo: calendar.Embargo{On: s.embargo}}
	if s.happens("an embargo could not be read", 20) {
		o = Outside{EmbargoSaid: "no answer"}
	}
	s.took(s.engine.Outside(s.clock(), o))
	s.later(s.millis(1000, 5000), s.readOutside)
}

// clock is the time as the keeper's process has it.
func (s *sim) clock() time.Time { return s.now.Add(s.clockOf) }

func (s *sim) tick() {
	if home := s.sides[s.engine.state.Target.Other()]; len(home) == 0 ||
		slices.ContainsFunc(home, func(i reading.Instance) bool { return s.health[i.Name] != "" }) {
		s.homeIll = s.now
	}
	at := s.clock()
	d := s.door
	d.At, d.Ended = at, slices.Clone(d.Ended)
	s.engine.DoorRead(d)
	s.engine.Present(at, func(client string) bool { return !s.away[client] })
	s.took(s.engine.Pass(at))
	if s.r.IntN(50) == 0 {
		_ = s.engine.View(at)
	}
	due := s.engine.Due(at).Sub(at)
	s.later(max(due, 50*time.Millisecond), s.tick) // what is due may be withheld for long
}

// gets takes in since when the target is read to get requests: answers are counted from there.
func (s *sim) gets() {
	if since := s.engine.since; !since.Equal(s.answeredFrom) {
		s.answered, s.answeredFrom = 0, since
		if !s.hung.IsZero() {
			s.answered = s.waiting // those that hang already are bad answers of now
		}
	}
}

// took takes events in, records them, and has done what is ordered.
func (s *sim) took(events []crossing.Event) {
	if len(events) == 0 {
		s.gets()
	}
	for _, e := range events {
		s.tell("%s: %s %+v", e.By, e.What.Kind(), e.What)
		s.all = append(s.all, e)
		s.holds(e)
	}
	s.consistent(len(events) > 0)
	s.still()
	s.dead = time.Time{}
	if e := s.engine; e.standing(e.state.Target).Empty() {
		s.dead = e.sides[0].view.At.Add(knownFor)
		if other := e.sides[1].view.At.Add(knownFor); other.Before(s.dead) {
			s.dead = other
		}
	}
	s.write()
	s.perform()
}

// write writes what waits to the disk, beside.
func (s *sim) write() {
	if s.writes || s.kept == len(s.all) {
		return
	}
	s.writes = true
	takes := s.millis(1, 5)
	if s.happens("the disk was slow", 40) {
		takes = s.millis(100, 4000)
	}
	upto := len(s.all)
	s.later(takes, func() {
		s.writes = false
		if s.full || s.happens("the disk took nothing", 60) {
			s.later(500*time.Millisecond, s.write)
			return
		}
		s.kept = upto
		s.write()
	})
}

// onDisk reports whether an event is.
func (s *sim) onDisk(seq uint64) bool { return s.kept > 0 && s.all[s.kept-1].Seq >= seq }

func (s *sim) perform() {
	var wanted Order
	if orders := s.engine.Orders(); len(orders) > 0 {
		wanted = orders[0]
	}
	if wanted.ID != s.running {
		*s.cancel = true
		gone := new(bool)
		s.running, s.cancel = wanted.ID, gone
		switch {
		case wanted.ID == 0:
		case wanted.Do == crossing.TaskHome:
			s.later(0, func() { s.goHome(wanted, gone, 100*time.Millisecond) })
		default:
			s.whenKept(wanted, gone, s.now.Add(2*time.Second))
		}
	}
	s.instances()
}

// whenKept does what is ordered once that is on disk, or not at all.
func (s *sim) whenKept(o Order, gone *bool, limit time.Time) {
	switch {
	case *gone:
	case s.onDisk(o.ID):
		do := map[crossing.TaskKind]func(Order, *bool){crossing.TaskRaise: s.standUp, crossing.TaskProve: s.check,
			crossing.TaskMove: s.move, crossing.TaskRetire: s.retire}[o.Do]
		do(o, gone)
	case s.now.After(limit):
		s.notDone(o, crossing.TroubleLogbook{})
	default:
		s.later(10*time.Millisecond, func() { s.whenKept(o, gone, limit) })
	}
}

func (s *sim) report(f crossing.Fact) { s.took(s.engine.Report(s.clock(), f)) }

func (s *sim) notDone(o Order, kind crossing.TroubleKind) {
	s.report(crossing.Failed{Task: o.ID, Trouble: crossing.Went(kind)})
}

// readFront reads the front again and again.
func (s *sim) readFront() {
	asked := Asked{s.clock(), s.engine.front.changes}
	again := func(d time.Duration) { s.later(d, s.readFront) }
	switch {
	case s.down:
		s.took(s.engine.FrontFailed(s.clock(), "no answer"))
		again(FrontEvery)
		return
	case s.happens("a reading of the front hung", 60):
		s.later(2*time.Second, func() {
			s.took(s.engine.FrontFailed(s.clock(), "no answer in time"))
			again(time.Millisecond)
		})
		return
	}
	r := s.reading()
	takes := s.millis(1, 20)
	if s.happens("a reading of the front was late", 40) {
		takes = s.millis(100, 1900)
	}
	truly := s.now
	arrives := func() {
		s.frontRead = truly
		s.took(s.engine.FrontRead(s.clock(), asked, r))
		again(max(s.millis(500, 1000)-takes, time.Millisecond))
	}
	if takes <= 20*time.Millisecond {
		arrives()
		return
	}
	s.later(takes, arrives)
}

func (s *sim) reading() reading.Front {
	r := reading.Front{At: s.now, Split: reading.Split{Revision: s.revision, Share: s.share}, Order: s.order,
		Tells: reading.Capabilities{Counts: true, Waits: true, Both: true}, Remembers: s.remembers,
		Everywhere: s.hearsay()}
	if s.beside != s.share {
		r.Apart = []reading.Apart{{Front: "quay", Share: s.beside}}
	}
	for _, side := range split.Sides {
		r.Sides[side].Open = s.open[side]
		for _, server := range s.servers[side] {
			n := int64(len(s.servers[side]))
			c := reading.Count{Server: server, Requests: int64(s.answers[side]) / n}
			c.Status[5] = int64(s.bad[side]) / n
			c.Status[2] = c.Requests - c.Status[5]
			if s.engine != nil && side == s.engine.state.Target && !s.hung.IsZero() {
				for _, wait := range reading.Waits {
					older := max(s.waiting-s.rate*s.fraction(side)*wait.Seconds(), 0)
					c.Waiting = append(c.Waiting, int64(older)/n)
				}
			}
			r.Sides[side].Instances = append(r.Sides[side].Instances, c)
		}
	}
	return r
}

// hearsay is until when somebody goes by what was before, by the clock of who asks.
func (s *sim) hearsay() time.Time {
	if s.everywhere.IsZero() {
		return s.everywhere
	}
	return s.everywhere.Add(s.clockOf)
}

// early reports whether a side that has no share is touched while somebody may still come to it. That must not be
// where the keeper has read of it.
func (s *sim) early(what string, side split.Side) bool {
	if !s.now.Before(s.everywhere) {
		return false
	}
	if s.frontRead.After(s.changed) {
		s.broke("%v is %s %v before the last have heard that it gets nothing", side, what, s.everywhere.Sub(s.now))
	}
	return true
}

// readSide reads a side again and again.
func (s *sim) readSide(side split.Side) {
	r := SideReading{Side: side, Asked: Asked{s.clock(), s.engine.sides[side].view.Changes}, At: s.clock()}
	truly := s.now
	for _, i := range s.sides[side] {
		c := reading.Condition{Instance: i, State: reading.Healthy, At: s.clock(), Since: i.Started,
			History: []float64{1}}
		if h, ok := s.health[i.Name]; ok {
			c.State, c.History = h, []float64{-1, -1}
		}
		r.Conditions = append(r.Conditions, c)
	}
	takes := s.millis(1, 50)
	switch {
	case s.happens("a list of instances hung", 60):
		takes = 10 * time.Second
	case s.happens("a list of instances failed", 60):
		r.Error, r.Conditions = "no answer", nil
		truly = s.sidesRead[side]
	}
	arrives := func() {
		s.sidesRead[side] = truly
		s.took(s.engine.SideRead(s.clock(), r))
		s.later(s.millis(1000, 2000), func() { s.readSide(side) })
	}
	if takes <= 50*time.Millisecond {
		arrives()
		return
	}
	s.later(takes, arrives)
}

// instances gives the front the instances that it has differently.
func (s *sim) instances() {
	t, ok := s.engine.Telling(s.clock())
	if s.giving || !ok {
		return
	}
	s.giving = true
	s.later(s.millis(1, 100), func() {
		s.later(500*time.Millisecond, func() { s.giving = false }) // it is read before it is told again
		if s.down || len(t.Servers) == 0 && s.sends(t.Side) > 0 {
			return
		}
		s.lists(judge.Vaiven, t.Side, t.Servers)
		s.tell("    the front has %d instances of %v", len(t.Servers), t.Side)
	})
}

// stale reports whether a change is not made any more.
func (s *sim) stale(o Order) bool {
	return s.order.Generation > o.Generation || s.revision != o.Revision
}

// may asks whether what was ordered may still be done.
func (s *sim) may(o Order) bool {
	s.took(s.engine.Pass(s.clock()))
	return slices.ContainsFunc(s.engine.Orders(), func(now Order) bool { return now.ID == o.ID })
}

// move puts a share in force, once a hook has let it.
func (s *sim) move(o Order, gone *bool) {
	wait := time.Duration(0)
	if s.happens("a hook was slow", 8) {
		wait = s.millis(500, 15_000)
	}
	s.later(wait, func() {
		if !*gone && s.may(o) && !*gone {
			s.change(o, gone)
		}
	})
}

func (s *sim) change(o Order, gone *bool) {
	if s.down || s.happens("a change of the front failed", 15) || s.stale(o) {
		s.later(s.millis(1, 30), func() {
			if !*gone {
				s.notDone(o, crossing.TroubleFront{})
			}
		})
		return
	}
	takes, heard, deaf := s.millis(1, 30), true, false
	switch {
	case s.happens("a change of the front was held up between its check and its command", 8):
		takes, deaf = s.millis(200, 6000), true
	case s.happens("a change of the front was made, and nobody heard of it", 15):
		heard = false
	}
	ordered := s.now
	hears := func(do func()) { // a process that stands still hears of it later
		if s.now.Before(s.held) {
			s.later(0, func() {
				if !*gone {
					do()
				}
			})
			return
		}
		do()
	}
	act := func() {
		if *gone && !deaf {
			return
		}
		if s.compares && s.stale(o) || s.down {
			if !*gone {
				hears(func() { s.notDone(o, crossing.TroubleFront{}) })
			}
			return
		}
		for _, side := range split.Sides {
			if o.Share.Of(side) > 0 && len(s.servers[side]) == 0 {
				if !*gone {
					hears(func() { s.notDone(o, crossing.TroubleFront{}) })
				}
				return
			}
		}
		if s.compares && s.homeAt.After(ordered) {
			s.broke("a change that was begun before a going home came through after it")
		}
		target := s.engine.state.Target
		if o.By == Self && s.elsewhere.After(s.engine.state.Begun) && s.outAt.Before(s.elsewhere) &&
			o.Share.Of(target) > s.share.Of(target) && ordered.After(s.elsewhere.Add(2*time.Second)) {
			s.broke("the route went on after somebody had gone home past the keeper")
		}
		if s.embargo && ordered.Sub(s.embargoAt) > 2*outsideFor && !o.Act && s.engine.state.Stage.UnderWay() &&
			!s.engine.state.AtOnce && o.Share.Of(target) > s.share.Of(target) && !*gone &&
			s.now.Sub(s.homeIll) > 2*outsideFor {
			s.broke("traffic left home %v after an embargo had begun", ordered.Sub(s.embargoAt))
		}
		by := judge.Vaiven
		if *gone || s.homeAt.After(ordered) {
			by = judge.Stray
		}
		s.put(by, o.Share, o.ID, fmt.Sprintf("task %d", o.ID))
		if s.order.Generation > o.Generation && !*gone { // it takes itself back, where it still can
			s.put(judge.Home, split.Toward(s.order.Side, split.Whole), 0, "itself, taken back")
			hears(func() { s.notDone(o, crossing.TroubleFront{}) })
			return
		}
		if *gone {
			s.stray(ordered)
		} else if s.happens("somebody changed the front at the same moment", 15) {
			s.surprises, s.outside = true, s.now
			s.put(judge.Outside, split.Share(s.r.IntN(10_001)), 0, "somebody, at the same moment")
		}
		if *gone && s.r.IntN(2) == 0 {
			return
		}
		if !heard {
			s.surprises = true
			hears(func() { s.notDone(o, crossing.TroubleFront{}) })
			return
		}
		in := crossing.TookEffect{Task: o.ID, Nearest: o.Share, Share: s.share, Revision: s.revision, Took: takes,
			Everywhere: s.hearsay()}
		hears(func() { s.report(in) })
	}
	if deaf { // also if the process ends meanwhile: the command is on its way
		life := s.life
		s.after(takes, func() {
			if life == s.life {
				act()
				return
			}
			// Nobody is there any more to hear of it. Where another has gone on since, it began a term.
			if !s.down && !(s.compares && s.termed.After(ordered)) && !(s.compares && s.stale(o)) &&
				len(s.servers[0])*len(s.servers[1]) > 0 {
				s.surprises, s.strayAt = true, s.now
				s.put(judge.Stray, o.Share, o.ID, fmt.Sprintf("task %d of a keeper that is gone", o.ID))
			}
		})
		return
	}
	s.later(takes, act)
}

// stray is a change that came through after a going home at a front that cannot compare: it
// has to be undone while it is still held at home.
func (s *sim) stray(ordered time.Time) {
	s.surprises, s.strayAt = true, s.now
	if s.ourHome != s.homeAt || !s.homeAt.After(ordered) || s.now.Sub(s.homeAt) > 4*time.Second || s.down ||
		s.now.Before(s.held) {
		return
	}
	at, homeAt, disturbed, home := s.now, s.ourHome, s.disturbed, split.Toward(s.order.Side, split.Whole)
	s.after(6*time.Second, func() {
		called := false
		if s.engine != nil {
			_, called = crossing.FrozenBy[crossing.NobodyHome](s.engine.state) // the front had forgotten who is there
		}
		if s.disturbed == disturbed && !s.outAt.After(homeAt) && !s.outside.After(at) && s.share != home && !called {
			s.broke("a change came through after a going home, and 6 s later the front has %v on green: %v", s.share,
				s.engine.state)
		}
	})
}

// goHome tries until it works.
func (s *sim) goHome(o Order, gone *bool, pause time.Duration) {
	fails := s.down || s.happens("a going home failed", 6)
	s.later(s.millis(1, 10), func() {
		if *gone && fails {
			return
		}
		switch {
		case fails:
			s.notDone(o, crossing.TroubleFront{})
			if !*gone {
				s.later(pause, func() { s.goHome(o, gone, min(2*pause, 2*time.Second)) })
			}
			return
		case len(s.servers[o.Side]) == 0 && len(s.servers[o.Side.Other()]) > 0 && !o.Force:
			s.report(crossing.NotReturned{Task: o.ID, Home: crossing.Serving{Side: o.Side}})
			return
		}
		s.order = reading.Order{Generation: s.order.Generation + 1, Side: o.Side, At: s.now, By: o.By}
		s.put(judge.Home, split.Toward(o.Side, split.Whole), 0, "going home")
		s.homeAt, s.ourHome = s.now, s.now
		if took := s.now.Sub(s.backAt); s.wild == 0 && !s.backAt.IsZero() && took > 200*time.Millisecond {
			s.broke("going home took %v where nothing was in its way", took)
		}
		s.backAt = time.Time{}
		if s.happens("a going home worked, and nobody heard of it", 6) {
			s.later(pause, func() { s.goHome(o, gone, min(2*pause, 2*time.Second)) })
			return
		}
		s.report(crossing.Returned{Task: o.ID, Share: s.share, Generation: s.order.Generation, Revision: s.revision,
			Everywhere: s.hearsay()})
	})
}

// standUp starts a side's instances.
func (s *sim) standUp(o Order, gone *bool) {
	if s.down || !o.More && (s.sends(o.Side) > 0 || s.early("raised anew", o.Side)) {
		s.later(time.Millisecond, func() { s.unless(gone, func() { s.notDone(o, crossing.TroubleRaise{}) }) })
		return
	}
	looked := s.now
	s.later(s.millis(100, 3000), func() {
		if *gone || !s.may(o) || *gone {
			return
		}
		// What comes through from before a going home, later than that is held, may do so
		// between the look and the raise: then the engine has to have heard nothing of it.
		unheard := s.strayAt.After(looked) && s.engine.state.Share.Of(o.Side) == 0
		if of := s.sends(o.Side); of > 0 && !o.More && s.outside.Before(looked) && !unheard {
			s.broke("%v was raised while it got %v of the requests", o.Side, of)
		}
		number := cmp.Or(raise.Wanted(o.Choices), 2)
		half := s.happens("a raise came half way", 10)
		if half {
			number--
		}
		s.stand(o.Side, raise.Main(o.Choices).Version, number, o.More)
		s.tell("    %v stands with %d instances", o.Side, number)
		if half {
			s.notDone(o, crossing.TroubleRaise{})
			return
		}
		s.engine.Started(s.now, o.ID)
	})
}

// unless does something if the task is still wanted; what comes of one that is not may be
// heard of all the same.
func (s *sim) unless(gone *bool, do func()) {
	if !*gone || s.r.IntN(2) == 0 {
		do()
	}
}

// check makes a proof.
func (s *sim) check(o Order, gone *bool) {
	var names []string
	for _, i := range s.sides[o.Side] {
		names = append(names, i.Name)
	}
	r := proof.Result{Check: "search", Instance: o.Side.String(), Pass: true, Got: "status 200"}
	switch {
	case s.happens("a proof found something", 5):
		r.Pass, r.Ask, r.Got = false, true, "environment REGION"
	case s.happens("a proof failed", 8):
		r.Pass, r.Got = false, "status 503"
	}
	s.later(s.millis(200, 2000), func() {
		s.unless(gone, func() {
			if s.accepts = func() { s.judge.Proven(s.now, o.Side, names...) }; (r.Pass || r.Ask && s.accepted) &&
				!*gone {
				s.accepts()
			}
			s.report(crossing.Proved{Task: o.ID, Proof: proof.Proof{Results: []proof.Result{r}}})
		})
	})
}

// retire drains a side, takes it out of the front and stops it.
func (s *sim) retire(o Order, gone *bool) { s.drain(o, gone, s.now.Add(5*time.Second)) }

func (s *sim) drain(o Order, gone *bool, grace time.Time) {
	if *gone {
		return
	}
	if s.down || s.sends(o.Side) > 0 || s.early("given up", o.Side) {
		s.notDone(o, crossing.TroubleRetire{})
		return
	}
	if s.open[o.Side] > 0 && s.now.Before(grace) {
		s.later(200*time.Millisecond, func() { s.drain(o, gone, grace) })
		return
	}
	cut := s.open[o.Side]
	if !o.Final {
		s.report(crossing.Stopping{Task: o.ID, Cut: cut})
		if s.engine.state.Task.ID != o.ID {
			return
		}
	}
	s.stop(o, gone, s.engine.state.Seq, s.now.Add(2*time.Second))
}

func (s *sim) stop(o Order, gone *bool, seq uint64, limit time.Time) {
	switch {
	case !s.onDisk(seq) && s.now.After(limit):
		s.notDone(o, crossing.TroubleLogbook{})
		return
	case !s.onDisk(seq):
		s.later(20*time.Millisecond, func() { s.stop(o, gone, seq, limit) })
		return
	case s.down || s.sends(o.Side) > 0:
		s.notDone(o, crossing.TroubleRetire{}) // the front refuses
		return
	}
	if !s.may(o) || *gone {
		return
	}
	s.lists(judge.Vaiven, o.Side, nil)
	s.ending(o, gone, s.now)
}

// ending stops one instance after the other. It asks before each; one that was told to stop cannot be told otherwise.
func (s *sim) ending(o Order, gone *bool, emptied time.Time) {
	switch {
	case *gone:
	case len(s.sides[o.Side]) == 0:
		s.report(crossing.Retired{Task: o.ID, Side: o.Side})
	case !s.may(o) || *gone:
	case s.happens("a stop failed", 16):
		s.notDone(o, crossing.TroubleRetire{})
	default:
		if of := s.sends(o.Side); of > 0 && s.outside.Before(emptied) {
			s.broke("%v was stopped while it got %v of the requests", o.Side, of)
		}
		name := s.sides[o.Side][0].Name
		if s.outside.Before(emptied) {
			s.judge.Stops(s.now, o.Side, name)
		}
		s.feels(o.Side, name, reading.Failing)
		s.after(s.millis(20, 1000), func() {
			s.sides[o.Side] = slices.DeleteFunc(slices.Clone(s.sides[o.Side]),
				func(i reading.Instance) bool { return i.Name == name })
			s.judge.Gone(s.now, o.Side, name)
		})
		s.later(s.millis(25, 1100), func() { s.ending(o, gone, emptied) })
	}
}

// --- people

// ask is a person's command.
func (s *sim) ask(in crossing.Input) error {
	s.asked++
	seen := s.engine.state.Seq
	if s.r.IntN(4) == 0 {
		seen = s.seen
	}
	if back, ok := in.(crossing.Back); !ok {
		switch in.(type) {
		case crossing.Freeze:
		default:
			if s.full {
				return nil // refused by the keeper: nothing could be recorded
			}
		}
	} else {
		in = back
	}
	before := s.engine.state
	by := []string{"marit", "ada"}[s.r.IntN(2)]
	client := []string{by + "-1", by + "-1", by + "-2", ""}[s.r.IntN(4)]
	take := s.r.IntN(3) == 0
	if client != "" {
		delete(s.away, client)
	}
	s.engine.Present(s.clock(), func(client string) bool { return !s.away[client] })
	had := s.engine.state.Wheel
	passed := s.engine.Pass(s.clock())
	m := crossing.Moment{At: s.clock(), By: by, From: "quay", Client: client, Take: take, Seen: seen}
	was := s.engine.state
	would := s.engine.Would(m, in)
	if !same(was, s.engine.state) {
		s.broke("to ask whether %T would be refused changed something", in)
	}
	events, err := s.engine.Command(m, in)
	if fmt.Sprint(would) != fmt.Sprint(err) {
		s.broke("%T would be refused with %v, and was with %v", in, would, err)
	}
	events = append(passed, events...)
	s.tell("%s: %T %+v (of #%d): %v", client, in, in, seen, err)
	if err == nil {
		switch in := in.(type) {
		case crossing.Back:
		case crossing.LeaveWheel:
			s.judge.Leaves(in.Client)
		default:
			_, takes := in.(crossing.TakeWheel)
			s.judge.Says(s.now, client, take || takes, s.away[had.Client] && had.By == by)
		}
	}
	if err != nil {
		var r *crossing.Refusal
		if r, _ = err.(*crossing.Refusal); r == nil {
			s.broke("%T: %v", in, err)
		}
		if len(events) == 0 && !same(before, s.engine.state) {
			s.broke("%T was refused (%v) and changed something", in, err)
		}
	}
	for _, e := range events {
		switch f := e.What.(type) {
		case crossing.Begun, crossing.Ordered:
			s.outAt = s.now
		case crossing.Resumed:
			s.outAt = s.now
			s.judge.Thawed(s.now, seen, f.Freezes...)
		case crossing.Accepted:
			if s.accepts != nil {
				s.accepts()
			}
		case crossing.Answered:
			if yes, ok := in.(crossing.Yes); !ok || yes.Question != f.Question.ID {
				s.broke("%T %+v answered question %d", in, in, f.Question.ID)
			}
		}
	}
	s.took(events)
	return err
}

func same(a, b crossing.State) bool {
	x, _ := json.Marshal(a)
	y, _ := json.Marshal(b)
	return string(x) == string(y)
}

func (s *sim) begin() crossing.Begin {
	live := split.Blue
	if s.engine.state.Share == split.Whole {
		live = split.Green
	}
	return crossing.Begin{
		Service: "sailings", Number: s.engine.state.Number + 1, Target: live.Other(), LiveVersion: "4.2.0",
		Choices: []raise.Choice{raisedAt(s.grows)}, Nobody: s.first &&
			len(s.sides[live]) == 0, AtOnce: s.r.IntN(8) == 0,
		Hold: s.r.IntN(2) == 0, Route: s.plan.Route, Keep: s.plan.Keep, Then: s.plan.Then,
	}
}

// raisedAt is what the target is raised at.
func raisedAt(grows raise.Choice) raise.Choice {
	if grows.Part != "" {
		return grows
	}
	return raise.Choice{Part: "web", Version: "4.3.0", Build: "b-4.3.0"}
}

// rerouted is another route from where it is.
func (s *sim) rerouted(c crossing.State) route.Route {
	legs := slices.Clone(c.Route[:min(c.Leg+1, len(c.Route))])
	step := func() split.Share { return split.Share(500 + s.r.IntN(5000)) }
	for part := c.Part() + step(); part < split.Whole; part += step() {
		legs = append(legs, route.Leg{Part: part, Dwell: time.Duration(1+s.r.IntN(6)) * time.Second,
			Ask: s.r.IntN(4) == 0})
	}
	return append(legs, route.Leg{Part: split.Whole})
}

// person does something sensible, most of the time; two people now and then do the same.
func (s *sim) person() {
	if s.engine == nil {
		return
	}
	c := s.engine.state
	next, _ := c.Next()
	share := split.Share(s.r.IntN(10_001))
	var in crossing.Input
	odd := []crossing.Input{
		crossing.Steer{Share: share}, crossing.PutBack{}, crossing.Freeze{}, crossing.Resume{},
		crossing.Next{Leg: next}, crossing.Prove{}, crossing.Retire{Typed: s.plan.Service},
		crossing.Back{}, crossing.Back{Force: true}, crossing.Shift{Share: share}, crossing.Yes{Question: c.Seq},
		crossing.No{Question: c.Question.ID},
		crossing.Raise{Side: split.Sides[s.r.IntN(2)], Choices: c.Choices}, crossing.TakeWheel{},
		crossing.LeaveWheel{Client: c.Wheel.Client},
		crossing.Reroute{Route: s.rerouted(c)}, crossing.Reroute{Route: s.rerouted(c)},
	}
	switch {
	case s.r.IntN(4) == 0 && !(s.patient && s.r.IntN(3) > 0):
		in = odd[s.r.IntN(len(odd))]
	case c.Task.Do == crossing.TaskMove && s.r.IntN(2) == 0:
		in = crossing.Steer{Share: share}
	case c.Question.ID != 0:
		in = crossing.Yes{Question: c.Question.ID}
	case c.Foreign:
		in = []crossing.Input{crossing.PutBack{}, crossing.Resume{}}[s.r.IntN(2)]
	case c.Frozen():
		in = crossing.Resume{}
	case c.Stage == crossing.Shifting && s.r.IntN(3) == 0:
		in = crossing.Next{Leg: next}
	}
	s.seen, s.deadSince = c.Seq, time.Time{}
	if in == nil {
		return
	}
	_ = s.ask(in)
	if s.r.IntN(6) == 0 { // the other one does so too
		_ = s.ask(in)
	}
}

// --- what must be true

// holds looks at an event.
func (s *sim) holds(e crossing.Event) {
	before := s.folded
	s.folded = crossing.Apply(before, e)
	c := s.folded
	if _, ok := e.What.(crossing.Begun); ok && !reflect.DeepEqual(crossing.Apply(crossing.State{}, e), c) {
		s.broke("a keeper that reads from event %d on has another state: %+v, and not %+v", e.Seq,
			crossing.Apply(crossing.State{}, e), c)
	}
	if c.Stage != before.Stage {
		s.tally["stage: "+string(c.Stage)]++
	}
	s.permitted(e, before)
	if before.Since != c.Since {
		s.watched = 0
	}
	s.judged(e, before)
	s.gets()
	of := func(task uint64) {
		if task != s.ordered && task != before.Late.ID { // a change that a freeze cancelled came through all the same
			s.broke("a report on task %d counts, and %d was the last one: %+v", task, s.ordered, e.What)
		}
	}
	switch f := e.What.(type) {
	case crossing.SentBack:
		s.deadSince = time.Time{} // it is a person's word, who sees to it
	case crossing.RollsBack:
		s.backAt, s.backBy = s.now, e.By
	case crossing.NotReturned:
		if s.nobody++; s.now.Sub(s.nobodyAt) > 10*time.Second || s.backBy != Guards {
			s.nobody = 1
		}
		if s.nobodyAt = s.now; s.nobody > 4 {
			s.broke("a guard asks again and again to go to where nobody is")
		}
	case crossing.Raised:
		of(f.Task)
	case crossing.Proved:
		of(f.Task)
	case crossing.Stopping:
		of(f.Task)
	case crossing.Retired:
		of(f.Task)
	case crossing.TookEffect:
		of(f.Task)
		if f.Share != f.Nearest {
			s.broke("%v is in force where %v was asked for, and it is taken for ours", f.Share, f.Nearest)
		}
	case crossing.Changed:
		if s.outside.IsZero() && !s.surprises {
			s.broke("somebody is said to have changed the front, and nobody did: %+v", f)
		}
	case crossing.Ended:
	case crossing.Returned:
		of(f.Task)
		if s.share != f.Share && !s.outside.After(s.homeAt) {
			s.broke("it says that all is home, and the front has %v on green", s.share)
		}
	case crossing.Ordered:
		s.ordered = e.Seq
		if e.At.Before(s.dead) && f.Task.Do == crossing.TaskMove && !f.Task.Act &&
			f.Task.Share.Of(c.Target) > before.Part() {
			s.broke("more is to go to %v, where nobody serves", c.Target)
		}
		if f.Task.Do == crossing.TaskRetire && c.Share.Of(f.Task.Side) > 0 {
			s.broke("%v is to be retired, which gets %v", f.Task.Side, c.Share.Of(f.Task.Side))
		}
	}
}

// permitted holds what goes on to what is known: nothing goes on without it.
func (s *sim) permitted(e crossing.Event, before crossing.State) {
	if before.Begun.IsZero() {
		return
	}
	goesOn := false
	switch f := e.What.(type) {
	case crossing.Ordered:
		goesOn = f.Task.More || f.Task.Do == crossing.TaskMove && !before.Due.On && !f.Task.Act &&
			f.Task.Share.Of(before.Target) > before.Part() ||
			f.Task.Do == crossing.TaskRetire && f.Task.Side != before.Target && before.Stage == crossing.Settled
	case crossing.Ended:
		goesOn = f.Stage == crossing.Settled
	}
	if !goesOn {
		return
	}
	known := s.known(s.now, 0)
	if e.By != Self || before.AtOnce { // a person may go on while the side that is left is in the dark
		known = s.now.Sub(s.frontRead) <= freshFront && s.now.Sub(s.sidesRead[before.Target]) <= 5*time.Second
	}
	if !known {
		s.broke("it goes on though the front was read %v ago, and the sides %v and %v ago: %+v", s.now.Sub(s.frontRead),
			s.now.Sub(s.sidesRead[0]), s.now.Sub(s.sidesRead[1]), e.What)
	}
	if before.Stage == crossing.Keeping && !s.serves(before.Target) && e.At.Before(s.dead) {
		s.broke("it settles on %v, where nobody serves", before.Target)
	}
	byItself := e.By == Self && (before.Stage == crossing.Shifting || before.Stage == crossing.Keeping)
	if !byItself {
		return
	}
	_, until := before.UntilSure()
	if s.watched < before.Whole()-freshFront-100*time.Millisecond && before.Task.ID == 0 && !until {
		s.broke("it went on by itself after %v of %v were watched: %+v", s.watched, before.Whole(), e.What)
	}
	if s.plan.Quiet == plan.QuietGoOn || before.Alone() { // nobody is there to compare with
		return
	}
	answered := s.answered
	if s.skew != 0 { // then the front's times are not the keeper's, and a reading from before may count
		answered += s.rate
	}
	for _, g := range s.plan.Guards {
		if g.Watch == plan.Failing && answered <= float64(guard.Least(g.Watch))-1 &&
			!slices.Contains(before.Waived, g.Name) {
			s.broke("it went on by itself after %.0f answers, and %s needs %d: %+v", s.answered, g.Name,
				guard.Least(g.Watch), e.What)
		}
		if g.Watch == plan.Door && s.now.Sub(s.doorHeard) > doorSilent && !slices.Contains(before.Waived, g.Name) {
			s.broke("it went on by itself after the prober has heard nothing for %v: %+v", s.now.Sub(s.doorHeard),
				e.What)
		}
	}
}

// doorSilent is for how long a prober hears nothing until that is noticed, at most.
const doorSilent = 7 * time.Second

// judged tells the judge what people are told.
func (s *sim) judged(e crossing.Event, before crossing.State) {
	c := s.folded
	switch f := e.What.(type) {
	case crossing.Begun:
		s.retiring, s.accepted = 0, false
		s.judge.Begins(s.now, f.Target, f.First || f.AtOnce, s.grows.Until, s.grows.Then)
	case crossing.Frozen:
		s.judge.Frozen(s.now, e.Seq)
	case crossing.RollsBack:
		s.judge.Returns(s.now)
	case crossing.Ended:
		s.judge.Ends(s.now, f.Stage == crossing.Settled)
		if f.Stage == crossing.RolledBack && !s.outside.After(s.homeAt) && !s.strayAt.After(s.homeAt) &&
			!s.homeAt.IsZero() {
			s.judge.Told(s.now, "rolled back", split.Toward(c.Target.Other(), split.Whole))
		}
	case crossing.Accepted: // which is an answer to the question that it asked
		s.accepted = true
		for _, f := range before.Freezes {
			if !slices.ContainsFunc(c.Freezes, func(left crossing.Freezing) bool { return left.ID == f.ID }) {
				s.judge.Thawed(s.now, f.ID, f.ID)
			}
		}
	case crossing.LeftWheel:
		s.judge.Leaves(f.Wheel.Client)
		if f.Gone && !s.away[f.Wheel.Client] && !s.now.Before(s.held) {
			s.broke("%s has lost the wheel, and is here", f.Wheel.Client)
		}
	case crossing.Ordered:
		switch t := f.Task; {
		// where the side gets more instances first, it was that order that went on
		case t.Do == crossing.TaskMove, t.More:
			s.judge.Ordered(s.now, e.Seq, t.Share, e.By == Self && !before.Due.On)
		case t.Do == crossing.TaskRetire:
			s.retiring = e.Seq
		}
	}
	if s.retiring != 0 && c.Task.Do != crossing.TaskRetire {
		s.retiring = 0
	}
	s.judge.Retiring(s.retiring != 0)
}

// still holds what is done by itself to what holding still would have cost, from when it is
// known that nobody serves on the live side.
func (s *sim) still() {
	e := s.engine
	c := e.state
	home := e.standing(c.Target.Other())
	dead := home.Known && home.Healthy == 0 && home.Other > 0 &&
		(c.Stage == crossing.Shifting || c.Stage == crossing.Keeping) && !c.GoingBack && c.Task.ID == 0 &&
		s.share == c.Share
	switch {
	case s.deadSince.IsZero() && dead:
		s.deadSince, s.deadShare, s.lost, s.stillLost = s.now, s.share, 0, 0
		for _, side := range split.Sides {
			s.deadParts[side] = s.fraction(side)
		}
	case s.deadSince.IsZero():
	case home.Known && (home.Healthy > 0 || home.Other == 0) || s.outside.After(s.deadSince) ||
		s.elsewhere.After(s.deadSince) || s.strayAt.After(s.deadSince):
		// it serves again, or nobody does anywhere, or somebody else steers, or what a person did before comes through
		s.deadSince = time.Time{}
	case s.lost > s.stillLost+3*s.rate: // until the sides are read again
		s.broke("nobody serves on the live side: %.0f requests failed since, and %.0f had everything stayed at %v: %v",
			s.lost, s.stillLost, s.deadShare, c)
	}
}

// consistent looks at the state.
func (s *sim) consistent(changed bool) {
	if !changed {
		return
	}
	c := s.engine.state
	if c.Seq != s.folded.Seq {
		s.broke("the engine is at event %d, and has told of %d", c.Seq, s.folded.Seq)
	}
	if (c.Stage.Over() || c.Stage == crossing.None) && (c.Frozen() || c.Question.ID != 0 || c.GoingBack || c.Timed()) {
		s.broke("nothing is under way, and it waits for somebody: %v", c)
	}
	if c.GoingBack && c.Task.Do != crossing.TaskHome {
		s.broke("it goes back, and nobody is told to: %v", c)
	}
	if c.GoingBack && c.Frozen() {
		s.broke("it goes back, and is frozen: %v", c)
	}
	if n := len(s.all); n > 150+12*s.asked+40*s.tally["somebody changed the share"]+400*s.life {
		s.broke("%d events: a retry is no entry", n)
	}
}

// --- a run

func (s *sim) run() {
	s.start(Memory{})
	s.until(s.now.Add(4 * time.Second))
	for range 20 {
		if s.ask(s.begin()) == nil && s.engine.state.Stage.UnderWay() {
			break
		}
		s.until(s.now.Add(time.Second))
	}
	end := s.now.Add(time.Duration(14+s.r.IntN(56)) * time.Second)
	if s.patient {
		end = end.Add(2 * time.Minute)
	}
	for s.now.Before(end) && s.broken == "" {
		s.until(s.now.Add(s.millis(200, 3000)))
		s.strikes()
		if s.r.IntN(2) == 0 && !s.now.Before(s.held) {
			s.person()
		}
		if c := s.engine.state; c.Stage.Over() && c.Task.ID == 0 && s.r.IntN(3) == 0 {
			break
		}
	}
	if s.broken == "" {
		s.ends()
	}
}

// strikes lets something happen to the whole.
func (s *sim) strikes() {
	if s.plan.Embargo != "" && s.r.IntN(8) == 0 {
		s.embargo, s.embargoAt = !s.embargo, s.now
		s.tell("    there is an embargo: %v", s.embargo)
	}
	switch {
	case s.happens("somebody else steered", 12):
		s.somebody()
	case s.happens("an instance changed", 10):
		s.ills()
	case s.happens("the target's answers failed", 12):
		s.failing = []float64{0.01, 0.2, 0.9}[s.r.IntN(3)]
	case s.failing > 0 && s.r.IntN(3) == 0:
		s.failing = 0
	case s.hung.IsZero() && s.happens("the target hung", 12):
		s.hung, s.waiting = s.now, 0
	case !s.hung.IsZero() && s.r.IntN(16) == 0:
		s.hung = time.Time{}
	case s.happens("the prober was cut off", 20):
		s.cutOff = true
		s.after(s.millis(500, 20_000), func() { s.cutOff = false })
	case s.happens("all of the live side fell ill", 25):
		if s.engine != nil {
			for _, i := range s.sides[s.engine.state.Target.Other()] {
				s.feels(s.engine.state.Target.Other(), i.Name, reading.Failing)
			}
		}
	case s.happens("the front went away", 15):
		s.disturbed++
		s.down = true
		s.after(s.millis(500, 20_000), func() { s.down = false })
	case s.happens("the disk was full", 20):
		s.full = true
		s.after(s.millis(500, 20_000), func() { s.full = false })
	case s.happens("the process stood still", 15):
		s.disturbed++
		s.stands(s.millis(500, 30_000), false)
	case s.fronts && s.happens("somebody changed one of two fronts", 4):
		s.oneOfTwo()
	case s.holes && s.engine.state.Stage == crossing.Keeping && s.happens("the machine slept in the keep", 1):
		s.holes = false
		s.disturbed++
		s.stands(s.millis(5000, 60_000), true)
	case s.happens("the machine slept", 25):
		s.disturbed++
		s.stands(s.millis(5000, 60_000), true)
	case s.happens("a client was not heard of any more", 15):
		if c := s.engine.state.Wheel.Client; c != "" {
			s.away[c] = true
		}
	case s.engine.state.Task.ID == 0 && s.kept == len(s.all) && s.skew == s.clockOf && !s.now.Before(s.held) &&
		s.happens("the keeper was handed over", 6):
		*s.cancel = true
		s.start(asRead(s.engine.Hand(s.clock())))
	case s.happens("the clock jumped", 20):
		s.disturbed++
		s.skew += []time.Duration{-time.Hour, -5 * time.Second, 5 * time.Second, time.Hour}[s.r.IntN(4)]
	case s.happens("requests stayed open", 10):
		side := split.Sides[s.r.IntN(2)]
		s.open[side] = 3
		s.after(s.millis(500, 20_000), func() { s.open[side] = 0 })
	case s.happens("the keeper was killed", 12):
		s.disturbed++
		*s.cancel = true
		s.life++
		if s.endedAt = s.now; s.now.Before(s.held) {
			s.endedAt = s.heldFrom
		}
		s.until(s.now.Add(s.millis(10, 10_000)))
		s.start(Memory{})
	case s.happens("everything was started anew", 25):
		s.anew()
	}
}

// anew ends all processes at once: the keeper, the front and all instances. Most of these are started again by
// whoever does that, each in its own time.
func (s *sim) anew() {
	s.disturbed++
	*s.cancel = true
	s.life++
	if s.endedAt = s.now; s.now.Before(s.held) {
		s.endedAt = s.heldFrom
	}
	s.down = true
	for _, side := range split.Sides {
		for n := range s.sides[side] {
			i := &s.sides[side][n]
			name := i.Name
			i.Running, i.Exit = false, "killed"
			s.feels(side, name, reading.Exited)
			if s.r.IntN(5) == 0 {
				continue
			}
			s.after(s.millis(500, 15_000), func() {
				at := slices.IndexFunc(s.sides[side], func(now reading.Instance) bool { return now.Name == name })
				if at < 0 || s.health[name] != reading.Exited {
					return
				}
				up := &s.sides[side][at]
				up.Running, up.Exit, up.Started = true, "", s.now
				s.feels(side, up.Name, "")
			})
		}
	}
	s.after(s.millis(500, 10_000), func() { s.down = false })
	s.until(s.now.Add(s.millis(500, 20_000)))
	s.start(Memory{})
}

// stands lets the process stand still, or the whole machine, whose clock for what lasts stands still as well then.
func (s *sim) stands(long time.Duration, machine bool) {
	if !s.now.Before(s.held) {
		s.heldFrom = s.now
	} else if machine {
		return
	}
	if until := s.now.Add(long); until.After(s.held) {
		s.held = until // one that stands still already does so for no shorter
	}
	from := s.heldFrom
	heap.Push(&s.queue, moment{s.held, 0, s.life, func() {
		if s.now.Before(s.held) {
			return // for longer
		}
		if machine {
			s.clockOf -= long
			s.skew -= long
		}
		if gone := s.now.Sub(from); gone > holeLeast+judgeEvery {
			s.judge.Missed(from, s.now)
		}
		if machine {
			s.took(s.engine.Slept(s.clock(), long))
		}
	}})
}

// asRead is a memory as another process reads it.
func asRead(m Memory) Memory {
	data, err := json.Marshal(m)
	if err != nil {
		panic(err)
	}
	var read Memory
	if err := json.Unmarshal(data, &read); err != nil {
		panic(err)
	}
	return read
}

// ends holds the run to its end: once nothing goes wrong any more, going home ends.
func (s *sim) ends() {
	s.calm, s.down, s.full, s.failing, s.hung, s.cutOff = true, false, false, 0, time.Time{}, false
	s.embargo = false
	s.tell("nothing goes wrong any more")
	if s.held.After(s.now) {
		s.until(s.held)
	}
	s.until(s.now.Add(7 * time.Second))
	c := s.engine.state
	if s.broken != "" || c.Stage == crossing.None {
		return
	}
	home := split.Toward(c.Target.Other(), split.Whole)
	gone := len(s.sides[c.Target.Other()]) == 0 && len(s.servers[c.Target.Other()]) == 0
	if err := s.ask(crossing.Back{Force: true}); err == nil && !gone {
		s.quiet(15*time.Second, func() bool {
			return s.share == home && s.beside == home &&
				s.engine.state.Stage.Over()
		})
		if s.broken == "" && (s.share != home || s.beside != home) {
			s.broke("it was sent home, and the front has %v on green, the one beside it %v: %v", s.share, s.beside,
				s.engine.state)
		}
		if c := s.engine.state; s.broken == "" && !c.Stage.Over() {
			s.broke("it went home and is not over: %v", c)
		}
	}
	s.quiet(110*time.Second, func() bool {
		return s.kept == len(s.all) && (s.engine.state.Task.ID == 0 || s.engine.state.Stage.UnderWay())
	})
	if s.broken != "" {
		return
	}
	if c := s.engine.state; c.Task.ID != 0 && !c.Stage.UnderWay() &&
		!(c.Task.Do == crossing.TaskRetire && !s.serves(c.Task.Side.Other())) {
		s.broke("what was to be done is never done: %v: %+v, %v", c, s.engine.withheld(c.Task), s.health)
	}
	s.quiet(6*time.Second, func() bool {
		return s.engine.state.Task.ID == 0 && s.engine.state.Share == s.share &&
			(len(s.engine.state.Apart) > 0) == (s.share != s.beside)
	})
	if c := s.engine.state; s.broken == "" && c.Task.ID == 0 &&
		(c.Share != s.share || (len(c.Apart) > 0) != (s.share != s.beside)) {
		s.broke("it says that %v is on green, and it is %v", c.Share, s.share)
	}
	s.replays()
}

// quiet lets time pass until something is so, but not for ever.
func (s *sim) quiet(limit time.Duration, so func() bool) {
	for end := s.now.Add(limit); s.now.Before(end) && s.broken == "" && !so(); {
		s.until(s.now.Add(200 * time.Millisecond))
	}
}

// replays holds the logbook to the state.
func (s *sim) replays() {
	if s.kept != len(s.all) {
		s.broke("%d of %d events are on disk", s.kept, len(s.all))
		return
	}
	var c crossing.State
	for n, e := range s.all {
		var again crossing.Event
		data, err := json.Marshal(e)
		if err == nil {
			err = json.Unmarshal(data, &again)
		}
		if err != nil || again.Seq != uint64(n+1) {
			s.broke("event %d: %v", n+1, err)
			return
		}
		c = crossing.Apply(c, again)
	}
	if !same(c, s.engine.state) {
		s.broke("the logbook ends with %v, and the engine with %v", c, s.engine.state)
	}
}
