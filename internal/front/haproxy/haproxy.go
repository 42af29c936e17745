package haproxy

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/front/logged"
	"vaiven/internal/front/told"
	"vaiven/internal/world/accesslog"
	"vaiven/internal/world/place"
)

// mostWeight is the largest weight of a server.
const mostWeight = 256

// usually is how long a change takes to be in force.
const usually = 2 * time.Millisecond

// Driver steers one HAProxy. It is safe for concurrent use.
type Driver struct {
	on     place.Machine
	config *Settings
	door   plan.SpareDoor
	sticky bool // the plan wants it so
	both   bool // the prober meets both sides
	carry  [2]plan.Capacity

	steering told.Remote[state]
	tally    *logged.Tally // nil without a log
	held     time.Duration // over which the log is held against what was counted

	lasting sync.WaitGroup // what is being made to last; only tests wait for it, before they remove their folders

	mu       sync.Mutex         // protects what follows, and is not held while anybody is asked
	made     chan struct{}      // closed when the last going home is on the disk, or cannot be; nil if there was none
	base     map[string]counted // by server: where its instance's counts begin
	begun    tallied            // what the log is held against
	late     lack               // of the log, when it was held against that last
	compared time.Time          // when the state file was compared last
	notice   string             // what would not survive a reload, "" if everything would
}

// counted is where the counts of the instance at a server begin.
type counted struct {
	address string
	counts  counts
	took    *took
}

// New makes a driver. Nothing is asked yet.
func New(on place.Machine, f plan.Front) *Driver {
	d := &Driver{on: on, config: f.Settings.(*Settings), door: f.Spare, sticky: f.Sticky,
		both: f.Key.From != plan.KeyClient, carry: f.Carry, base: map[string]counted{}, held: 10 * time.Second}
	d.steering = told.Remote[state]{
		Look: d.look, Share: d.share, Print: d.print, Work: d.work, Most: mostWeight, Try: d.mayTell,
		Has: func(s state, side split.Side) int { return len(d.of(s, side, d.steering.Instances())) },
	}
	if d.config.Log != "" {
		d.tally = logged.New(on, d.config.Log, f.Key, d.wrote)
	}
	if d.config.Weighs() {
		d.steering.Mark = front.NewOrderFile(on, f.Order)
	} else {
		d.steering.Order = func(s state) reading.Order { return s.order }
		d.steering.Renew = d.renew
	}
	return d
}

// HomeWays are its run-time interface and the file of its map, which a reload reads.
func (d *Driver) HomeWays() (ways front.HomeWays, err error) {
	switch {
	case !place.Here(d.on):
		return ways, errors.New("HAProxy is on another machine")
	case d.config.Weighs():
		return ways, errors.New("HAProxy's weights hold no order of rolling back, and the file with it is the keeper's")
	case d.config.Address == "":
		ways.Sockets = []string{d.config.Socket}
	}
	ways.Files = []string{d.config.Map}
	return ways, nil
}

func (d *Driver) say(notice string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.notice = notice
}

// side is the side that a server belongs to, and false if it is of none.
func (d *Driver) side(s server) (split.Side, bool) {
	for _, side := range split.Sides {
		if s.backend == d.config.Backends[side] &&
			(!d.config.Weighs() || strings.HasPrefix(s.name, d.config.Servers[side])) {
			return side, true
		}
	}
	return 0, false
}

// of are a side's servers that count as its instances: those that get requests by
// their weight, and those whose address was told.
func (d *Driver) of(s state, side split.Side, known front.Known) []server {
	return slices.DeleteFunc(d.slots(s, side), func(v server) bool {
		return !v.in() && !slices.ContainsFunc(known[side],
			func(i reading.Server) bool { return i.Address == v.address })
	})
}

// slots are all servers of a side.
func (d *Driver) slots(s state, side split.Side) []server {
	var list []server
	for _, v := range s.servers {
		if own, ok := d.side(v); ok && own == side {
			list = append(list, v)
		}
	}
	return list
}

// share is the share on green that is in force.
func (d *Driver) share(s state) (split.Share, error) {
	if !d.config.Weighs() {
		return split.Share(s.share), nil
	}
	var sums [2]uint64
	for _, side := range split.Sides {
		for _, v := range d.slots(s, side) {
			if v.in() {
				sums[side] += uint64(v.weight)
			}
		}
	}
	if sums == [2]uint64{} {
		return 0, fmt.Errorf("%w: no server of backend %s gets any requests", front.ErrRefused, d.config.Backends[0])
	}
	return split.FromWeights(sums[split.Blue], sums[split.Green])
}

