package container

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/containerd/errdefs"
	"github.com/google/go-containerregistry/pkg/name"
	"github.com/moby/moby/api/pkg/stdcopy"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	"vaiven/internal/world/permit"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
)

// The labels by which containers are known again.
const (
	labelOwner    = "vaiven.owner" // the state folder of the service
	labelPart     = "vaiven.part"
	labelSide     = "vaiven.side"
	labelInstance = "vaiven.instance"
	labelVersion  = "vaiven.version"
	labelBuild    = "vaiven.build"
	labelAddress  = "vaiven.address" // host:port in the host's network, :port in one of its own
	labelStarted  = "vaiven.started"
	labelRelay    = "vaiven.relay" // of a relay: the instance it stands beside
)

// Driver starts, lists and stops the instances of one part as containers; see
// [stack.Driver].
type Driver struct {
	service string
	owner   string
	part    *plan.Part
	first   bool
	secrets secret.Values
	relay   string // the program
	engines [2]*client.Client
	images  sync.Map // from an image's identity to the environment that it brings

	turn place.Turn // of whoever starts or stops instances
}

// New makes the driver for a part of a plan. No engine is asked anything yet. The relay is
// a program that runs on its own, linked statically, and relays a connection (see
// [place.ServeRelay]); with --wait it does nothing until it is ended.
func New(p *plan.Plan, part int, secrets secret.Values, relay string) (*Driver, error) {
	d := &Driver{service: p.Service, owner: p.State, part: &p.Parts[part], first: part == 0, secrets: secrets,
		relay: relay, turn: place.NewTurn()}
	for _, side := range split.Sides {
		engine := d.part.Stacks[side].Engine
		if !strings.Contains(engine, "://") {
			engine = "unix://" + engine
		}
		var err error
		if d.engines[side], err = client.New(client.WithHost(engine)); err != nil {
			return nil, fmt.Errorf("the container engine %s: %w", engine, err)
		}
	}
	return d, nil
}

// told turns an engine's error into one that says whether it was reached.
func told(err error) error {
	if client.IsErrConnectionFailed(err) {
		return fmt.Errorf("%w: container engine: %w", stack.ErrUnreachable, err)
	}
	return err
}

// ours finds the containers of a side, relays included.
func (d *Driver) ours(ctx context.Context, side split.Side) ([]container.Summary, error) {
	filters := make(client.Filters).Add("label",
		labelOwner+"="+d.owner, labelPart+"="+d.part.Name, labelSide+"="+side.String())
	list, err := d.engines[side].ContainerList(ctx, client.ContainerListOptions{All: true, Filters: filters})
	if err != nil {
		return nil, fmt.Errorf("list containers: %w", told(err))
	}
	return list.Items, nil
}

// one is an instance with its container.
type one struct {
	reading.Instance
	id string
}

// look reads a side's instances. Those that could be read in time are there beside an
// error.
func (d *Driver) look(ctx context.Context, side split.Side) ([]one, error) {
	ctx, cancel := context.WithTimeout(ctx, stack.ReadLimit)
	defer cancel()
	items, err := d.ours(ctx, side)
	if err != nil {
		return nil, err
	}
	items = slices.DeleteFunc(items, func(s container.Summary) bool { return s.Labels[labelRelay] != "" })
	list := make([]one, len(items))
	failed := make([]error, len(items))
	var wait sync.WaitGroup
	for n, item := range items {
		wait.Go(func() {
			if list[n], failed[n] = d.inspect(ctx, side, item.ID); failed[n] != nil {
				failed[n] = fmt.Errorf("%s: %w", item.Labels[labelInstance], failed[n])
			}
		})
	}
	wait.Wait()
	list = slices.DeleteFunc(list, func(o one) bool { return o.id == "" })
	slices.SortFunc(list, func(a, b one) int { return stack.Compare(a.Instance, b.Instance) })
	return list, errors.Join(failed...)
}

// inspect reads one instance. One that was removed meanwhile has no id.
func (d *Driver) inspect(ctx context.Context, side split.Side, id string) (one, error) {
	found, err := d.engines[side].ContainerInspect(ctx, id, client.ContainerInspectOptions{})
	if errdefs.IsNotFound(err) {
		return one{}, nil
	}
	if err != nil {
		return one{}, told(err)
	}
	c := found.Container
	labels := c.Config.Labels
	o := one{id: id, Instance: reading.Instance{
		Name: labels[labelInstance], Part: d.part.Name, Side: side, Version: labels[labelVersion],
		Build:   labels[labelBuild],
		Address: labels[labelAddress], Place: strings.TrimPrefix(c.Name, "/"), Running: c.State.Running,
	}}
	o.Started, _ = time.Parse(time.RFC3339Nano, labels[labelStarted]) // ours, and zero if not
	if strings.HasPrefix(o.Address, ":") {
		for _, n := range c.NetworkSettings.Networks {
			if n.IPAddress.IsValid() {
				o.Address = n.IPAddress.String() + labels[labelAddress]
			}
		}
	}
	if !o.Running {
		o.Exit = exitWords(c.State)
	}
	if o.Output, err = d.output(ctx, side, id); err != nil {
		o.Output = []string{"its output could not be read: " + err.Error()} // the instance is there all the same
	}
	return o, nil
}

