package stand

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	apicontainer "github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	"vaiven/internal/stack/container"
	"vaiven/internal/world/delivered"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
	"vaiven/lab/linktest"
	"vaiven/lab/stacktest"
	"vaiven/lab/testkit"
)

// ferry is a program that somebody else started, and whose version changes when its file does.
type ferry struct {
	address string
	file    string // with its version
}

func newFerry(t *testing.T, version string) ferry {
	t.Helper()
	f := ferry{file: filepath.Join(t.TempDir(), "version")}
	f.become(t, version)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		data, err := os.ReadFile(f.file)
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		_ = json.NewEncoder(w).Encode(map[string]string{"version": strings.TrimSpace(string(data))})
	}))
	t.Cleanup(s.Close)
	f.address = s.Listener.Addr().String()
	return f
}

func (f ferry) become(t *testing.T, version string) {
	t.Helper()
	if err := os.WriteFile(f.file, []byte(version), 0o644); err != nil {
		t.Fatal(err)
	}
}

// standing is a plan whose blue side stands.
func standing(s plan.Stack) *plan.Plan {
	return &plan.Plan{Service: "sailings", Parts: []plan.Part{{Name: "web", Stacks: [2]plan.Stack{s, {}}}}}
}

func open(t *testing.T, p *plan.Plan, listed Listed) *Driver {
	t.Helper()
	d, err := New(p, 0, secret.Values{}, "", listed)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = d.Close() })
	return d
}

func list(t *testing.T, d stack.Driver) []reading.Instance {
	t.Helper()
	l, err := d.List(t.Context(), split.Blue)
	if err != nil {
		t.Fatal(err)
	}
	return l
}

// What stands is listed with what it is, as far as it can be known; it is never stopped; what is gone is
// there as what does not run.
func TestAddresses(t *testing.T) {
	subject := stacktest.Subject(t)
	first, _ := testkit.Ports(t, 2)
	addresses := [2]string{net.JoinHostPort("127.0.0.1", strconv.Itoa(first)),
		net.JoinHostPort("127.0.0.1", strconv.Itoa(first+1))}
	begun := time.Now()
	cmd := exec.Command(subject, "-listen", addresses[0])
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	end := sync.OnceFunc(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	t.Cleanup(end)
	d := open(t, standing(plan.Stack{Stands: []plan.Stand{{Kind: plan.StandAddress, Address: addresses[0]},
		{Kind: plan.StandAddress, Address: addresses[1]}}}), nil)
	testkit.Eventually(t, "the first runs", func() bool { return list(t, d)[0].Running })
	l := list(t, d)
	want, err := delivered.Digest(subject)
	if err != nil {
		t.Fatal(err)
	}
	if i := l[0]; i.Name != "blue-1" || i.Build != want || i.Version != "" ||
		i.Started.Before(begun.Add(-3*time.Second)) || time.Since(i.Started) > time.Minute {
		t.Errorf("the first is %+v, want build %s", i, want)
	}
	if i := l[1]; i.Name != "blue-2" || i.Running || !strings.Contains(i.Exit, "nobody listens") {
		t.Errorf("the second is %+v", i)
	}
	about, err := d.Describe(t.Context(), l[0])
	if err != nil || len(about.Command) != 3 || about.Command[2] != addresses[0] || about.Limits["open files"] == "" {
		t.Errorf("it is described as %+v, %v", about, err)
	}
	if err := errors.Join(d.Raise(t.Context(), split.Blue, stack.Build{Version: "4.2.0"}),
		d.Stop(t.Context(), split.Blue)); err != nil {
		t.Fatal(err)
	}
	if !list(t, d)[0].Running {
		t.Error("it was stopped")
	}
	from, err := d.Place(t.Context(), l[0])
	if _, here := from.(place.Local); err != nil || !here {
		t.Errorf("it stands at %+v, %v", from, err)
	}
	end()
	testkit.Eventually(t, "it is gone", func() bool { return !list(t, d)[0].Running })
}

// A disk that is too slow to say what a process was built from holds up nobody: it is known later, and asked once.
func TestSlowDisk(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		read, asked := make(chan struct{}), atomic.Int32{}
		p := newProcesses()
		p.look = func(context.Context, string) (process, bool) {
			asked.Add(1)
			<-read
			return process{pid: 1, build: "3fe98c02b8d1"}, true
		}
		for range 2 {
			ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
			if found, ok := p.listens(ctx, "127.0.0.1:8081"); ok || ctx.Err() == nil {
				t.Errorf("before the disk answers it is %+v", found)
			}
			cancel()
		}
		close(read)
		if found, ok := p.listens(t.Context(), "127.0.0.1:8081"); !ok || found.build != "3fe98c02b8d1" ||
			asked.Load() != 1 {
			t.Errorf("it is %+v, asked %d times", found, asked.Load())
		}
	})
}

