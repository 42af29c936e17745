package headless

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync"
	"syscall"
	"time"

	"vaiven/internal/core/fleet"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// Evacuation is that a side is evacuated, with one service or many.
type Evacuation struct {
	From  split.Side
	By    string
	Why   string
	Force bool          // past everything but that nobody stands on the other side
	For   time.Duration // how long each front is tried
	Dry   bool          // only say what would be done
	// how long one look at whether a service can go may take, [Within] in general
	Within time.Duration
}

// Evacuated is what came of it with one service.
type Evacuated struct {
	Service string      `json:"service"`
	From    split.Side  `json:"from"`
	Had     split.Share `json:"had"`             // that the side had of the requests, as the front said before
	Gone    bool        `json:"gone"`            // all requests go to the other side, as the front has confirmed it
	Bar     fleet.Bar   `json:"bar,omitempty"`   // what is in the way
	Said    string      `json:"said,omitempty"`  // why
	Stand   fleet.Stand `json:"stand,omitzero"`  // of the other side
	Took    float64     `json:"took,omitempty"`  // seconds
	Until   time.Time   `json:"until,omitzero"`  // until when some may still ask there, as names are remembered
	Order   uint64      `json:"order,omitempty"` // the generation that it is done under
	Forced  bool        `json:"forced,omitempty"`
	Version string      `json:"version,omitempty"` // that the side which is evacuated runs
	Load    int64       `json:"load,omitempty"`    // requests that it has answered, as far as the front counts them
	order   reading.Order
}

// Within is how long one look at a front may take, and patience how long fronts that do not answer are looked at again
// and again, while other services move: a busy machine takes more than a second now and then.
const (
	Within   = time.Second
	patience = 3 * time.Second
)

// Evacuate evacuates a side with one service, and closes it. tried is told why a try did not work.
func (e Evacuation) Evacuate(ctx context.Context, p *plan.Plan, f Front, tried func(error)) Evacuated {
	begun := time.Now()
	r := Evacuated{Service: p.Service, From: e.From}
	e.stand(ctx, p, f, &r)
	r.Bar = r.Stand.Bar()
	r.Forced = r.Bar != fleet.Clear && e.Force && r.Bar.Forced()
	if e.Dry || r.Bar != fleet.Clear && !r.Forced {
		return r
	}
	o := e.options()
	d, err := Back(ctx, f, o, tried)
	if errors.Is(err, front.ErrNobody) {
		r.Bar, r.Forced = fleet.Nobody, false
	}
	if errors.Is(err, front.ErrClosed) {
		r.Bar, r.Forced = fleet.Shut, false
	}
	if err != nil {
		r.Said = err.Error()
		return r
	}
	r.Gone, r.Took, r.Until, r.order, r.Order = true, time.Since(begun).Seconds(), d.Everywhere, d.Order,
		d.Order.Generation
	return r
}

func (e Evacuation) options() BackOptions {
	return BackOptions{To: e.From.Other(), By: e.By, Why: e.Why, For: e.For, Close: true}
}

// Hold watches a front that cannot tell an old change from a new one; see [Hold].
func (e Evacuation) Hold(ctx context.Context, f Front, r Evacuated) error {
	_, err := Hold(ctx, f, e.options(), Returned{To: e.From.Other(), Order: r.order})
	return err
}

// stand finds out what is known of both sides, or why nothing is.
func (e Evacuation) stand(ctx context.Context, p *plan.Plan, f Front, is *Evacuated) {
	begun := time.Now()
	for e.look(ctx, p, f, is); !is.Stand.Read; e.look(ctx, p, f, is) {
		select {
		case <-ctx.Done():
			return
		case <-time.After(e.Within / 10):
		}
		if time.Since(begun) >= patience {
			return
		}
	}
}

// look is one look at both sides.
func (e Evacuation) look(ctx context.Context, p *plan.Plan, f Front, is *Evacuated) {
	s := &is.Stand
	ctx, cancel := context.WithTimeout(ctx, e.Within)
	defer cancel()
	to := e.From.Other()
	var logbook sync.WaitGroup
	logbook.Go(func() {
		if left, err := LeftAt(ctx, p); err == nil {
			s.Unproven = left.Stage.UnderWay() && left.Target == to && !left.Proven
		}
	})
	defer logbook.Wait()
	type answer struct {
		reading.Front
		err error
	}
	read := make(chan answer, 1)
	go func() {
		r, err := f.Read(ctx)
		read <- answer{r, err}
	}()
	var r answer
	select {
	case r = <-read:
	case <-ctx.Done():
		r.err = fmt.Errorf("the front has not answered for %v", e.Within)
	}
	if r.err != nil {
		is.Said = r.err.Error()
		return
	}
	s.Read, s.Closed, is.Had = true, r.Order.Closes(to), r.Split.Share.Of(e.From)
	for _, i := range r.Sides[e.From].Instances {
		is.Version, is.Load = i.Version, is.Load+i.Requests
	}
	s.Instances, s.Beside = len(r.Sides[to].Instances), len(r.Sides[e.From].Instances)
	asking, done := context.WithTimeout(ctx, e.Within*2/5)
	defer done()
	s.Answer, s.Refuse = answering(asking, r.Sides[to].Instances)
}

// answering is how many instances answer, and of how many their machines say that nobody listens. Of the others nothing
// is known.
func answering(ctx context.Context, list []reading.Count) (answer, refuse int) {
	results := make(chan error, len(list))
	for _, s := range list {
		go func() {
			c, err := new(net.Dialer).DialContext(ctx, "tcp", s.Address)
			if err == nil {
				_ = c.Close()
			}
			results <- err
		}()
	}
	for range list {
		switch err := <-results; {
		case err == nil:
			answer++
		case errors.Is(err, syscall.ECONNREFUSED):
			refuse++
		}
	}
	return answer, refuse
}

// Reopen opens the side again that was evacuated, and changes nothing else. It is false if none is closed.
func Reopen(ctx context.Context, f Front, by, why string) (o reading.Order, was bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, front.ChangeLimit)
	defer cancel()
	r, err := f.Read(ctx)
	if err != nil || !r.Order.Closed {
		return r.Order, false, err
	}
	d, err := front.TryHome(ctx, f.Home, front.Homing{Side: r.Order.Side, By: by, Why: why, Reopen: true})
	return d.Order, true, err
}
