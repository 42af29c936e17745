package several

import (
	"context"
	"errors"
	"strings"
	"testing"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// one is a front in memory.
type one struct {
	reading reading.Front
	stuck   bool // does not take what is set
	down    bool
	notice  string
}

func (o *one) Read(context.Context) (reading.Front, error) {
	if o.down {
		return reading.Front{}, front.ErrUnreachable
	}
	o.reading.Notice = o.notice
	return o.reading, nil
}

func (o *one) Plan(_ context.Context, share split.Share) (front.Change, error) {
	return front.Change{From: o.reading.Split.Share, Wanted: share, Reached: share, Steps: []string{"set"}, Connections: "stay", Usually: 1}, nil
}

func (o *one) Set(_ context.Context, share split.Share, revision uint64) (reading.Split, error) {
	if o.stuck {
		return reading.Split{}, front.ErrRefused
	}
	if revision != o.reading.Split.Revision {
		return reading.Split{}, front.ErrChanged
	}
	return o.Home(context.Background(), share)
}

func (o *one) Home(_ context.Context, share split.Share) (reading.Split, error) {
	if o.down {
		return reading.Split{}, front.ErrUnreachable
	}
	o.reading.Split.Share = share
	o.reading.Split.Revision++
	s := o.reading.Split
	s.Did = []string{"set"}
	return s, nil
}

func (o *one) SetInstances(_ context.Context, side split.Side, list []reading.Server) error {
	o.reading.Sides[side].Instances = nil
	for _, i := range list {
		o.reading.Sides[side].Instances = append(o.reading.Sides[side].Instances, reading.Count{Server: i, Requests: 10, Open: 1})
	}
	return nil
}

func (o *one) Drain(context.Context, split.Side) (int64, error) { return 2, nil }

func two() (*Front, *one, *one) {
	a, b := &one{}, &one{}
	return New([]Member{{"first", a}, {"second", b}}), a, b
}

func TestAllAreSet(t *testing.T) {
	f, a, b := two()
	if err := f.SetInstances(t.Context(), split.Green, []reading.Server{{Name: "green-1", Address: "127.0.0.1:1"}}); err != nil {
		t.Fatal(err)
	}
	r, err := f.Read(t.Context())
	if err != nil || r.Sides[split.Green].Instances[0].Requests != 20 || r.Sides[split.Green].Instances[0].Open != 2 {
		t.Fatalf("%+v, %v", r, err)
	}
	s, err := f.Set(t.Context(), 2500, r.Split.Revision)
	if err != nil || s.Share != 2500 || a.reading.Split.Share != 2500 || b.reading.Split.Share != 2500 || len(s.Did) != 2 || s.Revision == r.Split.Revision {
		t.Errorf("%+v, %v", s, err)
	}
	c, err := f.Plan(t.Context(), 5000)
	if err != nil || c.From != 2500 || strings.Join(c.Steps, "; ") != "first: set; second: set" || c.Usually != 2 {
		t.Errorf("%+v, %v", c, err)
	}
	if open, err := f.Drain(t.Context(), split.Blue); err != nil || open != 4 {
		t.Errorf("%d open, %v", open, err)
	}
	// Somebody changes one of them.
	b.reading.Split.Share, b.reading.Split.Revision = 100, 99
	if _, err := f.Set(t.Context(), 5000, s.Revision); !errors.Is(err, front.ErrChanged) {
		t.Errorf("overwritten: %v", err)
	}
	if r, err := f.Read(t.Context()); err != nil || !strings.Contains(r.Notice, "second has 1 % on green, first has 25 %") {
		t.Errorf("%+v, %v", r, err)
	}
}

func TestOneThatDoesNotFollowIsNamed(t *testing.T) {
	f, a, b := two()
	b.stuck = true
	r, err := f.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	_, err = f.Set(t.Context(), 2500, r.Split.Revision)
	if !errors.Is(err, front.ErrRefused) || !strings.Contains(err.Error(), "second did not follow") || a.reading.Split.Share != 0 {
		t.Errorf("first has %v, %v", a.reading.Split.Share, err)
	}
}

func TestHomeDoesNotWaitForOneThatIsDown(t *testing.T) {
	f, a, b := two()
	a.reading.Split.Share, b.reading.Split.Share, a.down = 5000, 5000, true
	if _, err := f.Home(t.Context(), 0); !errors.Is(err, front.ErrUnreachable) || !strings.Contains(err.Error(), "first") || b.reading.Split.Share != 0 {
		t.Errorf("second has %v, %v", b.reading.Split.Share, err)
	}
	a.down = false
	if s, err := f.Home(t.Context(), 0); err != nil || s.Share != 0 || a.reading.Split.Share != 0 {
		t.Errorf("%+v, %v", s, err)
	}
	b.notice = "half asleep"
	if r, err := f.Read(t.Context()); err != nil || r.Notice != "second: half asleep" {
		t.Errorf("%+v, %v", r, err)
	}
}
