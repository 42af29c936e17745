package fleet

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"vaiven/lab/testkit"
)

var noon = time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)

// played is a crossing of a fleet in a test: what was seen, and what came of it.
type played struct {
	t   *testing.T
	c   Crossing
	at  time.Time
	did []string
}

func play(t *testing.T, f *Fleet) *played {
	p := &played{t: t, at: noon}
	versions := map[string]string{}
	for _, name := range f.Names() {
		versions[name] = "5.0"
	}
	p.c = Apply(p.c, Event{At: noon, Kind: Begun, Number: 1, Fleet: f, Versions: versions,
		Turns: f.Course(f.Names(), minutes).Names()})
	p.proceed()
	return p
}

func (p *played) proceed() {
	for _, e := range p.c.Proceed(p.at) {
		p.c = Apply(p.c, e)
		text := strings.TrimSpace(fmt.Sprintf("%s %s", e.Kind, e.Name))
		if e.Kind == Is {
			text = e.Name + " " + string(e.Stage)
		}
		p.did = append(p.did, text)
	}
}

// sees tells how far a member is, and says what was done then.
func (p *played) sees(name string, stage Stage) string {
	p.t.Helper()
	p.at = p.at.Add(time.Second)
	for _, e := range p.c.Seen(p.at, name, stage, "") {
		p.c = Apply(p.c, e)
	}
	p.did = nil
	p.proceed()
	return strings.Join(p.did, ", ")
}

func (p *played) step(name string, stage Stage, want string) {
	p.t.Helper()
	if got := p.sees(name, stage); got != want {
		p.t.Fatalf("when %s %s: %q, want %q", name, stage, got, want)
	}
}

// What others need goes first, as many at once as may; what has arrived makes room.
func TestAFleetCrosses(t *testing.T) {
	p := play(t, ferries())
	if got := strings.Join(p.did, ", "); got != "begins fares, begins berths" {
		t.Fatalf("first %s", got)
	}
	p.step("berths", Arrived, "begins manifests")
	p.step("manifests", Arrived, "")
	p.step("fares", Arrived, "begins sailings, begins bookings")
	p.step("bookings", Arrived, "")
	p.step("sailings", Arrived, "begins board")
	p.step("board", Settled, "")
	for _, name := range []string{"fares", "berths", "manifests", "sailings"} {
		p.step(name, Settled, "")
	}
	p.step("bookings", Settled, "ended")
	if there, back, not := p.c.Counts(); there != 6 || back != 0 || not != 0 || p.c.UnderWay() {
		t.Errorf("%d are there, %d back, %d not begun", there, back, not)
	}
	p.step("bookings", Back, "") // what is over stays so
}

// A rollback stops the rest, or what needs it.
func TestARollbackStops(t *testing.T) {
	p := play(t, ferries())
	p.step("fares", GoesBack, "manifests not begun, sailings not begun, bookings not begun, board not begun")
	p.step("fares", Back, "")
	p.step("berths", Settled, "ended")
	f := ferries()
	f.Stops = StopsDependents
	p = play(t, f)
	p.step("fares", GoesBack, "sailings not begun, bookings not begun, board not begun")
	p.step("fares", Back, "begins manifests")
	f.Before = []Before{{First: "fares", Then: "manifests"}} // by that rule alone it may go all the same
	p = play(t, f)
	p.step("fares", Back, "sailings not begun, bookings not begun, board not begun, begins manifests")
}

// Of both or neither, those that are there are rolled back the last first, each when the one before is back.
func TestBothOrNeither(t *testing.T) {
	f := ferries()
	f.Both = [][]string{{"fares", "sailings", "board"}}
	p := play(t, f)
	p.step("berths", Settled, "begins manifests")
	p.step("manifests", Settled, "")
	p.step("fares", Arrived, "begins sailings, begins bookings")
	if p.c.AllThere("fares") {
		t.Error("the keep of fares may end, and board has not begun")
	}
	if !p.c.AllThere("berths") {
		t.Error("the keep of berths may not end, and it arrives with nobody")
	}
	p.step("bookings", Settled, "")
	p.step("sailings", Arrived, "begins board")
	p.step("board", GoesBack, "undone sailings")
	p.step("board", Back, "")
	p.step("sailings", GoesBack, "")
	p.step("sailings", Back, "undone fares")
	p.step("fares", Back, "ended")
	// One that does not get back holds up the others for a while only.
	p = play(t, f)
	p.step("berths", Settled, "begins manifests")
	p.step("fares", Arrived, "begins sailings")
	p.step("manifests", Settled, "begins bookings")
	p.step("sailings", Arrived, "begins board")
	p.step("board", Back, "undone sailings")
	p.at = p.at.Add(undoneFor)
	p.step("bookings", Settled, "undone fares")
	if p.c.AllThere("fares") {
		t.Error("the keep of one that is rolled back may end")
	}
	// All there, they may settle.
	p = play(t, f)
	p.step("fares", Arrived, "begins manifests")
	p.step("berths", Arrived, "begins sailings")
	p.step("sailings", Arrived, "begins bookings")
	p.step("manifests", Arrived, "begins board")
	p.step("board", Arrived, "")
	if !p.c.AllThere("fares") || !p.c.AllThere("board") {
		t.Error("all are there, and their keeps may not end")
	}
}