func exitWords(s *container.State) string {
	switch {
	case s.Status == container.StateCreated && s.Error != "":
		return "not started: " + s.Error
	case s.Status == container.StateCreated:
		return "not started yet"
	case s.OOMKilled:
		return "ended for lack of memory"
	}
	return fmt.Sprintf("exit status %d", s.ExitCode)
}

// outputLines is how many lines are read of the end of an instance's output: those that a
// secret goes over are hidden as a whole.
const outputLines = 100

// output is the last that an instance said.
func (d *Driver) output(ctx context.Context, side split.Side, id string) ([]string, error) {
	logs, err := d.engines[side].ContainerLogs(ctx, id,
		client.ContainerLogsOptions{ShowStdout: true, ShowStderr: true, Tail: strconv.Itoa(outputLines)})
	if errdefs.IsNotFound(err) || err != nil && strings.Contains(err.Error(), "marked for removal") {
		return nil, nil
	}
	if err != nil {
		return nil, told(err)
	}
	defer logs.Close()
	var text place.Output
	if _, err := stdcopy.StdCopy(&text, &text, logs); err != nil && !errors.Is(err, io.EOF) {
		return nil, nil // the log of a container that is being removed
	}
	return stack.Lines(text.Bytes()), nil
}

// List is every instance of a side.
func (d *Driver) List(ctx context.Context, side split.Side) ([]reading.Instance, error) {
	found, err := d.look(ctx, side)
	var list []reading.Instance
	for _, o := range found {
		list = append(list, o.Instance)
	}
	return list, err
}

// Raise starts what is missing of a build, and stops what is of another.
func (d *Driver) Raise(ctx context.Context, side split.Side, b stack.Build) error {
	if err := d.turn.Take(ctx); err != nil {
		return err
	}
	defer d.turn.Give()
	found, err := d.look(ctx, side)
	if err != nil {
		return err
	}
	s := d.part.Stacks[side]
	stays, names := map[string]bool{}, stack.Names(d.part, d.first, side, b.Number(s))
	var others []string
	for _, o := range found {
		if o.Running && b.Made(o.Instance) && !stays[o.Name] && names[o.Name] {
			stays[o.Name] = true
		} else {
			others = append(others, o.id)
		}
	}
	image := d.image(side, b)
	if err := d.pull(ctx, side, image); err != nil {
		return err // before anything is stopped
	}
	if err := permit.Ask(ctx); err != nil {
		return err
	}
	if err := d.remove(ctx, side, others, s.Grace); err != nil {
		return fmt.Errorf("clear %v before it is raised: %w", side, err)
	}
	var failed []error
	for n := range b.Number(s) {
		name := stack.Name(d.part, d.first, side, n+1)
		if stays[name] {
			continue
		}
		if err := d.start(ctx, side, name, image, b); err != nil {
			failed = append(failed, fmt.Errorf("start %s: %w", name, err))
		}
	}
	return errors.Join(failed...)
}

// image is what a build is started from. Where versions are the tags of a registry, the
// plan's image of that name is started by its digest: a tag can be moved after it was
// chosen.
func (d *Driver) image(side split.Side, b stack.Build) string {
	image := plan.Expand(d.part.Stacks[side].Image,
		reading.Instance{Part: d.part.Name, Side: side, Version: b.Version, Build: b.ID}.Values(d.service))
	tag, err := name.NewTag(image)
	v := d.part.Versions
	if err != nil || v.Kind != plan.VersionRegistry || tag.TagStr() != b.Version || b.ID == "" {
		return image
	}
	if source, err := name.NewRepository(v.Where); err != nil || source.Name() != tag.Repository.Name() {
		return image
	}
	return tag.Repository.String() + "@" + b.ID
}

// pull makes sure that the engine has an image.
func (d *Driver) pull(ctx context.Context, side split.Side, image string) error {
	_, err := d.engines[side].ImageInspect(ctx, image)
	if err == nil {
		return nil
	}
	if !errdefs.IsNotFound(err) {
		return fmt.Errorf("look for the image %s: %w", image, told(err))
	}
	answer, err := d.engines[side].ImagePull(ctx, image, client.ImagePullOptions{})
	if err == nil {
		err = errors.Join(answer.Wait(ctx), answer.Close())
	}
	if err != nil {
		return fmt.Errorf("pull the image %s: %w", image, told(err))
	}
	return nil
}

