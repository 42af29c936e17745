package host

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	"vaiven/internal/world/delivered"
	"vaiven/internal/world/permit"
	"vaiven/internal/world/place"
	"vaiven/internal/world/place/distant"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/state"
)

// Driver starts, lists and stops the instances of one part on its hosts; see
// [stack.Driver].
type Driver struct {
	service  string
	part     *plan.Part
	first    bool
	secrets  secret.Values
	machines [2][]*machine // by side; the same where the hosts are
	state    string        // the state folder here

	turn place.Turn // of whoever starts or stops instances

	mu   sync.Mutex   // protects seen
	seen map[seen]int // instances that were noted when they were last listed
}

// New makes the driver for a part of a plan. No host is asked anything yet.
func New(p *plan.Plan, part int, secrets secret.Values) *Driver {
	d := &Driver{service: p.Service, part: &p.Parts[part], first: part == 0, state: p.State, secrets: secrets,
		turn: place.NewTurn(), seen: map[seen]int{}}
	known := map[string]*machine{}
	for _, side := range split.Sides {
		s := d.part.Stacks[side]
		for _, h := range s.Hosts {
			at := h.String() + "\x00" + s.Identity + "\x00" + s.KnownHosts
			if known[at] == nil {
				known[at] = &machine{h, distant.At(h.User, h.Address, s.Identity, s.KnownHosts)}
			}
			d.machines[side] = append(d.machines[side], known[at])
		}
	}
	return d
}

// machine is one host with its connection.
type machine struct {
	plan.Host
	*distant.Machine
}

// String is the host as the plan names it.
func (m *machine) String() string { return m.Host.String() }

// cut is the beginning of a text that somebody else wrote.
func cut(text string) string { return text[:min(len(text), 400)] }

// dir is where the notes stand, below ~/.vaiven.
func (d *Driver) dir() string { return d.service + "/" + d.part.Name }

// found is what a host says of its instances.
type found struct {
	instances []reading.Instance
	listening map[int]bool
}

// do runs a script on a host and says what its status means. done are statuses that are no
// failure beside 0.
func (d *Driver) do(ctx context.Context, m *machine, what, script string, done ...int) (distant.Said, error) {
	a, err := m.Script(ctx, script)
	if err == nil && a.Status != 0 && !slices.Contains(done, a.Status) {
		err = fmt.Errorf("host %s: %s: %w", m, what, d.failure(a))
	}
	return a, err
}

// failure says what the status of a script means.
func (d *Driver) failure(a distant.Said) error {
	text := d.secrets.HideCut(cut(a.Warning))
	switch a.Status {
	case statusFull:
		if room, where, ok := room(a.Out); ok && room < 64 {
			return fmt.Errorf("the disk of %s is full: %d KiB are left: %s", where, room, text)
		}
		return fmt.Errorf("the notes on instances in ~/.vaiven/%s cannot be written: %s", d.dir(), text)
	case statusLocked:
		return errors.New("another start or stop is at work there, or the host has no flock (util-linux)")
	case statusNotOurs:
		return fmt.Errorf("%s is a link or belongs to somebody else: it is not believed. Find out who made it, and "+
			"remove it", bytes.TrimSpace(a.Out))
	}
	return fmt.Errorf("status %d: %s", a.Status, text)
}

// room reads how many KiB are left on a disk, and where it is mounted.
func room(out []byte) (kib int, where string, ok bool) {
	for line := range strings.Lines(string(out)) {
		if f := strings.Fields(line); len(f) >= 3 && f[0] == "room" {
			n, err := strconv.Atoi(f[1])
			return n, strings.Join(f[2:], " "), err == nil
		}
	}
	return 0, "", false
}

