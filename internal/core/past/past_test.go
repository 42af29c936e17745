package past

import (
	"encoding/json"
	"errors"
	"math"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/split"
)

var start = time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)

// story writes events one after the other.
type story struct {
	at     time.Time
	events []crossing.Event
}

func (s *story) add(after time.Duration, number int, by string, what crossing.Fact) uint64 {
	s.at = s.at.Add(after)
	seq := uint64(len(s.events) + 1)
	s.events = append(s.events, crossing.Event{Seq: seq, Crossing: number, At: s.at, By: by, What: what})
	return seq
}

// release is a crossing that settles, or is rolled back from a quarter.
func (s *story) release(number int, version string, raise time.Duration, settles bool) {
	s.add(time.Hour, number, "marit", crossing.Begun{Service: "sailings", Number: number, Target: split.Green,
		LiveVersion: "4.2.0", Choices: choices(version)})
	task := s.add(0, number, "marit", crossing.Ordered{Task: crossing.Task{Do: crossing.TaskRaise, Side: split.Green}})
	s.add(raise, number, "vaiven", crossing.Raised{Task: task})
	task = s.add(0, number, "vaiven", crossing.Ordered{Task: crossing.Task{Do: crossing.TaskProve, Side: split.Green}})
	s.add(3*time.Second, number, "vaiven", crossing.Proved{Task: task, Proof: proof.Proof{}})
	s.add(0, number, "vaiven", crossing.Asked{})
	s.add(time.Minute, number, "ines", crossing.Answered{})
	s.add(0, number, "ines", crossing.Accepted{Findings: []proof.Finding{{Check: "fares"}}})
	shares := []split.Share{2500, split.Whole}
	if !settles {
		shares = shares[:1]
	}
	for _, share := range shares {
		task = s.add(10*time.Second, number, "vaiven", crossing.Ordered{Task: crossing.Task{Do: crossing.TaskMove,
			Share: share}})
		s.add(20*time.Millisecond, number, "vaiven", crossing.TookEffect{Task: task, Share: share, Nearest: share})
	}
	counted := crossing.Counted{Requests: 10_000, Failed: 4}
	if settles {
		s.add(time.Minute, number, "vaiven", crossing.Ended{Stage: crossing.Settled, Counted: counted})
		task = s.add(0, number, "vaiven", crossing.Ordered{Task: crossing.Task{Do: crossing.TaskRetire,
			Side: split.Blue}})
		s.add(time.Second, number, "vaiven", crossing.Retired{Task: task, Side: split.Blue})
		return
	}
	counted.Failed = 900
	s.add(4*time.Second, number, "guard",
		crossing.RollsBack{Cause: crossing.Because(crossing.ByHand{Why: "searches fail"})})
	task = s.add(0, number, "guard", crossing.Ordered{Task: crossing.Task{Do: crossing.TaskHome, Side: split.Blue}})
	s.add(3*time.Millisecond, number, "vaiven", crossing.Returned{Task: task})
	s.add(0, number, "vaiven", crossing.Ended{Stage: crossing.RolledBack, Cause: crossing.Because(crossing.ByHand{}),
		Counted: counted})
}

func choices(version string) []raise.Choice {
	return []raise.Choice{{Part: "web", Version: version, Build: "b92f"}}
}

// What a crossing came to follows from its events.
func TestOf(t *testing.T) {
	s := story{at: start}
	s.release(3, "4.3.0", 12*time.Second, false)
	web := plan.Part{Name: "web"}
	web.Stacks[split.Green] = plan.Stack{Instances: 3, Price: plan.Price{Amount: 0.2, Unit: "EUR"}}
	web.Stacks[split.Blue] = plan.Stack{Instances: 7, Price: plan.Price{Amount: 9, Unit: "EUR"}}
	up := s.events[2].At
	c, state := Of(s.events, []plan.Part{web, {Name: "worker"}}, up.Add(30*time.Minute))
	if c.Number != 3 || c.From != "4.2.0" || c.Version != "4.3.0" || c.Build != "b92f" || c.By != "marit" ||
		c.Stage != crossing.RolledBack || c.Settled() || c.Counted.Failed != 900 || c.Events != len(s.events) ||
		state.Stage != crossing.RolledBack {
		t.Errorf("it is %+v", c)
	}
	if want := (Took{Raise: 12 * time.Second, Prove: 3 * time.Second, Home: 3 * time.Millisecond}); c.Took != want {
		t.Errorf("it took %+v", c.Took)
	}
	if began, yes := c.People(); began != "marit" || !slices.Equal(yes, []string{"ines"}) || len(c.Approved) != 1 ||
		c.Approved[0].Accepted[0].Check != "fares" {
		t.Errorf("%s began, yes by %v: %+v", began, yes, c.Approved)
	}
	if len(c.Steps) != 3 || c.Steps[1].Part != 2500 || c.Steps[1].At.Sub(c.Steps[1].Asked) != 20*time.Millisecond ||
		c.Steps[2].Part != 0 {
		t.Errorf("its steps are %+v", c.Steps)
	}
	if o := c.Both; !o.Still || o.Lasted != 30*time.Minute || o.Unit != "EUR" || math.Abs(o.Cost-0.3) > 1e-9 {
		t.Errorf("both sides: %+v", o)
	}
	if got := c.Lasted(start); got != c.Ended.Sub(c.Begun) {
		t.Errorf("it lasted %v", got)
	}
	retired := append(slices.Clone(s.events), crossing.Event{Seq: 99, At: up.Add(10 * time.Minute), Crossing: 3,
		What: crossing.Retired{Side: split.Green}})
	if c, _ := Of(retired, []plan.Part{web}, up.Add(time.Hour)); c.Both.Still || c.Both.Lasted != 10*time.Minute {
		t.Errorf("one is retired: %+v", c.Both)
	}
	if c, _ := Of(s.events[:2], []plan.Part{web}, up); c.Both != (Overlap{}) || !c.Ended.IsZero() ||
		c.Lasted(up) != up.Sub(c.Begun) {
		t.Errorf("never up: %+v", c)
	}
	data, err := json.Marshal(c)
	var again Crossing
	if err = errors.Join(err, json.Unmarshal(data, &again)); err != nil {
		t.Fatal(err)
	}
	if more, _ := json.Marshal(again); string(more) != string(data) {
		t.Errorf("it is read as %s", more)
	}
}

