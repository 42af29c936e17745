package prove

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	"vaiven/internal/words"
	"vaiven/internal/world/place"
)

// yard is both sides on test servers, with places of their own.
type yard struct {
	blocked map[string]string // by instance: an address that is refused from there
	region  map[string]string
	gone    bool // places cannot be reached
}

// walled is a place from which an address is refused.
type walled struct {
	place.Local
	blocked string
}

func (w walled) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	if address == w.blocked {
		return nil, place.Failure(place.Refused, address, "")
	}
	return w.Local.Dial(ctx, network, address)
}

func (y *yard) From(reading.Instance) place.Place { return place.Local{} }

func (y *yard) Place(_ context.Context, i reading.Instance) (place.Place, error) {
	if y.gone {
		return nil, errors.New("host green.vessa does not answer")
	}
	return walled{blocked: y.blocked[i.Name]}, nil
}

func (y *yard) List(context.Context, split.Side) ([]reading.Instance, error) { return nil, nil }

func (y *yard) Describe(_ context.Context, i reading.Instance) (stack.Description, error) {
	return stack.Description{Environment: map[string]string{"REGION": y.region[i.Name]}}, nil
}

// service is what the instances of a test answer.
type service struct {
	mu      sync.Mutex
	says    string // build
	version string
	price   int
	age     string
	first   bool // the first search of each instance fails
	seen    map[string]bool
}

func (s *service) instance(t *testing.T, side split.Side, n int) reading.Instance {
	t.Helper()
	name := fmt.Sprintf("%v-%d", side, n)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.age != "" && r.URL.Path != "/healthz" {
			w.Header().Set("Age", s.age)
		}
		if r.URL.Path == "/sailings" && s.first && !s.seen[name] {
			s.seen[name] = true
			http.Error(w, "the timetable is still being read", 500)
			return
		}
		fmt.Fprintf(w, `{"build":%q,"version":%q,"price":%d}`, s.says, s.version, s.price)
	}))
	t.Cleanup(srv.Close)
	return reading.Instance{Name: name, Part: "web", Side: side, Version: s.version, Build: s.says,
		Address: srv.Listener.Addr().String(), Running: true}
}

// newQuestion is a side that is good in every way.
func newQuestion(t *testing.T) (Question, *yard, [2]*service) {
	t.Helper()
	fares, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { fares.Close() })
	y := &yard{blocked: map[string]string{}, region: map[string]string{}}
	services := [2]*service{{says: "7c1e40d9a0b1", version: "4.2.0", price: 900},
		{says: "b92f1a7e0c1d", version: "4.3.0", price: 900}}
	check := plan.Check{Every: time.Millisecond, Within: 10 * time.Second, Up: 1, Down: 1}
	named := func(name string, what plan.Asking) plan.Check {
		c := check
		c.Name, c.What = name, what
		return c
	}
	p := &plan.Plan{
		Service: "sailings",
		Parts: []plan.Part{{
			Name:   "web",
			Health: named("health", plan.HTTP{Method: "GET", URL: "/healthz"}),
			Smoke: []plan.Check{named("search",
				plan.HTTP{Method: "GET", URL: "/sailings", Status: 200, Version: plan.Field{JSON: "version"}})},
			Needs: []plan.Check{named("fares", plan.TCP{Address: fares.Addr().String()})},
			Says:  plan.Says{Path: "/about", Build: plan.Field{JSON: "build"}, Version: plan.Field{JSON: "version"}},
		}},
		Differences: plan.Differences{Meant: []plan.Meant{{Area: "build"}}, Then: plan.Ask},
		Pairs: plan.Pairs{
			Requests: []plan.Request{{Method: "GET", Path: "/sailings"}}, Rate: 10_000, Repeat: 3,
			Within: 10 * time.Second,
			Ignore: []string{"json build", "json version"}, Then: plan.Ask,
		},
		WarmUp: plan.WarmUp{Requests: 10, Rate: 10_000},
	}
	for i := range p.Parts[0].Stacks {
		p.Parts[0].Stacks[i].Instances = 2
	}
	q := Question{Plan: p, Standing: y, Target: split.Green,
		Raised: map[string]Raised{"web": {Version: "4.3.0", Build: "b92f1a7e0c1d"}}}
	for _, side := range split.Sides {
		services[side].seen = map[string]bool{}
		for n := range 2 {
			q.Sides[side] = append(q.Sides[side], services[side].instance(t, side, n+1))
		}
	}
	return q, y, services
}

func sentence(r proof.Result) string { return words.Finding(r.Finding()) }

