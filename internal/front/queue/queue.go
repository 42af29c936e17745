package queue

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/front/told"
	"vaiven/internal/world/broker"
	"vaiven/internal/world/place"
)

// Driver steers a broker's bindings. It is safe for concurrent use.
type Driver struct {
	config   *Settings
	key      plan.Key
	names    names
	broker   *broker.Client
	steering told.Remote[state]
	counts   counter
	at       [2]*broker.Client // by side: where its queue is
	ends     [2]string         // by side: the queue of this broker that messages for it come to
	carriers [2]*broker.Mover  // by side: from its queue to the other's
	release  *broker.Mover     // from what is held to where messages go
	across   *broker.Mover     // from what is on its way to another broker to there; nil if there is none
	back     *broker.Mover     // from there to blue

	mu     sync.Mutex // protects what follows
	last   state      // that was looked at
	broken string     // why what is for another broker is not carried there
}

// New makes a driver that asks from a machine. Nothing is asked yet.
func New(on place.Machine, service string, f plan.Front) *Driver {
	config := f.Settings.(*Settings)
	d := &Driver{config: config, key: f.Key, names: named(service), broker: broker.New(on, config.config(f.Listen))}
	d.steering = told.Remote[state]{
		Look: d.seen, Share: d.share, Print: state.print, Work: d.work, Blind: d.homeward, Most: int(split.Whole),
		Try:   d.try,
		Has:   func(s state, side split.Side) int { return len(s.known[side]) },
		Order: func(s state) reading.Order { return s.order },
		Renew: d.renew,
		Lock: func(ctx context.Context) (func(), error) {
			unlock, err := d.broker.Lock(ctx, d.names.lock)
			return unlock, translated(err)
		},
	}
	d.at, d.ends = [2]*broker.Client{d.broker, d.broker}, config.Queues
	if config.Beyond.On() {
		d.at[split.Green], d.ends[split.Green] = broker.New(on, config.Beyond.config()), d.names.across
		d.across = d.broker.Carrier(d.names.across, d.at[split.Green], d.names.to[split.Green])
		d.back = d.broker.Carrier(d.names.across, d.broker, d.names.to[split.Blue])
	}
	for _, side := range split.Sides {
		d.carriers[side] = d.at[side].Carrier(config.Queues[side], d.at[side.Other()], d.names.to[side.Other()])
	}
	d.release = d.broker.Carrier(d.names.held, d.broker, d.names.first)
	return d
}

// seen looks, and remembers what it saw: going home may not have the time to look.
func (d *Driver) seen(ctx context.Context) (state, error) {
	s, err := d.look(ctx)
	if err == nil {
		d.mu.Lock()
		d.last = s
		d.mu.Unlock()
	}
	return s, err
}

func (d *Driver) before() state {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.last
}

// work is a change of the share: consumers are there before anything is led to them.
func (d *Driver) work(s state, share split.Share, home *reading.Order) (told.Work, error) {
	if home != nil {
		return d.homeward(front.Homing{Side: home.Side, By: home.By, Why: home.Why, Force: true}), nil
	}
	if _, whole := share.Alone(); !whole && !d.config.Shares {
		return told.Work{}, fmt.Errorf("%w: these queues take over from one another all at once, and %v is neither "+
			"all nor nothing (shares in the plan)", front.ErrRefused, share)
	}
	if _, whole := share.Alone(); !whole && !s.divides {
		return told.Work{}, fmt.Errorf("%w: the exchange %s does not divide messages by %v: vaiven front makes it so "+
			"while one side gets all of them", front.ErrRefused, d.names.mix, d.key)
	}
	for _, side := range split.Sides {
		if share.Of(side) > 0 && len(s.known[side]) == 0 {
			return told.Work{}, fmt.Errorf("%w: %v has no instances to send messages to", front.ErrRefused, side)
		}
	}
	acts, words, is := d.toward(s, share)
	off, err := d.note(s, pausedNote, nil)
	if err != nil {
		return told.Work{}, err
	}
	return told.Work{
		Steps: words, Weights: split.Weights{Reached: []split.Share{split.Whole - is, is}},
		Do: func(ctx context.Context) error {
			for _, side := range split.Sides {
				if share.Of(side) == 0 {
					continue
				}
				if _, consumers, err := d.at[side].Now(ctx, d.config.Queues[side]); err != nil {
					return translated(err)
				} else if consumers == 0 {
					return fmt.Errorf("%w: nobody takes messages from %s yet", front.ErrRefused, d.config.Queues[side])
				}
			}
			if to, whole := share.Alone(); d.config.Ordered && whole && d.elsewhere(s, to) {
				return d.inOrder(ctx, s, to)
			}
			return translated(d.broker.Do(ctx, append(acts, off...)...))
		},
	}, nil
}