// look asks one host for a side's instances.
func (d *Driver) look(ctx context.Context, m *machine, side split.Side) (found, error) {
	ctx, cancel := context.WithTimeout(ctx, stack.ReadLimit)
	defer cancel()
	at := seen{m, side}
	d.mu.Lock()
	before, known := d.seen[at]
	d.mu.Unlock()
	lost := !known
	a, err := d.do(ctx, m, "list", listScript(d.dir(), side.String()+"-", lost))
	if err != nil {
		return found{}, err
	}
	f, err := parseList(a.Out)
	if err != nil {
		return found{}, fmt.Errorf("host %s: %w", m, err)
	}
	for n := range f.instances {
		i := &f.instances[n]
		i.Place, i.Part, i.Side = m.String(), d.part.Name, side
	}
	d.mu.Lock()
	d.seen[at] = len(f.instances)
	d.mu.Unlock()
	if known && len(f.instances) < before && !lost {
		d.mu.Lock()
		delete(d.seen, at)
		d.mu.Unlock()
		return d.look(ctx, m, side) // there are fewer notes than there were
	}
	return f, nil
}

// seen names a side on a host.
type seen struct {
	on   *machine
	side split.Side
}

// parseList reads what the list script says.
func parseList(out []byte) (found, error) {
	f := found{listening: map[int]bool{}}
	type end struct{ exit, stray, damaged string }
	var ends []end
	for line := range strings.Lines(string(out)) {
		line = strings.TrimSuffix(line, "\n")
		last := len(f.instances) - 1
		if line == "" {
			continue
		}
		if last < 0 && !strings.HasPrefix(line, markNote) && !strings.HasPrefix(line, markPort) {
			return found{}, fmt.Errorf("unexpected output: %q", cut(line))
		}
		switch {
		case strings.HasPrefix(line, markNote):
			name, text, _ := strings.Cut(line[len(markNote):], " ")
			data, err := base64.StdEncoding.DecodeString(text)
			var i reading.Instance
			if err == nil {
				err = json.Unmarshal(data, &i)
			}
			var e end
			if err != nil { // the others are there all the same
				i, e.damaged = reading.Instance{}, fmt.Sprintf("its note is damaged (%v)", err)
			}
			i.Name, i.Running = name, false
			f.instances, ends = append(f.instances, i), append(ends, e)
		case line == markRunning:
			f.instances[last].Running = true
		case strings.HasPrefix(line, markStray):
			ends[last].stray = line[len(markStray):]
		case strings.HasPrefix(line, markExit):
			ends[last].exit = line[len(markExit):]
		case strings.HasPrefix(line, markOutput):
			data, err := base64.StdEncoding.DecodeString(line[len(markOutput):])
			if err != nil {
				return found{}, fmt.Errorf("the output of %s: %w", f.instances[last].Name, err)
			}
			f.instances[last].Output = stack.Lines(data)
		case strings.HasPrefix(line, markPort):
			if port, err := strconv.ParseUint(line[len(markPort):], 16, 16); err == nil {
				f.listening[int(port)] = true
			}
		default:
			return found{}, fmt.Errorf("unexpected output: %q", cut(line))
		}
	}
	for n := range f.instances {
		i := &f.instances[n]
		if i.Running {
			continue
		}
		i.Exit = stack.Ended(ends[n].exit)
		if pid, err := strconv.Atoi(ends[n].stray); err == nil {
			i.Exit = stack.Background(i.Exit, pid)
		}
		if ends[n].damaged != "" {
			i.Exit = ends[n].damaged
		}
	}
	return f, nil
}

// lookAll asks all hosts of a side at once. What those say that answer is there
// even if others do not.
func (d *Driver) lookAll(ctx context.Context, side split.Side) (map[*machine]found, error) {
	var mu sync.Mutex // protects all and failed
	all := map[*machine]found{}
	var failed []error
	var wait sync.WaitGroup
	for _, m := range d.distinct(side) {
		wait.Go(func() {
			f, err := d.look(ctx, m, side)
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				all[m] = f
			}
			failed = append(failed, err)
		})
	}
	wait.Wait()
	return all, errors.Join(failed...)
}

// distinct are a side's machines, each once.
func (d *Driver) distinct(side split.Side) []*machine {
	var list []*machine
	for _, m := range d.machines[side] {
		if !slices.Contains(list, m) {
			list = append(list, m)
		}
	}
	return list
}

