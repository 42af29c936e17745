package several

import (
	"context"
	"errors"
	"strings"
	"sync"
	"testing"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
)

// one is a front in memory.
type one struct {
	mu      sync.Mutex
	reading reading.Front
	stuck   bool // does not take what is set
	down    bool
	notice  string
	blocked error
	before  func() // what happens when it is about to be set, once
}

func (o *one) Read(context.Context) (reading.Front, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.down {
		return reading.Front{}, front.ErrUnreachable
	}
	o.reading.Notice = o.notice
	return o.reading, nil
}

func (o *one) Foresee(_ context.Context, share split.Share) (front.Change, error) {
	return front.Change{From: o.share(), Wanted: share, Reached: share, Steps: []string{"set"}, Connections: "stay",
		Usually: 1}, nil
}

func (o *one) Set(ctx context.Context, share split.Share, e front.Expect) (front.Done, error) {
	o.mu.Lock()
	before := o.before
	o.before = nil
	o.mu.Unlock()
	if before != nil {
		before()
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	switch {
	case o.stuck:
		return front.Done{}, front.ErrRefused
	case e.Allows(share, o.reading.Order) != nil:
		return front.Done{}, e.Allows(share, o.reading.Order)
	case e.Revision != o.reading.Split.Revision:
		return front.Done{}, front.ErrChanged
	}
	return o.put(share), nil
}

func (o *one) put(share split.Share) front.Done {
	if o.reading.Split.Share != share { // others keep the revision, which is a print of what is in force
		o.reading.Split.Share = share
		o.reading.Split.Revision++
	}
	return front.Done{Split: o.reading.Split, Nearest: share, Order: o.reading.Order, Did: []string{"set"}}
}

func (o *one) Home(_ context.Context, h front.Homing) (front.Done, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.down {
		return front.Done{}, front.ErrUnreachable
	}
	next, err := h.Next(o.reading.Order, time.Now())
	if err != nil {
		return front.Done{}, err
	}
	o.reading.Order = next
	return o.put(split.Toward(h.Side, split.Whole)), nil
}

func (o *one) Rehearse(context.Context, split.Side) ([]wayback.Step, error) {
	return []wayback.Step{{What: "read", Took: time.Millisecond}}, o.blocked
}

func (o *one) NewTerm(_ context.Context, after uint64) (uint64, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.reading.Order.Term = max(o.reading.Order.Term, after) + 1
	return o.reading.Order.Term, nil
}

func (o *one) share() split.Share {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.reading.Split.Share
}

func (o *one) SetInstances(_ context.Context, side split.Side, list []reading.Server) error {
	o.reading.Sides[side].Instances = nil
	for _, i := range list {
		o.reading.Sides[side].Instances = append(o.reading.Sides[side].Instances,
			reading.Count{Server: i, Requests: 10, Open: 1})
	}
	return nil
}

func (o *one) Drain(context.Context, split.Side) (front.Left, error) {
	return front.Left{Open: 2, Waits: 1}, nil
}

func two() (*Front, *one, *one) {
	a, b := &one{}, &one{}
	return New([]Member{{"first", a}, {"second", b}}), a, b
}

func TestAllAreSet(t *testing.T) {
	f, a, b := two()
	if err := f.SetInstances(t.Context(), split.Green,
		[]reading.Server{{Name: "green-1", Address: "127.0.0.1:1"}}); err != nil {
		t.Fatal(err)
	}
	r, err := f.Read(t.Context())
	if err != nil || r.Sides[split.Green].Instances[0].Requests != 20 || r.Sides[split.Green].Instances[0].Open != 2 {
		t.Fatalf("%+v, %v", r, err)
	}
	s, err := f.Set(t.Context(), 2500, front.AsRead(r))
	if err != nil || s.Share != 2500 || s.Nearest != 2500 || a.share() != 2500 || b.share() != 2500 ||
		len(s.Did) != 2 || s.Revision == r.Split.Revision {
		t.Errorf("%+v, %v", s, err)
	}
	c, err := f.Foresee(t.Context(), 5000)
	if err != nil || c.From != 2500 || strings.Join(c.Steps, "; ") != "first: set; second: set" || c.Usually != 2 {
		t.Errorf("%+v, %v", c, err)
	}
	if left, err := f.Drain(t.Context(), split.Blue); err != nil || left != (front.Left{Open: 4, Waits: 2}) {
		t.Errorf("%+v, %v", left, err)
	}
	// Somebody changes one of them.
	b.reading.Split.Share, b.reading.Split.Revision = 100, 99
	if _, err := f.Set(t.Context(), 5000, front.Expect{Revision: s.Revision}); !errors.Is(err, front.ErrChanged) {
		t.Errorf("overwritten: %v", err)
	}
	r, err = f.Read(t.Context())
	if err != nil || !strings.Contains(r.Notice, "second has 1 % on green, first has 25 %") || len(r.Apart) != 1 ||
		r.Apart[0] != (reading.Apart{Front: "second", Share: 100}) {
		t.Errorf("%+v, %v", r, err)
	}
	if r.Sends(split.Green) != 2500 || r.Sends(split.Blue) != 9900 {
		t.Errorf("the most that any sends is %v to green and %v to blue", r.Sends(split.Green), r.Sends(split.Blue))
	}
}

func TestOneThatDoesNotFollowIsNamed(t *testing.T) {
	f, a, b := two()
	b.stuck = true
	r, err := f.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	_, err = f.Set(t.Context(), 2500, front.AsRead(r))
	if !errors.Is(err, front.ErrRefused) || !strings.Contains(err.Error(), "second did not follow") || a.share() != 0 {
		t.Errorf("first has %v, %v", a.share(), err)
	}
}

func TestHomeDoesNotWaitForOneThatIsDown(t *testing.T) {
	f, a, b := two()
	a.reading.Split.Share, b.reading.Split.Share, a.down = 5000, 5000, true
	if _, err := f.Home(t.Context(), front.Homing{Side: split.Blue}); !errors.Is(err, front.ErrUnreachable) ||
		!strings.Contains(err.Error(), "first") || b.share() != 0 {
		t.Errorf("second has %v, %v", b.share(), err)
	}
	a.down = false
	if s, err := f.Home(t.Context(), front.Homing{Side: split.Blue, By: "marit"}); err != nil || s.Share != 0 ||
		a.share() != 0 || s.Order.Generation != 3 || s.Order.By != "marit" {
		t.Errorf("%+v, %v", s, err)
	}
	b.notice, b.blocked = "half asleep", errors.New("other.conf:12: unknown directive")
	if r, err := f.Read(t.Context()); err != nil || r.Notice != "second: half asleep" || r.Order.Generation != 3 {
		t.Errorf("%+v, %v", r, err)
	}
	steps, err := f.Rehearse(t.Context(), split.Blue)
	if err == nil || !strings.Contains(err.Error(), "second: other.conf:12") {
		t.Errorf("what is in the way is said as %v", err)
	}
	if len(steps) != 2 || steps[0].Front != "first" || steps[1].Front != "second" {
		t.Errorf("the steps are %v", steps)
	}
}

// Somebody goes home while a change is on its way from one proxy to the next: by the same
// driver, by another one at all of them, or at one of them alone.
func TestHomePastAChange(t *testing.T) {
	for what, home := range map[string]func(f *Front, a, b *one) error{
		"by the same driver": func(f *Front, _, _ *one) error {
			_, err := f.Home(context.Background(), front.Homing{Side: split.Blue})
			return err
		},
		"by another process": func(_ *Front, a, b *one) error {
			_, err := New([]Member{{"first", a}, {"second", b}}).Home(context.Background(),
				front.Homing{Side: split.Blue})
			return err
		},
		"at the second alone": func(_ *Front, _, b *one) error {
			_, err := b.Home(context.Background(), front.Homing{Side: split.Blue})
			return err
		},
		"at the first alone": func(_ *Front, a, _ *one) error {
			_, err := a.Home(context.Background(), front.Homing{Side: split.Blue})
			return err
		},
	} {
		t.Run(what, func(t *testing.T) {
			f, a, b := two()
			r, err := f.Read(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			b.before = func() { // the first has its share by now
				if a.share() != 500 {
					t.Errorf("the first has %v", a.share())
				}
				if err := home(f, a, b); err != nil {
					t.Error(err)
				}
			}
			if d, err := f.Set(t.Context(), 500, front.AsRead(r)); !errors.Is(err, front.ErrNewer) {
				t.Errorf("the change says %+v, %v", d, err)
			}
			if a.share() != 0 || b.share() != 0 {
				t.Errorf("after going home the first has %v on green and the second %v", a.share(), b.share())
			}
			if d, err := f.Set(t.Context(), 500, front.AsRead(r)); !errors.Is(err, front.ErrNewer) {
				t.Errorf("by the old order again: %+v, %v", d, err)
			}
		})
	}
}

// A front that was not reached says nothing of one that would refuse.
func TestARefusalOutweighsSilenceInARehearsal(t *testing.T) {
	f, a, b := two()
	a.blocked, b.blocked = front.ErrUnreachable, errors.New("other.conf:12: unknown directive")
	if r := front.Rehearse(t.Context(), f, split.Blue); r.Broken || !strings.Contains(r.Failed, "unknown directive") {
		t.Errorf("%+v, want what the second would refuse", r)
	}
	b.blocked = nil
	if r := front.Rehearse(t.Context(), f, split.Blue); !r.Broken || r.Failed == "" {
		t.Errorf("%+v, want that it broke off", r)
	}
}

// One that cannot be read is named, and stands as it was; the others' figures count.
func TestOneThatCannotBeRead(t *testing.T) {
	f, a, b := two()
	b.down = true
	if _, err := f.Read(t.Context()); err == nil || !strings.Contains(err.Error(), "second: ") {
		t.Errorf("never read: %v", err)
	}
	b.down = false
	b.reading.Split.Share = 2500
	a.reading.Split.Share = 2300 // as near to it as it can
	if r, err := f.Read(t.Context()); err != nil || len(r.Apart) > 0 || len(r.Unread) > 0 {
		t.Errorf("%+v, %v", r, err)
	}
	b.down = true
	a.reading.Order.Generation = 3
	r, err := f.Read(t.Context())
	if err != nil || len(r.Unread) != 1 || r.Unread[0].Front != "second" ||
		r.Unread[0].Said != front.ErrUnreachable.Error() || r.Order.Generation != 3 ||
		!strings.HasPrefix(r.Notice, "second cannot be read: ") {
		t.Errorf("%+v, %v", r, err)
	}
	if _, err := f.Set(t.Context(), 5000, front.AsRead(r)); err == nil || a.share() != 2300 {
		t.Errorf("a change that cannot reach all: %v, first has %v", err, a.share())
	}
	a.down = true
	if _, err := f.Read(t.Context()); err == nil || !strings.Contains(err.Error(), "first: ") {
		t.Errorf("none can be read: %v", err)
	}
}

// A term is later than that of any member, also where one has forgotten its own, and a change of an earlier one is
// refused.
func TestATermOfAll(t *testing.T) {
	f, a, b := two()
	a.reading.Order.Term = 5 // and b has forgotten
	r, err := f.Read(t.Context())
	if err != nil || r.Order.Term != 5 {
		t.Fatalf("read: term %d, %v", r.Order.Term, err)
	}
	number, err := f.NewTerm(t.Context(), 7)
	if err != nil || number != 8 || a.reading.Order.Term != 8 || b.reading.Order.Term != 8 {
		t.Fatalf("another: %d, at the members %d and %d, %v", number, a.reading.Order.Term, b.reading.Order.Term, err)
	}
	if d, err := f.Set(t.Context(), 2500, front.AsRead(r)); !errors.Is(err, front.ErrTaken) {
		t.Errorf("a change of the term before: %+v, %v", d, err)
	}
	a.before = func() { _, _ = f.NewTerm(t.Context(), number) } // while the change is on its way
	if r, err = f.Read(t.Context()); err != nil {
		t.Fatal(err)
	}
	if d, err := f.Set(t.Context(), 2500, front.AsRead(r)); !errors.Is(err, front.ErrTaken) {
		t.Errorf("a change that another term overtakes: %+v, %v", d, err)
	}
	if a.share() != 0 || b.share() != 0 {
		t.Errorf("%v and %v are on green", a.share(), b.share())
	}
}
