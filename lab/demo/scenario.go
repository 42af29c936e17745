package demo

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	frontall "vaiven/internal/front/all"
	"vaiven/internal/front/cluster"
	"vaiven/internal/front/dns"
	"vaiven/internal/front/queue"
	"vaiven/internal/keeper/service"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/stack"
	"vaiven/internal/stack/all"
	"vaiven/internal/stack/process"
	"vaiven/internal/world/check"
	"vaiven/internal/world/durable"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/state"
)

// The versions of the demo.
const (
	OldVersion = "4.2.0"
	NewVersion = "4.3.0"
)

// The runtimes of its builds.
const (
	oldRuntime = "vessa 1.8"
	newRuntime = "vessa 2.0"
)

// build is one of the builds that there are to choose from.
type build struct {
	name    string // of its folder
	says    string // version
	runtime string
	fares   int    // port at which its configuration looks for the fares
	hold    string // configuration: how long a berth is held
	fault   Fault
}

// frontName is what passengers go by where the front is a name.
const frontName = "sailings.lineavessa.example"

// builds are all builds, the oldest first: the live one, a rebuilt twin of it, the
// release, one that does not reach the fares, and one with another runtime and
// configuration.
func builds(o Options, fares, nobody int) []build {
	return []build{
		{name: OldVersion, says: OldVersion, runtime: oldRuntime, fares: fares, hold: "15m", fault: None},
		{name: "4.2.1", says: OldVersion, runtime: oldRuntime, fares: fares, hold: "15m", fault: None},
		{name: NewVersion, says: NewVersion, runtime: oldRuntime, fares: fares, hold: "15m", fault: o.Fault},
		{name: "4.4.0", says: "4.4.0", runtime: oldRuntime, fares: nobody, hold: "15m", fault: None},
		{name: "4.5.0", says: "4.5.0", runtime: newRuntime, fares: fares, hold: "5m", fault: None},
	}
}

// Options says what to build up.
type Options struct {
	// the vaiven to run as front; vaiven-demo, which is the sailing search and the passengers, is found beside it
	Program string
	Fault   Fault // of the new version
	Front   plan.FrontKind
	Way     string // of steering it, where there are several; "" for the usual one
	Quick   bool   // a crossing of well under a minute, without questions
	Stays   bool   // and of that the first leg lasts, for a person at the keys
	Rate    float64
	Patient bool // no guard on slow answers, for machines that stall
	// name of the service, "" for sailings
	Service string
}

// service is the name of the service.
func (o Options) service() string { return cmp.Or(o.Service, "sailings") }

// services is the program that the company's services are.
func (o Options) services() string { return filepath.Join(filepath.Dir(o.Program), "vaiven-demo") }

// Scenario is a demo that runs.
type Scenario struct {
	Folder   string
	File     string // the plan
	Plan     *plan.Plan
	fares    string // address of the server of the fares
	registry string // of the images with the berths
	ports    [2]int // of the searches
	owned    []process.ID
	options  Options
	api      string // address of a cluster's API; "" if there is none
	pods     int    // port of its pods
	front    process.ID
}

// owner is the file in a demo's folder that says whose it is and what it started.
type owner struct {
	Owner   process.ID   `json:"owner"`
	Started []process.ID `json:"started"`
}

const ownerFile = "owner.json"

// Build clears what crashed demos left behind, makes a folder with everything in
// it, and starts front, blue instances and passengers.
func Build(ctx context.Context, o Options) (built *Scenario, err error) {
	if err := Clear(ctx); err != nil {
		return nil, fmt.Errorf("clear an earlier demo: %w", err)
	}
	folder, err := os.MkdirTemp("", prefix())
	if err != nil {
		return nil, err
	}
	s := &Scenario{Folder: folder, File: filepath.Join(folder, o.service()+".yaml")}
	defer func() {
		if err != nil {
			err = errors.Join(err, s.Remove(context.WithoutCancel(ctx)))
		}
	}()
	if err := s.own(); err != nil {
		return nil, err
	}
	if o.Program, err = filepath.Abs(o.Program); err != nil {
		return nil, err
	}
	s.options = o
	if err := s.write(o); err != nil {
		return nil, err
	}
	if s.Plan, err = planfile.Read(s.File); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(s.Plan.State, 0o700); err != nil {
		return nil, err
	}
	if err := s.startFront(ctx, o); err != nil {
		return nil, err
	}
	s.front = s.owned[len(s.owned)-1]
	if err := s.start("fares.log", o.services(), "fares", "--listen", s.fares); err != nil {
		return nil, err
	}
	if err := s.start("registry.log", o.services(), "registry", "--listen", s.registry, "--builds",
		filepath.Join(folder, "builds")); err != nil {
		return nil, err
	}
	if err := s.raiseBlue(ctx); err != nil {
		return nil, err
	}
	if o.Front == queue.Kind.Name {
		return s, s.start("passengers.log", o.services(), "passengers", "--broker", s.Plan.Front.Listen, "--rate",
			fmt.Sprint(o.Rate))
	}
	return s, s.start("passengers.log", o.services(), "passengers",
		"--url", "http://"+s.Plan.Front.Listen+"/sailings", "--names", s.Plan.Door.Resolver, "--rate",
		fmt.Sprint(o.Rate))
}

