package stand

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	"vaiven/internal/stack/container"
	"vaiven/internal/world/check"
	"vaiven/internal/world/permit"
	"vaiven/internal/world/place"
	"vaiven/internal/world/place/distant"
	"vaiven/internal/world/secret"
)

// Listed is what the front lists for a side, whoever gets requests there.
type Listed func(context.Context, split.Side) ([]reading.Server, error)

// Driver finds the instances of one part that somebody else started; see [stack.Driver].
type Driver struct {
	service    string
	part       *plan.Part
	first      bool
	secrets    secret.Values
	listed     Listed
	containers *container.Driver // nil without any
	machines   map[string]*distant.Machine
	here       *processes

	turn place.Turn // of whoever renews

	mu   sync.Mutex          // protects last
	last [2][]reading.Server // what the front listed last for a side, while it listed anybody
}

// New makes the driver for a part of a plan. Nothing is asked yet. relay is the program by which containers
// are asked; listed may be nil where nothing stands in the front's own list.
func New(p *plan.Plan, part int, secrets secret.Values, relay string, listed Listed) (*Driver, error) {
	d := &Driver{
		service: p.Service, part: &p.Parts[part], first: part == 0, secrets: secrets, listed: listed,
		machines: map[string]*distant.Machine{},
		here:     newProcesses(), turn: place.NewTurn(),
	}
	for _, side := range split.Sides {
		s := d.part.Stacks[side]
		for _, t := range s.Stands {
			switch {
			case t.Kind == plan.StandContainer || t.Kind == plan.StandContainers:
				if d.containers == nil {
					var err error
					if d.containers, err = container.New(p, part, secrets, relay); err != nil {
						return nil, err
					}
				}
			case t.On != plan.Host{} && d.machines[t.On.String()] == nil:
				d.machines[t.On.String()] = distant.At(t.On.User, t.On.Address, s.Identity, s.KnownHosts)
			}
		}
	}
	return d, nil
}

// Close ends the connections to hosts. Instances go on.
func (d *Driver) Close() error {
	for _, m := range d.machines {
		m.End()
	}
	return nil
}

// List is every instance of the side. What runs where is asked anew each time.
func (d *Driver) List(ctx context.Context, side split.Side) ([]reading.Instance, error) {
	stands := d.part.Stacks[side].Stands
	lists := make([][]reading.Instance, len(stands))
	failed := make([]error, len(stands))
	var wait sync.WaitGroup
	for n, t := range stands {
		wait.Go(func() {
			limited, cancel := context.WithTimeout(ctx, stack.ReadLimit)
			defer cancel()
			lists[n], failed[n] = d.find(limited, side, t)
		})
	}
	wait.Wait()
	all := slices.Concat(lists...)
	for n := range all {
		i := &all[n]
		i.Part, i.Side = d.part.Name, side
		if i.Name == "" {
			i.Name = stack.Name(d.part, d.first, side, n+1)
		}
		if i.Running && d.part.Says.On() {
			wait.Go(func() { d.asks(ctx, i) })
		}
	}
	wait.Wait()
	return all, errors.Join(failed...)
}

// expand fills placeholders in that are the same for the whole side.
func (d *Driver) expand(text string, side split.Side) string {
	return plan.Expand(text, map[string]string{"service": d.service, "part": d.part.Name, "side": side.String()})
}

// find is what an entry of the plan finds.
func (d *Driver) find(ctx context.Context, side split.Side, t plan.Stand) ([]reading.Instance, error) {
	name := d.expand(t.Name, side)
	switch t.Kind {
	case plan.StandAddress:
		return []reading.Instance{d.at(ctx, t.Address)}, nil
	case plan.StandUnit:
		i, err := d.unit(ctx, name, t)
		if err != nil {
			return nil, err
		}
		return []reading.Instance{i}, nil
	case plan.StandContainer:
		return d.containers.Foreign(ctx, side, name, nil)
	case plan.StandContainers:
		return d.containers.Foreign(ctx, side, "", strings.Split(name, ","))
	case plan.StandCommand:
		return d.told(ctx, side, t)
	}
	return d.atFront(ctx, side)
}

