package process

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	"vaiven/internal/world/delivered"
	"vaiven/internal/world/permit"
	"vaiven/internal/world/place"
	"vaiven/internal/world/rotate"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/state"
)

// Driver starts, lists and stops the instances of one part; see [stack.Driver].
type Driver struct {
	service string
	part    *plan.Part
	first   bool   // the front's part
	state   string // the state folder
	dir     string // of the notes, in the state folder
	secrets secret.Values

	turn place.Turn // of whoever starts or stops instances

	mu     sync.Mutex // protects what follows
	held   map[held]string
	folder string // identity of the state folder, "" before it was seen
	most   [2]int // by side: notes that there were; -1 before they were read
}

// New makes the driver for a part of a plan. Nothing is read or written yet.
func New(p *plan.Plan, part int, secrets secret.Values) *Driver {
	d := &Driver{service: p.Service, part: &p.Parts[part], first: part == 0, state: p.State, dir: plan.InstancesIn,
		secrets: secrets, turn: place.NewTurn(), most: [2]int{-1, -1}}
	if part > 0 {
		d.dir = path.Join(d.dir, d.part.Name)
	}
	return d
}

// look opens the state folder as it is. One that has gone, or was exchanged, is not one without notes: nothing is known
// then. The error wraps [fs.ErrNotExist] if there never was one.
func (d *Driver) look() (*state.Folder, error) {
	in, err := state.Look(d.state)
	d.mu.Lock()
	defer d.mu.Unlock()
	switch {
	case errors.Is(err, fs.ErrNotExist) && d.folder != "":
		return nil, fmt.Errorf("the state folder %s is gone: what runs is not known", d.state)
	case err != nil:
		return nil, err
	}
	id, err := in.ID()
	switch {
	case err != nil:
	case d.folder == "":
		d.folder = id
	case id != d.folder:
		err = fmt.Errorf("another folder stands in the place of the state folder %s: what runs is not known", d.state)
	}
	if err != nil {
		return nil, errors.Join(err, in.Close())
	}
	return in, nil
}

