package haproxy

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/durable"
	"vaiven/internal/front"
	"vaiven/internal/front/told"
	"vaiven/internal/plan"
)

// mostWeight is the largest weight of a server.
const mostWeight = 256

// usually is how long a change takes to be in force.
const usually = 2 * time.Millisecond

// Driver steers one HAProxy. It is safe for concurrent use.
type Driver struct {
	config plan.HAProxy
	sticky bool

	mu       sync.Mutex // held from reading to confirming, and protects what follows
	steering told.Steering[state]
	known    front.Known
	base     map[string]counted // by server: where its instance's counts begin
	lost     map[string]counts  // by backend, when it was first read
	notice   string             // what would not survive a reload, "" if everything would
}

// counted is where the counts of the instance at a server begin.
type counted struct {
	address string
	counts  counts
}

// New makes a driver. Nothing is asked yet.
func New(f plan.Front) *Driver {
	d := &Driver{config: *f.HAProxy, sticky: f.Sticky, base: map[string]counted{}, lost: map[string]counts{}}
	d.steering = told.Steering[state]{Look: d.look, Share: d.share, Print: d.print, Work: d.work, Most: mostWeight}
	return d
}

// side is the side that a server belongs to, and false if it is of none.
func (d *Driver) side(s server) (split.Side, bool) {
	for _, side := range split.Sides {
		if s.backend == d.config.Backends[side] && (!d.config.Weighs() || strings.HasPrefix(s.name, d.config.Servers[side])) {
			return side, true
		}
	}
	return 0, false
}

// of are a side's servers that count as its instances: those that get requests by
// their weight, and those whose address was told.
func (d *Driver) of(s state, side split.Side) []server {
	return slices.DeleteFunc(d.slots(s, side), func(v server) bool {
		return !v.in() && !slices.ContainsFunc(d.known[side], func(i reading.Server) bool { return i.Address == v.address })
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
	d.mu.Lock()
	defer d.mu.Unlock()
	s, err := d.look(ctx)
	if err != nil {
		return reading.Front{}, err
	}
	r := reading.Front{At: time.Now()}
	if r.Split, err = d.steering.InForce(s, d.known); err != nil {
		return reading.Front{}, err
	}
	var down []string
	for _, side := range split.Sides {
		r.Sides[side] = d.count(s, side)
		for _, v := range d.of(s, side) {
			if strings.HasPrefix(v.status, "DOWN") && v.weight > 0 {
				down = append(down, v.name)
			}
		}
	}
	r.Notice = d.notices(s, down)
	return r, nil
}

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
		return fmt.Sprintf("%d requests wait in HAProxy's queue though servers are up: if it does not go down, set one server to maint and to ready again", queued)
	case len(down) > 0:
		return fmt.Sprintf("HAProxy holds %s for down and sends their requests to others", strings.Join(down, ", "))
	case d.sticky && !s.sticky:
		return fmt.Sprintf("the plan wants sticky sessions, and backend %s has no cookie line", d.config.Backends[0])
	case d.notice != "":
		return d.notice
	case d.config.Weighs() && d.config.StateFile == "":
		return "a reload of HAProxy would undo the split: give it a server state file (state-file in the plan, server-state-file and load-server-state-from-file in its configuration)"
	}
	return ""
}

// count is a side's figures.
func (d *Driver) count(s state, side split.Side) reading.Side {
	r := reading.Side{Instances: []reading.Count{}}
	for _, v := range d.of(s, side) {
		b, ok := d.base[v.path()]
		if !ok || b.address != v.address || v.counts.sessions < b.counts.sessions {
			b = counted{address: v.address}
			if ok && v.counts.sessions >= d.base[v.path()].counts.sessions {
				b.counts = v.counts // another instance at the same server
			}
			d.base[v.path()] = b
		}
		c := reading.Count{
			Server: d.known.At(side, v.address, v.name), Open: v.counts.open,
			Failures: v.counts.connect + v.counts.response - b.counts.connect - b.counts.response,
		}
		for class := range c.Status {
			c.Status[class] = v.counts.status[class] - b.counts.status[class]
			c.Requests += c.Status[class]
		}
		r.Open += c.Open
		r.Lost += v.counts.response - b.counts.response
		r.Instances = append(r.Instances, c)
	}
	d.known.Sort(side, r.Instances)
	r.Lost += d.unserved(s, side)
	return r
}

// unserved are the requests that a backend answered itself because no server did: its
// errors beyond those of its servers. With one backend for both they are blue's, since
// nothing says whose they would have been.
func (d *Driver) unserved(s state, side split.Side) int64 {
	if d.config.Weighs() && side == split.Green {
		return 0
	}
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
}