// prefix begins the names of demo folders; the user's number keeps people apart.
func prefix() string { return fmt.Sprintf("vaiven-demo-%d-", os.Getuid()) }

// demos counts those of this process.
var demos atomic.Int64

// write makes the plan and the builds.
func (s *Scenario) write(o Options) error {
	// So that demos side by side seldom meet, and below the ports that the system gives
	// to connections: what is free there stays free until it is used.
	first := 20_000 + (os.Getpid()+61*int(demos.Add(1)))%127*100
	own := first + 90
	listen, err1 := freePort(&own)
	fares, err2 := freePort(&own)
	nobody, err3 := freePort(&own) // where nobody listens
	images, err4 := freePort(&own)
	manager, err5 := freePort(&own)
	if err := errors.Join(err1, err2, err3, err4, err5); err != nil {
		return err
	}
	s.registry = fmt.Sprintf("127.0.0.1:%d", images)
	s.fares = fmt.Sprintf("127.0.0.1:%d", fares)
	route, keep := demoRoute, "2m, then ask"
	if o.Quick {
		route, keep = quickRoute, "4s"
		if o.Stays {
			route = strings.Replace(route, " for 8s", " for 1h", 1)
		}
		if o.Fault == Leak { // it takes its time to show
			route = slowRoute
		}
	}
	slow := "{after: 400ms, worse-by: 5 %, then: roll back}"
	door := "{after: 400ms, then: roll back}"
	fewer := "{name: bookings, figure: sailings_booked_total, by: 20 %, after: 2s, then: roll back}"
	if o.Patient {
		slow, door = "off", "{after: 5s, then: roll back}"
	}
	if o.Patient && o.Front == queue.Kind.Name { // what waits there is not booked yet
		fewer = "off"
	} else if o.Front == queue.Kind.Name { // and is booked when it has waited
		fewer = "{name: bookings, figure: sailings_booked_total, by: 20 %, then: roll back}"
	}
	address, searches, addresses := fmt.Sprintf("127.0.0.1:%d", listen), fmt.Sprintf("%d-%d", first, first+59), ""
	// which carries no ports: each instance has an address of its own, and all go over at once
	if o.Front == dns.Kind.Name {
		address, searches = fmt.Sprintf("%s:%d", frontName, listen), fmt.Sprintf("%d-%[1]d", listen)
		addresses = fmt.Sprintf("  addresses: 127.%d.%d.1-127.%[1]d.%[2]d.12\n", 64+listen>>8, listen&0xff)
		route = wholeRoute
	}
	part, waits := "search", ""
	stack := fmt.Sprintf("  command: ./builds/{version}/sailings --listen {address} --instance {instance}\n  ports: "+
		"%s\n%s", searches, addresses)
	if o.Front == queue.Kind.Name { // whose consumers print tickets
		part, slow = "printers", "off"
		stack = strings.Replace(stack, "{instance}\n",
			fmt.Sprintf("{instance} --broker %s --queue bookings-{side}\n", address), 1)
		waits = "  waits: {longer-than: 10s, then: roll back}\n"
	}
	if o.Front == cluster.Kind.Name { // whose pods have addresses of their own
		s.api, s.pods = fmt.Sprintf("127.0.0.1:%d", manager), nobody
		stack = fmt.Sprintf("  cluster: {}\n  image: lineavessa.example/sailings:{version}\n  port: %d\n  command: "+
			"--listen {address} --instance {instance}\n", s.pods)
	}
	text := strings.NewReplacer("service: sailings", "service: "+o.service(), "PART", part, "STACK", stack, "WAITS", waits, "LISTEN", address, "SERVICES",
		o.services(), "FARES", s.fares,
		"REGISTRY", s.registry+"/"+imageName,
		"BERTHPORTS", fmt.Sprintf("%d-%d", first+60, first+89),
		"ROUTE", route, "KEEP", keep, "SLOW", slow, "FEWER", fewer, "DOOR", door, "FRONT",
		frontPlan(o, fmt.Sprintf("127.0.0.1:%d", manager))).Replace(planText)
	s.ports = [2]int{first, first + 59} // of proxies, whose configurations name their members
	if err := durable.WriteFile(s.File, []byte(text)); err != nil {
		return err
	}
	list := builds(o, fares, nobody)
	for n, b := range list {
		made := time.Now().Add(-time.Duration(len(list)-n) * 26 * time.Hour)
		if err := s.writeBuild(o.services(), b, made); err != nil {
			return err
		}
	}
	return nil
}

