package headless

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/lab/testkit"
)

// house is a front in a fire: it takes its time, does not answer, refuses a while, has nobody to send to or is closed
// already; and whoever keeps its service goes on, by what it has read.
type house struct {
	fault string
	takes time.Duration
	fails int // of how many tries nothing comes
	busy  int // how many looks come to nothing in time

	mu    sync.Mutex // protects what follows
	share split.Share
	order reading.Order
	at    time.Time // when all had gone to green
	back  int       // how often something was sent to blue after that
}

func (h *house) wait(ctx context.Context) error {
	if h.fault == "hangs" {
		<-ctx.Done()
		return ctx.Err()
	}
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(h.takes):
		return nil
	}
}

func (h *house) Read(ctx context.Context) (reading.Front, error) {
	if err := h.wait(ctx); err != nil {
		return reading.Front{}, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.busy--; h.busy >= 0 {
		return reading.Front{}, context.DeadlineExceeded
	}
	r := reading.Front{At: time.Now(), Order: h.order}
	r.Split.Share = h.share
	for side := range r.Sides {
		for n := range 4 {
			if side == int(split.Green) && h.fault == "nobody" {
				continue
			}
			r.Sides[side].Instances = append(r.Sides[side].Instances,
				reading.Count{Server: reading.Server{Name: fmt.Sprint(n), Address: "in the dark"}}) // none can be asked
		}
	}
	return r, nil
}

func (h *house) Home(ctx context.Context, o front.Homing) (front.Done, error) {
	if err := h.wait(ctx); err != nil {
		return front.Done{}, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.fails--; h.fails >= 0 {
		return front.Done{}, errors.New("the configuration is being written")
	}
	next, err := o.Next(h.order, time.Now())
	if err != nil {
		return front.Done{}, err
	}
	if h.fault == "nobody" {
		return front.Done{}, front.ErrNobody
	}
	h.order, h.share = next, split.Toward(o.Side, split.Whole)
	if o.Side == split.Green {
		h.at = time.Now()
	}
	return front.Done{Split: reading.Split{Share: h.share}, Order: h.order}, nil
}

// keeps is a keeper that knows nothing of the fire: it moves traffic, rolls back and takes over, for as long as it may.
func (h *house) keeps(ctx context.Context, r *rand.Rand) {
	var seen reading.Order
	for ctx.Err() == nil {
		Pause(ctx, time.Duration(50+r.IntN(400))*time.Millisecond)
		h.mu.Lock()
		if r.IntN(3) > 0 { // what it has read may be older
			seen = h.order
		}
		share := split.Share(r.IntN(int(split.Whole)))
		expect := front.Expect{Generation: seen.Generation, Term: seen.Term}
		switch err := expect.Allows(share, h.order); {
		case h.fault == "hangs", h.fault == "closed":
		case r.IntN(5) == 0: // a guard
			if next, err := (front.Homing{Side: split.Blue, By: "a guard"}).Next(h.order, time.Now()); err == nil {
				h.order, h.share = next, split.Toward(split.Blue, split.Whole)
			}
		case r.IntN(8) == 0:
			h.order.Term++
		case err == nil:
			h.share = share
		}
		if !h.at.IsZero() && h.share != split.Whole {
			h.back++
		}
		h.mu.Unlock()
	}
}

// Two hundred services leave a side: each that can within two seconds, whatever the others do, and nothing that goes on
// there sends anything back.
func TestTwoHundredEvacuate(t *testing.T) {
	r := testkit.Rand(t)
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		houses := make([]*house, 200)
		results := make([]Evacuated, len(houses))
		ctx, stop := context.WithCancel(t.Context())
		var keeping, leaving sync.WaitGroup
		for n := range houses {
			h := &house{takes: time.Duration(r.IntN(100)) * time.Millisecond}
			switch r.IntN(10) {
			case 0:
				h.fault = "hangs"
			case 1:
				h.fault = "nobody"
			case 2:
				h.fault = "closed"
				h.order = reading.Order{Generation: 3, Side: split.Blue, Closed: true} // green is
			case 3:
				h.takes = 350 * time.Millisecond
			case 4:
				h.fails = 1 + r.IntN(3)
			case 5:
				h.busy = 1 + r.IntN(2)
			}
			houses[n] = h
			own := rand.New(rand.NewPCG(r.Uint64(), r.Uint64()))
			keeping.Go(func() { h.keeps(ctx, own) })
		}
		time.Sleep(5 * time.Second)
		begun := time.Now()
		e := Evacuation{From: split.Blue, By: "ines", Why: "fire", For: 10 * time.Second, Within: Within}
		for n, h := range houses {
			leaving.Go(func() {
				p := &plan.Plan{Service: fmt.Sprint("ferry-", n), State: filepath.Join(dir, fmt.Sprint(n))}
				results[n] = e.Evacuate(ctx, p, h, func(error) {})
			})
		}
		leaving.Wait()
		time.Sleep(time.Minute)
		stop()
		keeping.Wait()
		gone := 0
		for n, h := range houses {
			goes := h.fault == ""
			switch took := h.at.Sub(begun); {
			case goes != results[n].Gone, goes == h.at.IsZero():
				t.Errorf("%q is evacuated: %+v", h.fault, results[n])
			case goes && took > 2*time.Second:
				t.Errorf("one that takes %v, and fails %d times, went after %v", h.takes, h.fails, took)
			case goes && (h.back > 0 || h.share != split.Whole || !h.order.Closes(split.Blue)):
				t.Errorf("after it went, something was sent back %d times, and it has %v on green", h.back, h.share)
			case goes:
				gone++
			}
		}
		if gone < 100 {
			t.Errorf("only %d of 200 can go", gone)
		}
	})
}