// start starts one instance.
func (d *Driver) start(ctx context.Context, side split.Side, name, image string, b stack.Build) error {
	if err := permit.Ask(ctx); err != nil {
		return err
	}
	s := d.part.Stacks[side]
	i := reading.Instance{Name: name, Part: d.part.Name, Side: side, Version: b.Version, Build: b.ID,
		Started: time.Now().Round(0)}
	label := ":" + strconv.Itoa(s.Port)
	i.Address = "0.0.0.0" + label // all that it has, in a network of its own
	if s.Network == "host" {
		var err error
		if i.Address, err = d.freeAddress(ctx, s); err != nil {
			return err
		}
		label = i.Address
	}
	values := i.Values(d.service)
	config := &container.Config{Image: image, Labels: map[string]string{
		labelOwner: d.owner, labelPart: d.part.Name, labelSide: side.String(), labelInstance: name,
		labelVersion: b.Version,
		labelBuild:   b.ID, labelAddress: label, labelStarted: i.Started.Format(time.RFC3339Nano),
	}}
	for _, word := range s.Command {
		config.Cmd = append(config.Cmd, plan.Expand(word, values))
	}
	environment := b.Environment(s.Environment, func(value string) string { return d.secrets.Fill(value, values, nil) })
	for _, key := range slices.Sorted(maps.Keys(environment)) {
		config.Env = append(config.Env, key+"="+environment[key])
	}
	host := &container.HostConfig{NetworkMode: container.NetworkMode(s.Network)}
	host.Memory, host.NanoCPUs = cmp.Or(s.Memory, b.Like.Memory), int64(cmp.Or(s.CPUs, b.Like.CPUs)*1e9)
	options := client.ContainerCreateOptions{Config: config, HostConfig: host, Name: d.name(name)}
	created, err := d.engines[side].ContainerCreate(ctx, options)
	for deadline := time.Now().Add(leftoverLimit); errdefs.IsConflict(err) && time.Now().Before(deadline) &&
		ctx.Err() == nil; {
		if foreign := d.clearLeftover(ctx, side, options.Name); foreign != nil {
			return foreign
		}
		created, err = d.engines[side].ContainerCreate(ctx, options)
	}
	if err != nil {
		return told(err)
	}
	if _, err := d.engines[side].ContainerStart(ctx, created.ID, client.ContainerStartOptions{}); err != nil {
		last, cancel := context.WithTimeout(context.WithoutCancel(ctx), stack.ReadLimit)
		defer cancel()
		_, errRemove := d.engines[side].ContainerRemove(last, created.ID, client.ContainerRemoveOptions{Force: true})
		return errors.Join(told(err), told(errRemove))
	}
	return nil
}

// leftoverLimit bounds the waiting for what an interrupted start left at the engine.
const leftoverLimit = 10 * time.Second

// clearLeftover removes the container that has a name of ours already. The engine
// goes on with a start that was cut short, and has its name taken before it lists
// it: then there is nothing to remove yet, and it waits a little. One that is not ours is
// left alone, and is an error.
func (d *Driver) clearLeftover(ctx context.Context, side split.Side, name string) error {
	found, err := d.engines[side].ContainerInspect(ctx, name, client.ContainerInspectOptions{})
	if err == nil {
		if owner := found.Container.Config.Labels[labelOwner]; owner != d.owner {
			if owner == "" {
				owner = "somebody else"
			}
			return fmt.Errorf("a container called %s is there already and belongs to %s: it is left alone. Look who "+
				"made it, and rename or remove it", name, owner)
		}
		if _, err = d.engines[side].ContainerRemove(ctx, found.Container.ID,
			client.ContainerRemoveOptions{Force: true}); err == nil {
			return nil
		}
	}
	select {
	case <-ctx.Done():
	case <-time.After(100 * time.Millisecond):
	}
	return nil
}

// name is what a container is called: the same service may stand twice on one
// engine, with different state.
func (d *Driver) name(instance string) string {
	sum := sha256.Sum256([]byte(d.owner + "\x00" + d.part.Name))
	return fmt.Sprintf("%s-%s-%s", d.service, instance, hex.EncodeToString(sum[:4]))
}