// print is what is in force as a text, to notice when somebody changed it.
func (d *Driver) print(s state) string {
	var b strings.Builder
	fmt.Fprintln(&b, s.share)
	for _, v := range s.servers {
		fmt.Fprintln(&b, v.path(), v.address, v.weight, v.in())
	}
	return b.String()
}

// Read is the split in force and what was counted.
func (d *Driver) Read(ctx context.Context) (reading.Front, error) {
	since := d.steering.ChangeMark()
	s, err := d.look(ctx)
	if err == nil {
		s, err = d.steering.Steady(ctx, s)
	}
	if err != nil {
		return reading.Front{}, err
	}
	known := d.steering.Instances()
	forgot := d.forgot(s, known)
	if forgot {
		if s, err = d.remind(ctx); err != nil {
			return reading.Front{}, err
		}
	}
	r := reading.Front{At: time.Now(), Forgot: forgot,
		Tells: reading.Capabilities{Counts: true, Means: true, Both: d.both}}
	if r.Split, r.Order, err = d.steering.Known(since, s); err != nil {
		return reading.Front{}, err
	}
	d.compareState(ctx, s)
	d.counts(&r, s, known)
	r.Sessions = d.sticks(s)
	if d.config.Weighs() {
		r.Own = d.unserved(s, split.Blue)
	}
	if d.tally != nil {
		if notice := d.times(ctx, &r); r.Notice == "" {
			r.Notice = notice
		}
	}
	return r, nil
}

// counts adds what was counted, and what is to be known of it.
func (d *Driver) counts(r *reading.Front, s state, known front.Known) {
	var down []string
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, side := range split.Sides {
		r.Sides[side] = d.count(s, side, known)
		for _, v := range d.of(s, side, known) {
			if strings.HasPrefix(v.status, "DOWN") && v.weight > 0 {
				down = append(down, v.name)
			}
		}
	}
	r.Notice = d.notices(s, down)
}

// tallied is how many answers were counted at a time, by HAProxy and by its log.
type tallied struct {
	at            time.Time
	counted, told int64
}

// times adds what the log tells. It is held against HAProxy's own counts: of what is sent some may never come, and
// nobody says so.
func (d *Driver) times(ctx context.Context, r *reading.Front) (notice string) {
	told, failed := d.tally.Times(ctx, r)
	d.mu.Lock()
	defer d.mu.Unlock()
	now := tallied{at: r.At, told: told}
	for _, side := range split.Sides {
		for _, c := range r.Sides[side].Instances {
			now.counted += c.Requests
		}
	}
	// counts began anew, or nobody looked for a while
	if d.begun.at.IsZero() || now.counted < d.begun.counted || now.at.Sub(d.begun.at) > 2*d.held {
		d.begun, d.late = now, lack{}
	}
	if failed != "" {
		r.Blind = failed
		return "answers have no times: " + failed
	}
	if now.at.Sub(d.begun.at) >= d.held {
		counted := now.counted - d.begun.counted
		d.late, d.begun = lack{of: counted, missing: counted - (now.told - d.begun.told)}, now
	}
	if d.late.most() {
		r.Tells.Times, r.Tells.Clients, r.Blind = false, false, d.late.String()
	}
	return d.late.String()
}

// lack is how many of the answers that HAProxy counted are not in its log.
type lack struct{ of, missing int64 }

// some reports whether there are enough answers to say that some are missing, and enough missing for it to matter.
func (l lack) some() bool { return l.of >= 20 && l.missing*20 > l.of }

func (l lack) most() bool { return l.some() && l.missing*2 > l.of }

// String is what to know of it, "" if nothing.
func (l lack) String() string {
	switch {
	case l.most():
		return fmt.Sprintf("of %d answers %d are not in the log (vaiven front PLAN says what it needs): answers have "+
			"no times", l.of, l.missing)
	case l.some():
		return fmt.Sprintf("of %d answers %d are not in the log: times are those of the rest", l.of, l.missing)
	}
	return ""
}

// wrote is whose a line of the log is.
func (d *Driver) wrote(e *accesslog.Entry) (split.Side, bool) {
	backend, name, _ := strings.Cut(string(e.Field("server")), "/")
	return d.side(server{backend: backend, name: name})
}

// sticks reports whether clients may keep a side that has no share any more: by what HAProxy has, whatever the plan
// says.
func (d *Driver) sticks(s state) bool { return d.sticky || s.sticky }