// at is whoever answers at an address.
func (d *Driver) at(ctx context.Context, address string) reading.Instance {
	i := reading.Instance{Address: address, Running: true}
	conn, err := place.Local{}.Dial(ctx, "tcp", address)
	if err == nil {
		_ = conn.Close()
	}
	if place.CauseOf(err) == place.Refused {
		i.Running, i.Exit = false, "nobody listens at "+address
	}
	if i.Running && isHere(address) {
		if p, ok := d.here.listens(ctx, address); ok {
			i.Started, i.Build = p.started, p.build
		}
	}
	return i
}

// told is what the plan's command prints: an address a line, and behind it the version and the build if it
// knows them.
func (d *Driver) told(ctx context.Context, side split.Side, t plan.Stand) ([]reading.Instance, error) {
	var words []string
	for _, w := range t.Words {
		words = append(words, d.expand(w, side))
	}
	out, err := place.Local{}.Run(ctx, place.Command{Words: words})
	switch {
	case err != nil:
		return nil, fmt.Errorf("%w: %s: %w", stack.ErrUnreachable, words[0], err)
	case out.Status != 0:
		return nil, fmt.Errorf("%w: %s: exit status %d: %s", stack.ErrUnreachable, words[0], out.Status,
			d.secrets.HideCut(strings.TrimSpace(string(out.Output))))
	}
	var list []reading.Instance
	for line := range strings.Lines(string(out.Output)) {
		f := strings.Fields(line)
		if len(f) == 0 {
			continue
		}
		if _, _, err := net.SplitHostPort(f[0]); err != nil || len(f) > 3 {
			return list, fmt.Errorf("%s prints %q: want HOST:PORT on a line, and the version and the build behind it "+
				"if they are known", words[0], d.secrets.Hide(strings.TrimSpace(line)))
		}
		i := d.at(ctx, f[0])
		if len(f) > 1 {
			i.Version = f[1]
		}
		if len(f) > 2 {
			i.Build = f[2]
		}
		list = append(list, i)
	}
	return list, nil
}

// atFront is who stands in the front's list, or stood there when it last listed anybody: what was taken out of it
// stands all the same.
func (d *Driver) atFront(ctx context.Context, side split.Side) ([]reading.Instance, error) {
	if d.listed == nil {
		return nil, nil
	}
	servers, err := d.listed(ctx, side)
	if err != nil {
		return nil, fmt.Errorf("what the front lists for %v: %w", side, err)
	}
	d.mu.Lock()
	if len(servers) > 0 {
		d.last[side] = servers
	}
	servers = d.last[side]
	d.mu.Unlock()
	var list []reading.Instance
	for _, s := range servers {
		i := d.at(ctx, s.Address)
		i.Name, i.Version = s.Name, s.Version
		list = append(list, i)
	}
	return list, nil
}

// asks asks an instance what it is. What it does not say stays as it is known.
func (d *Driver) asks(ctx context.Context, i *reading.Instance) {
	t := check.Target{From: place.Local{}, Values: i.Values(d.service), Secrets: d.secrets}
	self, err := t.Ask(ctx, d.part.Says, saysLimit)
	if err != nil {
		return // it is as unknown as before
	}
	if self.Version != "" {
		i.Version = self.Version
	}
	if self.Build != "" {
		i.Build = self.Build
	}
}

// saysLimit is how long an instance has to say what it is.
const saysLimit = 2 * time.Second

// Raise runs the plan's command that brings what stands to a build, unless all of it is there. A command with a
// placeholder of an instance runs for each that is not, one after the other, where it stands; any other
// one runs once, here. Without one nothing is done.
func (d *Driver) Raise(ctx context.Context, side split.Side, b stack.Build) error {
	s := d.part.Stacks[side]
	if len(s.Renew) == 0 {
		return nil
	}
	if err := d.turn.Take(ctx); err != nil {
		return err
	}
	defer d.turn.Give()
	list, err := d.List(ctx, side)
	if err != nil {
		return err
	}
	old := slices.DeleteFunc(slices.Clone(list), func(i reading.Instance) bool {
		return i.Running && i.Version != "" && raise.Stands(i, b.Version, b.ID)
	})
	if len(list) > 0 && len(old) == 0 {
		return nil
	}
	if !eachOwn(s.Renew) {
		return d.renew(ctx, place.Local{}, reading.Instance{Part: d.part.Name, Side: side}, b)
	}
	for _, i := range old {
		from, err := d.Place(ctx, i)
		if err == nil {
			err = d.renew(ctx, from, i, b)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", i.Name, err)
		}
	}
	return nil
}

