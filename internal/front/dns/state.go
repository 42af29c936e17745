package dns

import (
	"cmp"
	"context"
	"crypto/rand"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// state is what the primary has of a name, at one moment.
type state struct {
	name    []dns.RR // what the name holds
	ttl     uint32   // of that
	note    note
	noted   []dns.RR // the note's record
	heard   []string // its texts, also those of a wildcard
	wild    bool     // a wildcard answers for the name, which is not there
	damaged error    // why the note or the instances cannot be read, or that there is no note
	strange bool     // the instances cannot be read
	listed  []dns.RR // the instances' records
	sides   front.Known
}

// said is a name as people write it.
func said(name string) string { return strings.TrimSuffix(name, ".") }

func (s *Settings) noteName() string  { return "_vaiven." + s.Name }
func (s *Settings) sidesName() string { return "_sides._vaiven." + s.Name }

// rrtype is the type of what the name holds.
func (s *Settings) rrtype() uint16 { return dns.StringToType[string(s.Type)] }

// looks is how often a name is looked at again that changes while it is looked at.
const looks = 4

// look reads all of it. What was changed in the middle is read again.
func (d *Driver) look(ctx context.Context) (state, error) {
	k, err := d.key(ctx)
	if err != nil {
		return state{}, err
	}
	l, err := dial(ctx, d.on, d.config.Server, k)
	if err != nil {
		return state{}, err
	}
	defer l.let()
	var s state
	for range looks {
		if s, err = d.lookOnce(l); err != nil {
			return s, err
		}
		again, err := l.set(d.config.noteName(), dns.TypeTXT, false)
		if err != nil {
			return s, err
		}
		if slices.Equal(texts(again), s.heard) {
			d.mu.Lock()
			defer d.mu.Unlock()
			d.seen = d.seen.next(s.note, time.Now())
			return s, nil
		}
	}
	return s, fmt.Errorf("%w: %s changes whenever it is read", front.ErrUnreachable, said(d.config.Name))
}

// lookOnce reads the records as they are. What a wildcard of the zone answers for a name is no record of that.
func (d *Driver) lookOnce(l *line) (s state, err error) {
	if s, err = d.records(l); err != nil || s.damaged == nil || len(s.noted)+len(s.listed)+len(s.name) == 0 {
		return s, err
	}
	was := s
	for _, r := range []struct {
		name string
		of   uint16
		set  *[]dns.RR
	}{
		{d.config.noteName(), dns.TypeTXT, &s.noted}, {d.config.sidesName(), dns.TypeTXT, &s.listed},
		{d.config.Name, d.config.rrtype(), &s.name},
	} {
		if len(*r.set) == 0 {
			continue
		}
		_, parent, _ := strings.Cut(r.name, ".")
		nobody, err := l.set(strings.ToLower(rand.Text())+"."+parent, r.of, false)
		if err != nil {
			return s, err
		}
		if len(nobody) > 0 && slices.Equal(texts(nobody), texts(*r.set)) &&
			slices.Equal(values(nobody), values(*r.set)) {
			*r.set = nil
			s.wild = s.wild || r.name == d.config.Name
		}
	}
	if len(s.noted) == len(was.noted) && len(s.listed) == len(was.listed) && len(s.name) == len(was.name) {
		return was, nil
	}
	return d.understood(s), nil
}

// records are those beside the name, and its own.
func (d *Driver) records(l *line) (s state, err error) {
	if s.noted, err = l.set(d.config.noteName(), dns.TypeTXT, false); err != nil {
		return s, err
	}
	s.heard = texts(s.noted)
	if s.listed, err = l.set(d.config.sidesName(), dns.TypeTXT, false); err != nil {
		return s, err
	}
	all, err := l.set(d.config.Name, d.config.rrtype(), false)
	if err != nil {
		return s, err
	}
	for _, rr := range all {
		switch h := rr.Header(); {
		case h.Rrtype == d.config.rrtype() && strings.EqualFold(h.Name, d.config.Name):
			s.name, s.ttl = append(s.name, rr), h.Ttl
		case strings.EqualFold(h.Name, d.config.Name) && h.Rrtype == dns.TypeCNAME:
			return s, fmt.Errorf("%w: %s is an alias of %s: write \"type: CNAME\", or make it an address set",
				front.ErrRefused, said(d.config.Name), said(rr.(*dns.CNAME).Target))
		}
	}
	return d.understood(s), nil
}

// understood is a state with what its records say.
func (d *Driver) understood(s state) state {
	var err error
	s.damaged, s.strange = nil, false
	if s.note, err = readNote(strings.Join(texts(s.noted), "")); err != nil {
		s.damaged = fmt.Errorf("%w: the record %s: %w: put it right, or go home, which writes it anew",
			front.ErrRefused, said(d.config.noteName()), err)
	}
	if len(s.noted) == 0 {
		s.damaged = fmt.Errorf("%w: %w: %s has no record of Vaiven's beside it", front.ErrUnreachable, front.ErrNotMade,
			said(d.config.Name))
	}
	if s.sides, err = members(s.listed); err != nil {
		s.damaged = fmt.Errorf("%w: the records %s: %w: put them right", front.ErrRefused, said(d.config.sidesName()),
			err)
		s.strange = true
	}
	return s
}

// values are what a name points to, in order.
func values(set []dns.RR) []string {
	var list []string
	for _, rr := range set {
		switch rr := rr.(type) {
		case *dns.A:
			list = append(list, rr.A.String())
		case *dns.AAAA:
			list = append(list, rr.AAAA.String())
		case *dns.CNAME:
			list = append(list, dns.CanonicalName(rr.Target))
		}
	}
	slices.Sort(list)
	return list
}

// print is the same text as long as the same is in force.
func (s state) print() string {
	return fmt.Sprint(values(s.name), s.ttl, texts(s.noted), slices.Sorted(slices.Values(texts(s.listed))))
}

// points is what a name points to for a share, and which share that is.
func (d *Driver) points(sides front.Known, share split.Share) (to []string, w split.Weights, err error) {
	alone, whole := share.Alone()
	if !whole && !d.config.Shares {
		return nil, w, fmt.Errorf("%w: %s moves all at once, and %v is neither all nor nothing (shares in the plan)",
			front.ErrRefused, said(d.config.Name), share)
	}
	for _, side := range split.Sides {
		if share.Of(side) > 0 && len(sides[side]) == 0 {
			return nil, w, fmt.Errorf("%w: %v has no instances to send requests to", front.ErrRefused, side)
		}
	}
	w, of, err := front.Weigh(sides, [2]plan.Capacity{}, share, 1)
	if err != nil {
		return nil, w, fmt.Errorf("%w: %w", front.ErrRefused, err)
	}
	if d.config.Type == Alias {
		return []string{d.config.Targets[alone]}, w, nil
	}
	for _, side := range split.Sides {
		for n, i := range sides[side] {
			if of[side][n] > 0 {
				to = append(to, host(i))
			}
		}
	}
	slices.Sort(to)
	return to, w, nil
}

func host(i reading.Server) string {
	h, _, _ := net.SplitHostPort(i.Address)
	return h
}

// share is on green: the part of the addresses that are its own.
func (d *Driver) share(s state) (split.Share, error) {
	if s.damaged != nil {
		return 0, s.damaged
	}
	now := values(s.name)
	if len(now) == 0 {
		return 0, fmt.Errorf("%w: %s points nowhere", front.ErrRefused, said(d.config.Name))
	}
	if d.config.Type == Alias {
		side := slices.Index(d.config.Targets[:], dns.CanonicalName(now[0]))
		if side < 0 {
			return 0, fmt.Errorf("%w: %s is an alias of %s, which is neither side's", front.ErrRefused,
				said(d.config.Name), said(now[0]))
		}
		if len(s.sides[side]) == 0 {
			return 0, fmt.Errorf("%w: nobody is on %v", front.ErrRefused, split.Side(side))
		}
		return split.Toward(split.Side(side), split.Whole), nil
	}
	var of [2]int
	for _, address := range now {
		side := -1
		for _, mine := range split.Sides {
			if slices.ContainsFunc(s.sides[mine], func(i reading.Server) bool { return host(i) == address }) {
				side = int(mine)
			}
		}
		if side < 0 {
			return 0, fmt.Errorf("%w: %s points to %s, which is an instance of neither side", front.ErrRefused,
				said(d.config.Name), address)
		}
		of[side]++
	}
	return split.Part(of[split.Green], len(now)), nil
}

// change is an update that is being made up.
type change struct {
	d     *Driver
	was   state
	note  note
	sides front.Known
	to    []string // what the name is to point to
	ttl   time.Duration
	now   time.Time
	alone bool // only the name and its note are written: who is on a side is not known
}

// change begins one, from a state.
func (d *Driver) change(was state) *change {
	c := &change{d: d, was: was, note: was.note, sides: was.sides, to: values(was.name), now: time.Now()}
	c.ttl = time.Duration(was.ttl) * time.Second
	if len(was.name) == 0 {
		c.ttl = d.ttl(was.sides)
	}
	c.note.stamp, c.note.at = rand.Text()[:13], c.now
	return c
}

// ttl is the name's, while so many stand.
func (d *Driver) ttl(sides front.Known) time.Duration {
	if len(sides[split.Blue]) > 0 && len(sides[split.Green]) > 0 {
		return d.config.Crossing
	}
	return d.config.TTL
}

// message is the update. With a guard it is refused if anything is other than it was read.
func (c *change) message(guarded bool) *dns.Msg {
	s := c.d.config
	m := new(dns.Msg).SetUpdate(s.Zone)
	if guarded {
		if len(c.was.noted) > 0 {
			m.Used(prerequisite(c.was.noted))
		} else {
			m.RRsetNotUsed([]dns.RR{header(s.noteName(), dns.TypeTXT)})
		}
		if len(c.was.name) > 0 {
			m.Used(prerequisite(c.was.name))
		} else {
			m.RRsetNotUsed([]dns.RR{header(s.Name, s.rrtype())})
		}
	}
	was := values(c.was.name)
	old := time.Duration(c.was.ttl) * time.Second
	if len(was) > 0 { // what is remembered of the old set is remembered so long
		if left := c.now.Add(old + rounding); c.ttl < old && left.After(c.note.eased) {
			c.note.eased = left
		}
		if !slices.Equal(was, c.to) {
			c.note.until = latest(c.note.until, c.note.eased, c.now.Add(old+rounding))
		}
	}
	if !slices.Equal(was, c.to) || old != c.ttl {
		c.put(m, s.Name, s.rrtype(), c.to)
	}
	m.RemoveRRset([]dns.RR{header(s.noteName(), dns.TypeTXT)})
	m.Insert([]dns.RR{txt(s.noteName(), c.note.text())})
	if c.alone {
		return m
	}
	if s.Spare != "" {
		c.put(m, s.Spare, s.rrtype(), c.spare())
	}
	for _, side := range split.Sides {
		if target := s.Targets[side]; dns.IsSubDomain(s.Zone, target) { // else its addresses are somebody's
			c.put(m, target, dns.TypeA, only(addresses(c.sides[side]), false))
			c.put(m, target, dns.TypeAAAA, only(addresses(c.sides[side]), true))
		}
	}
	m.RemoveRRset([]dns.RR{header(s.sidesName(), dns.TypeTXT)})
	for _, side := range split.Sides {
		for _, i := range c.sides[side] {
			m.Insert([]dns.RR{txt(s.sidesName(), member(side, i))})
		}
	}
	return m
}

// rounding is what resolvers may remember longer than they are told, as they count in whole seconds.
const rounding = time.Second

func latest(list ...time.Time) time.Time { return slices.MaxFunc(list, time.Time.Compare) }

// spare is what the spare side's name points to: the side that gets nothing, and in between the one that is smaller.
func (c *change) spare() []string {
	side := split.Green
	if share, err := c.d.share(state{name: c.records(c.d.config.Name, c.d.config.rrtype(), c.to),
		sides: c.sides}); err == nil && share > split.Whole/2 {
		side = split.Blue
	}
	if c.d.config.Type == Alias {
		return []string{c.d.config.Targets[side]}
	}
	return addresses(c.sides[side])
}

// addresses are those of the instances of a side that take requests.
func addresses(list []reading.Server) []string {
	var out []string
	for n, takes := range front.Takes(list) {
		if takes {
			out = append(out, host(list[n]))
		}
	}
	slices.Sort(out)
	return out
}

// only are the addresses of the one or the other version of IP.
func only(list []string, six bool) []string {
	return slices.DeleteFunc(slices.Clone(list), func(a string) bool { return strings.Contains(a, ":") != six })
}

// put replaces what a name has of a type, in the update.
func (c *change) put(m *dns.Msg, name string, of uint16, to []string) {
	m.RemoveRRset([]dns.RR{header(name, of)})
	m.Insert(c.records(name, of, to))
}

func (c *change) records(name string, of uint16, to []string) []dns.RR {
	h := dns.RR_Header{Name: name, Rrtype: of, Class: dns.ClassINET, Ttl: uint32(c.ttl / time.Second)}
	var set []dns.RR
	for _, text := range to {
		switch of {
		case dns.TypeA:
			set = append(set, &dns.A{Hdr: h, A: net.ParseIP(text)})
		case dns.TypeAAAA:
			set = append(set, &dns.AAAA{Hdr: h, AAAA: net.ParseIP(text)})
		case dns.TypeCNAME:
			set = append(set, &dns.CNAME{Hdr: h, Target: text})
		}
	}
	return set
}

func header(name string, of uint16) dns.RR {
	return &dns.ANY{Hdr: dns.RR_Header{Name: name, Rrtype: of, Class: dns.ClassINET}}
}

// prerequisite is a set as a prerequisite has it.
func prerequisite(set []dns.RR) []dns.RR {
	var list []dns.RR
	for _, rr := range set {
		rr = dns.Copy(rr)
		rr.Header().Ttl = 0
		list = append(list, rr)
	}
	return list
}

// words are what an update does to the name, line by line.
func (c *change) words() []string {
	was := values(c.was.name)
	var list []string
	s := c.d.config
	for _, v := range was {
		if !slices.Contains(c.to, v) {
			list = append(list, fmt.Sprintf("update delete %s %s %s", said(s.Name), s.Type, v))
		}
	}
	for _, v := range c.to {
		if !slices.Contains(was, v) {
			list = append(list, fmt.Sprintf("update add %s %d %s %s", said(s.Name), c.ttl/time.Second, s.Type, v))
		}
	}
	if len(list) == 0 {
		list = []string{fmt.Sprintf("%s stays as it is", said(s.Name))}
	}
	return list
}

// send sends an update.
func (d *Driver) send(ctx context.Context, m *dns.Msg) error {
	k, err := d.key(ctx)
	if err != nil {
		return err
	}
	l, err := dial(ctx, d.on, d.config.Server, k)
	if err != nil {
		return err
	}
	defer l.let()
	return l.update(m)
}

// key reads the key of updates, once.
func (d *Driver) key(ctx context.Context) (key, error) {
	d.mu.Lock()
	k := d.signs
	d.mu.Unlock()
	if k.name != "" {
		return k, nil
	}
	data, err := d.on.ReadFile(ctx, d.config.Key)
	if err == nil {
		k, err = readKey(data)
	}
	if err != nil {
		return k, fmt.Errorf("%w: the key of %s, %s: %w", front.ErrRefused, d.config.Server, d.config.Key, err)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.signs = cmp.Or(d.signs, k)
	return d.signs, nil
}