// notices is the most important thing to know of what was read.
func (d *Driver) notices(s state, down []string) string {
	queued := int64(0)
	for _, c := range s.backends {
		queued += c.queued
	}
	waits := false
	for _, v := range s.servers {
		waits = waits || v.in() && v.weight > 0 && !strings.HasPrefix(v.status, "DOWN")
	}
	switch {
	case queued > 100 && waits:
		return fmt.Sprintf("%d requests wait in HAProxy's queue though servers are up: if it does not go down, set "+
			"one server to maint and to ready again", queued)
	case len(down) > 0:
		return fmt.Sprintf("HAProxy holds %s for down and sends their requests to others", strings.Join(down, ", "))
	case s.sticky && !d.sticky:
		return fmt.Sprintf("HAProxy keeps clients on a server of backend %s, by a cookie or a stick table, and the "+
			"plan does not say \"sticky\": going home ends that, a leg does not", d.config.Backends[0])
	case d.sticky && !s.sticky:
		return fmt.Sprintf("the plan wants sticky sessions, and backend %s has no cookie line", d.config.Backends[0])
	case d.notice != "":
		return d.notice
	case d.door.Asks() && len(s.doors) == 0:
		return fmt.Sprintf("the plan wants a door of its own to the spare side, and HAProxy has no backend %s%s "+
			"(vaiven front PLAN says how)", d.config.Backends[split.Green], doorSuffix)
	case d.config.Weighs() && d.config.StateFile == "":
		return "a reload of HAProxy would undo the split: give it a server state file (state-file in the plan, " +
			"server-state-file and load-server-state-from-file in its configuration)"
	}
	return ""
}

// count is a side's figures. The first sight of an instance's counters is their zero. The
// caller holds the lock.
func (d *Driver) count(s state, side split.Side, known front.Known) reading.Side {
	r := reading.Side{Instances: []reading.Count{}}
	for _, v := range d.of(s, side, known) {
		b, ok := d.base[v.path()]
		if !ok || b.address != v.address || v.counts.less(b.counts) {
			b = counted{address: v.address, counts: v.counts, took: &took{}}
			d.base[v.path()] = b
		}
		c := reading.Count{
			Server: known.At(side, v.address, v.name), Open: v.counts.open,
			Failures: v.counts.connect + v.counts.response - b.counts.connect - b.counts.response,
			Left:     v.counts.left - b.counts.left,
		}
		for class := range c.Status {
			c.Status[class] = v.counts.status[class] - b.counts.status[class]
			c.Requests += c.Status[class]
		}
		c.Took = b.took.add(v.counts.answered(), float64(v.counts.average))
		r.Open += c.Open
		r.Lost += v.counts.response - b.counts.response
		r.Instances = append(r.Instances, c)
	}
	known.Sort(side, r.Instances)
	if !d.config.Weighs() {
		r.Lost += d.unserved(s, side)
	}
	return r
}

// unserved are the requests that a backend answered itself because no server did: its
// errors beyond those of its servers. With one backend for both nothing says whose they would have been.
func (d *Driver) unserved(s state, side split.Side) int64 {
	backend := d.config.Backends[side]
	c := s.backends[backend]
	own := c.status[5]
	for _, v := range s.servers {
		if v.backend == backend {
			own -= v.counts.status[5] + v.counts.response // a broken answer becomes a 502 of the backend
		}
	}
	return max(own, 0)
}

// setting is what a server is to become.
type setting struct {
	server
	weight  int
	in      bool   // in rotation
	home    bool   // taken out even for sessions
	address string // "" to leave it
	left    bool   // not an instance any more
	side    split.Side
	behind  bool // behind the spare side's own door, where nobody's share goes by it
}

// weigh finds what the servers of both sides have to become for a share.
func (d *Driver) weigh(s state, share split.Share, known front.Known) ([]setting, split.Weights, error) {
	var list []setting
	var sides [2][]reading.Server
	for _, side := range split.Sides {
		for _, v := range d.of(s, side, known) {
			list = append(list, setting{server: v, side: side, in: v.in() || share.Of(side) > 0})
			sides[side] = append(sides[side], known.At(side, v.address, v.name))
		}
	}
	w := split.Weights{Reached: []split.Share{split.Whole - share, share}}
	var of [2][]int
	if d.config.Weighs() {
		var err error
		if w, of, err = front.Weigh(sides, d.carry, share, mostWeight); err != nil {
			return nil, w, err
		}
	}
	n := 0
	for _, side := range split.Sides {
		for k, takes := range front.Takes(sides[side]) {
			switch {
			case d.config.Weighs():
				list[n].weight = of[side][k]
			case takes: // the map has the share
				list[n].weight = max(list[n].server.weight, 1)
			}
			n++
		}
	}
	return list, w, nil
}