// writeBuild makes the folder of one build: what starts each part, and its
// configuration.
func (s *Scenario) writeBuild(program string, b build, made time.Time) error {
	dir := filepath.Join(s.Folder, "builds", b.name)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	quoted := strings.ReplaceAll(program, "'", `'\''`)
	start := fmt.Sprintf("#!/bin/sh\nexec '%s' sailings --version %s --runtime '%s' --home \"$(dirname \"$0\")\" "+
		"\"$@\"\n",
		quoted, b.says, b.runtime)
	decks := b.says != OldVersion // what the release is about
	for _, f := range []struct {
		name, text string
		mode       os.FileMode
	}{
		{"sailings", start, 0o755},
		{"berths", start, 0o755},
		{faultFile, string(b.fault), 0o644},
		{"sailings.yaml", fmt.Sprintf("fares:\n  address: 127.0.0.1:%d\nberths:\n  hold: %s\nfeatures:\n  decks: %v\n",
			b.fares, b.hold, decks), 0o644},
	} {
		file := filepath.Join(dir, f.name)
		if err := os.WriteFile(file, []byte(f.text), f.mode); err != nil {
			return err
		}
		if err := os.Chtimes(file, made, made); err != nil {
			return err
		}
	}
	return nil
}

// freePort is the next port from one on that nobody listens on. Where that is taken up
// by others it is any.
func freePort(next *int) (int, error) {
	for tries := 0; tries < 10; tries++ {
		*next++
		if l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", *next-1)); err == nil {
			return *next - 1, l.Close()
		}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	return l.Addr().(*net.TCPAddr).Port, l.Close()
}

// start starts a program detached, and notes that it is the demo's.
func (s *Scenario) start(log string, program string, args ...string) error {
	out, err := os.Create(filepath.Join(s.Folder, log))
	if err != nil {
		return err
	}
	defer out.Close()
	cmd := exec.Command(program, args...)
	cmd.Stdout, cmd.Stderr = out, out
	id, err := process.Start(cmd)
	if err != nil {
		return err
	}
	s.owned = append(s.owned, id)
	return s.own()
}

// own writes down whose the folder is and what was started.
func (s *Scenario) own() error {
	self, err := process.Identify(os.Getpid())
	if err != nil {
		return err
	}
	data, err := json.Marshal(owner{Owner: self, Started: s.owned})
	if err != nil {
		return err
	}
	return durable.WriteFile(filepath.Join(s.Folder, ownerFile), data)
}