// One that is known by its address alone is asked itself, and nothing is asked from where it stands: it would be
// asked from here.
func TestSomewhereElse(t *testing.T) {
	d := open(t, standing(plan.Stack{}), nil)
	from, err := d.Place(t.Context(), reading.Instance{Name: "blue-1", Side: split.Blue, Address: "192.0.2.7:8080"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := from.Dial(t.Context(), "tcp", "127.0.0.1:1"); !errors.Is(err, place.ErrCannot) ||
		!strings.Contains(err.Error(), "on USER@HOST") {
		t.Errorf("a connection to somebody else: %v", err)
	}
	_, errRun := from.Run(t.Context(), place.Command{Words: []string{"true"}})
	_, errRead := from.ReadFile(t.Context(), "/etc/hostname")
	if !errors.Is(errRun, place.ErrCannot) || !errors.Is(errRead, place.ErrCannot) {
		t.Errorf("a command: %v, a file: %v", errRun, errRead)
	}
	if about, err := d.Describe(t.Context(),
		reading.Instance{Side: split.Blue, Address: "192.0.2.7:8080"}); err != nil || about.Command != nil {
		t.Errorf("described as %+v, %v", about, err)
	}
}

// To raise what stands is to renew what is not at the version, one after the other, and nothing else.
func TestRenew(t *testing.T) {
	says := plan.Says{Path: "/", Version: plan.Field{JSON: "version"}}
	ferries := []ferry{newFerry(t, "4.1.0"), newFerry(t, "4.2.0"), newFerry(t, "4.1.0")}
	dir := t.TempDir()
	log := filepath.Join(dir, "log")
	script := "#!/bin/sh\necho \"$1 $2 $REGION\" >>" + log + "\ncase $1 in\n"
	var stands []plan.Stand
	for _, f := range ferries {
		stands = append(stands, plan.Stand{Kind: plan.StandAddress, Address: f.address})
		script += fmt.Sprintf("%s) echo \"$2\" >%s;;\n", f.address, f.file)
	}
	script += "esac\n"
	renew := filepath.Join(dir, "renew")
	if err := os.WriteFile(renew, []byte(script), 0o755); err != nil {
		t.Fatal(err)
	}
	p := standing(plan.Stack{Stands: stands, Renew: []string{renew, "{address}", "{version}"},
		Environment: map[string]string{"REGION": "north of {instance}"}})
	p.Parts[0].Says = says
	d := open(t, p, nil)
	if got := list(t, d); got[0].Version != "4.1.0" || got[1].Version != "4.2.0" {
		t.Fatalf("they say %+v", got)
	}
	for range 2 { // the second time nothing is left to do
		if err := d.Raise(t.Context(), split.Blue, stack.Build{Version: "4.2.0"}); err != nil {
			t.Fatal(err)
		}
	}
	data, err := os.ReadFile(log)
	if want := fmt.Sprintf("%s 4.2.0 north of blue-1\n%s 4.2.0 north of blue-3\n", ferries[0].address,
		ferries[2].address); err != nil || string(data) != want {
		t.Errorf("renewed were\n%s%v, want\n%s", data, err, want)
	}
	for _, i := range list(t, d) {
		if i.Version != "4.2.0" {
			t.Errorf("%s says %s", i.Name, i.Version)
		}
	}
	// A command that is about the whole side runs once.
	p.Parts[0].Stacks[0].Renew = []string{renew, "{side}", "{version}"}
	if err := open(t, p, nil).Raise(t.Context(), split.Blue, stack.Build{Version: "4.3.0"}); err != nil {
		t.Fatal(err)
	}
	if data, _ := os.ReadFile(log); strings.Count(string(data), "blue 4.3.0") != 1 {
		t.Errorf("renewed as a whole were\n%s", data)
	}
	p.Parts[0].Stacks[0].Renew = []string{"sh", "-c", "echo no berth is free; exit 7"}
	if err := open(t, p, nil).Raise(t.Context(), split.Blue, stack.Build{Version: "4.4.0"}); err == nil ||
		!strings.Contains(err.Error(), "exit status 7: no berth is free") {
		t.Errorf("a command that fails: %v", err)
	}
}

// A command says who stands; what it says is read strictly.
func TestCommand(t *testing.T) {
	f := newFerry(t, "4.2.0")
	ask := func(text string) ([]reading.Instance, error) {
		return open(t, standing(plan.Stack{Stands: []plan.Stand{{Kind: plan.StandCommand,
			Words: []string{"sh", "-c", text}}}}), nil).List(t.Context(), split.Blue)
	}
	l, err := ask("echo " + f.address + " 4.2.0 b92f; echo; echo 127.0.0.1:1; # of {side}")
	if err != nil || len(l) != 2 || l[0].Version != "4.2.0" || l[0].Build != "b92f" || !l[0].Running || l[1].Running ||
		l[1].Name != "blue-2" {
		t.Errorf("it says %+v, %v", l, err)
	}
	for text, says := range map[string]string{"echo nonsense": "want HOST:PORT", "echo no; exit 3": "exit status 3",
		"echo 127.0.0.1:1 a b c": "want HOST:PORT"} {
		if _, err := ask(text); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// Who the front lists stands; also when it was taken out of the list.
func TestAtTheFront(t *testing.T) {
	f := newFerry(t, "4.2.0")
	listed := []reading.Server{{Name: "app1", Address: f.address}}
	var fails error
	d := open(t, standing(plan.Stack{Stands: []plan.Stand{{Kind: plan.StandFront}}}),
		func(_ context.Context, side split.Side) ([]reading.Server, error) {
			if side != split.Blue {
				t.Errorf("asked for %v", side)
			}
			return listed, fails
		})
	for range 2 {
		if l := list(t, d); len(l) != 1 || l[0].Name != "app1" || l[0].Address != f.address || !l[0].Running {
			t.Errorf("there are %+v", l)
		}
		listed = nil
	}
	fails = errors.New("no socket")
	if _, err := d.List(t.Context(), split.Blue); err == nil || !strings.Contains(err.Error(), "no socket") {
		t.Errorf("a front that cannot be asked: %v", err)
	}
}

// systemctl is a stand-in for systemd, which no test can have: it knows one unit.
func systemctl(t *testing.T, pid int) (dir string) {
	t.Helper()
	dir = t.TempDir()
	script := fmt.Sprintf(`#!/bin/sh
for unit; do :; done
case $unit in
sailings@1.service) printf 'LoadState=loaded\nActiveState=active\nSubState=running\nResult=success\nMainPID=%d\nExecMainStartTimestamp=Thu 2026-11-26 07:11:46 UTC\n';;
broken.service) printf 'LoadState=loaded\nActiveState=failed\nSubState=failed\nResult=exit-code\nMainPID=0\n';;
*) printf 'LoadState=not-found\nActiveState=inactive\n';;
esac
`, pid)
	for name, text := range map[string]string{"systemctl": script,
		"journalctl": "#!/bin/sh\necho the first sailing\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// Units are instances, here and on hosts.
func TestUnits(t *testing.T) {
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	subject := exec.Command(stacktest.Subject(t), "-as", "silent")
	if err := subject.Start(); err != nil {
		t.Fatal(err)
	}
	defer subject.Wait()
	defer subject.Process.Kill()
	dir := systemctl(t, subject.Process.Pid)
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	s := linktest.Start(t, t.TempDir(), "SetEnv PATH="+dir+":/usr/bin:/bin")
	for _, on := range []plan.Host{{}, {User: me.Username, Address: s.Address}} {
		stands := []plan.Stand{{Kind: plan.StandUnit, Name: "{service}@1.service", Address: "127.0.0.1:8080", On: on},
			{Kind: plan.StandUnit, Name: "broken.service", Address: "127.0.0.1:8081", On: on},
			{Kind: plan.StandUnit, Name: "none.service", Address: "127.0.0.1:8082", On: on}}
		d := open(t, standing(plan.Stack{Stands: stands, Identity: s.Identity, KnownHosts: s.KnownHosts}), nil)
		l := list(t, d)
		if len(l) != 3 {
			t.Fatalf("%v: there are %+v", on, l)
		}
		if i := l[0]; !i.Running || i.Started.Format(time.TimeOnly) != "07:11:46" || len(i.Output) != 1 ||
			i.Output[0] != "the first sailing" || !strings.HasPrefix(i.Build, "sha256:") {
			t.Errorf("%v: the first is %+v", on, i)
		}
		if i := l[1]; i.Running || i.Exit != "broken.service is failed (exit-code)" {
			t.Errorf("%v: the second is %+v", on, i)
		}
		if i := l[2]; i.Running || i.Exit != "there is no unit none.service" {
			t.Errorf("%v: the third is %+v", on, i)
		}
		if about, err := d.Describe(t.Context(), l[0]); err != nil || len(about.Command) != 3 {
			t.Errorf("%v: described as %+v, %v", on, about, err)
		}
	}
}

// A program that only carries out another file is not what an instance was built from.
func TestIdentity(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"a.sh": "sleep 600; # 4.1.0\n", "b.sh": "sleep 600; # 4.2.0\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	builds := map[string]bool{}
	for _, words := range [][]string{{"sh", filepath.Join(dir, "a.sh")}, {"sh", "b.sh"},
		{"sh", "-c", "sleep 600; true"}} {
		cmd := exec.Command(words[0], words[1:]...)
		cmd.Dir = dir
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		defer cmd.Wait()
		defer cmd.Process.Kill()
		testkit.Eventually(t, "it has begun", func() bool {
			data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", cmd.Process.Pid))
			return strings.HasPrefix(string(data), "sh\x00")
		})
		builds[identity(t.Context(), place.Local{}, strconv.Itoa(cmd.Process.Pid))] = true
	}
	if len(builds) != 3 || !builds[""] {
		t.Errorf("they are known as %v", builds)
	}
}

// Containers stand by name and by label; what their image says of its version is theirs.
func TestContainers(t *testing.T) {
	engine, err := client.New(client.FromEnv)
	if err != nil {
		t.Skip(err)
	}
	if _, err := engine.Ping(t.Context(), client.PingOptions{}); err != nil {
		t.Skip("there is no container engine: ", err)
	}
	tag, err := name.NewTag("vaiven-stands-test:4.2.0", name.WithDefaultRegistry(""))
	if err != nil {
		t.Fatal(err)
	}
	if err := container.Load(t.Context(), engine, tag, stacktest.Subject(t), "subject"); err != nil {
		t.Fatal(err)
	}
	called := fmt.Sprintf("vaiven-stands-%d", os.Getpid())
	port, _ := testkit.Ports(t, 1)
	made, err := engine.ContainerCreate(t.Context(), client.ContainerCreateOptions{
		Name: called,
		Config: &apicontainer.Config{Image: tag.String(),
			Entrypoint: []string{"/subject", "-listen", net.JoinHostPort("127.0.0.1", strconv.Itoa(port))},
			Labels:     map[string]string{"quay": called}},
		HostConfig: &apicontainer.HostConfig{NetworkMode: "host"},
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_, _ = engine.ContainerRemove(context.Background(), made.ID, client.ContainerRemoveOptions{Force: true})
		_, _ = engine.ImageRemove(context.Background(), tag.String(), client.ImageRemoveOptions{})
	})
	if _, err := engine.ContainerStart(t.Context(), made.ID, client.ContainerStartOptions{}); err != nil {
		t.Fatal(err)
	}
	p := standing(plan.Stack{Engine: "/var/run/docker.sock", Port: port, Stands: []plan.Stand{
		{Kind: plan.StandContainer, Name: called}, {Kind: plan.StandContainers, Name: "quay=" + called},
		{Kind: plan.StandContainer, Name: called + "-gone"},
	}})
	p.Parts[0].Stacks[split.Green].Engine = "/var/run/docker.sock"
	d := open(t, p, nil)
	l := list(t, d)
	if len(l) != 3 || l[0].Name != called || l[1].Build != l[0].Build || l[2].Running ||
		l[2].Exit != "there is no such container" {
		t.Fatalf("there are %+v", l)
	}
	if i := l[0]; !i.Running || i.Version != "4.2.0" || !strings.HasPrefix(i.Build, "sha256:") ||
		i.Address != net.JoinHostPort("127.0.0.1", strconv.Itoa(port)) {
		t.Errorf("it is %+v", i)
	}
	if about, err := d.Describe(t.Context(), l[0]); err != nil || len(about.Command) == 0 {
		t.Errorf("described as %+v, %v", about, err)
	}
	if err := d.Stop(t.Context(), split.Blue); err != nil || !list(t, d)[0].Running {
		t.Errorf("it was stopped: %v", err)
	}
}