// commands are what takes servers to their settings, in an order in which somebody takes the requests at every moment,
// and no side more of them than before and after.
func commands(list []setting) []string {
	steps := make([]split.Step, len(list))
	for n, s := range list {
		if steps[n].Side = s.side; s.behind {
			continue
		}
		if s.server.in() {
			steps[n].From = s.server.weight
		}
		if s.in && !s.left && !s.home {
			steps[n].To = s.weight
		}
	}
	var all []string
	for _, n := range split.InOrder(steps) {
		all = append(all, list[n].commands()...)
	}
	return all
}

// commands are what takes one server to its setting.
func (s setting) commands() (all []string) {
	at := s.path()
	if s.address != "" && s.address != s.server.address {
		host, port, _ := net.SplitHostPort(s.address)
		all = append(all, "set server "+at+" state maint", fmt.Sprintf("set server %s addr %s port %s", at, host, port))
		s.server.admin |= 0x01
	}
	if s.server.weight != s.weight {
		all = append(all, fmt.Sprintf("set server %s weight %d", at, s.weight))
	}
	switch {
	case (s.left || s.home) && s.server.admin&maintenance == 0:
		all = append(all, "set server "+at+" state maint")
	case s.in && !s.left && !s.home && !s.server.in():
		all = append(all, "set server "+at+" state ready")
	}
	return all
}

// work is a change of the share: of the servers' weights; and the share itself where a map holds it. What has to be
// kept for a reload is on the disk before anything changes, but for going home.
func (d *Driver) work(s state, share split.Share, home *reading.Order) (told.Work, error) {
	known := d.steering.Instances()
	if err := d.alone(s); err != nil && home == nil {
		return told.Work{}, err
	}
	for _, side := range split.Sides {
		if share.Of(side) > 0 && len(d.of(s, side, known)) == 0 && home == nil {
			return told.Work{}, fmt.Errorf("%w: %v has no instances to send requests to", front.ErrRefused, side)
		}
	}
	list, w, err := d.weigh(s, share, known)
	if err != nil {
		return told.Work{}, err
	}
	for n := range list {
		side, _ := d.side(list[n].server)
		list[n].home = home != nil && d.sticks(s) && share.Of(side) == 0
	}
	c := change{state: s, commands: commands(list), list: list, share: share, home: home}
	steps := slices.Clone(c.commands)
	if !d.config.Weighs() && (s.share != int(share) || !s.inMap) {
		steps = append(steps, d.entry(s, share))
	}
	return told.Work{Steps: steps, Weights: w, Do: func(ctx context.Context) error { return d.carryOut(ctx, c) }}, nil
}

// entry is the command that puts a share into the map.
func (d *Driver) entry(s state, share split.Share) string {
	verb := "set"
	if !s.inMap {
		verb = "add"
	}
	return fmt.Sprintf("%s map %s %s %d", verb, d.config.Map, d.config.MapKey, share)
}

// forgot reports whether HAProxy has nothing of what it was told: it was started again without the state of its
// servers.
func (d *Driver) forgot(s state, known front.Known) bool {
	told := 0
	for _, side := range split.Sides {
		told += len(known[side])
		for _, v := range d.slots(s, side) {
			if v.in() || slices.ContainsFunc(known[side],
				func(i reading.Server) bool { return i.Address == v.address }) {
				return false
			}
		}
	}
	return told > 0
}

// remind tells HAProxy again which instances there are, those of the side with more first, and gives them the share
// that was in force.
func (d *Driver) remind(ctx context.Context) (state, error) {
	changing, through, err := d.steering.Change(ctx)
	if err != nil {
		return state{}, err
	}
	defer through()
	s, err := d.look(changing)
	known := d.steering.Instances()
	if err != nil || !d.forgot(s, known) {
		return s, err
	}
	share, ok := d.steering.Last(s)
	if !ok {
		return s, nil
	}
	if !d.config.Weighs() {
		share = split.Share(s.share) // what the map has is in force
	}
	first := split.Blue
	if share > split.Whole/2 {
		first = split.Green
	}
	for n, side := range []split.Side{first, first.Other()} {
		of := front.Known{}
		of[first] = known[first]
		as := told.Wanted{Share: split.Toward(first, split.Whole)}
		if n > 0 {
			of, as.Share = known, share
		}
		if len(known[side]) == 0 {
			continue
		}
		if err := d.give(changing, s, side, of, as); err != nil {
			return s, err
		}
		if s, err = d.look(changing); err != nil {
			return s, err
		}
	}
	return s, nil
}

