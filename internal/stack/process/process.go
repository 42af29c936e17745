package process

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/durable"
	"vaiven/internal/place"
	"vaiven/internal/plan"
	"vaiven/internal/secret"
	"vaiven/internal/stack"
)

// Driver starts, lists and stops the instances of one part; see [stack.Driver].
type Driver struct {
	service string
	part    *plan.Part
	first   bool   // the front's part
	dir     string // of the notes
	secrets secret.Values

	mu sync.Mutex // held while instances are started or stopped
}

// New makes the driver for a part of a plan. Nothing is read or written yet.
func New(p *plan.Plan, part int, secrets secret.Values) *Driver {
	d := &Driver{service: p.Service, part: &p.Parts[part], first: part == 0, dir: p.Instances(), secrets: secrets}
	if part > 0 {
		d.dir = filepath.Join(d.dir, d.part.Name)
	}
	return d
}

// note is what the driver writes down about an instance. A note without a pid
// was made just before a start whose end is not known.
type note struct {
	reading.Instance
	Session ID `json:"session"`
	file    string
}

func (n *note) exitFile() string   { return strings.TrimSuffix(n.file, ".json") + ".exit" }
func (n *note) outputFile() string { return strings.TrimSuffix(n.file, ".json") + ".log" }

// Place is this machine, in the instance's working folder.
func (d *Driver) Place(_ context.Context, i reading.Instance) (place.Place, error) {
	return place.Local{Dir: plan.Expand(d.part.Stacks[i.Side].Folder, stack.Values(i, d.service))}, nil
}

// Describe reads what an instance runs with from /proc.
func (d *Driver) Describe(_ context.Context, i reading.Instance) (stack.Description, error) {
	notes, err := d.notes(i.Side)
	if err != nil {
		return stack.Description{}, err
	}
	for _, n := range notes {
		if n.Name == i.Name {
			return n.Session.describe()
		}
	}
	return stack.Description{}, fmt.Errorf("there is no note on %s", i.Name)
}

// List is every instance of a side that has a note, by name, whether it still
// runs or not.
func (d *Driver) List(ctx context.Context, side split.Side) ([]reading.Instance, error) {
	notes, err := d.notes(side)
	if err != nil {
		return nil, err
	}
	list := make([]reading.Instance, len(notes))
	for i, n := range notes {
		list[i] = n.look()
	}
	return list, ctx.Err()
}

// Raise starts what is missing of a build, and stops what is of another.
func (d *Driver) Raise(ctx context.Context, side split.Side, b stack.Build) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	s := d.part.Stacks[side]
	values := stack.Values(reading.Instance{Part: d.part.Name, Side: side, Version: b.Version, Build: b.ID}, d.service)
	if path := plan.Expand(s.Build, values); s.Build != "" {
		if _, err := os.Stat(path); err != nil {
			return fmt.Errorf("there is no build of version %s: %w", b.Version, err)
		}
	}
	if err := os.MkdirAll(d.dir, 0o700); err != nil {
		return fmt.Errorf("make the folder for notes on instances: %w", err)
	}
	notes, err := d.notes(side)
	if err != nil {
		return err
	}
	stays := map[string]bool{}
	var others []*note
	for _, n := range notes {
		if n.look().Running && b.Made(n.Instance) && len(stays) < s.Instances {
			stays[n.Name] = true
		} else {
			others = append(others, n)
		}
	}
	if err := d.stop(ctx, others, s.Grace); err != nil {
		return fmt.Errorf("clear %v before it is raised: %w", side, err)
	}
	var failed []error
	for i := 1; i <= s.Instances; i++ {
		name := stack.Name(d.part, d.first, side, i)
		if stays[name] {
			continue
		}
		if err := d.start(ctx, side, name, b); err != nil {
			failed = append(failed, fmt.Errorf("start %s: %w", name, err))
		}
	}
	return errors.Join(failed...)
}

// Stop ends all instances of a side: asks each to stop, and after the plan's
// grace time makes it. Their notes are removed.
func (d *Driver) Stop(ctx context.Context, side split.Side) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	notes, err := d.notes(side)
	if err != nil {
		return err
	}
	return d.stop(ctx, notes, d.part.Stacks[side].Grace)
}