// List is every instance of a side on all hosts.
func (d *Driver) List(ctx context.Context, side split.Side) ([]reading.Instance, error) {
	all, err := d.lookAll(ctx, side)
	var list []reading.Instance
	for _, f := range all {
		list = append(list, f.instances...)
	}
	slices.SortFunc(list, stack.Compare)
	return list, err
}

// Raise starts what is missing of a build, each instance on the next host in turn.
func (d *Driver) Raise(ctx context.Context, side split.Side, b stack.Build) error {
	if err := d.turn.Take(ctx); err != nil {
		return err
	}
	defer d.turn.Give()
	all, err := d.lookAll(ctx, side)
	failed := []error{err} // a host that is not seen may run anything, and is left as it is
	s := d.part.Stacks[side]
	stays, names := map[string]bool{}, stack.Names(d.part, d.first, side, b.Number(s))
	others := map[*machine][]string{}
	for m, f := range all {
		for _, i := range f.instances {
			if i.Running && b.Made(i) && !stays[i.Name] && names[i.Name] {
				stays[i.Name] = true
			} else {
				others[m] = append(others[m], i.Name)
			}
		}
	}
	made := reading.Instance{Part: d.part.Name, Side: side, Version: b.Version, Build: b.ID}
	for m, f := range all {
		run := slices.ContainsFunc(f.instances, func(i reading.Instance) bool { return stays[i.Name] })
		if err := d.takeDelivered(ctx, m, made, run); err != nil {
			return errors.Join(append(failed, err)...)
		}
	}
	if err := permit.Ask(ctx); err != nil {
		return errors.Join(append(failed, err)...)
	}
	if err := d.stop(ctx, others, s.Grace); err != nil {
		return errors.Join(append(failed, fmt.Errorf("clear %v before it is raised: %w", side, err))...)
	}
	taken := d.taken(ctx, side, all)
	for n := range b.Number(s) {
		name := stack.Name(d.part, d.first, side, n+1)
		if stays[name] {
			continue
		}
		m := d.machines[side][n%len(d.machines[side])]
		if _, seen := all[m]; !seen {
			failed = append(failed, fmt.Errorf("start %s on %v: what runs there is not known", name, m.Host))
			continue
		}
		if err := d.start(ctx, m, taken[m.Name()], side, name, b); err != nil {
			failed = append(failed, fmt.Errorf("start %s on %v: %w", name, m, err))
		}
	}
	return errors.Join(failed...)
}

// taken are the ports that somebody listens on or that an instance of either side
// was given, by the host's name: one host may be reached in several ways. Of a host that was
// not seen there is nothing.
func (d *Driver) taken(ctx context.Context, side split.Side, all map[*machine]found) map[string]map[int]bool {
	others, _ := d.lookAll(ctx, side.Other()) // what they listen on is known all the same
	taken := map[string]map[int]bool{}
	for m, f := range all {
		if taken[m.Name()] == nil {
			taken[m.Name()] = map[int]bool{}
		}
		maps.Copy(taken[m.Name()], f.listening)
		for _, i := range slices.Concat(f.instances, others[m].instances) {
			if _, port, err := net.SplitHostPort(i.Address); err == nil {
				n, _ := strconv.Atoi(port)
				taken[m.Name()][n] = true
			}
		}
	}
	return taken
}

// startLimit bounds the starting of one instance, which waits for nothing of it.
const startLimit = 15 * time.Second