// Foresee is what Set would do.
func (d *Driver) Foresee(ctx context.Context, share split.Share) (front.Change, error) {
	c := front.Change{Usually: usually, Connections: front.StaysOpen}
	if d.sticky {
		c.Notes = append(c.Notes, front.SessionsStay)
	}
	if d.config.Weighs() && d.config.StateFile == "" || !d.config.Weighs() && !filepath.IsAbs(d.config.Map) {
		c.Notes = append(c.Notes, "a reload of HAProxy by anybody would undo it")
	}
	return d.steering.Foresee(ctx, share, c)
}

// Set puts a share on green in force if HAProxy still is as expected.
func (d *Driver) Set(ctx context.Context, share split.Share, e front.Expect) (front.Done, error) {
	return d.steering.Set(ctx, share, e)
}

// Rehearse does everything of going home but telling HAProxy.
func (d *Driver) Rehearse(ctx context.Context, side split.Side) ([]wayback.Step, error) {
	return d.steering.Rehearse(ctx, side)
}

// Home sends all requests to a side.
func (d *Driver) Home(ctx context.Context, h front.Homing) (front.Done, error) {
	return d.steering.Home(ctx, h)
}

// change is what is to be carried out.
type change struct {
	state    state // that it starts from
	commands []string
	list     []setting
	share    split.Share
	home     *reading.Order // nil if it is not a going home
	keep     bool           // the share in force stays as it is
	spare    front.Spare    // the spare side's own door, as it will be
	term     uint64         // that begins, 0 if none does
}

// carryOut does the steps, with what a reload needs written before and put in its place
// after. Going home neither waits for a disk nor depends on one: everything is written
// after, beside, and what cannot be is a notice.
func (d *Driver) carryOut(ctx context.Context, c change) error {
	if c.home != nil {
		return d.takeHome(ctx, c)
	}
	if !c.keep {
		var err error
		if c.spare, err = c.state.spare.Open(d.door, c.share); err != nil {
			return err
		}
	}
	kept, err := d.prepared(ctx, c)
	if err != nil {
		return fmt.Errorf("%w: what a reload of HAProxy needs could not be kept on disk, nothing was changed: %w",
			front.ErrRefused, err)
	}
	if err = d.tell(ctx, c.commands); err == nil && !d.config.Weighs() && !c.keep {
		err = d.commit(ctx, c)
	}
	if err != nil {
		kept.discard(ctx)
		return err
	}
	d.say("")
	d.put(ctx, kept)
	return nil
}

// renew puts another term into a map, as a new version of it, and once more as a newer one. A change that somebody
// prepared after the first, from what was in force before it, would be put in force over it; whatever is prepared after
// the second was begun in this term, and what was prepared before cannot be committed after.
func (d *Driver) renew(ctx context.Context, s state, o reading.Order) error {
	c := change{state: s, share: split.Share(s.share), keep: true, spare: s.spare, term: o.Term}
	kept, err := d.prepared(ctx, c)
	if err != nil {
		return fmt.Errorf("%w: the term could not be kept on disk: %w", front.ErrRefused, err)
	}
	if err = d.commit(ctx, c); err == nil {
		if c.state, err = d.look(ctx); err == nil && c.state.order.Term != o.Term {
			err = fmt.Errorf("%w: it is in term %d after %d was told", front.ErrChanged, c.state.order.Term, o.Term)
		}
	}
	if err == nil {
		err = d.commit(ctx, c)
	}
	if err != nil {
		kept.discard(ctx)
		return err
	}
	d.put(ctx, kept)
	return nil
}

// takeHome tells HAProxy at once, and sees to the disk after.
func (d *Driver) takeHome(ctx context.Context, c change) error {
	c.spare = c.state.spare.At(c.share)
	if !d.config.Weighs() {
		c.commands = append(slices.Clone(c.commands), d.entry(c.state, c.share), d.orderEntry(c.state, *c.home))
	}
	if err := d.tell(ctx, c.commands); err != nil {
		return err
	}
	if !d.config.Weighs() {
		// What others prepared before cannot be committed after this.
		if err := d.commit(ctx, c); err != nil {
			return err
		}
	}
	d.say("")
	d.mu.Lock()
	before, made := d.made, make(chan struct{})
	d.made = made
	d.mu.Unlock()
	d.lasting.Go(func() { // a disk that hangs holds nobody up
		defer close(made)
		if before != nil {
			<-before
		}
		ctx := context.WithoutCancel(ctx)
		kept, err := d.prepare(ctx, c)
		if err != nil {
			d.say(fmt.Sprintf("the split is in force but would not survive a reload of HAProxy: %v", err))
			return
		}
		d.put(ctx, kept)
		kept.sweep(ctx)
	})
	return nil
}