// weigh finds what the servers of both sides have to become for a share.
func (d *Driver) weigh(s state, share split.Share) ([]setting, split.Weights, error) {
	var list []setting
	groups := make([]split.Group, 2)
	var takes [2][]int // places in list of those that take requests
	for _, side := range split.Sides {
		groups[side].Share = share.Of(side)
		servers := d.of(s, side)
		out := func(v server) bool { return d.known.At(side, v.address, v.name).Out }
		all := !slices.ContainsFunc(servers, func(v server) bool { return !out(v) })
		for _, v := range servers {
			list = append(list, setting{server: v, in: v.in() || groups[side].Share > 0})
			if all || !out(v) {
				takes[side] = append(takes[side], len(list)-1)
				groups[side].Capacities = append(groups[side].Capacities, 1)
			}
		}
	}
	if !d.config.Weighs() {
		for n := range list {
			list[n].weight = list[n].server.weight
		}
		for _, side := range split.Sides {
			for _, n := range takes[side] {
				list[n].weight = max(list[n].weight, 1)
			}
		}
		for n := range list {
			if side, _ := d.side(list[n].server); !slices.Contains(takes[side], n) {
				list[n].weight = 0
			}
		}
		return list, split.Weights{Reached: []split.Share{split.Whole - share, share}}, nil
	}
	w, err := split.Weigh(groups, mostWeight)
	if err != nil {
		return nil, w, err
	}
	for _, side := range split.Sides {
		for k, n := range takes[side] {
			list[n].weight = w.Of[side][k]
		}
	}
	return list, w, nil
}

// commands are what takes servers to their settings: first all that gains, then all
// that loses, so that somebody takes the requests at every moment.
func commands(list []setting) []string {
	var gain, lose []string
	for _, s := range list {
		at := s.path()
		if s.address != "" && s.address != s.server.address {
			host, port, _ := net.SplitHostPort(s.address)
			gain = append(gain, "set server "+at+" state maint", fmt.Sprintf("set server %s addr %s port %s", at, host, port))
			s.server.admin |= 0x01
		}
		set := fmt.Sprintf("set server %s weight %d", at, s.weight)
		switch {
		case s.left || s.home:
			if s.server.weight != s.weight {
				lose = append(lose, set)
			}
			if s.server.admin&maintenance == 0 {
				lose = append(lose, "set server "+at+" state maint")
			}
			continue
		case s.weight < s.server.weight && s.server.in():
			lose = append(lose, set)
		case s.weight != s.server.weight:
			gain = append(gain, set)
		}
		if s.in && !s.server.in() {
			gain = append(gain, "set server "+at+" state ready")
		}
	}
	return append(gain, lose...)
}

// steps are the commands that put a share in force.
func (d *Driver) steps(s state, share split.Share, home bool) ([]string, []setting, split.Weights, error) {
	for _, side := range split.Sides {
		if share.Of(side) > 0 && len(d.of(s, side)) == 0 {
			return nil, nil, split.Weights{}, fmt.Errorf("%w: %v has no instances to send requests to", front.ErrRefused, side)
		}
	}
	list, w, err := d.weigh(s, share)
	if err != nil {
		return nil, nil, w, err
	}
	for n := range list {
		side, _ := d.side(list[n].server)
		list[n].home = home && d.sticky && share.Of(side) == 0
	}
	steps := commands(list)
	if !d.config.Weighs() && (s.share != int(share) || !s.inMap) {
		verb := "set"
		if !s.inMap {
			verb = "add"
		}
		steps = append(steps, fmt.Sprintf("%s map %s %s %d", verb, d.config.Map, d.config.MapKey, share))
	}
	return steps, list, w, nil
}

// work is a change of the share. What has to be kept for a reload is on the disk before
// anything changes, but for going home.
func (d *Driver) work(s state, share split.Share, home bool) (told.Work, error) {
	steps, list, w, err := d.steps(s, share, home)
	return told.Work{Steps: steps, Weights: w, Do: func(ctx context.Context) error {
		return d.carryOut(ctx, s, steps, list, share, home)
	}}, err
}

// Plan is what Set would do.
func (d *Driver) Plan(ctx context.Context, share split.Share) (front.Change, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	c := front.Change{Usually: usually, Connections: front.StaysOpen}
	if d.sticky {
		c.Notes = append(c.Notes, front.SessionsStay)
	}
	if d.config.Weighs() && d.config.StateFile == "" || !d.config.Weighs() && !filepath.IsAbs(d.config.Map) {
		c.Notes = append(c.Notes, "a reload of HAProxy by anybody would undo it")
	}
	return d.steering.Plan(ctx, share, c)
}

// Set puts a share on green in force if the split still has the revision.
func (d *Driver) Set(ctx context.Context, share split.Share, revision uint64) (reading.Split, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.steering.Set(ctx, share, revision)
}

// Home puts a share on green in force whatever the split is.
func (d *Driver) Home(ctx context.Context, share split.Share) (reading.Split, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.steering.Home(ctx, share)
}