// freeAddress is an address that no instance of ours was given.
func (d *Driver) freeAddress(ctx context.Context, s plan.Stack) (string, error) {
	taken := map[string]bool{}
	for _, side := range split.Sides {
		items, err := d.ours(ctx, side)
		if err != nil {
			return "", err
		}
		for _, item := range items {
			taken[item.Labels[labelAddress]] = true
		}
	}
	return stack.FreeAddress(s, taken)
}

// Stop stops all instances of a side, and what was put beside them.
func (d *Driver) Stop(ctx context.Context, side split.Side) error {
	if err := d.turn.Take(ctx); err != nil {
		return err
	}
	defer d.turn.Give()
	items, err := d.ours(ctx, side)
	if err != nil {
		return err
	}
	var ids []string
	for _, item := range items {
		ids = append(ids, item.ID)
	}
	var failed []error
	for wave := range stack.Waves(ids) {
		if err := permit.Ask(ctx); err != nil {
			return errors.Join(append(failed, err)...)
		}
		failed = append(failed, d.remove(ctx, side, wave, d.part.Stacks[side].Grace))
	}
	return errors.Join(failed...)
}

// remove stops containers, all at once, and removes them.
func (d *Driver) remove(ctx context.Context, side split.Side, ids []string, grace time.Duration) error {
	failed := make([]error, len(ids))
	seconds := int(math.Ceil(grace.Seconds()))
	var wait sync.WaitGroup
	for n, id := range ids {
		wait.Go(func() {
			_, err := d.engines[side].ContainerStop(ctx, id, client.ContainerStopOptions{Timeout: &seconds})
			if err == nil || errdefs.IsNotModified(err) || errdefs.IsConflict(err) {
				_, err = d.engines[side].ContainerRemove(ctx, id,
					client.ContainerRemoveOptions{Force: true, RemoveVolumes: true})
			}
			if err != nil && !errdefs.IsNotFound(err) && !strings.Contains(err.Error(), "already in progress") {
				failed[n] = fmt.Errorf("container %s: %w", id[:min(len(id), 12)], told(err))
			}
		})
	}
	wait.Wait()
	return errors.Join(failed...)
}

// find is the container of an instance.
func (d *Driver) find(ctx context.Context, i reading.Instance) (container.InspectResponse, error) {
	found, err := d.engines[i.Side].ContainerInspect(ctx, i.Place, client.ContainerInspectOptions{})
	return found.Container, told(err)
}

// Describe reads what a container was made with.
func (d *Driver) Describe(ctx context.Context, i reading.Instance) (stack.Description, error) {
	c, err := d.find(ctx, i)
	if err != nil {
		return stack.Description{}, err
	}
	about := stack.Description{
		Command: append([]string{c.Path}, c.Args...), Environment: map[string]string{},
		Limits: map[string]string{
			"memory": bytesOf(c.HostConfig.Memory), "cpus": cpusOf(c.HostConfig.NanoCPUs),
			"network": string(c.HostConfig.NetworkMode),
			"restart": string(c.HostConfig.RestartPolicy.Name), "user": c.Config.User,
		},
	}
	for _, variable := range c.Config.Env {
		name, value, _ := strings.Cut(variable, "=")
		about.Environment[name] = value
	}
	for _, u := range c.HostConfig.Ulimits {
		about.Limits[u.Name] = fmt.Sprint(u.Soft)
	}
	about.Memory, about.CPUs = c.HostConfig.Memory, float64(c.HostConfig.NanoCPUs)/1e9
	if brings, known := d.brings(ctx, i.Side, c.Image); known {
		about.Given = maps.Clone(about.Environment)
		for _, variable := range brings {
			if name, value, _ := strings.Cut(variable, "="); about.Given[name] == value {
				delete(about.Given, name)
			}
		}
	}
	return about, nil
}

// brings is the environment that an image has of its own, and false if that cannot be told. An image never changes,
// and is asked about once.
func (d *Driver) brings(ctx context.Context, side split.Side, image string) ([]string, bool) {
	if known, ok := d.images.Load(image); ok {
		return known.([]string), true
	}
	found, err := d.engines[side].ImageInspect(ctx, image)
	if err != nil || found.Config == nil {
		return nil, false
	}
	d.images.Store(image, found.Config.Env)
	return found.Config.Env, true
}

func bytesOf(n int64) string {
	if n == 0 {
		return "none"
	}
	for _, unit := range []struct {
		name  string
		bytes int64
	}{{"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}} {
		if n%unit.bytes == 0 {
			return fmt.Sprintf("%d %s", n/unit.bytes, unit.name)
		}
	}
	return fmt.Sprintf("%d bytes", n)
}

func cpusOf(n int64) string {
	if n == 0 {
		return "none"
	}
	return strconv.FormatFloat(float64(n)/1e9, 'g', -1, 64)
}
