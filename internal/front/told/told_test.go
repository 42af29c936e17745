package told

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// proxy is one that has a share, or none, and does as it is told.
type proxy struct {
	share  split.Share // below zero: nobody gets anything
	deaf   bool        // it says that it did, and did not
	looks  int
	blind  int // from which look on it cannot be read
	refuse error
}

func (p *proxy) steering() *Steering[split.Share] {
	return &Steering[split.Share]{
		Look: func(context.Context) (split.Share, error) {
			if p.looks++; p.blind > 0 && p.looks >= p.blind {
				return 0, front.ErrUnreachable
			}
			return p.share, nil
		},
		Share: func(s split.Share) (split.Share, error) {
			if s < 0 {
				return 0, fmt.Errorf("%w: nobody", front.ErrRefused)
			}
			return s, nil
		},
		Print: func(s split.Share) string { return s.String() },
		Work: func(s, share split.Share, home bool) (Work, error) {
			return Work{
				Steps:   []string{fmt.Sprint("set ", share, home)},
				Weights: split.Weights{Reached: []split.Share{split.Whole - share, share}, Unused: 2},
				Do: func(context.Context) error {
					if p.refuse == nil && !p.deaf {
						p.share = share
					}
					return p.refuse
				},
			}, p.refuse
		},
		Most: 9,
	}
}

func TestAChange(t *testing.T) {
	p := &proxy{share: 1000}
	s := p.steering()
	c, err := s.Plan(t.Context(), 2500, front.Change{Notes: []string{"first"}})
	if err != nil || c.From != 1000 || c.Reached != 2500 || p.share != 1000 || len(c.Notes) != 2 || !strings.Contains(c.Notes[1], "1 to 9") {
		t.Errorf("said beforehand: %+v, %v", c, err)
	}
	now, err := s.Split(p.share)
	if err != nil {
		t.Fatal(err)
	}
	done, err := s.Set(t.Context(), 2500, now.Revision)
	if err != nil || done.Share != 2500 || done.Revision == now.Revision || len(done.Did) != 1 || done.Did[0] != "set 25 % false" {
		t.Errorf("set: %+v, %v", done, err)
	}
	if _, err := s.Set(t.Context(), 5000, now.Revision); !errors.Is(err, front.ErrChanged) || p.share != 2500 {
		t.Errorf("by an old revision: %v, it has %v", err, p.share)
	}
	if _, err := s.Set(t.Context(), split.Whole+1, done.Revision); !errors.Is(err, front.ErrRefused) {
		t.Errorf("above the whole: %v", err)
	}
	p.share = 7000 // somebody else
	if home, err := s.Home(t.Context(), 0); err != nil || home.Share != 0 || p.share != 0 {
		t.Errorf("home: %+v, %v", home, err)
	}
}

func TestAChangeThatIsNotOne(t *testing.T) {
	for what, c := range map[string]struct {
		proxy proxy
		want  error
		says  string
	}{
		"it does nothing":        {proxy{deaf: true}, front.ErrChanged, "after 25 % was told"},
		"it cannot be read":      {proxy{blind: 1}, front.ErrUnreachable, ""},
		"it cannot be read back": {proxy{blind: 2}, front.ErrUnreachable, "could not be read back"},
		"it refuses":             {proxy{refuse: front.ErrRefused}, front.ErrRefused, ""},
	} {
		if _, err := c.proxy.steering().Home(t.Context(), 2500); !errors.Is(err, c.want) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

func TestWhoMayBeLeftWithoutInstances(t *testing.T) {
	p := &proxy{share: 2500}
	s := p.steering()
	one := []reading.Server{{Name: "green-1"}}
	for _, c := range []struct {
		share  split.Share
		side   split.Side
		wanted []reading.Server
		want   Wanted
		err    error
	}{
		{2500, split.Green, one, Wanted{Share: 2500, kept: true}, nil},
		{2500, split.Green, nil, Wanted{Share: 2500, kept: true}, front.ErrRefused},
		{0, split.Green, nil, Wanted{kept: true}, nil},
		{-1, split.Green, one, Wanted{Share: split.Whole, Rest: true}, nil},
		{-1, split.Green, nil, Wanted{Rest: true}, nil},
		{-1, split.Blue, one, Wanted{}, nil},
	} {
		got, err := s.ForInstances(c.share, c.side, c.wanted)
		if got != c.want || !errors.Is(err, c.err) {
			t.Errorf("at %v with %d instances of %v: %+v, %v", c.share, len(c.wanted), c.side, got, err)
		}
	}
	if s.Quiet(0, split.Green) != nil || s.Quiet(1, split.Green) == nil || s.Quiet(-1, split.Green) == nil {
		t.Error("a side is quiet when it gets nothing, and that is known")
	}
	before, _ := s.Split(2500)
	p.share = 2600
	if err := s.Ours(t.Context(), 2500); err != nil {
		t.Fatal(err)
	}
	if now, _ := s.Split(2600); now.Revision != before.Revision {
		t.Errorf("what is ours is a new split: revision %d after %d", now.Revision, before.Revision)
	}
}

// Before anybody has asked for anything, all are at home, where nobody is yet.
func TestAtRest(t *testing.T) {
	p := &proxy{share: -1}
	s := p.steering()
	if now, err := s.Split(-1); err == nil {
		t.Errorf("nobody gets anything, and it reads as %+v", now)
	}
	if err := s.Told(t.Context(), -1, Wanted{Share: split.Whole, Rest: true}); err != nil {
		t.Fatal(err)
	}
	now, err := s.Split(-1)
	if err != nil || now.Share != 0 {
		t.Fatalf("at rest it reads as %+v, %v", now, err)
	}
	if err := s.Quiet(-1, split.Green); err != nil {
		t.Errorf("at rest green is not quiet: %v", err)
	}
	if done, err := s.Set(t.Context(), split.Whole, now.Revision); err != nil || done.Share != split.Whole {
		t.Errorf("the first share: %+v, %v", done, err)
	}
	p.share = -2 // somebody took everything away
	if _, err := s.Split(p.share); err == nil {
		t.Error("nobody gets anything any more, and nothing says so")
	}
}