func TestMixed(t *testing.T) {
	f := ferries()
	old, fresh := map[string]string{}, map[string]string{}
	for _, name := range f.Names() {
		old[name], fresh[name] = "4", "5"
	}
	show := func(c Course) string {
		var list []string
		for _, p := range f.Mixed(c, old, fresh) {
			text := fmt.Sprintf("%v %g-%g", p, p.From.Minutes(), p.Until.Minutes())
			if p.Stays {
				text += " stays"
			}
			list = append(list, text)
		}
		return strings.Join(list, "\n")
	}
	if got, want := show(f.Course(f.Names(), minutes)), `board 4 with berths 5 0-16
bookings 4 with fares 5 0-7
sailings 4 with fares 5 0-15
board 4 with sailings 5 5-16`; got != want {
		t.Errorf("there are\n%s\nwant\n%s", got, want)
	}
	if got, want := show(f.Course([]string{"sailings"}, minutes)), `board 4 with sailings 5 0-10 stays
sailings 5 with fares 4 0-10 stays`; got != want {
		t.Errorf("of one there are\n%s\nwant\n%s", got, want)
	}
	f.Both = [][]string{{"fares", "sailings"}}
	if got := f.Overlap(f.Course(f.Names(), minutes), "fares", 3*time.Minute); got != 7*time.Minute {
		t.Errorf("fares stands twice for %v more", got)
	}
}

// at is a member's service in the world: what was done to it, by whomever.
type at struct {
	number         int // of its last crossing
	share, keeps   bool
	begun, arrived int // moments, 0 for not yet
	gone           int // home again, or given up
	settled        int
	seen           bool // that it is gone
}

// world is services that cross, freeze, break and are rolled back as they please, and a fleet's process that is killed
// now and then and begins again with what it has recorded. What is judged is what happened to the services.
type world struct {
	t     *testing.T
	r     *rand.Rand
	f     *Fleet
	names []string
	at    map[string]*at
	now   int
	log   []Event
	c     Crossing
	told  map[string]bool // going back was told to its keeper
	backs []string        // those that the fleet rolled back, in that order
}

func (w *world) record(events []Event) {
	for _, e := range events {
		text, err := json.Marshal(e)
		var again Event
		if err != nil || json.Unmarshal(text, &again) != nil {
			w.t.Fatalf("%+v is not recorded: %v", e, err)
		}
		w.log = append(w.log, again)
		w.c = Apply(w.c, again)
		w.does(again)
	}
}

// does is what the process does after something is recorded: nothing, if it is killed there.
func (w *world) does(e Event) {
	if w.r.IntN(12) == 0 {
		w.c = Crossing{}
		for _, e := range w.log {
			w.c = Apply(w.c, e)
		}
	}
}

// acts does what the state asks for: begins what is to be begun and has not, and rolls back.
func (w *world) acts() {
	for _, p := range w.c.Parts {
		s := w.at[p.Name]
		if p.Stage == Crosses && s.number == p.Before {
			s.number, s.begun, s.keeps = s.number+1, w.now, w.f.InBoth(p.Name)
			w.begins(p.Name)
		}
		if !p.Undone.IsZero() && !p.Stage.Over() && !w.told[p.Name] {
			w.told[p.Name] = true
			w.backs = append(w.backs, p.Name)
			if s.settled == 0 && s.gone == 0 && w.r.IntN(8) > 0 {
				s.gone = w.now
			} else {
				w.told[p.Name] = w.r.IntN(2) == 0 // it was not heard
			}
		}
		if p.Stage == Arrived && s.keeps && w.c.AllThere(p.Name) {
			s.keeps = false
		}
	}
}

// begins judges a beginning.
func (w *world) begins(name string) {
	under := 0
	for _, n := range w.names {
		if s := w.at[n]; s.begun > 0 && s.arrived == 0 && s.gone == 0 {
			under++
		}
	}
	if w.f.AtOnce > 0 && under > w.f.AtOnce {
		w.t.Fatalf("%d cross at once, and %d may", under, w.f.AtOnce)
	}
	for _, n := range w.names {
		if w.at[n].seen && (w.f.Stops == StopsAll || w.f.together(n, name)) {
			w.t.Fatalf("%s begins, and %s was rolled back", name, n)
		}
	}
	m, _ := w.f.Member(name)
	for _, e := range m.Needs {
		if s := w.at[e.To]; slices.Contains(w.names, e.To) && s.arrived == 0 {
			w.t.Fatalf("%s begins before %s has arrived", name, e.To)
		}
	}
	for _, b := range w.f.Before {
		s := w.at[b.First]
		given, _ := w.c.Part(b.First)
		waits := s.arrived == 0 && s.gone == 0 && given.Stage != NotBegun
		if b.Then == name && slices.Contains(w.names, b.First) && waits {
			w.t.Fatalf("%s begins before %s", name, b.First)
		}
	}
}