// carryOut does the steps, with what a reload needs written before and put in its place
// after. Going home neither waits for a disk nor depends on one: everything is written
// after, and what cannot be is a notice.
func (d *Driver) carryOut(ctx context.Context, s state, steps []string, list []setting, share split.Share, home bool) (err error) {
	var kept kept
	if !home {
		if kept, err = d.prepare(s, list, share); err != nil {
			return fmt.Errorf("%w: what a reload of HAProxy needs could not be kept on disk, nothing was changed: %w", front.ErrRefused, err)
		}
	}
	d.notice = ""
	if err := d.tell(ctx, steps); err != nil {
		kept.discard()
		return err
	}
	if home {
		kept, err = d.prepare(s, list, share)
	}
	if err == nil {
		err = kept.put()
	}
	if err != nil {
		d.notice = fmt.Sprintf("the split is in force but would not survive a reload of HAProxy: %v", err)
	}
	return nil
}

// SetInstances gives a side other instances: their addresses go to its servers, and
// servers that are not needed are put into maintenance. The share stays.
func (d *Driver) SetInstances(ctx context.Context, side split.Side, wanted []reading.Server) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	s, err := d.look(ctx)
	if err != nil {
		return err
	}
	as, err := d.steering.ForInstances(s, side, wanted)
	if err != nil {
		return err
	}
	slots := d.slots(s, side)
	placed, err := place(slots, wanted, d.known[side])
	if err != nil {
		return fmt.Errorf("%w: backend %s has %d servers for %v, and %d are needed: add some to its configuration", front.ErrRefused,
			d.config.Backends[side], len(slots), side, len(wanted))
	}
	before := d.known[side]
	d.known[side] = slices.Clone(wanted)
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
	list, _, err := d.weigh(then, as.Share)
	if err != nil {
		d.known[side] = before
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
		list[n].in = list[n].server.in() || !(d.sticky && as.Share.Of(own) == 0 && list[n].server.address == list[n].address)
	}
	for _, v := range slots {
		if _, used := placed[v.name]; !used && v.in() {
			list = append(list, setting{server: v, left: true})
		}
	}
	if err := d.carryOut(ctx, s, commands(list), list, as.Share, false); err != nil {
		d.known[side] = before
		return err
	}
	return d.steering.Told(ctx, s, as)
}

// place gives each instance a server: the one that has its address already, else one
// that nobody needs, best one that is out of rotation.
func place(slots []server, wanted, known []reading.Server) (map[string]string, error) {
	placed := map[string]string{}
	var left []reading.Server
	for _, i := range wanted {
		n := slices.IndexFunc(slots, func(v server) bool { _, taken := placed[v.name]; return v.address == i.Address && !taken })
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
func (d *Driver) Drain(ctx context.Context, side split.Side) (int64, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	s, err := d.look(ctx)
	if err != nil {
		return 0, err
	}
	if err := d.steering.Quiet(s, side); err != nil {
		return 0, err
	}
	open := int64(0)
	var list []setting
	for _, v := range d.of(s, side) {
		open += v.counts.open
		list = append(list, setting{server: v, weight: v.weight, home: true})
	}
	if !d.sticky {
		return open, nil
	}
	if err := d.tell(ctx, commands(list)); err != nil {
		return open, err
	}
	return open, d.steering.Ours(ctx, s)
}

// kept is files that wait to be put in place.
type kept struct{ files [][2]string } // temporary and final name

// put writes them through to the disk and gives them their names.
func (k kept) put() error {
	var failed []error
	for _, name := range k.files {
		err := durable.Sync(name[0])
		if err == nil {
			err = os.Rename(name[0], name[1])
		}
		if err != nil {
			_ = os.Remove(name[0])
		}
		failed = append(failed, err)
	}
	return errors.Join(failed...)
}

func (k kept) discard() {
	for _, f := range k.files {
		_ = os.Remove(f[0])
	}
}

// prepare writes what a reload needs beside the files it looks for it in.
func (d *Driver) prepare(s state, list []setting, share split.Share) (kept, error) {
	var k kept
	write := func(file string, data []byte) error {
		f, err := os.CreateTemp(filepath.Dir(file), ".vaiven-"+filepath.Base(file)+"-")
		if err != nil {
			return err
		}
		k.files = append(k.files, [2]string{f.Name(), file})
		mode := os.FileMode(0o644)
		if info, err := os.Stat(file); err == nil {
			mode = info.Mode().Perm()
		}
		_, err = f.Write(data)
		return errors.Join(err, f.Chmod(mode), f.Close())
	}
	var failed []error
	if d.config.StateFile != "" {
		failed = append(failed, write(d.config.StateFile, s.raw.with(list)))
	}
	if !d.config.Weighs() && filepath.IsAbs(d.config.Map) {
		data, err := os.ReadFile(d.config.Map)
		if err == nil {
			err = write(d.config.Map, withEntry(data, d.config.MapKey, int(share)))
		}
		failed = append(failed, err)
	}
	if err := errors.Join(failed...); err != nil {
		k.discard()
		return kept{}, err
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
func withEntry(data []byte, key string, value int) []byte {
	var b strings.Builder
	entry := fmt.Sprintf("%s %d\n", key, value)
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
