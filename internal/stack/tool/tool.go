package tool

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	"vaiven/internal/world/external"
	"vaiven/internal/world/permit"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
)

// Protocol is the version of what is said to the command.
const Protocol = 1

// Request is what the command reads.
type Request struct {
	Protocol int      `json:"protocol"`
	Do       string   `json:"do"` // raise, list, stop or describe
	Service  string   `json:"service"`
	Part     string   `json:"part"`
	Side     string   `json:"side"`
	Version  string   `json:"version,omitempty"` // raise
	Build    string   `json:"build,omitempty"`   // raise
	Names    []string `json:"names,omitempty"`   // raise: of the instances that are to be there
	Command  []string `json:"command,omitempty"` // raise: the plan's, with its placeholders
	// raise: the plan's, with its placeholders and its secrets
	Environment map[string]string `json:"environment,omitempty"`
	Ports       []int             `json:"ports,omitempty"`    // raise: the first and the last
	Grace       float64           `json:"grace_s,omitempty"`  // raise and stop: seconds
	Instance    string            `json:"instance,omitempty"` // describe
}

// Answer is what it writes.
type Answer struct {
	Error       string            `json:"error,omitempty"`     // it could not be done at all
	Failed      map[string]string `json:"failed,omitempty"`    // raise and stop: by instance, why not
	Instances   []Instance        `json:"instances,omitempty"` // list
	Command     []string          `json:"command,omitempty"`   // describe
	Environment map[string]string `json:"environment,omitempty"`
	Limits      map[string]string `json:"limits,omitempty"`
}

// Instance is one instance in an answer.
type Instance struct {
	Name    string    `json:"name"`
	Version string    `json:"version"`
	Build   string    `json:"build"`
	Address string    `json:"address"`
	Started time.Time `json:"started"`
	Running bool      `json:"running"`
	Exit    string    `json:"exit,omitempty"`
	Output  []string  `json:"output,omitempty"`
}

// listLimit is how long a command has to say what there is.
const listLimit = 10 * time.Second

// Driver asks the command; see [stack.Driver].
type Driver struct {
	service string
	part    *plan.Part
	first   bool
	secrets secret.Values

	turn place.Turn // of whoever starts or stops instances
}

// New makes the driver for a part of a plan. The command is not started yet.
func New(p *plan.Plan, part int, secrets secret.Values) *Driver {
	return &Driver{service: p.Service, part: &p.Parts[part], first: part == 0, secrets: secrets, turn: place.NewTurn()}
}

func (d *Driver) request(do string, side split.Side) Request {
	return Request{Protocol: Protocol, Do: do, Service: d.service, Part: d.part.Name, Side: side.String()}
}

// words are the command for a side.
func (d *Driver) words(side split.Side) []string {
	values := reading.Instance{Part: d.part.Name, Side: side}.Values(d.service)
	var words []string
	for _, w := range d.part.Stacks[side].Tool {
		words = append(words, plan.Expand(w, values))
	}
	return words
}

// ask asks the command, and says what it could not do.
func (d *Driver) ask(ctx context.Context, side split.Side, q Request, limit time.Duration) (Answer, error) {
	words := d.words(side)
	a, err := external.Ask[Answer](ctx, words, q.Do, q, limit, d.secrets.HideCut)
	switch {
	case a.Error != "":
		return Answer{}, fmt.Errorf("%s %s: %w: %s", words[0], q.Do, stack.ErrUnreachable, d.secrets.Hide(a.Error))
	case len(a.Failed) > 0:
		var failed []error
		for _, name := range slices.Sorted(maps.Keys(a.Failed)) {
			failed = append(failed, fmt.Errorf("%s %s: %s", q.Do, name, d.secrets.Hide(a.Failed[name])))
		}
		return a, errors.Join(failed...)
	}
	return a, err
}

// List asks for a side's instances.
func (d *Driver) List(ctx context.Context, side split.Side) ([]reading.Instance, error) {
	a, err := d.ask(ctx, side, d.request("list", side), listLimit)
	if err != nil {
		return nil, err
	}
	list := make([]reading.Instance, 0, len(a.Instances))
	seen := map[string]int{}
	var failed []error
	for at, i := range a.Instances {
		if _, _, err := net.SplitHostPort(i.Address); i.Name == "" || i.Running && err != nil {
			failed = append(failed, fmt.Errorf("%s list: instance %q has the address %q: want host:port",
				d.words(side)[0], i.Name, i.Address))
			continue
		}
		if i.Exit == "" && !i.Running {
			i.Exit = "ended"
		}
		if n, known := seen[i.Name]; known {
			if !reflect.DeepEqual(a.Instances[n], a.Instances[at]) {
				failed = append(failed, fmt.Errorf("%s list: it lists %s twice, and not the same", d.words(side)[0],
					i.Name))
			}
			continue
		}
		seen[i.Name] = at
		list = append(list, reading.Instance{
			Name: i.Name, Part: d.part.Name, Side: side, Version: i.Version, Build: i.Build, Address: i.Address,
			Place: d.words(side)[0], Started: i.Started, Running: i.Running, Exit: i.Exit, Output: i.Output,
		})
	}
	slices.SortFunc(list, stack.Compare)
	return list, errors.Join(failed...)
}