// start starts one instance on a host.
func (d *Driver) start(ctx context.Context, m *machine, taken map[int]bool, side split.Side, name string,
	b stack.Build) error {
	if err := permit.Ask(ctx); err != nil {
		return err
	}
	s := d.part.Stacks[side]
	port := s.FirstPort
	for ; taken[port]; port++ {
		if port >= s.LastPort {
			return fmt.Errorf("every port from %d to %d is in use", s.FirstPort, s.LastPort)
		}
	}
	i := reading.Instance{
		Name: name, Part: d.part.Name, Side: side, Version: b.Version, Build: b.ID,
		Address: net.JoinHostPort(m.Name(), strconv.Itoa(port)), Started: time.Now().Round(0),
	}
	a, _, err := d.launch(ctx, m, i, b, false)
	if err != nil {
		return err
	}
	if a.Status == statusRuns { // perhaps an earlier raise that was cut off and went on there
		var there reading.Instance
		if err := json.NewDecoder(bytes.NewReader(a.Out)).Decode(&there); err != nil || !b.Made(there) {
			return fmt.Errorf("somebody else has started it meanwhile, of version %q", there.Version)
		}
		if _, at, err := net.SplitHostPort(there.Address); err == nil {
			port, _ = strconv.Atoi(at)
		}
	}
	taken[port] = true
	return nil
}

// launch starts the program of an instance on a host, and says with which environment. again says
// that it was there before.
func (d *Driver) launch(ctx context.Context, m *machine, i reading.Instance, b stack.Build, again bool) (a distant.Said,
	digest string, err error) {
	s := d.part.Stacks[i.Side]
	values := i.Values(d.service)
	command := make([]string, len(s.Command))
	for n, word := range s.Command {
		command[n] = plan.Expand(word, values)
	}
	environment := b.Environment(s.Environment, func(value string) string { return d.secrets.Fill(value, values, nil) })
	if i.Digest, i.Folder, err = d.digest(environment); err != nil {
		return a, "", err
	}
	note, err := json.Marshal(i)
	if err != nil {
		return a, "", err
	}
	folder, record := plan.Expand(s.Folder, values), stack.RecordOf(i)
	ctx, cancel := context.WithTimeout(ctx, startLimit)
	defer cancel()
	a, err = d.do(ctx, m, "start",
		startScript(d.dir(), i.Name, string(note), record, folder, command, environment, again), statusRuns,
		statusNoFolder, statusNoWord, statusGone)
	switch {
	case err != nil:
	case a.Status == statusNoFolder:
		err = fmt.Errorf("there is no folder %s", folder)
	case a.Status == statusNoWord:
		err = fmt.Errorf("there is no program %s", command[0])
	case a.Status == statusGone:
		err = fmt.Errorf("there is no note on %s, or it has put itself into the background", i.Name)
	}
	return a, i.Digest, err
}

// digest is that of an environment, under the key of the state folder here, and which folder that is.
func (d *Driver) digest(environment map[string]string) (digest, folder string, err error) {
	in, err := state.Look(d.state)
	if errors.Is(err, fs.ErrNotExist) {
		in, err = state.Open(d.state)
	}
	if err != nil {
		return "", "", err
	}
	defer in.Close()
	key, err := in.Key(stack.KeyIn)
	if err == nil {
		folder, err = in.ID()
	}
	if err != nil {
		return "", "", err
	}
	return stack.Digest(key, environment), folder, nil
}

// Restart starts an instance again that has ended; see [stack.Restarter].
func (d *Driver) Restart(ctx context.Context, i reading.Instance, how stack.Again) (is stack.Restarted, err error) {
	if err := d.turn.Take(ctx); err != nil {
		return is, err
	}
	defer d.turn.Give()
	m, err := d.on(i)
	if err == nil {
		is.Build, err = d.differs(ctx, m, i)
	}
	if err != nil {
		return is, err
	}
	if is.Build != "" && !how.Even {
		return is, fmt.Errorf("%s: version %s is %w: %s", i.Name, i.Version, delivered.ErrOther, is.Build)
	}
	before := i.Digest
	i.Other = is.Build
	i.Started, i.Running, i.Exit, i.Output, i.Place = time.Now().Round(0), false, "", nil, ""
	a, now, err := d.launch(ctx, m, i, stack.Build{Like: how.Like}, true)
	is.Environment = err == nil && a.Status != statusRuns && before != "" && before != now
	return is, err
}