// prepared prepares a change, when the going home before it is on the disk: else that would come over
// it.
func (d *Driver) prepared(ctx context.Context, c change) (kept, error) {
	d.mu.Lock()
	made := d.made
	d.mu.Unlock()
	if made != nil {
		select {
		case <-made:
		case <-ctx.Done():
			return nil, fmt.Errorf("the going home before is not there yet: %w", context.Cause(ctx))
		}
	}
	return d.prepare(ctx, c)
}

// put gives files their places, and writes the state file.
func (d *Driver) put(ctx context.Context, k kept) {
	if err := errors.Join(k.put(ctx), d.keepState(ctx)); err != nil {
		d.say(fmt.Sprintf("the split is in force but would not survive a reload of HAProxy: %v", err))
	}
}

// NewTerm begins another term.
func (d *Driver) NewTerm(ctx context.Context, after uint64) (uint64, error) {
	return d.steering.NewTerm(ctx, after)
}

// SetInstances gives a side other instances: their addresses go to its servers, and
// servers that are not needed are put into maintenance. The share stays.
func (d *Driver) SetInstances(ctx context.Context, side split.Side, wanted []reading.Server) error {
	return d.steering.SetInstances(ctx, side, wanted,
		func(changing context.Context, s state, known front.Known, as told.Wanted) error {
			return d.give(changing, s, side, known, as)
		})
}

func (d *Driver) give(ctx context.Context, s state, side split.Side, known front.Known, as told.Wanted) error {
	wanted, slots := known[side], d.slots(s, side)
	placed, err := assign(slots, wanted, d.steering.Instances()[side])
	if err != nil {
		return fmt.Errorf("%w: backend %s has %d servers for %v, and %d are needed: add some to its configuration",
			front.ErrRefused,
			d.config.Backends[side], len(slots), side, len(wanted))
	}
	// As it will be when the addresses are there; weights are found for that.
	then := s
	then.servers = slices.Clone(s.servers)
	address := map[string]string{}
	for n, v := range then.servers {
		own, ok := d.side(v)
		if !ok || own != side {
			continue
		}
		if a, ok := placed[v.name]; ok {
			then.servers[n].address = a
			address[v.path()] = a
		} else {
			then.servers[n].admin |= 0x01
			then.servers[n].address = "" // nobody's
		}
	}
	list, _, err := d.weigh(then, as.Share, known)
	if err != nil {
		return err
	}
	is := map[string]server{}
	for _, v := range s.servers {
		is[v.path()] = v
	}
	for n := range list {
		p := list[n].path()
		list[n].server = is[p]
		list[n].address = address[p]
		if as.Rest {
			list[n].weight = 0
		}
		own, _ := d.side(list[n].server)
		// With sessions that stay, a side without a share that was taken home stays so.
		list[n].in = list[n].server.in() ||
			!(d.sticks(s) && as.Share.Of(own) == 0 && list[n].server.address == list[n].address)
	}
	for _, v := range slots {
		if _, used := placed[v.name]; !used && v.in() {
			list = append(list, setting{server: v, side: side, left: true})
		}
	}
	spare, err := s.spare.Open(d.door, as.Share)
	if err != nil {
		return err
	}
	if spare.Secret != "" {
		list = append(list, s.behindDoor(list, slots)...)
		if len(wanted) == 0 {
			spare = spare.Renewed(d.door)
		}
	}
	steps := commands(list)
	if spare.Secret != s.spare.Secret {
		if spare.Secret != "" {
			steps = append(steps, fmt.Sprintf("add map %s %s%s %v", d.config.Map, d.doorKey(), spare.Secret,
				spare.Side))
		}
		if s.spare.Secret != "" {
			steps = append(steps, fmt.Sprintf("del map %s %s%s", d.config.Map, d.doorKey(), s.spare.Secret))
		}
	}
	return d.carryOut(ctx, change{state: s, commands: steps, list: list, share: as.Share, keep: true, spare: spare})
}

// The spare side's own door leads to backends of its own, so that what comes by it is not counted among what users get.
// Their names are those of the sides with a suffix, and their servers are called as the sides'.
const doorSuffix = "-door"