// Raise has the command make the side as it is to be.
func (d *Driver) Raise(ctx context.Context, side split.Side, b stack.Build) error {
	if err := d.turn.Take(ctx); err != nil {
		return err
	}
	defer d.turn.Give()
	if err := permit.Ask(ctx); err != nil {
		return err
	}
	s := d.part.Stacks[side]
	q := d.request("raise", side)
	q.Version, q.Build, q.Command, q.Grace = b.Version, b.ID, s.Command, s.Grace.Seconds()
	for n := range b.Number(s) {
		q.Names = append(q.Names, stack.Name(d.part, d.first, side, n+1))
	}
	if s.FirstPort > 0 {
		q.Ports = []int{s.FirstPort, s.LastPort}
	}
	q.Environment = b.Environment(s.Environment, func(value string) string { return d.secrets.Fill(value, nil, nil) })
	_, err := d.ask(ctx, side, q, s.Raise+s.Grace)
	return err
}

// Stop has the command stop the side, which is not cut short though whoever asked for it
// is gone.
func (d *Driver) Stop(ctx context.Context, side split.Side) error {
	if err := d.turn.Take(ctx); err != nil {
		return err
	}
	defer d.turn.Give()
	if err := permit.Ask(ctx); err != nil {
		return err
	}
	s := d.part.Stacks[side]
	q := d.request("stop", side)
	q.Grace = s.Grace.Seconds()
	_, err := d.ask(context.WithoutCancel(ctx), side, q, s.Grace+listLimit)
	return err
}

// Describe asks what an instance runs with.
func (d *Driver) Describe(ctx context.Context, i reading.Instance) (stack.Description, error) {
	q := d.request("describe", i.Side)
	q.Instance = i.Name
	a, err := d.ask(ctx, i.Side, q, listLimit)
	return stack.Description{Command: a.Command, Environment: a.Environment, Limits: a.Limits}, err
}

// Place is where the command puts an instance: it relays connections from there.
func (d *Driver) Place(_ context.Context, i reading.Instance) (place.Place, error) {
	return site{d.words(i.Side), i}, nil
}

// site is what the command can reach.
type site struct {
	words []string
	i     reading.Instance
}

// Dial has the command connect, and becomes the connection.
func (s site) Dial(ctx context.Context, _, address string) (net.Conn, error) {
	running, stop := context.WithCancel(context.WithoutCancel(ctx)) // as long as the connection
	cmd := place.Program(running, s.words...)
	in, err1 := cmd.StdinPipe()
	out, err2 := cmd.StdoutPipe()
	if err := errors.Join(err1, err2, cmd.Start()); err != nil {
		stop()
		return nil, fmt.Errorf("%w: %w", place.ErrCannot, err)
	}
	conn, err := place.Relay(ctx, &pipe{Reader: out, WriteCloser: in, end: sync.OnceFunc(func() {
		stop()
		_ = cmd.Wait()
	})}, s.i.Name, address)
	if err != nil && ctx.Err() == nil && strings.Contains(err.Error(), "did not answer") {
		err = fmt.Errorf("%w: %s relays nothing: %w", place.ErrCannot, s.words[0], err)
	}
	return conn, err
}

// pipe is a running command as a stream, which may be closed by several at once.
type pipe struct {
	io.Reader
	io.WriteCloser
	end func() // once
}

func (p *pipe) Close() error {
	err := p.WriteCloser.Close()
	p.end()
	return err
}

// Run cannot be done.
func (s site) Run(context.Context, place.Command) (place.Outcome, error) {
	return place.Outcome{}, fmt.Errorf("%w: %s runs no commands", place.ErrCannot, s.words[0])
}

// ReadFile cannot be done.
func (s site) ReadFile(context.Context, string) ([]byte, error) {
	return nil, fmt.Errorf("%w: %s reads no files", place.ErrCannot, s.words[0])
}

// Close does nothing.
func (site) Close() error { return nil }