// homeward is going home, for which nothing is read: one binding more, or one more and one less. Only then it is noted.
func (d *Driver) homeward(h front.Homing) told.Work {
	acts, words, _ := d.toward(state{}, split.Toward(h.Side, split.Whole))
	return told.Work{
		Steps: words, Weights: split.Weights{Reached: []split.Share{split.Toward(h.Side, split.Whole).Of(split.Blue),
			split.Toward(h.Side, split.Whole).Of(split.Green)}},
		Do: func(ctx context.Context) error {
			if err := d.somebody(ctx, h); err != nil {
				return err
			}
			if err := d.broker.Do(ctx, acts...); err != nil {
				return translated(err)
			}
			return d.ordered(ctx, h)
		},
	}
}

// somebody is an error if the side to go home to has no instances, while the other one has. It is looked at only by
// who does not know, and if it cannot be told, home is better than here. One that is closed is no home.
func (d *Driver) somebody(ctx context.Context, h front.Homing) error {
	s := d.before()
	if _, err := h.Next(s.order, time.Now()); err != nil {
		return err
	}
	if len(s.known[h.Side]) > 0 {
		return nil
	}
	looking, cancel := context.WithTimeout(ctx, lookLimit)
	defer cancel()
	s, err := d.seen(looking)
	if err != nil {
		return nil
	}
	if _, err := h.Next(s.order, time.Now()); err != nil {
		return err
	}
	if h.Force || len(s.known[h.Side]) > 0 || len(s.known[h.Side.Other()]) == 0 {
		return nil
	}
	return fmt.Errorf("%w: %v has no instances, and %v has", front.ErrNobody, h.Side, h.Side.Other())
}

// lookLimit is how long going home looks whether there is somebody.
const lookLimit = time.Second

// ordered writes down that somebody went home. Where it cannot be read what order came before, the last one that this
// process knows of is taken.
func (d *Driver) ordered(ctx context.Context, h front.Homing) error {
	s, errLook := d.look(ctx)
	if errLook != nil {
		s = d.before()
	}
	o, err := h.Next(s.order, time.Now())
	if err != nil {
		return err
	}
	written, errNote := d.note(s, orderNote, o)
	off, errOff := d.note(s, pausedNote, nil)
	if err := errors.Join(errNote, errOff); err != nil {
		return err
	}
	return translated(d.broker.Do(ctx, append(written, off...)...))
}

// renew writes down that another term has begun. A broker compares nothing: a note of a going home that comes
// meanwhile stands beside this one, and is the later one.
func (d *Driver) renew(ctx context.Context, s state, o reading.Order) error {
	acts, err := d.note(s, orderNote, o)
	if err != nil {
		return err
	}
	return translated(d.broker.Do(ctx, acts...))
}

// try is an error if bindings could not be changed: it makes the one that there is already.
func (d *Driver) try(ctx context.Context) error {
	s, err := d.look(ctx)
	if err != nil {
		return err
	}
	written, err := d.note(s, orderNote, s.order)
	if err != nil {
		return err
	}
	return translated(d.broker.Do(ctx, written[:1]...))
}