// What was accepted is not asked about again while it is found again, however long it
// took; something else in the same place is.
func TestTheSameFindingIsKnownAgain(t *testing.T) {
	q, y, s := newQuestion(t)
	y.region["green-1"], y.region["green-2"] = "south", "south"
	s[split.Green].price = 950
	q.Plan.Parts[0].Needs[0].What = plan.TCP{Address: "no-such-host.invalid:1"}
	find := func() (accepted []proof.Finding, p proof.Proof) {
		p, _ = Prove(t.Context(), q)
		for _, r := range p.Results {
			if !r.Pass && r.Ask {
				accepted = append(accepted, r.Finding())
			}
		}
		return accepted, p
	}
	accepted, p := find()
	if len(accepted) != 4 || len(p.Open(accepted)) > 0 { // differences, pairs, and a need of two instances
		t.Fatalf("found %+v, of which open: %+v", accepted, p.Open(accepted))
	}
	if _, again := find(); len(again.Open(accepted)) > 0 {
		t.Errorf("a second time, asked about again: %+v", again.Open(accepted))
	}
	y.region["green-1"], y.region["green-2"] = "west", "west"
	s[split.Green].price = 960
	if _, other := find(); len(other.Open(accepted)) != 2 {
		t.Errorf("of other differences open: %+v", other.Open(accepted))
	}
}

func TestAGoodSideIsProven(t *testing.T) {
	q, _, _ := newQuestion(t)
	var told atomic.Int64
	q.Told = func(p proof.Proof) { told.Add(1) }
	p, about := Prove(t.Context(), q)
	if !p.Pass() {
		r, _ := p.Failed()
		t.Fatalf("not proven: %s", sentence(r))
	}
	// 1 instances, 2 builds, 2 health, 1 warm-up, 2 smokes, 2 needs, differences, pairs.
	if len(p.Results) != 12 || told.Load() == 0 {
		t.Errorf("%d results, told %d times", len(p.Results), told.Load())
	}
	var order []string
	for _, r := range p.Results {
		order = append(order, r.Check+" "+r.Instance)
	}
	if got := strings.Join(order[:5], ", "); got != "instances green, build green-1, build green-2, health green-1, "+
		"health green-2" {
		t.Errorf("in the order %s", got)
	}
	for _, r := range p.Results {
		if r.Part != "web" || r.Kind == "" || r.At.IsZero() || r.Since.IsZero() || r.Tries == 0 {
			t.Errorf("incomplete: %+v", r)
		}
	}
	if about.Pairs.Same != 3 || about.Warmth.Requests != 10 || about.Differences.Compared == 0 {
		t.Errorf("about %+v", about)
	}
}

// What sinks releases is named in words that an operator can act on.
func TestWhatIsWrongIsNamed(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(q *Question, y *yard, s [2]*service)
		check  string
		want   string
		ask    bool
	}{
		{"too few instances", func(q *Question, _ *yard,
			_ [2]*service) {
			q.Sides[split.Green] = q.Sides[split.Green][:1]
		}, "instances", "want at least 2, got 1", false},
		{"one that ended", func(q *Question, _ *yard, _ [2]*service) { q.Sides[split.Green][1].Running = false },
			"instances", "got 1", false},
		{"another build was started",
			func(q *Question, _ *yard, _ [2]*service) { q.Sides[split.Green][1].Build = "0000000000" },
			"build on green-2", "want the recorded b92f1a7e0c1d, got started from 0000000000", true},
		{"another build answers", func(_ *Question, _ *yard, s [2]*service) { s[split.Green].says = "7c1e40d9a0b1" },
			"build", "it says it is 7c1e40d9a0b1", true},
		{"it does not say", func(_ *Question, _ *yard, s [2]*service) { s[split.Green].says = "" }, "build",
			"it says it is nothing", true},
		{"another version answers", func(_ *Question, _ *yard, s [2]*service) { s[split.Green].version = "4.2.9" },
			"build", "it says it is version 4.2.9", true},
		{"a blocked port", func(q *Question, y *yard, _ [2]*service) {
			y.blocked["green-2"] = q.Plan.Parts[0].Needs[0].What.(plan.TCP).Address
		}, "fares on green-2", "connection refused after ", false},
		{"reached from blue", func(q *Question, y *yard, _ [2]*service) {
			y.blocked["green-2"] = q.Plan.Parts[0].Needs[0].What.(plan.TCP).Address
		}, "fares on green-2", "; reached from blue in ", false},
		{"a need that blue lacks too", func(q *Question, _ *yard, _ [2]*service) {
			q.Plan.Parts[0].Needs[0].What = plan.TCP{Address: "no-such-host.invalid:1"}
		}, "fares", "from blue as well: no such name", true},
		{"a place that cannot be reached", func(_ *Question, y *yard, _ [2]*service) { y.gone = true }, "fares",
			"host green.vessa does not answer", true},
		{"a changed environment",
			func(_ *Question, y *yard, _ [2]*service) { y.region["green-1"], y.region["green-2"] = "south", "south" },
			"differences", "1: environment REGION", true},
		{"another answer", func(_ *Question, _ *yard, s [2]*service) { s[split.Green].price = 950 }, "same request",
			"3 differ, most often body price of GET /sailings (900 → 950)", true},
		{"a cache in between", func(_ *Question, _ *yard, s [2]*service) { s[split.Green].age = "340" }, "search",
			"one from a cache: Age: 340", false},
		{"it never gets warm", func(q *Question, _ *yard, _ [2]*service) { q.Plan.Pairs.Within = time.Nanosecond },
			"warm-up", "10 of them failing", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			q, y, s := newQuestion(t)
			c.change(&q, y, s)
			p, _ := Prove(t.Context(), q)
			if p.Pass() {
				t.Fatal("the side is proven")
			}
			for _, r := range p.Results {
				if finding := sentence(r); !r.Pass && strings.HasPrefix(finding, c.check) &&
					strings.Contains(finding, c.want) {
					if r.Ask != c.ask {
						t.Errorf("asked %v, want %v: %s", r.Ask, c.ask, finding)
					}
					return
				}
			}
			for _, r := range p.Results {
				t.Logf("%v %s", r.Pass, sentence(r))
			}
			t.Errorf("nothing says %q of %q", c.want, c.check)
		})
	}
}