// open opens the state folder to write, and makes it if there never was one.
func (d *Driver) open() (*state.Folder, error) {
	in, err := d.look()
	if err == nil {
		err = in.Close()
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	return state.Open(d.state)
}

// note is what the driver writes down about an instance. A note without a pid
// was made just before a start whose end is not known.
type note struct {
	reading.Instance
	Session ID `json:"session"`

	name      string // in the state folder, without its ending
	mark      string // the value of [stack.Marker] in the environment of its processes
	damaged   error  // why it could not be read
	signalled []ID   // what of it was sent a signal to end
}

func (n *note) file() string   { return n.name + ".json" }
func (n *note) exit() string   { return n.name + ".exit" }
func (n *note) output() string { return n.name + ".log" }

// Place is this machine, in the instance's working folder.
func (d *Driver) Place(_ context.Context, i reading.Instance) (place.Place, error) {
	return place.Local{
		Dir:         plan.Expand(d.part.Stacks[i.Side].Folder, i.Values(d.service)),
		Environment: stack.Inherited(os.Environ()),
	}, nil
}

// Describe reads what an instance runs with from /proc.
func (d *Driver) Describe(_ context.Context, i reading.Instance) (stack.Description, error) {
	in, err := d.look()
	if err != nil {
		return stack.Description{}, err
	}
	defer in.Close()
	notes, err := d.notes(in, i.Side)
	for _, n := range notes {
		if n.Name == i.Name {
			return n.describe()
		}
	}
	return stack.Description{}, errors.Join(fmt.Errorf("there is no note on %s", i.Name), err)
}

// List is every instance of a side that has a note, by name, whether it still
// runs or not.
func (d *Driver) List(ctx context.Context, side split.Side) ([]reading.Instance, error) {
	in, err := d.look()
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer in.Close()
	notes, err := d.notes(in, side)
	list := make([]reading.Instance, len(notes))
	marked := marks()
	for i, n := range notes {
		if list[i] = n.look(in, marked); list[i].Running && list[i].Other == "" {
			list[i].Other = d.holds(in, n)
		}
	}
	return list, errors.Join(err, ctx.Err())
}

// Raise starts what is missing of a build, and stops what is of another.
func (d *Driver) Raise(ctx context.Context, side split.Side, b stack.Build) error {
	if err := d.turn.Take(ctx); err != nil {
		return err
	}
	defer d.turn.Give()
	s := d.part.Stacks[side]
	values := reading.Instance{Part: d.part.Name, Side: side, Version: b.Version, Build: b.ID}.Values(d.service)
	if path := plan.Expand(s.Build, values); s.Build != "" {
		if _, err := os.Stat(path); err != nil {
			return fmt.Errorf("there is no build of version %s: %w", b.Version, err)
		}
	}
	in, err := d.open()
	if err != nil {
		return err
	}
	defer in.Close()
	if err := in.Mkdir(d.dir); err != nil {
		return fmt.Errorf("make the folder for notes on instances: %w", err)
	}
	notes, err := d.notes(in, side)
	if err != nil {
		return err
	}
	stays, names := map[string]bool{}, stack.Names(d.part, d.first, side, b.Number(s))
	var others []*note
	for _, n := range notes {
		if n.running() && b.Made(n.Instance) && names[n.Name] {
			stays[n.Name] = true
		} else {
			others = append(others, n)
		}
	}
	made := reading.Instance{Part: d.part.Name, Side: side, Version: b.Version, Build: b.ID}
	if err := d.takeDelivered(in, made, len(stays) > 0); err != nil {
		return err
	}
	if err := permit.Ask(ctx); err != nil {
		return err
	}
	if err := d.stop(ctx, in, others, s.Grace); err != nil {
		return fmt.Errorf("clear %v before it is raised: %w", side, err)
	}
	var failed []error
	for i := 1; i <= b.Number(s); i++ {
		name := stack.Name(d.part, d.first, side, i)
		if stays[name] {
			continue
		}
		if err := d.start(ctx, in, side, name, b); err != nil {
			failed = append(failed, fmt.Errorf("start %s: %w", name, err))
		}
	}
	return errors.Join(failed...)
}

// Stop ends all instances of a side: asks each to stop, and after the plan's
// grace time makes it. Their notes and their output are removed.
func (d *Driver) Stop(ctx context.Context, side split.Side) error {
	if err := d.turn.Take(ctx); err != nil {
		return err
	}
	defer d.turn.Give()
	return d.onNotes(side, func(in *state.Folder, notes []*note) error {
		var failed []error
		for wave := range stack.Waves(notes) {
			if err := permit.Ask(ctx); err != nil {
				return errors.Join(append(failed, err)...)
			}
			failed = append(failed, d.stop(ctx, in, wave, d.part.Stacks[side].Grace))
		}
		if errors.Join(failed...) == nil {
			failed = append(failed, d.forget(in, side))
		}
		return errors.Join(failed...)
	})
}

// onNotes does something with those notes of a side that can be read. Where there is no state
// folder there are none.
func (d *Driver) onNotes(side split.Side, do func(*state.Folder, []*note) error) error {
	in, err := d.look()
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer in.Close()
	notes, err := d.notes(in, side)
	return errors.Join(err, do(in, notes))
}

// start starts one instance. The note is written before, so that an instance
// whose start was cut short is found again, and completed after.
func (d *Driver) start(ctx context.Context, in *state.Folder, side split.Side, name string, b stack.Build) error {
	if err := permit.Ask(ctx); err != nil {
		return err
	}
	s := d.part.Stacks[side]
	address, err := d.freeAddress(in, s)
	if err != nil {
		return err
	}
	n := d.noteOf(in, name)
	n.Instance = reading.Instance{
		Name: name, Part: d.part.Name, Side: side, Version: b.Version, Build: b.ID, Address: address,
		Started: time.Now(),
	}
	return d.launch(in, n, b, nil, os.O_TRUNC)
}

// launch starts the program of a note, with the settings of a build, from a copy of that if there is one. mode says
// what becomes of the output until now.
func (d *Driver) launch(in *state.Folder, n *note, b stack.Build, from *copied, mode int) error {
	s := d.part.Stacks[n.Side]
	values := n.Instance.Values(d.service)
	args := make([]string, len(s.Command))
	for n, word := range s.Command {
		args[n] = from.of(plan.Expand(word, values))
	}
	program, err := exec.LookPath(args[0])
	if err != nil {
		return err
	}
	args[0] = from.of(program)
	environment := b.Environment(s.Environment, func(value string) string { return d.secrets.Fill(value, values, nil) })
	key, err := in.Key(stack.KeyIn)
	if err != nil {
		return err
	}
	n.Digest = stack.Digest(key, environment)
	if n.Folder, err = in.ID(); err != nil {
		return err
	}
	if err := in.Remove(n.exit()); err != nil {
		return err
	}
	if err := n.write(in); err != nil {
		return err
	}
	output, err := in.OpenFile(n.output(), os.O_CREATE|os.O_WRONLY|os.O_APPEND|mode)
	if err != nil {
		return errors.Join(err, n.remove(in))
	}
	defer output.Close()
	cmd := exec.Command("/bin/sh", append([]string{"-c", stack.Guard, in.Path(n.exit())}, args...)...)
	cmd.Dir = plan.Expand(s.Folder, values)
	cmd.Env = append(stack.Inherited(os.Environ()), stack.Marker+"="+n.mark,
		stack.Record+"="+stack.RecordOf(n.Instance))
	for key, value := range environment {
		cmd.Env = append(cmd.Env, key+"="+from.of(value))
	}
	cmd.Stdout, cmd.Stderr = output, output
	if n.Session, err = Start(cmd); err != nil {
		return errors.Join(err, n.remove(in))
	}
	return n.write(in)
}

// freeWithin is how long what has ended may still have its address: its processes end one after the other.
const freeWithin = 2 * time.Second

// free waits until nobody has an address, and says who has where that takes too long.
func free(ctx context.Context, address string) error {
	for end := time.Now().Add(freeWithin); ; {
		l, err := net.Listen("tcp", address)
		if err == nil {
			return l.Close()
		}
		if time.Now().After(end) {
			return err
		}
		select {
		case <-ctx.Done():
			return errors.Join(err, context.Cause(ctx))
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Restart starts an instance again that has ended; see [stack.Restarter].
func (d *Driver) Restart(ctx context.Context, i reading.Instance, a stack.Again) (is stack.Restarted, err error) {
	if err := d.turn.Take(ctx); err != nil {
		return is, err
	}
	defer d.turn.Give()
	in, err := d.look()
	if err != nil {
		return is, err
	}
	defer in.Close()
	notes, err := d.notes(in, i.Side)
	n := slices.IndexFunc(notes, func(n *note) bool { return n.Name == i.Name })
	switch {
	case n < 0:
		return is, errors.Join(fmt.Errorf("there is no note on %s", i.Name), err)
	case notes[n].damaged != nil:
		return is, fmt.Errorf("its note is damaged (%w)", notes[n].damaged)
	case notes[n].running():
		return is, nil
	}
	left := notes[n]
	if strays := left.strays(marks()); len(strays) > 0 {
		return is, fmt.Errorf("%s has put itself into the background (process %d): it is not started a second time",
			i.Name, strays[0])
	}
	if err := free(ctx, left.Address); err != nil {
		return is, fmt.Errorf("somebody else has its address: %w", err)
	}
	if is.Build, err = d.differs(in, left.Instance); err != nil {
		return is, err
	}
	var from *copied
	if is.Build != "" {
		from = d.kept(in, left.Instance)
	}
	if is.Copy = from != nil; is.Build != "" && !is.Copy && !a.Even {
		return is, fmt.Errorf("%s: version %s is %w: %s", left.Name, left.Version, delivered.ErrOther, is.Build)
	}
	before := left.Digest
	if left.Session, left.Started, left.Other = (ID{}), time.Now(), is.Build; is.Copy {
		left.Other = ""
	}
	err = d.launch(in, left, stack.Build{Like: a.Like}, from, 0)
	is.Environment = before != "" && before != left.Digest
	return is, err
}

// Rotate puts output aside that has become too large.
func (d *Driver) Rotate(_ context.Context, side split.Side) error {
	return d.onNotes(side, func(in *state.Folder, notes []*note) error {
		var failed []error
		for _, n := range notes {
			failed = append(failed, rotate.Cut(in, n.output(), rotate.Limit(d.part.Stacks[side].Output)))
		}
		return errors.Join(failed...)
	})
}

// freeAddress is an address that no instance of ours was given.
func (d *Driver) freeAddress(in *state.Folder, s plan.Stack) (string, error) {
	taken := map[string]bool{}
	for _, side := range split.Sides {
		notes, err := d.notes(in, side)
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
func (d *Driver) stop(ctx context.Context, in *state.Folder, notes []*note, grace time.Duration) error {
	left := notes
	for _, last := range []struct {
		signal syscall.Signal
		wait   time.Duration
	}{{syscall.SIGTERM, grace}, {syscall.SIGKILL, killLimit}} {
		marked := marks()
		for _, n := range left {
			n.signal(last.signal, marked)
		}
		patience, cancel := context.WithTimeout(context.WithoutCancel(ctx), last.wait)
		left = gone(patience, left)
		cancel()
	}
	var failed []error
	for _, n := range notes {
		if slices.Contains(left, n) {
			failed = append(failed, fmt.Errorf("%s (process %d) is still there after SIGKILL", n.Name, n.Session.PID))
			continue
		}
		failed = append(failed, n.remove(in))
		d.mu.Lock()
		d.most[n.Side] = max(d.most[n.Side]-1, 0)
		d.mu.Unlock()
	}
	return errors.Join(failed...)
}

// killLimit is how long the kernel is waited for to end what was killed.
const killLimit = 5 * time.Second

// noteOf is an empty note on an instance.
func (d *Driver) noteOf(in *state.Folder, name string) *note {
	n := &note{name: path.Join(d.dir, name)}
	n.Name, n.Part = name, d.part.Name
	n.mark = in.Path(n.file())
	return n
}

// notes are the notes on a side's instances, by name. One that cannot be read hides none of
// the others: what runs of it is found by its mark.
func (d *Driver) notes(in *state.Folder, side split.Side) ([]*note, error) {
	names, err := in.Names(d.dir)
	var list []*note
	failed := []error{err}
	marked := marks()
	for _, name := range names {
		instance, ok := strings.CutSuffix(name, ".json")
		if !ok || !strings.HasPrefix(name, side.String()+"-") {
			continue
		}
		n := d.noteOf(in, instance)
		data, err := in.ReadFile(n.file())
		switch {
		case errors.Is(err, fs.ErrNotExist):
			continue // removed meanwhile
		case errors.Is(err, state.ErrNotOurs):
			failed = append(failed, err)
			continue
		case err == nil:
			err = json.Unmarshal(data, n)
		}
		if err != nil {
			*n = *d.noteOf(in, instance)
			n.damaged = err
		}
		n.Name, n.Part, n.Side = instance, d.part.Name, side
		if n.Session.PID == 0 {
			n.find(marked)
		}
		list = append(list, n)
	}
	list = append(list, d.lost(in, side, list, marked)...)
	slices.SortFunc(list, func(a, b *note) int { return stack.Compare(a.Instance, b.Instance) })
	return list, errors.Join(failed...)
}

// lost are instances of a side that run and whose notes are not there: found by their marks, noted anew from what those
// say. They are looked for when there are fewer notes than there were.
func (d *Driver) lost(in *state.Folder, side split.Side, list []*note, marked func() map[string][]int) []*note {
	d.mu.Lock()
	fewer := len(list) < d.most[side] || d.most[side] < 0
	d.most[side] = max(d.most[side], len(list))
	d.mu.Unlock()
	if !fewer {
		return nil
	}
	var found []*note
	before := in.Path(d.dir) + "/"
	for mark, pids := range marked() {
		name, ours := strings.CutPrefix(mark, before)
		name, noted := strings.CutSuffix(name, ".json")
		if !ours || !noted || strings.Contains(name, "/") || !strings.HasPrefix(name, side.String()+"-") ||
			slices.ContainsFunc(list, func(n *note) bool { return n.mark == mark }) {
			continue
		}
		n := d.noteOf(in, name)
		n.damaged = errors.New("it is missing")
		if r, ok := stack.Recover(variableOf(pids[0], stack.Record), name); ok {
			n.Instance, n.damaged = r, nil
		}
		n.Name, n.Part, n.Side = name, d.part.Name, side
		if n.find(marked); n.Session.PID == 0 {
			continue // what has ended is not looked for
		}
		if n.damaged == nil {
			_ = n.write(in) // else it is found again
		}
		found = append(found, n)
	}
	d.mu.Lock()
	d.most[side] = max(d.most[side], len(list)+len(found))
	d.mu.Unlock()
	return found
}

func (n *note) write(in *state.Folder) error {
	data, err := json.MarshalIndent(n, "", "\t")
	if err != nil {
		return err
	}
	return in.WriteFile(n.file(), data)
}

// remove leaves nothing of an instance behind; its note goes last.
func (n *note) remove(in *state.Folder) error {
	names := []string{n.exit(), n.exit() + ".new", n.output()}
	older, err := in.Names(path.Dir(n.name))
	for _, name := range older {
		if strings.HasPrefix(name, path.Base(n.output())+".") {
			names = append(names, path.Join(path.Dir(n.name), name))
		}
	}
	return errors.Join(err, in.Remove(append(names, n.file())...))
}