// Rotate puts output aside that has become too large, on all hosts.
func (d *Driver) Rotate(ctx context.Context, side split.Side) error {
	o := d.part.Stacks[side].Output
	if o.Size <= 0 {
		return nil
	}
	var failed []error
	for _, m := range d.distinct(side) {
		limited, cancel := context.WithTimeout(ctx, startLimit)
		_, err := d.do(limited, m, "rotate", rotateScript(d.dir(), side.String()+"-", o))
		cancel()
		failed = append(failed, err)
	}
	return errors.Join(failed...)
}

// Stop stops all instances of a side on all hosts.
func (d *Driver) Stop(ctx context.Context, side split.Side) error {
	if err := d.turn.Take(ctx); err != nil {
		return err
	}
	defer d.turn.Give()
	all, err := d.lookAll(ctx, side)
	type standing struct {
		on   *machine
		name string
	}
	var list []standing
	for m, f := range all {
		for _, i := range f.instances {
			list = append(list, standing{m, i.Name})
		}
	}
	failed := []error{err}
	for wave := range stack.Waves(list) {
		if err := permit.Ask(ctx); err != nil {
			return errors.Join(append(failed, err)...)
		}
		names := map[*machine][]string{}
		for _, i := range wave {
			names[i.on] = append(names[i.on], i.name)
		}
		failed = append(failed, d.stop(ctx, names, d.part.Stacks[side].Grace))
	}
	return errors.Join(failed...)
}

// stopLimit is how much longer than its grace a stop may take on a host.
const stopLimit = 10 * time.Second

// stop stops instances by name, on all hosts at once.
func (d *Driver) stop(ctx context.Context, names map[*machine][]string, grace time.Duration) error {
	var mu sync.Mutex // protects failed
	var failed []error
	var wait sync.WaitGroup
	for m, list := range names {
		wait.Go(func() {
			limited, cancel := context.WithTimeout(ctx, grace+stopLimit)
			defer cancel()
			a, err := d.do(limited, m, "stop", stopScript(d.dir(), list, grace))
			if left := strings.Fields(string(a.Out)); err == nil && len(left) > 0 {
				err = fmt.Errorf("host %s: still there after SIGKILL: %s", m, strings.Join(left, ", "))
			}
			mu.Lock()
			defer mu.Unlock()
			failed = append(failed, err)
		})
	}
	wait.Wait()
	return errors.Join(failed...)
}

// on is the machine that an instance is on.
func (d *Driver) on(i reading.Instance) (*machine, error) {
	for _, m := range d.machines[i.Side] {
		if m.String() == i.Place {
			return m, nil
		}
	}
	return nil, fmt.Errorf("the plan has no host %q for %v", i.Place, i.Side)
}

// Place is the instance's host.
func (d *Driver) Place(_ context.Context, i reading.Instance) (place.Place, error) {
	m, err := d.on(i)
	if err != nil {
		return nil, err
	}
	return distant.Place{Machine: m.Machine, Folder: plan.Expand(d.part.Stacks[i.Side].Folder, i.Values(d.service))},
		nil
}

// Describe reads what an instance runs with from its host's /proc.
func (d *Driver) Describe(ctx context.Context, i reading.Instance) (stack.Description, error) {
	m, err := d.on(i)
	if err != nil {
		return stack.Description{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, stack.ReadLimit)
	defer cancel()
	a, err := d.do(ctx, m, "describe", describeScript(d.dir(), i.Name), statusGone)
	if err != nil {
		return stack.Description{}, err
	}
	lines := strings.Split(string(a.Out), "\n")
	if a.Status != 0 || len(lines) < 3 {
		return stack.Description{}, fmt.Errorf("host %s: %s does not run", m, i.Name)
	}
	var files [3][]byte
	for n := range files {
		if files[n], err = base64.StdEncoding.DecodeString(lines[n]); err != nil {
			return stack.Description{}, err
		}
	}
	return stack.FromProc(files[0], files[1], files[2]), nil
}

// Close ends the connections. Instances go on.
func (d *Driver) Close() error {
	for _, side := range split.Sides {
		for _, m := range d.machines[side] {
			m.End()
		}
	}
	return nil
}
