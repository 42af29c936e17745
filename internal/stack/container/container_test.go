package container

import (
	"context"
	"io"
	"log"
	"net"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/google/go-containerregistry/pkg/name"
	standin "github.com/google/go-containerregistry/pkg/registry"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
	"vaiven/lab/stacktest"
	"vaiven/lab/testkit"
)

// relayProgram is the real relay, built once.
func relayProgram(t *testing.T) string {
	t.Helper()
	return testkit.Program(t, "vaiven/cmd/vaiven-relay")
}

const socket = "/var/run/docker.sock"

// engine is the real engine, and a wire to it that can be cut.
type engine struct {
	path string
	gate sync.RWMutex // locked while the engine hangs: nothing passes
	mu   sync.Mutex   // protects the rest
	l    net.Listener
	open []net.Conn
}

func (e *engine) listen(t *testing.T) {
	t.Helper()
	l, err := net.Listen("unix", e.path)
	if err != nil {
		t.Fatal(err)
	}
	e.mu.Lock()
	e.l = l
	e.mu.Unlock()
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("unix", socket)
			if err != nil {
				near.Close()
				continue
			}
			e.mu.Lock()
			e.open = append(e.open, near, far)
			e.mu.Unlock()
			pass := func(to, from net.Conn) {
				io.Copy(gated{to, e}, from)
				if u, ok := to.(*net.UnixConn); ok {
					u.CloseWrite()
				}
			}
			go pass(far, near)
			go pass(near, far)
		}
	}()
}

// gated passes on what is written while the gate is open.
type gated struct {
	io.Writer
	engine *engine
}

func (g gated) Write(p []byte) (int, error) {
	g.engine.gate.RLock()
	defer g.engine.gate.RUnlock()
	return g.Writer.Write(p)
}

func (e *engine) cut() {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.l.Close()
	for _, c := range e.open {
		c.Close()
	}
	e.open = nil
}

// world is the wires of a test by its plan.
type world struct{ wires map[*plan.Plan]*engine }

func (w *world) plan(t *testing.T, as string) *plan.Plan {
	t.Helper()
	c, err := client.New(client.WithHost("unix://" + socket))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if _, err := c.Ping(t.Context(), client.PingOptions{}); err != nil {
		t.Skipf("there is no container engine: %v", err)
	}
	tag, err := name.NewTag("vaiven-subject:test", name.WithDefaultRegistry(""))
	if err != nil {
		t.Fatal(err)
	}
	loaded.Do(func() { errLoaded = Load(t.Context(), c, tag, stacktest.Subject(t), "subject") })
	if errLoaded != nil {
		t.Fatal(errLoaded)
	}
	dir := t.TempDir()
	e := &engine{path: filepath.Join(dir, "engine.sock")}
	e.listen(t)
	s := stacktest.Stack(t, as)
	s.Image, s.Engine = tag.String(), e.path
	s.Command[0] = "/subject"
	p := &plan.Plan{Service: "sailings", State: dir, Parts: []plan.Part{{Name: "web", Stacks: [2]plan.Stack{s, s}}}}
	w.wires[p] = e
	t.Cleanup(func() {
		for i := range p.Parts[0].Stacks {
			p.Parts[0].Stacks[i].Grace, p.Parts[0].Stacks[i].Engine = 0, socket
		}
		for _, side := range split.Sides {
			if err := open(t, p).Stop(context.Background(), side); err != nil {
				t.Error(err)
			}
		}
		e.cut()
	})
	return p
}

// TestMain takes the images away that the tests made.
func TestMain(m *testing.M) {
	code := m.Run()
	if c, err := client.New(client.WithHost("unix://" + socket)); err == nil {
		for _, reference := range []string{"vaiven-subject", relayName} {
			list, err := c.ImageList(context.Background(),
				client.ImageListOptions{Filters: make(client.Filters).Add("reference", reference)})
			if err != nil {
				break
			}
			for _, image := range list.Items {
				c.ImageRemove(context.Background(), image.ID, client.ImageRemoveOptions{})
			}
		}
	}
	os.Exit(code)
}