// A book has each crossing with the letters about it, and what was done by hand.
func TestBook(t *testing.T) {
	s := story{at: start}
	s.add(0, 0, "vaiven", crossing.Built{Version: "4.3.0", Commit: "5eaf00d"})
	s.release(1, "4.3.0", time.Second, true)
	s.add(0, 0, "vaiven", crossing.NoticeSent{Letter: crossing.Letter{Of: []uint64{5}, To: "marit@lineavessa.example"}})
	s.add(0, 0, "marit", crossing.Ordered{Task: crossing.Task{Do: crossing.TaskMove, Act: true}})
	s.release(2, "4.3.1", time.Second, false)
	var b Book
	for _, e := range s.events {
		b.Add(e)
	}
	list := b.Crossings(nil, s.at)
	if len(list) != 2 || list[0].Number != 2 || list[1].Commit != "5eaf00d" || list[0].Commit != "" {
		t.Fatalf("there are %+v", list)
	}
	if n := list[1].Notices; len(n) != 1 || n[0].Letter.To != "marit@lineavessa.example" || len(list[0].Notices) != 0 {
		t.Errorf("of the first was told %+v", n)
	}
	if len(b.Hand()) != 2 {
		t.Errorf("by hand: %+v", b.Hand())
	}
	var some Book
	for _, e := range slices.Delete(slices.Clone(s.events), 4, 7) { // of a damaged logbook
		some.Add(e)
	}
	if left := some.Crossings(nil, s.at); len(left) != 2 || left[1].Events != list[1].Events-3 {
		t.Errorf("without three events there are %+v", left)
	}
	// Each crossing is what its own events come to.
	var own []crossing.Event
	for _, e := range s.events {
		if e.Crossing == 2 {
			own = append(own, e)
		}
	}
	if alone, _ := Of(own, nil, s.at); !reflect.DeepEqual(alone, list[0]) {
		t.Errorf("alone it is %+v, and in the book %+v", alone, list[0])
	}
}

// What is usual is the middle of what was, and what stands out is far from it.
func TestUsual(t *testing.T) {
	s := story{at: start}
	for n := range 9 {
		s.release(n+1, "4.3.0", time.Duration(8+n)*time.Second, n%3 > 0)
	}
	s.release(10, "4.4.0", 40*time.Second, false)
	var b Book
	for _, e := range s.events {
		b.Add(e)
	}
	list := b.Crossings(nil, s.at)
	u := UsualOf(list[1:])
	if u.Raise != (Spread{12 * time.Second, 8 * time.Second, 16 * time.Second, 9}) || u.Home.Of != 3 ||
		u.Shift.Of != 6 {
		t.Errorf("usual is %+v", u)
	}
	odd := u.Odd(list[0])
	if len(odd) != 2 || odd[0].Step != "failed" || odd[1].Step != "raise" || math.Abs(odd[1].Times-40.0/12) > 1e-9 {
		t.Errorf("what stands out is %+v", odd)
	}
	if odd := u.Odd(list[1]); len(odd) != 0 {
		t.Errorf("of one like the others %+v stands out", odd)
	}
	if odd := UsualOf(list[8:]).Odd(list[0]); len(odd) > 1 {
		t.Errorf("of two crossings %+v is known", odd)
	}
	if (UsualOf(nil) != Usual{}) {
		t.Error("something is usual of nothing")
	}
}

// A digest is found again wherever it was written.
func TestDigestIn(t *testing.T) {
	d := Digest{Crossing: 12, UpTo: 57, Events: 40, SHA256: strings.Repeat("0a", 32)}
	for name, text := range map[string]string{
		"alone":   d.String(),
		"a page":  "<p>made of " + d.String() + ".</p>",
		"in mail": "For the record: " + d.String()[:70] + "=\r\n" + d.String()[70:] + "\r\n",
	} {
		if got, err := DigestIn([]byte(text)); err != nil || got != d {
			t.Errorf("%s: %+v, %v", name, got, err)
		}
	}
	if _, err := DigestIn([]byte("crossing 12, SHA-256 none")); !errors.Is(err, ErrNoDigest) {
		t.Errorf("of nothing: %v", err)
	}
}