// doorKey is what the map's key of the spare side's own door begins with. The secret follows.
func (d *Driver) doorKey() string { return d.config.MapKey + doorSuffix + "." }

// Doors are the spare side's own door, as the map has it.
func (d *Driver) Doors(ctx context.Context) ([]front.Spare, error) {
	s, err := d.look(ctx)
	if err == nil && s.spare.Secret != "" && len(s.doors) == 0 {
		err = fmt.Errorf("%w: it has no backend %s%s", front.ErrRefused, d.config.Backends[s.spare.Side], doorSuffix)
	}
	return []front.Spare{s.spare}, err
}

// behindDoor are the settings of the servers behind the spare side's door, so that they are as a side's are.
func (s state) behindDoor(list []setting, slots []server) (behind []setting) {
	for _, as := range list {
		at := slices.IndexFunc(s.doors,
			func(v server) bool { return v.backend == as.backend+doorSuffix && v.name == as.name })
		if at >= 0 && slices.ContainsFunc(slots, func(v server) bool { return v.path() == as.path() }) {
			behind = append(behind, setting{server: s.doors[at], weight: as.weight, in: !as.left, left: as.left,
				address: as.address, side: as.side, behind: true})
		}
	}
	return behind
}

// Listed are a side's servers that have an address, whether they get requests or not.
func (d *Driver) Listed(ctx context.Context, side split.Side) ([]reading.Server, error) {
	s, err := d.look(ctx)
	if err != nil {
		return nil, err
	}
	known := d.steering.Instances()
	var list []reading.Server
	for _, v := range d.slots(s, side) {
		if v.address != nobody {
			list = append(list, known.At(side, v.address, v.name))
		}
	}
	return list, nil
}

// nobody is the address of servers that wait for an instance, in the configuration that plans ask for.
const nobody = "127.0.0.1:1"

// assign gives each instance a server: the one that has its address already, else one
// that nobody needs, best one that is out of rotation.
func assign(slots []server, wanted, known []reading.Server) (map[string]string, error) {
	placed := map[string]string{}
	var left []reading.Server
	for _, i := range wanted {
		n := slices.IndexFunc(slots,
			func(v server) bool { _, taken := placed[v.name]; return v.address == i.Address && !taken })
		if n < 0 {
			left = append(left, i)
			continue
		}
		placed[slots[n].name] = i.Address
	}
	for _, i := range left {
		best, rank := "", 3
		for _, v := range slots {
			if _, taken := placed[v.name]; taken {
				continue
			}
			r := 0
			switch {
			case v.in() && v.weight > 0:
				r = 2
			case slices.ContainsFunc(known, func(k reading.Server) bool { return k.Address == v.address }):
				r = 1
			}
			if r < rank {
				best, rank = v.name, r
			}
		}
		if best == "" {
			return nil, errors.New("too few servers")
		}
		placed[best] = i.Address
	}
	return placed, nil
}

// Drain gives up a side without a share, and says how many requests it is still
// answering. Sessions do not stay any longer.
func (d *Driver) Drain(ctx context.Context, side split.Side) (front.Left, error) {
	changing, through, err := d.steering.Change(ctx)
	if err != nil {
		return front.Left{}, err
	}
	defer through()
	s, err := d.look(changing)
	if err != nil {
		return front.Left{}, err
	}
	if err := d.steering.Quiet(s, side); err != nil {
		return front.Left{}, err
	}
	var left front.Left
	var list []setting
	for _, v := range d.of(s, side, d.steering.Instances()) {
		left.Open += v.counts.open
		list = append(list, setting{server: v, side: side, weight: v.weight, home: true})
	}
	if !d.sticks(s) {
		return left, nil
	}
	if err := d.tell(changing, commands(list)); err != nil {
		return left, err
	}
	return left, d.steering.Told(ctx, s, told.AsItWas)
}

// kept is files that wait to be put in place.
type kept []keptFile

// keptFile is one of them.
type keptFile struct {
	place.Candidate
	trial bool // it only shows that the disk takes it: see [Driver.keepState]
}

// put writes them through to the disk and gives them their places. One that was swept away
// is no failure: somebody went home meanwhile, and writes it.
func (k kept) put(ctx context.Context) error {
	var failed []error
	for _, c := range k {
		if c.trial {
			c.Discard(ctx)
			continue
		}
		err := c.Slot().On.Sync(ctx, c.Name())
		if err == nil {
			err = c.Put(ctx)
		}
		if err != nil && !errors.Is(err, place.ErrSwept) && !errors.Is(err, fs.ErrNotExist) {
			c.Discard(ctx)
			failed = append(failed, err)
		}
	}
	return errors.Join(failed...)
}