// start starts one instance. The note is written before, so that an instance
// whose start was cut short is found again, and completed after.
func (d *Driver) start(ctx context.Context, side split.Side, name string, b stack.Build) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	s := d.part.Stacks[side]
	address, err := d.freeAddress(s)
	if err != nil {
		return err
	}
	i := reading.Instance{
		Name: name, Part: d.part.Name, Side: side, Version: b.Version, Build: b.ID, Address: address, Started: time.Now(),
	}
	values := stack.Values(i, d.service)
	args := make([]string, len(s.Command))
	for n, word := range s.Command {
		args[n] = d.secrets.Expand(plan.Expand(word, values), nil)
	}
	program, err := exec.LookPath(args[0])
	if err != nil {
		return err
	}
	args[0] = program
	n := &note{Instance: i, file: filepath.Join(d.dir, name+".json")}
	if err := os.Remove(n.exitFile()); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := n.write(); err != nil {
		return err
	}
	output, err := os.OpenFile(n.outputFile(), os.O_CREATE|os.O_TRUNC|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer output.Close()
	cmd := exec.Command("/bin/sh", append([]string{"-c", stack.Guard, n.exitFile()}, args...)...)
	cmd.Dir = plan.Expand(s.Folder, values)
	cmd.Env = append(os.Environ(), stack.Marker+"="+n.file)
	for key, value := range s.Environment {
		cmd.Env = append(cmd.Env, key+"="+d.secrets.Expand(plan.Expand(value, values), nil))
	}
	cmd.Stdout, cmd.Stderr = output, output
	if n.Session, err = Start(cmd); err != nil {
		return err
	}
	return n.write()
}

// freeAddress is an address that no instance of ours was given.
func (d *Driver) freeAddress(s plan.Stack) (string, error) {
	taken := map[string]bool{}
	for _, side := range split.Sides {
		notes, err := d.notes(side)
		if err != nil {
			return "", err
		}
		for _, n := range notes {
			taken[n.Address] = true
		}
	}
	return stack.FreeAddress(s, taken)
}

// stop ends instances and removes their notes. It goes on with the others when
// one resists. They keep their grace though whoever asked for it is gone.
func (d *Driver) stop(ctx context.Context, notes []*note, grace time.Duration) error {
	for _, n := range notes {
		n.Session.Signal(syscall.SIGTERM)
	}
	patience, cancel := context.WithTimeout(context.WithoutCancel(ctx), grace)
	defer cancel()
	var failed []error
	for _, n := range notes {
		if !n.Session.Gone(patience) {
			n.Session.Signal(syscall.SIGKILL)
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			if !n.Session.Gone(last) {
				failed = append(failed, fmt.Errorf("%s (process %d) is still there after SIGKILL", n.Name, n.Session.PID))
			}
			cancel()
		}
		if !n.Session.Running() {
			failed = append(failed, n.remove())
		}
	}
	return errors.Join(failed...)
}

// notes are the notes on a side's instances, by name.
func (d *Driver) notes(side split.Side) ([]*note, error) {
	files, err := filepath.Glob(filepath.Join(d.dir, side.String()+"-*.json"))
	if err != nil {
		return nil, err
	}
	var list []*note
	for _, file := range files {
		data, err := os.ReadFile(file)
		if errors.Is(err, fs.ErrNotExist) {
			continue // removed meanwhile
		}
		if err != nil {
			return nil, err
		}
		n := &note{file: file}
		if err := json.Unmarshal(data, n); err != nil {
			return nil, fmt.Errorf("the note %s is damaged: %w", file, err)
		}
		if n.Session.PID == 0 {
			n.find()
		}
		list = append(list, n)
	}
	slices.SortFunc(list, func(a, b *note) int { return stack.Compare(a.Instance, b.Instance) })
	return list, nil
}

func (n *note) write() error {
	data, err := json.MarshalIndent(n, "", "\t")
	if err != nil {
		return err
	}
	return durable.WriteFile(n.file, data)
}

func (n *note) remove() error {
	err := os.Remove(n.exitFile())
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return errors.Join(err, os.Remove(n.file))
}