// eachOwn reports whether a command is about one instance.
func eachOwn(words []string) bool {
	return slices.ContainsFunc(words, func(w string) bool {
		return slices.ContainsFunc([]string{"{instance}", "{address}", "{host}", "{port}"},
			func(p string) bool { return strings.Contains(w, p) })
	})
}

// renew runs the command. Secrets go into its environment, which the plan gives.
func (d *Driver) renew(ctx context.Context, from place.Place, i reading.Instance, b stack.Build) error {
	if err := permit.Ask(ctx); err != nil {
		return err
	}
	s := d.part.Stacks[i.Side]
	i.Version, i.Build = b.Version, b.ID
	values := i.Values(d.service)
	c := place.Command{Environment: map[string]string{}}
	for _, w := range s.Renew {
		c.Words = append(c.Words, plan.Expand(w, values))
	}
	for name, value := range s.Environment {
		c.Environment[name] = d.secrets.Fill(value, values, nil)
	}
	out, err := from.Run(ctx, c)
	if err == nil {
		err = out.Failed(2<<10, d.secrets.HideCut)
	}
	if err != nil {
		return fmt.Errorf("renew (%s): %w", c.Words[0], err)
	}
	return nil
}

// Stop does nothing: what stands is not ours to stop.
func (d *Driver) Stop(context.Context, split.Side) error { return nil }

// Describe says what an instance runs with, as far as it can be seen from where it stands.
func (d *Driver) Describe(ctx context.Context, i reading.Instance) (stack.Description, error) {
	if i.Place != "" && d.containers != nil && d.machines[i.Place] == nil {
		return d.containers.Describe(ctx, i)
	}
	from, err := d.Place(ctx, i)
	if err != nil {
		return stack.Description{}, err
	}
	if _, cannot := from.(outside); cannot {
		return stack.Description{}, nil
	}
	pid, err := d.pid(ctx, from, i)
	if err != nil || pid == "" {
		return stack.Description{}, err
	}
	var files [3][]byte
	for n, name := range []string{"cmdline", "environ", "limits"} {
		if files[n], err = from.ReadFile(ctx, "/proc/"+pid+"/"+name); err != nil {
			return stack.Description{}, err
		}
	}
	return stack.FromProc(files[0], files[1], files[2]), nil
}

// Place is where an instance stands: this machine, a host, a container, or somewhere where nobody
// logs in.
func (d *Driver) Place(ctx context.Context, i reading.Instance) (place.Place, error) {
	switch m := d.machines[i.Place]; {
	case m != nil:
		return distant.Place{Machine: m}, nil
	case i.Place != "" && d.containers != nil:
		return d.containers.Place(ctx, i)
	case isHere(i.Address):
		return place.Local{}, nil
	}
	return outside{i}, nil
}

// isHere reports whether an address is one of this machine's.
func isHere(address string) bool {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return false
	}
	if host == "localhost" {
		return true
	}
	ip := net.ParseIP(host)
	if ip == nil || ip.IsLoopback() {
		return ip != nil
	}
	addresses, _ := net.InterfaceAddrs() // none is none of ours
	return slices.ContainsFunc(addresses, func(a net.Addr) bool {
		n, ok := a.(*net.IPNet)
		return ok && n.IP.Equal(ip)
	})
}

// outside is where an instance stands that is known by its address alone.
type outside struct{ i reading.Instance }

func (o outside) cannot() error {
	return fmt.Errorf("%w: %s is known by its address alone, and nobody logs in there: name it as a unit on its host "+
		"(unit NAME at %s on USER@HOST)", place.ErrCannot, o.i.Name, o.i.Address)
}

// Dial connects to the instance itself, which can be done from here, and nowhere else.
func (o outside) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	if address != o.i.Address {
		return nil, o.cannot()
	}
	return place.Local{}.Dial(ctx, network, address)
}

// Run cannot be done.
func (o outside) Run(context.Context, place.Command) (place.Outcome, error) {
	return place.Outcome{}, o.cannot()
}

// ReadFile cannot be done.
func (o outside) ReadFile(context.Context, string) ([]byte, error) { return nil, o.cannot() }

// Close does nothing.
func (outside) Close() error { return nil }