func (k kept) discard(ctx context.Context) {
	for _, c := range k {
		c.Discard(ctx)
	}
}

// sweep takes away what others have not put in place yet.
func (k kept) sweep(ctx context.Context) {
	for _, c := range k {
		_ = c.Slot().Sweep(ctx) // it is as if that had not been tried
	}
}

// prepare writes what a reload needs beside the files it looks for it in.
func (d *Driver) prepare(ctx context.Context, c change) (kept, error) {
	var k kept
	write := func(file string, data []byte, secret, trial bool) error {
		slot := d.slot(ctx, file)
		if secret {
			slot.Mode &^= 0o007
		}
		next, err := slot.Candidate(ctx, data)
		if err == nil {
			k = append(k, keptFile{next, trial})
		}
		return err
	}
	var failed []error
	if d.config.StateFile != "" {
		failed = append(failed, write(d.config.StateFile, c.state.raw.with(c.list), false, true))
	}
	if !d.config.Weighs() && filepath.IsAbs(d.config.Map) &&
		(!c.keep || c.term > 0 || c.spare.Secret != c.state.spare.Secret) {
		data, err := d.on.ReadFile(ctx, d.config.Map)
		if err == nil {
			order := c.state.order
			if c.home != nil {
				order = *c.home
			}
			if !c.keep {
				data = withEntry(data, d.config.MapKey, fmt.Sprint(int(c.share)))
			}
			if data = without(data, d.doorKey()); c.spare.Secret != "" {
				data = withEntry(data, d.doorKey()+c.spare.Secret, c.spare.Side.String())
			}
			if order.Generation > 0 {
				data = withEntry(data, d.orderKey(), encode(order))
			}
			if term := max(c.term, c.state.order.Term); term > 0 {
				data = withEntry(data, d.termKey(), strconv.FormatUint(term, 10))
			}
			err = write(d.config.Map, data, c.spare.Secret != "", false)
		}
		failed = append(failed, err)
	}
	if err := errors.Join(failed...); err != nil {
		k.discard(ctx)
		return nil, err
	}
	return k, nil
}

// with is the table of servers as it will be, in the form of a server state file.
func (t table) with(list []setting) []byte {
	names := make([]string, len(t.columns))
	for name, n := range t.columns {
		names[n] = name
	}
	var b strings.Builder
	fmt.Fprintf(&b, "1\n# %s\n", strings.Join(names, " "))
	for _, row := range t.rows {
		row = slices.Clone(row)
		set := func(column, value string) {
			if n, ok := t.columns[column]; ok && n < len(row) {
				row[n] = value
			}
		}
		for _, s := range list {
			if s.backend != t.text(row, "be_name") || s.name != t.text(row, "srv_name") {
				continue
			}
			set("srv_uweight", strconv.Itoa(s.weight))
			admin, running := s.server.admin, "2"
			switch {
			case s.left || s.home:
				admin, running = admin|0x01, "0"
			case s.in:
				admin &^= maintenance | draining
			case !s.server.in():
				running = t.text(row, "srv_op_state")
			}
			set("srv_admin_state", strconv.Itoa(admin))
			set("srv_op_state", running)
			if host, port, err := net.SplitHostPort(s.address); err == nil {
				set("srv_addr", host)
				set("srv_port", port)
			}
		}
		fmt.Fprintln(&b, strings.Join(row, " "))
	}
	return []byte(b.String())
}

// withEntry is the file of a map with another value for a key.
func withEntry(data []byte, key, value string) []byte {
	var b strings.Builder
	entry := fmt.Sprintf("%s %s\n", key, value)
	done := false
	for line := range strings.Lines(string(data)) {
		if f := strings.Fields(line); len(f) > 0 && f[0] == key {
			if !done {
				b.WriteString(entry)
			}
			done = true
			continue
		}
		b.WriteString(line)
		if !strings.HasSuffix(line, "\n") {
			b.WriteByte('\n')
		}
	}
	if !done {
		b.WriteString(entry)
	}
	return []byte(b.String())
}

// without is the file of a map without the keys that begin so.
func without(data []byte, key string) []byte {
	var b strings.Builder
	for line := range strings.Lines(string(data)) {
		if !strings.HasPrefix(strings.TrimSpace(line), key) {
			b.WriteString(line)
		}
	}
	return []byte(b.String())
}