var (
	loaded    sync.Once
	errLoaded error
)

func open(t *testing.T, p *plan.Plan) *Driver {
	t.Helper()
	d, err := New(p, 0, secret.Values{}, relayProgram(t))
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func (w *world) cut(t *testing.T, p *plan.Plan) func() {
	w.wires[p].cut()
	return func() { w.wires[p].listen(t) }
}

func kill(t *testing.T, p *plan.Plan, i reading.Instance) {
	t.Helper()
	if _, err := open(t, p).engines[i.Side].ContainerKill(t.Context(), i.Place,
		client.ContainerKillOptions{Signal: "KILL"}); err != nil {
		t.Fatal(err)
	}
}

func remains(t *testing.T, p *plan.Plan) []string {
	t.Helper()
	d := open(t, p)
	var left []string
	for _, side := range split.Sides {
		items, err := d.ours(t.Context(), side)
		if err != nil {
			t.Fatal(err)
		}
		for _, item := range items {
			left = append(left, item.Names...)
		}
	}
	return left
}

func TestConformance(t *testing.T) {
	w := &world{wires: map[*plan.Plan]*engine{}}
	stacktest.Run(t, stacktest.System{
		Lacks:  []string{"started again", "started again of the same build", "output put aside", "notes that are lost"}, // they are the engine's
		Plan:   w.plan,
		Driver: func(t *testing.T, p *plan.Plan) stack.Driver { return open(t, p) },
		Kill:   kill, Remains: remains, Cut: w.cut,
		Freeze: func(t *testing.T, p *plan.Plan) func() {
			w.wires[p].gate.Lock()
			return w.wires[p].gate.Unlock
		},
	})
}

// In a network of its own an instance has an address of its own, and what it can
// reach is asked from inside.
func TestANetworkOfItsOwn(t *testing.T) {
	w := &world{wires: map[*plan.Plan]*engine{}}
	p := w.plan(t, "well")
	for i := range p.Parts[0].Stacks {
		s := &p.Parts[0].Stacks[i]
		s.Network, s.Port, s.Memory, s.CPUs = "bridge", 8080, 64<<20, 0.5
	}
	d := open(t, p)
	if err := d.Raise(t.Context(), split.Green, stacktest.Second); err != nil {
		t.Fatal(err)
	}
	list, err := d.List(t.Context(), split.Green)
	if err != nil || len(list) != 2 {
		t.Fatalf("there is %+v, %v", list, err)
	}
	host, port, _ := net.SplitHostPort(list[0].Address)
	if host == "127.0.0.1" || port != "8080" || list[0].Address == list[1].Address {
		t.Errorf("addresses %s and %s", list[0].Address, list[1].Address)
	}
	from, err := d.Place(t.Context(), list[0])
	if err != nil {
		t.Fatal(err)
	}
	// Its own loopback is not ours: we listen where it finds nobody.
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if _, err := from.Dial(t.Context(), "tcp", l.Addr().String()); place.CauseOf(err) != place.Refused {
		t.Errorf("our loopback from inside: %v", err)
	}
	testkit.Until(t, "its own loopback from inside", func() error {
		c, err := from.Dial(t.Context(), "tcp", "127.0.0.1:8080")
		if err == nil {
			c.Close()
		}
		return err
	})
	if _, err := from.Run(t.Context(), place.Command{Words: []string{"sh"}}); err == nil {
		t.Error("an image without a shell has one")
	}
	if data, err := from.ReadFile(t.Context(), "/etc/hostname"); err != nil || len(data) == 0 {
		t.Errorf("a file from inside: %q, %v", data, err)
	}
	if _, err := from.ReadFile(t.Context(), "/nowhere"); err == nil {
		t.Error("a file that is not there was read")
	}
	about, err := d.Describe(t.Context(), list[0])
	if err != nil || about.Limits["memory"] != "64 MiB" || about.Limits["cpus"] != "0.5" {
		t.Errorf("limits %v, %v", about.Limits, err)
	}
	if about.Memory != 64<<20 || about.CPUs != 0.5 || about.Given["REGION"] != about.Environment["REGION"] ||
		about.Given["REGION"] == "" {
		t.Errorf("another side would take over %d bytes, %v processors and %v of %v", about.Memory, about.CPUs,
			about.Given, about.Environment)
	}
	if err := from.Close(); err != nil {
		t.Error(err)
	}
}

// The engine pulls by digest what it does not have, and says so if it cannot.
func TestAnImageFromARegistry(t *testing.T) {
	w := &world{wires: map[*plan.Plan]*engine{}}
	p := w.plan(t, "well")
	srv := httptest.NewServer(standin.New(standin.Logger(log.New(io.Discard, "", 0))))
	defer srv.Close()
	repository := strings.TrimPrefix(srv.URL, "http://") + "/vessa/sailings"
	layer, err := tarball.LayerFromOpener(func() (io.ReadCloser,
		error) {
		return packed(stacktest.Subject(t), "subject")
	})
	if err != nil {
		t.Fatal(err)
	}
	image, err := mutate.AppendLayers(empty.Image, layer)
	if err != nil {
		t.Fatal(err)
	}
	tag, err := name.NewTag(repository + ":2")
	if err != nil {
		t.Fatal(err)
	}
	if err := remote.Write(tag, image); err != nil {
		t.Fatal(err)
	}
	digest, err := image.Digest()
	if err != nil {
		t.Fatal(err)
	}
	for i := range p.Parts[0].Stacks {
		p.Parts[0].Stacks[i].Image = repository + "@{build}"
	}
	d := open(t, p)
	t.Cleanup(func() {
		d.engines[split.Green].ImageRemove(context.Background(), repository+"@"+digest.String(),
			client.ImageRemoveOptions{Force: true})
	})
	if err := d.Raise(t.Context(), split.Green, stack.Build{Version: "2", ID: digest.String()}); err != nil {
		t.Fatal(err)
	}
	list, err := d.List(t.Context(), split.Green)
	if err != nil || len(list) != 2 || !slices.ContainsFunc(list, func(i reading.Instance) bool { return i.Running }) {
		t.Errorf("there is %+v, %v", list, err)
	}
	missing := "sha256:" + strings.Repeat("0", 64)
	err = d.Raise(t.Context(), split.Green, stack.Build{Version: "3", ID: missing})
	if err == nil || !strings.Contains(err.Error(), "pull the image") {
		t.Errorf("an image that is not there: %v", err)
	}
	if again, _ := d.List(t.Context(), split.Green); len(again) != 2 || !again[0].Started.Equal(list[0].Started) {
		t.Errorf("what cannot be pulled replaced what ran: %+v", again)
	}
	if _, err := os.Stat(p.State); err != nil {
		t.Error(err)
	}
}

// A container of our name that is not ours is named at once, and left alone.
func TestAForeignContainerOfOurName(t *testing.T) {
	w := &world{wires: map[*plan.Plan]*engine{}}
	p := w.plan(t, "well")
	d := open(t, p)
	engine := d.engines[split.Green]
	created, err := engine.ContainerCreate(t.Context(), client.ContainerCreateOptions{
		Config: &container.Config{Image: p.Parts[0].Stacks[split.Green].Image,
			Cmd: []string{"/subject", "-as", "silent"}}, Name: d.name("green-1"),
	})
	if err != nil {
		t.Fatal(err)
	}
	defer engine.ContainerRemove(context.Background(), created.ID, client.ContainerRemoveOptions{Force: true})
	ctx, cancel := context.WithTimeout(t.Context(), leftoverLimit) // it is not waited for
	defer cancel()
	err = d.Raise(ctx, split.Green, stacktest.Second)
	if err == nil || !strings.Contains(err.Error(), "green-1") ||
		!strings.Contains(err.Error(), "belongs to somebody else") || ctx.Err() != nil {
		t.Errorf("raised: %v", err)
	}
	if _, err := engine.ContainerInspect(t.Context(), created.ID, client.ContainerInspectOptions{}); err != nil {
		t.Errorf("it is gone: %v", err)
	}
	if list, err := d.List(t.Context(), split.Green); err != nil || len(list) != 1 || list[0].Name != "green-2" {
		t.Errorf("there is %+v, %v", list, err)
	}
}

// A tag that was moved after it was chosen does not change what is started.
func TestATagIsStartedByItsDigest(t *testing.T) {
	p := &plan.Plan{Parts: []plan.Part{{Name: "web",
		Versions: plan.Versions{Kind: plan.VersionRegistry, Where: "registry.internal:5000/sailings"}}}}
	const id = "sha256:0123"
	for _, c := range []struct{ image, want string }{
		{"registry.internal:5000/sailings:{version}", "registry.internal:5000/sailings@" + id},
		{"registry.internal:5000/sailings@{build}", "registry.internal:5000/sailings@" + id},
		{"registry.internal:5000/other:{version}", "registry.internal:5000/other:4.3.0"},
		{"registry.internal:5000/sailings:stable", "registry.internal:5000/sailings:stable"},
		{"sailings:{version}", "sailings:4.3.0"},
	} {
		for i := range p.Parts[0].Stacks {
			p.Parts[0].Stacks[i].Image = c.image
		}
		d := &Driver{part: &p.Parts[0]}
		if got := d.image(split.Green, stack.Build{Version: "4.3.0", ID: id}); got != c.want {
			t.Errorf("%s is started as %s, want %s", c.image, got, c.want)
		}
	}
}

func TestSizesInWords(t *testing.T) {
	for n, want := range map[int64]string{0: "none", 512 << 10: "512 KiB", 1500 << 20: "1500 MiB", 2 << 30: "2 GiB",
		1000: "1000 bytes"} {
		if got := bytesOf(n); got != want {
			t.Errorf("%d is %s, want %s", n, got, want)
		}
	}
}

// What is put beside a container is prepared once, before anything is asked from there.
func TestARelayIsPreparedOnce(t *testing.T) {
	w := &world{wires: map[*plan.Plan]*engine{}}
	p := w.plan(t, "well")
	d := open(t, p)
	if err := d.Raise(t.Context(), split.Green, stacktest.Second); err != nil {
		t.Fatal(err)
	}
	list, err := d.List(t.Context(), split.Green)
	if err != nil {
		t.Fatal(err)
	}
	from, err := d.Place(t.Context(), list[0])
	if err != nil {
		t.Fatal(err)
	}
	defer from.Close()
	for range 2 {
		if err := from.(place.Preparer).Prepare(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	items, err := d.ours(t.Context(), split.Green)
	if err != nil || len(items) != 3 {
		t.Errorf("there are %d containers, %v: want two instances and a relay", len(items), err)
	}
	info, err := os.Stat(d.relay)
	if err != nil || info.Size() > 8<<20 {
		t.Errorf("the relay has %d bytes, %v: it is to be small", info.Size(), err)
	}
	lost, err := New(p, 0, secret.Values{}, "/nowhere/vaiven-relay")
	if err != nil {
		t.Fatal(err)
	}
	none, err := lost.Place(t.Context(), list[0])
	if err != nil {
		t.Fatal(err)
	}
	defer none.Close()
	if err := none.(place.Preparer).Prepare(t.Context()); err == nil ||
		!strings.Contains(err.Error(), "it belongs beside vaiven") {
		t.Errorf("without the program: %v", err)
	}
}
