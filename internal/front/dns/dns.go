package dns

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/front/asked"
	"vaiven/internal/front/told"
	"vaiven/internal/world/place"
)

// Driver steers a name. It is safe for concurrent use.
type Driver struct {
	on     place.Machine
	listen string
	config *Settings
	counts *asked.Counter

	steering told.Remote[state]

	mu    sync.Mutex // protects what follows
	signs key        // once it was read
	seen  seen
	own   reading.Order
	late  map[string]time.Time // by server: until when somebody goes by what it answered that was before
}

// New makes a driver. Nothing is asked yet.
func New(on place.Machine, f plan.Front) *Driver {
	d := &Driver{on: on, listen: f.Listen, config: f.Settings.(*Settings), late: map[string]time.Time{}}
	d.counts = asked.New(on, d.config.Counts)
	d.steering = told.Remote[state]{
		Look: d.look, Share: d.share, Print: state.print, Work: d.work, Most: 1, Order: d.order, Renew: d.renew,
		Try: d.try,
		Has: func(s state, side split.Side) int {
			sides, known := d.members(s)
			if !known && d.config.Type == Alias {
				return 1 // the target is somebody's
			}
			return len(sides[side])
		},
	}
	return d
}

// order is the last going home. Its reason is known to who gave it alone.
func (d *Driver) order(s state) reading.Order {
	d.mu.Lock()
	defer d.mu.Unlock()
	o := s.note.order
	if d.own.Generation == o.Generation && d.own.Side == o.Side {
		o.By, o.Why = d.own.By, d.own.Why
	}
	return o
}

// members are the instances by side; where their records are damaged or gone, as this process was told. They are not
// known where it was told of none.
func (d *Driver) members(s state) (sides front.Known, known bool) {
	if !s.strange && len(s.listed) > 0 {
		return s.sides, true
	}
	sides = d.steering.Instances()
	return sides, !s.strange && s.damaged == nil || len(sides[split.Blue])+len(sides[split.Green]) > 0
}

// work is a change of the share. Going home has no prerequisite: it is made over whatever is there.
func (d *Driver) work(s state, share split.Share, home *reading.Order) (told.Work, error) {
	c := d.change(s)
	sides, known := d.members(s)
	c.sides, c.alone = sides, !known
	to, weights, err := d.points(sides, share)
	if err != nil && home != nil && d.config.Type == Alias { // it leads to the side's name, whoever is there
		to, weights, err = []string{d.config.Targets[home.Side]},
			split.Weights{Reached: []split.Share{split.Whole - share, share}}, nil
	}
	if err != nil && home != nil {
		return told.Work{}, fmt.Errorf("%w: it is not known who is on %v, and a name that points nowhere helps nobody",
			front.ErrNobody, home.Side)
	}
	if err != nil {
		return told.Work{}, err
	}
	c.to = to
	if home != nil {
		c.note.order = *home
	}
	m := c.message(home == nil)
	w := told.Work{Steps: c.words(), Weights: weights, Do: func(ctx context.Context) error {
		err := d.send(ctx, m)
		if err == nil && home != nil {
			d.mu.Lock()
			defer d.mu.Unlock()
			d.own = *home
		}
		return err
	}}
	if left := c.note.until.Sub(c.now); left > 0 {
		w.Notes = append(w.Notes,
			fmt.Sprintf("resolvers remember what was before for up to %v more", left.Round(time.Second)))
	}
	return w, nil
}

// renew writes down that another term has begun. Every update has the note as it was read for its prerequisite: those
// of before are refused then.
func (d *Driver) renew(ctx context.Context, s state, o reading.Order) error {
	c := d.change(s)
	c.alone, c.note.order = true, o
	return d.send(ctx, c.message(true))
}

// try is an error if updates would be refused: one that changes nothing is signed and sent.
func (d *Driver) try(ctx context.Context) error {
	m := new(dns.Msg).SetUpdate(d.config.Zone)
	return d.send(ctx, m)
}