// A side that needs time to settle gets it where the plan says so.
func TestSettling(t *testing.T) {
	q, _, s := newQuestion(t)
	s[split.Green].first = true
	q.Plan.WarmUp.Requests = 200 // so many that the last tenth is sent when each instance has answered before
	if p, about := Prove(t.Context(), q); !p.Pass() || about.Warmth.Failing == 0 {
		t.Errorf("a warm-up is there for the first calls: %+v, proof %v", about.Warmth, p.Pass())
	}
	clear(s[split.Green].seen)
	q.Plan.WarmUp = plan.WarmUp{}
	q.Plan.Pairs = plan.Pairs{}
	if p, _ := Prove(t.Context(), q); p.Pass() {
		t.Error("without time to settle the first call has to count")
	}
	clear(s[split.Green].seen)
	q.Plan.Parts[0].Settle = time.Millisecond
	p, _ := Prove(t.Context(), q)
	if r, failed := p.Failed(); failed {
		t.Errorf("with time to settle: %s", sentence(r))
	}
}

// What the plan only notes does not stop anybody, and what it stops at cannot be
// accepted.
func TestJudgements(t *testing.T) {
	q, y, _ := newQuestion(t)
	y.region["green-1"], y.region["green-2"] = "south", "south"
	for then, want := range map[plan.Judgement]string{plan.Stop: "fails", plan.Ask: "asks", plan.Note: "passes"} {
		q.Plan.Differences.Then = then
		p, _ := Prove(t.Context(), q)
		got := "passes"
		if r, failed := p.Failed(); failed {
			got = map[bool]string{true: "asks", false: "fails"}[r.Ask]
		}
		if got != want {
			t.Errorf("where the plan says %s it %s", then, got)
		}
	}
}

func TestTheFirstSideHasNobodyToBeComparedWith(t *testing.T) {
	q, _, _ := newQuestion(t)
	q.Sides[split.Blue] = nil
	if p, about := Prove(t.Context(), q); !p.Pass() || about.Differences.Compared != 0 {
		t.Errorf("proof %+v", p)
	}
	q.Sides[split.Green] = nil
	if p, _ := Prove(t.Context(), q); p.Pass() {
		t.Error("a side without instances is proven")
	}
}

func TestAProofThatIsCutShortProvesNothing(t *testing.T) {
	q, _, _ := newQuestion(t)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if p, _ := Prove(ctx, q); p.Pass() {
		t.Errorf("proof %+v", p)
	}
}

// One check is made again, and nothing else changes.
func TestAgain(t *testing.T) {
	q, y, s := newQuestion(t)
	p, about := Prove(t.Context(), q)
	y.blocked["green-1"] = q.Plan.Parts[0].Needs[0].What.(plan.TCP).Address
	s[split.Green].price = 950
	for _, r := range p.Results {
		again, ok := Again(t.Context(), q, r, &about)
		possible := r.Kind != proof.KindInstances && r.Kind != proof.KindBuild
		if ok != possible || !again.SameCell(r) {
			t.Errorf("%s again: %v, %+v", r.Check, ok, again)
		}
		bad := r.Kind == proof.KindNeed && r.Instance == "green-1" || r.Kind == proof.KindPairs
		if possible && again.Pass == bad {
			t.Errorf("%s of %s again: pass %v, %s", r.Check, r.Instance, again.Pass, again.Got)
		}
		if r.Kind == proof.KindSmoke && len(again.History) != 2 {
			t.Errorf("its history is %v", again.History)
		}
	}
	if about.Pairs.Same != 0 {
		t.Errorf("the comparison is still %+v", about.Pairs)
	}
}