// Read is the split in force, and what the broker has counted.
func (d *Driver) Read(ctx context.Context) (reading.Front, error) {
	since := d.steering.ChangeMark()
	s, err := d.seen(ctx)
	if err != nil {
		return reading.Front{}, err
	}
	if s.damaged == nil {
		s.damaged = s.besides()
	}
	if s.damaged != nil {
		return reading.Front{}, s.damaged
	}
	r := reading.Front{At: time.Now(), Tells: reading.Capabilities{Counts: true, Both: true}}
	if r.Split, r.Order, err = d.steering.Known(since, s); err != nil {
		return reading.Front{}, err
	}
	told := d.steering.Instances()
	for _, side := range split.Sides {
		r.Sides[side] = told.Side(side, s.known[side])
	}
	if err := d.count(ctx, s, &r); err != nil {
		r.Blind = err.Error()
		for side := range r.Sides {
			for n := range r.Sides[side].Instances {
				r.Sides[side].Instances[n].Untold = true
			}
		}
	}
	if s.paused != nil {
		by := s.paused.By
		if by == "" {
			by = "somebody"
		}
		blind := fmt.Sprintf("%s holds all messages since %s", by, s.paused.At.Local().Format("15:04:05"))
		if r.Blind != "" {
			blind += ", and the broker's numbers are not known: " + r.Blind
		}
		r.Blind = blind
	}
	return r, nil
}

// Foresee is what Set would do.
func (d *Driver) Foresee(ctx context.Context, share split.Share) (front.Change, error) {
	return d.steering.Foresee(ctx, share, front.Change{
		Usually:     10 * time.Millisecond,
		Connections: "publishers and consumers keep their connections; messages that wait in a queue stay there",
	})
}

// Set leads messages where a share wants them, if the broker still is as expected.
func (d *Driver) Set(ctx context.Context, share split.Share, e front.Expect) (front.Done, error) {
	return d.steering.Set(ctx, share, e)
}

// Home leads all messages to a side.
func (d *Driver) Home(ctx context.Context, h front.Homing) (front.Done, error) {
	return d.steering.Home(ctx, h)
}

// Rehearse does everything of going home but the change.
func (d *Driver) Rehearse(ctx context.Context, side split.Side) ([]wayback.Step, error) {
	return d.steering.Rehearse(ctx, side)
}

// NewTerm begins another term.
func (d *Driver) NewTerm(ctx context.Context, after uint64) (uint64, error) {
	return d.steering.NewTerm(ctx, after)
}

// SetInstances notes who the instances of a side are. They take messages by themselves as soon as they are connected:
// who is out has to be kept from that by others.
func (d *Driver) SetInstances(ctx context.Context, side split.Side, wanted []reading.Server) error {
	return d.steering.SetInstances(ctx, side, wanted,
		func(changing context.Context, s state, _ front.Known, _ told.Wanted) error {
			if s.damaged != nil {
				return s.damaged
			}
			acts, err := d.note(s, side.String(), wanted)
			if err != nil {
				return err
			}
			return translated(d.broker.Do(changing, acts...))
		})
}

// Drain gives up a side that gets no messages. Those that it still has wait in its queue, or are being done. There is
// one at least until there have been none for as long as the broker's numbers lag.
func (d *Driver) Drain(ctx context.Context, side split.Side) (front.Left, error) {
	r, err := front.Quieted(ctx, d, side)
	switch {
	case err != nil:
		return front.Left{}, err
	case r.Sides[side].Queue == nil:
		return front.Left{}, fmt.Errorf("%w: what %s has is not known: %s", front.ErrUnreachable, d.config.Queues[side],
			r.Blind)
	}
	q := *r.Sides[side].Queue
	return front.Left{Waits: d.counts.left(side, q, r.At, d.config.Lag), Taken: q.Unacked}, nil
}