// Read is the split in force and what was counted.
func (d *Driver) Read(ctx context.Context) (reading.Front, error) {
	since := d.steering.ChangeMark()
	s, err := d.look(ctx)
	if err != nil {
		return reading.Front{}, err
	}
	if s.damaged != nil {
		return reading.Front{}, s.damaged
	}
	known := d.steering.Instances()
	r := reading.Front{At: time.Now(), Tells: reading.Capabilities{Both: true}}
	if r.Split, r.Order, err = d.steering.Known(since, s); err != nil {
		return reading.Front{}, err
	}
	r.Remembers = time.Duration(s.ttl)*time.Second + rounding
	r.Everywhere, r.Eased = d.lasting()
	if late := d.ask(ctx, s, &r); late.After(r.Everywhere) {
		r.Everywhere = late
	}
	for _, side := range split.Sides {
		r.Sides[side] = known.Side(side, s.sides[side])
	}
	d.counts.Count(ctx, &r)
	return r, nil
}

// lasting is, as last looked at, until when some clients still use the old DNS answer, and until when a longer TTL is
// remembered.
func (d *Driver) lasting() (everywhere, eased time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.seen.lasts(d.seen.until), d.seen.lasts(d.seen.eased)
}

// ask asks the other servers and resolvers what they answer, at the same time, and returns until when somebody goes
// by what was before.
func (d *Driver) ask(ctx context.Context, s state, r *reading.Front) (until time.Time) {
	type answer struct {
		server   string
		resolver bool
		set      []dns.RR
		err      error
	}
	list := make([]answer, 0, len(d.config.Secondaries)+len(d.config.Resolvers))
	for _, server := range d.config.Secondaries {
		list = append(list, answer{server: server})
	}
	for _, server := range d.config.Resolvers {
		list = append(list, answer{server: server, resolver: true})
	}
	var wait sync.WaitGroup
	for n := range list {
		a := &list[n]
		wait.Go(func() {
			ctx, cancel := context.WithTimeout(ctx, othersLimit)
			defer cancel()
			l, err := dial(ctx, d.on, a.server, key{})
			if err == nil {
				defer l.let()
				a.set, err = l.set(d.config.Name, d.config.rrtype(), a.resolver)
			}
			a.err = err
		})
	}
	wait.Wait()
	now, ttl := time.Now(), time.Duration(s.ttl)*time.Second
	var said []string
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, a := range list {
		var own []dns.RR
		left := ttl
		for _, rr := range a.set {
			if h := rr.Header(); h.Rrtype == d.config.rrtype() && strings.EqualFold(h.Name, d.config.Name) {
				own, left = append(own, rr), time.Duration(h.Ttl)*time.Second
			}
		}
		switch {
		case a.err != nil:
			said = append(said, fmt.Sprintf("what %s answers is not known: %v", a.server, a.err))
		case slices.Equal(values(own), values(s.name)):
		case a.resolver && len(own) == 0: // nobody whom it answers goes anywhere
			said = append(said, fmt.Sprintf("%s answers that there is no %s", a.server, strings.TrimSuffix(d.config.Name, ".")))
		case a.resolver:
			d.late[a.server] = now.Add(left + rounding)
			said = append(said, fmt.Sprintf("%s remembers what was before for %v more", a.server, left))
		default: // a server that hands out what was before: it counts from when it stops
			d.late[a.server] = now.Add(ttl + rounding)
			said = append(said, fmt.Sprintf("%s still answers what was before", a.server))
		}
		until = latest(until, d.late[a.server])
	}
	r.Notice = strings.Join(said, "; ")
	return until
}

// othersLimit bounds what is asked of secondaries and resolvers, for which nothing waits but a reading.
const othersLimit = time.Second

// Foresee is what Set would do.
func (d *Driver) Foresee(ctx context.Context, share split.Share) (front.Change, error) {
	return d.steering.Foresee(ctx, share, front.Change{
		Usually:     10 * time.Millisecond,
		Connections: "clients keep the connections that they have until they or the instance close them",
	})
}

// Set points the name where a share leads to, if it still is as expected.
func (d *Driver) Set(ctx context.Context, share split.Share, e front.Expect) (front.Done, error) {
	return d.everywhere(d.steering.Set(ctx, share, e))
}

// Home points the name to a side.
func (d *Driver) Home(ctx context.Context, h front.Homing) (front.Done, error) {
	return d.everywhere(d.steering.Home(ctx, h))
}

// everywhere adds until when what was before is remembered, as it was read back.
func (d *Driver) everywhere(done front.Done, err error) (front.Done, error) {
	if until, _ := d.lasting(); err == nil && until.After(time.Now()) {
		done.Everywhere = until
	}
	return done, err
}