// raiseBlue starts the old version, waits until it is healthy and puts it behind
// the front.
func (s *Scenario) raiseBlue(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	set, err := all.Open(s.Plan, secret.Values{}, "", nil)
	if err != nil {
		return err
	}
	sources, err := all.Sources(s.Plan)
	if err != nil {
		return err
	}
	main := s.Plan.Main()
	if err := awaitRegistry(ctx, s.registry+"/"+imageName, len(builds(Options{}, 0, 0))); err != nil {
		return err
	}
	live := map[string]stack.Build{}
	for _, part := range s.Plan.Parts {
		old, err := sources[part.Name].Find(ctx, OldVersion)
		if err != nil {
			return err
		}
		live[part.Name] = stack.Build{Version: old.Name, ID: old.ID}
	}
	if err := set.Raise(ctx, split.Blue, live); err != nil {
		return err
	}
	client := frontall.Open(s.Plan)
	monitor := check.NewMonitor(s.Plan, secret.Values{}, set.From)
	for {
		instances, err := set.List(ctx, split.Blue)
		if err != nil {
			return err
		}
		healthy := 0
		var behind []reading.Server
		for _, c := range monitor.Round(ctx, instances) {
			if c.State == reading.Healthy {
				healthy++
			}
			if c.Part == main.Name {
				behind = append(behind, reading.Server{Name: c.Name, Address: c.Address, Version: c.Version})
			}
		}
		if healthy == s.Plan.Wanted(split.Blue) {
			if err := client.SetInstances(ctx, split.Blue, behind); err == nil {
				return s.answers(ctx)
			}
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the demo's blue side did not get ready: %w", ctx.Err())
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// answers waits until a cluster's gateway has heard of the first instances.
func (s *Scenario) answers(ctx context.Context) error {
	for s.api != "" {
		w, err := http.Get("http://" + s.Plan.Front.Listen + "/sailings")
		if err == nil {
			if err := w.Body.Close(); err != nil || w.StatusCode == http.StatusOK {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the demo's gateway did not get ready: %w", ctx.Err())
		case <-time.After(50 * time.Millisecond):
		}
	}
	return nil
}

// KillFront ends the front as a power cut would.
func (s *Scenario) KillFront() { s.front.Signal(syscall.SIGKILL) }

// Reload has the front read its configuration again, after something in it was put in place of what an expression
// finds, if there is one: what an operator may do.
func (s *Scenario) Reload(was, is string) error {
	name, signal := "nginx.conf", syscall.SIGHUP
	if s.Plan.Front.Kind() == "httpd" {
		name, signal = "httpd.conf", syscall.SIGUSR1
	}
	if was != "" {
		file := filepath.Join(s.Folder, "proxy", name)
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		changed := regexp.MustCompile(was).ReplaceAll(text, []byte(is))
		if bytes.Equal(changed, text) {
			return fmt.Errorf("%s has nothing like %s", file, was)
		}
		if err := durable.WriteFile(file, changed); err != nil {
			return err
		}
	}
	s.front.Signal(signal)
	return nil
}

// FrontAgain starts the front again that was killed, as whoever looks after it would, and waits
// until it answers.
func (s *Scenario) FrontAgain(ctx context.Context) error {
	if err := s.startFront(ctx, s.options); err != nil {
		return err
	}
	s.front = s.owned[len(s.owned)-1]
	return s.awaitFront(ctx, frontall.Open(s.Plan))
}

// Remove ends everything the demo started and removes its folder.
func (s *Scenario) Remove(ctx context.Context) error { return remove(ctx, s.Folder, s.owned) }

// Clear removes demos of this user whose owner is gone.
func Clear(ctx context.Context) error {
	list, err := orphans()
	failed := []error{err}
	for _, o := range list {
		failed = append(failed, remove(ctx, o.folder, o.started))
	}
	return errors.Join(failed...)
}

// Left are the folders of demos of this user whose owner is gone.
func Left() (folders []string, err error) {
	list, err := orphans()
	for _, o := range list {
		folders = append(folders, o.folder)
	}
	return folders, err
}

// orphan is a demo whose owner is gone.
type orphan struct {
	folder  string
	started []process.ID
}

func orphans() (list []orphan, err error) {
	folders, err := filepath.Glob(filepath.Join(os.TempDir(), prefix()+"*"))
	if err != nil {
		return nil, err
	}
	var failed []error
	for _, folder := range folders {
		data, err := ownerOf(folder)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			continue // being made, or being removed
		case errors.Is(err, state.ErrNotOurs):
			continue // somebody else has put it there: nothing of it is believed
		}
		var o owner
		if err == nil {
			err = json.Unmarshal(data, &o)
		}
		switch {
		case err != nil:
			failed = append(failed, err)
		case !o.Owner.Running():
			list = append(list, orphan{folder, o.Started})
		}
	}
	return list, errors.Join(failed...)
}

// ownerOf reads whose a demo's folder is, if it was made by this user.
func ownerOf(folder string) ([]byte, error) {
	in, err := state.Look(folder)
	if err != nil {
		return nil, err
	}
	data, err := in.ReadFile(ownerFile)
	return data, errors.Join(err, in.Close())
}

// plansIn are the plans of a demo's folder.
func plansIn(folder string) []string {
	files, _ := planfile.Below(context.Background(), folder) // it is being removed
	return slices.DeleteFunc(files, func(file string) bool { return filepath.Dir(file) != folder })
}

func remove(ctx context.Context, folder string, started []process.ID) error {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	var failed []error
	for _, file := range plansIn(folder) {
		p, err := planfile.Read(file)
		if err != nil {
			continue
		}
		failed = append(failed, service.End(ctx, p))
		for n := range p.Parts {
			for side := range p.Parts[n].Stacks {
				p.Parts[n].Stacks[side].Grace = time.Second // nobody is served any more
			}
		}
		set, err := all.Open(p, secret.Values{}, "", nil)
		failed = append(failed, err)
		for _, side := range split.Sides {
			if err == nil {
				failed = append(failed, set.Stop(ctx, side))
			}
		}
	}
	for _, id := range started {
		id.Signal(syscall.SIGTERM)
	}
	for _, id := range started {
		patience, cancel := context.WithTimeout(ctx, time.Second)
		if !id.Gone(patience) {
			id.Signal(syscall.SIGKILL)
		}
		cancel()
	}
	return errors.Join(append(failed, os.RemoveAll(folder))...)
}