// Run carries what waits for nobody: what was held, and what is left on a side that gets no more messages, if the
// plan wants it or nobody takes it from there. It returns when the context ends.
func (d *Driver) Run(ctx context.Context) {
	var lonely [2]time.Time // since when a side has nobody
	over := d.bridge(ctx)
	if !d.config.Beyond.Shovel { // which goes on without anybody
		defer over(false)
	}
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(runEvery):
		}
		s, err := d.look(ctx)
		if err != nil || s.paused != nil {
			continue
		}
		share, err := d.share(s)
		if err != nil {
			continue
		}
		if home := share == 0 && d.config.Backlog == Carry; d.across != nil {
			over(!home)
			if left, _, err := d.broker.Now(ctx, d.names.across); home && err == nil && left > 0 {
				_ = d.back.Empty(ctx)
			}
		}
		if held, _, err := d.broker.Now(ctx, d.names.held); err == nil && held > 0 {
			aWhile(ctx, d.release)
		}
		for _, side := range split.Sides {
			ready, consumers, err := d.at[side].Now(ctx, d.config.Queues[side])
			if consumers > 0 || lonely[side].IsZero() {
				lonely[side] = time.Now()
			}
			if err != nil || ready == 0 || share.Of(side) > 0 ||
				d.config.Backlog != Carry && time.Since(lonely[side]) < lonelyFor {
				continue
			}
			if _, others, err := d.at[side.Other()].Now(ctx, d.config.Queues[side.Other()]); err != nil || others == 0 {
				continue
			}
			aWhile(ctx, d.carriers[side])
		}
	}
}

// aWhile carries until it is looked again: the share may be another one then, or messages held, and what is carried
// would come back for ever. What is left is tried again.
func aWhile(ctx context.Context, c *broker.Mover) {
	limited, cancel := context.WithTimeout(ctx, runEvery)
	defer cancel()
	_ = c.Empty(limited)
}

// bridge carries what is on its way to another broker, as long as it is told to.
func (d *Driver) bridge(ctx context.Context) (over func(yes bool)) {
	// what a broker does is as whoever was here before has left it
	end, carries, known := func() {}, false, !d.config.Beyond.Shovel
	return func(yes bool) {
		if known && yes == carries {
			return
		}
		if d.config.Beyond.Shovel {
			carries, known = yes, d.link(ctx, yes)
			return
		}
		if carries = yes; !yes {
			end()
			return
		}
		carrying, stop := context.WithCancel(ctx)
		done := make(chan struct{})
		go func() {
			defer close(done)
			for carrying.Err() == nil {
				_ = d.across.Keep(carrying) // what ends it is tried again
				select {
				case <-carrying.Done():
				case <-time.After(bridgeAgain):
				}
			}
		}()
		end = func() {
			stop()
			<-done
		}
	}
}

// link has the broker itself carry over, or no more, and reports whether that could be done.
func (d *Driver) link(ctx context.Context, yes bool) bool {
	limited, cancel := context.WithTimeout(ctx, lookLimit)
	defer cancel()
	var err error
	if yes {
		err = d.broker.Link(limited, d.names.across, d.names.across, d.at[split.Green], d.names.to[split.Green])
	} else {
		err = d.broker.Unlink(limited, d.names.across)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.broken = ""; err != nil {
		d.broken = err.Error()
	}
	return err == nil
}

const (
	bridgeAgain = 200 * time.Millisecond

	runEvery  = time.Second
	lonelyFor = 10 * time.Second // without a consumer, until what is left on a side is carried to the other
)

// Lacks are what stands in the way of what the front promises.
func (d *Driver) Lacks(ctx context.Context) ([]string, error) {
	s, err := d.look(ctx)
	if err != nil {
		return nil, err
	}
	if s.damaged != nil {
		return nil, s.damaged
	}
	list := slices.Clone(s.strange)
	unlike, err := d.unlike(ctx)
	if err != nil {
		return nil, err
	}
	return append(list, unlike...), nil
}

// Listed are the instances of a side.
func (d *Driver) Listed(ctx context.Context, side split.Side) ([]reading.Server, error) {
	s, err := d.look(ctx)
	return s.known[side], err
}