// moves has the services go on by themselves.
func (w *world) moves() {
	for _, name := range w.names {
		switch s := w.at[name]; {
		case s.begun == 0 || s.gone > 0 || s.settled > 0 || w.r.IntN(4) > 0:
		case w.r.IntN(12) == 0:
			s.gone = w.now // a guard, or somebody
		case s.arrived == 0:
			s.arrived = w.now
		case !s.keeps:
			s.settled = w.now
		}
	}
}

// looks tells the process how far one is.
func (w *world) looks() {
	name := w.names[w.r.IntN(len(w.names))]
	s := w.at[name]
	stage := Crosses
	switch {
	case s.begun == 0:
		return
	case s.gone > 0 && w.r.IntN(2) == 0:
		stage = GoesBack
	case s.gone > 0:
		stage = Back
	case s.settled > 0:
		stage = Settled
	case s.arrived > 0:
		stage = Arrived
	}
	p, _ := w.c.Part(name)
	if p.Stage == GoesBack && stage != Back {
		return
	}
	s.seen = s.gone > 0
	w.record(w.c.Seen(noon.Add(time.Duration(w.now)*time.Second), name, stage, ""))
}

// Whatever services do, whoever rolls back and wherever the process dies: the order is kept, no more cross at once than
// may, and of both or neither all stay or none.
func TestEveryFleetCrossing(t *testing.T) {
	r := testkit.Rand(t)
	both, neither := 0, 0
	for range 3000 {
		w := &world{t: t, r: r, f: anyFleet(r), at: map[string]*at{}, told: map[string]bool{}}
		for _, name := range w.f.Names() {
			w.at[name] = &at{number: r.IntN(3)}
			if r.IntN(6) > 0 {
				w.names = append(w.names, name)
			}
		}
		if len(w.names) == 0 {
			continue
		}
		versions, numbers := map[string]string{}, map[string]int{}
		for _, name := range w.names {
			versions[name], numbers[name] = "5.0", w.at[name].number
		}
		w.record([]Event{{At: noon, Kind: Begun, Number: 1, Fleet: w.f, Versions: versions, Numbers: numbers,
			Turns: w.f.Course(w.names, nil).Names()}})
		for w.now = 1; w.c.UnderWay(); w.now++ {
			if w.now > 5000 {
				t.Fatalf("it does not end: %+v", w.c.Parts)
			}
			w.record(w.c.Proceed(noon.Add(time.Duration(w.now) * time.Second)))
			w.acts()
			w.moves()
			w.looks()
		}
		b, n := w.judge()
		both, neither = both+b, neither+n
	}
	if both < 100 || neither < 100 {
		t.Errorf("of both or neither it was %d times both and %d times neither", both, neither)
	}
}

// judge holds what came of the services against what was asked for.
func (w *world) judge() (both, neither int) {
	first := func(n int) bool { return slices.Index(w.backs, w.backs[n]) == n }
	last := 0
	for n, name := range w.backs {
		if begun := w.at[name].begun; first(n) {
			if n > 0 && begun > last {
				w.t.Fatalf("they are rolled back in the order %v, and %s was begun after", w.backs, name)
			}
			last = begun
		}
	}
	for _, group := range w.f.Both {
		var stay, gone []string
		settled := false
		for _, name := range group {
			s := w.at[name]
			switch {
			case !slices.Contains(w.names, name):
			case s.begun > 0 && s.gone == 0:
				stay = append(stay, name)
			default:
				gone = append(gone, name)
			}
			settled = settled || s.settled > 0
		}
		if len(stay) > 0 && len(gone) > 0 {
			allWere := true // it came to nothing after all had arrived, and those were not to be rolled back any more
			for _, name := range append(slices.Clone(stay), gone...) {
				allWere = allWere && w.at[name].arrived > 0
			}
			if !allWere || !settled {
				w.t.Fatalf("of both or neither %v stay and %v do not: %+v", stay, gone, w.c.Parts)
			}
		}
		if len(gone) == 0 {
			both++
		} else if len(stay) == 0 {
			neither++
		}
	}
	return both, neither
}

func anyFleet(r *rand.Rand) *Fleet {
	f := &Fleet{Name: "ferries", AtOnce: r.IntN(4), Stops: []Stops{StopsAll, StopsDependents}[r.IntN(2)]}
	for n := range 1 + r.IntN(8) {
		m := Member{Name: fmt.Sprint("s", n)}
		for before := range n {
			if r.IntN(4) == 0 {
				m.Needs = append(m.Needs, Edge{To: fmt.Sprint("s", before)})
			}
		}
		if n > 0 && r.IntN(5) == 0 {
			f.Before = append(f.Before, Before{fmt.Sprint("s", r.IntN(n)), m.Name})
		}
		f.Members = append(f.Members, m)
	}
	if names := f.Names(); len(names) > 1 && r.IntN(2) == 0 {
		r.Shuffle(len(names), func(i, j int) { names[i], names[j] = names[j], names[i] })
		f.Both = [][]string{names[:2+r.IntN(len(names)-1)]}
	}
	return f
}