// Rehearse does everything of going home but the change: it signs and sends an update that changes nothing.
func (d *Driver) Rehearse(ctx context.Context, side split.Side) ([]wayback.Step, error) {
	return d.steering.Rehearse(ctx, side)
}

// NewTerm begins another term.
func (d *Driver) NewTerm(ctx context.Context, after uint64) (uint64, error) {
	return d.steering.NewTerm(ctx, after)
}

// SetInstances gives a side other instances. While both sides have some, the TTL is the short one.
func (d *Driver) SetInstances(ctx context.Context, side split.Side, wanted []reading.Server) error {
	if err := d.fit(wanted); err != nil {
		return err
	}
	return d.steering.SetInstances(ctx, side, wanted,
		func(changing context.Context, s state, _ front.Known, as told.Wanted) error {
			if s.damaged != nil {
				return s.damaged
			}
			c := d.change(s)
			c.sides[side] = slices.Clone(wanted)
			// it points to somebody who was not known until now, or to a stranger
			if _, err := d.share(s); err != nil && len(s.name) > 0 {
				now := s
				now.sides = c.sides
				if as.Share, err = d.share(now); err != nil {
					return err
				}
				as.Rest = false
			}
			c.ttl = d.ttl(c.sides)
			switch {
			case as.Rest:
				c.to = nil
			case as.Share.Of(side) == 0 && !d.config.Shares: // the other one's stay what they are
			default:
				to, _, err := d.points(c.sides, as.Share)
				if err != nil && len(c.sides[side]) > 0 {
					return err
				}
				c.to = to
			}
			return d.send(changing, c.message(true))
		})
}

// fit is an error if instances cannot be reached by a name: it carries addresses, and no ports.
func (d *Driver) fit(list []reading.Server) error {
	_, port, _ := net.SplitHostPort(d.listen)
	for _, i := range list {
		h, own, err := net.SplitHostPort(i.Address)
		ip := net.ParseIP(h)
		switch {
		case err != nil || ip == nil:
			return fmt.Errorf("%w: %s is at %s, and a name points to an IP address", front.ErrRefused, i.Name,
				i.Address)
		case own != port:
			return fmt.Errorf("%w: %s is at port %s, and a name carries no ports: users ask at %s", front.ErrRefused,
				i.Name, own, d.listen)
		case d.config.Type != Alias && (ip.To4() != nil) != (d.config.Type == A):
			return fmt.Errorf("%w: %s has the address %s, and the name holds %s records", front.ErrRefused, i.Name, h,
				d.config.Type)
		}
	}
	return nil
}

// Drain gives up a side that the name does not point to, once nobody remembers it. Open are the requests
// that came to it last, where instances tell, and 0 once none have come for a while.
func (d *Driver) Drain(ctx context.Context, side split.Side) (front.Left, error) {
	r, err := front.Quieted(ctx, d, side)
	switch {
	case err != nil:
		return front.Left{}, err
	case r.Everywhere.After(time.Now()):
		return front.Left{Until: r.Everywhere}, fmt.Errorf("%w: resolvers may send requests to %v for %v more",
			front.ErrRefused, side, time.Until(r.Everywhere).Round(time.Second))
	}
	return front.Left{Open: d.counts.Stragglers(side, r)}, nil
}

// Prepare writes the records that Vaiven needs beside the name. What the name points to stays, if it points anywhere.
func (d *Driver) Prepare(ctx context.Context, sides front.Known) (made bool, err error) {
	was, err := d.look(ctx)
	switch {
	case err != nil:
		return false, err
	case !errors.Is(was.damaged, front.ErrNotMade):
		return false, was.damaged
	case was.wild: // a record beside it would end that
		return false, fmt.Errorf("%w: %s is not in the zone, and a wildcard answers for it: users would find nothing as soon "+
			"as there are records beside it; add what it is to answer as records of its own first", front.ErrRefused,
			said(d.config.Name))
	}
	for _, side := range split.Sides {
		if err := d.fit(sides[side]); err != nil {
			return false, err
		}
	}
	c := d.change(was)
	c.sides = sides
	if live := sides.Live(); len(was.name) == 0 && len(sides[live]) > 0 {
		if c.to, _, err = d.points(sides, split.Toward(live, split.Whole)); err != nil {
			return false, err
		}
	}
	err = d.send(ctx, c.message(true))
	return err == nil, err
}
