package host

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/place"
	"vaiven/internal/plan"
	"vaiven/internal/secret"
	"vaiven/internal/stack"
	"vaiven/internal/stack/stacktest"
	"vaiven/internal/testkit"
)

// sshd is a real server on loopback, with a home folder of its own for what is
// started through it.
type sshd struct {
	dir     string
	address string
	process *exec.Cmd
}

// writeKey makes a key pair in OpenSSH's form and returns the public line.
func writeKey(t *testing.T, file string) string {
	t.Helper()
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		t.Fatal(err)
	}
	key, err := ssh.NewPublicKey(public)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
}

// startServers starts servers that accept one key. The known_hosts file and the key
// stand in dir.
func startServers(t *testing.T, dir string, n int) []*sshd {
	t.Helper()
	program, err := exec.LookPath("/usr/sbin/sshd")
	if err != nil {
		t.Skip("there is no sshd: scripts/need test installs it")
	}
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
		t.Skip(err)
	}
	authorized := writeKey(t, filepath.Join(dir, "key"))
	if err := os.WriteFile(filepath.Join(dir, "authorized"), []byte(authorized+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	var known strings.Builder
	var servers []*sshd
	for i := range n {
		port, _ := stacktest.Ports(t, 1)
		s := &sshd{dir: filepath.Join(dir, fmt.Sprint("host", i)), address: fmt.Sprintf("127.0.0.1:%d", port)}
		if err := os.MkdirAll(s.dir, 0o755); err != nil {
			t.Fatal(err)
		}
		public := writeKey(t, filepath.Join(s.dir, "hostkey"))
		fmt.Fprintf(&known, "[127.0.0.1]:%d %s\n", port, public)
		config := fmt.Sprintf("Port %d\nListenAddress 127.0.0.1\nHostKey %s/hostkey\nPidFile none\nAuthorizedKeysFile %s/authorized\n"+
			"PasswordAuthentication no\nUsePAM no\nStrictModes no\nSetEnv HOME=%s\nMaxStartups 100\n", port, s.dir, dir, s.dir)
		if err := os.WriteFile(filepath.Join(s.dir, "conf"), []byte(config), 0o600); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(s.stop)
		s.start(t, program)
		servers = append(servers, s)
	}
	if err := os.WriteFile(filepath.Join(dir, "known"), []byte(known.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	return servers
}

func (s *sshd) start(t *testing.T, program string) {
	t.Helper()
	s.process = exec.Command(program, "-D", "-e", "-f", filepath.Join(s.dir, "conf"))
	s.process.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	log, err := os.Create(filepath.Join(s.dir, "log"))
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	s.process.Stderr = log
	if err := s.process.Start(); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "sshd listens", func() bool {
		c, err := net.Dial("tcp", s.address)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
}

// stop ends the server with all its connections, as a host that is cut off.
func (s *sshd) stop() {
	if s.process == nil || s.process.ProcessState != nil {
		return
	}
	children(s.process.Process.Pid, func(pid int) { _ = syscall.Kill(pid, syscall.SIGKILL) })
	_ = s.process.Process.Kill()
	_ = s.process.Wait()
}

// children finds the processes of a server's connections.
func children(parent int, do func(pid int)) {
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, file := range stats {
		data, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		fields := strings.Fields(string(data[strings.LastIndexByte(string(data), ')')+1:]))
		if len(fields) > 1 && fields[1] == fmt.Sprint(parent) {
			var pid int
			fmt.Sscan(filepath.Base(filepath.Dir(file)), &pid)
			children(pid, do)
			if strings.Contains(string(data), "(sshd)") {
				do(pid)
			}
		}
	}
}

// world is the servers of a test by its plan.
type world struct{ servers map[*plan.Plan][]*sshd }

func (w *world) plan(t *testing.T, as string) *plan.Plan {
	t.Helper()
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	servers := startServers(t, dir, 2)
	s := stacktest.Stack(t, as)
	s.Command[0] = stacktest.Subject(t)
	s.Identity, s.KnownHosts = filepath.Join(dir, "key"), filepath.Join(dir, "known")
	for _, server := range servers {
		s.Hosts = append(s.Hosts, plan.Host{User: me.Username, Address: server.address})
	}
	p := &plan.Plan{Service: "sailings", State: dir, Parts: []plan.Part{{Name: "web", Stacks: [2]plan.Stack{s, s}}}}
	w.servers[p] = servers
	t.Cleanup(func() {
		for i := range p.Parts[0].Stacks {
			p.Parts[0].Stacks[i].Grace = 0
		}
		d := New(p, 0, secret.Values{})
		defer d.Close()
		for _, side := range split.Sides {
			if err := d.Stop(context.Background(), side); err != nil {
				t.Error(err)
			}
		}
	})
	return p
}

func (w *world) remains(t *testing.T, p *plan.Plan) []string {
	t.Helper()
	var left []string
	for _, s := range w.servers[p] {
		for _, ending := range []string{"note", "pid", "exit", "log"} {
			found, _ := filepath.Glob(filepath.Join(s.dir, ".vaiven", "*", "*", "*."+ending))
			left = append(left, found...)
		}
	}
	files, _ := filepath.Glob("/proc/[0-9]*/environ")
	for _, file := range files {
		if data, err := os.ReadFile(file); err == nil && strings.Contains(string(data), stack.Marker+"="+p.State) {
			left = append(left, file)
		}
	}
	return left
}

func (w *world) kill(t *testing.T, p *plan.Plan, i reading.Instance) {
	t.Helper()
	for _, s := range w.servers[p] {
		data, err := os.ReadFile(filepath.Join(s.dir, ".vaiven", "sailings", "web", i.Name+".pid"))
		if err != nil {
			continue
		}
		var pid int
		fmt.Sscan(string(data), &pid)
		if err := syscall.Kill(-pid, syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
		return
	}
	t.Fatalf("no host has %s", i.Name)
}

func (w *world) cut(t *testing.T, p *plan.Plan) func() {
	for _, server := range w.servers[p] {
		server.stop()
	}
	return func() {
		for _, server := range w.servers[p] {
			server.start(t, server.process.Path)
		}
	}
}

func open(t *testing.T, p *plan.Plan) *Driver {
	d := New(p, 0, secret.Values{})
	t.Cleanup(func() { d.Close() })
	return d
}

func TestConformance(t *testing.T) {
	w := &world{servers: map[*plan.Plan][]*sshd{}}
	stacktest.Run(t, stacktest.System{
		Plan:   w.plan,
		Driver: func(t *testing.T, p *plan.Plan) stack.Driver { return open(t, p) },
		Kill:   w.kill, Remains: w.remains, Cut: w.cut,
	})
}

// One host that is gone hides what is on it, and nothing else.
func TestOneHostOfTwoIsGone(t *testing.T) {
	w := &world{servers: map[*plan.Plan][]*sshd{}}
	p := w.plan(t, "well")
	d := open(t, p)
	if err := d.Raise(t.Context(), split.Green, stacktest.Second); err != nil {
		t.Fatal(err)
	}
	gone := w.servers[p][1]
	gone.stop()
	list, err := d.List(t.Context(), split.Green)
	if !errors.Is(err, stack.ErrUnreachable) || !strings.Contains(err.Error(), gone.address) {
		t.Errorf("the error %v does not name the host that is gone", err)
	}
	if len(list) != 1 || list[0].Name != "green-1" || !list[0].Running {
		t.Errorf("there is %+v", list)
	}
	gone.start(t, gone.process.Path)
}

func TestInstancesAreSpreadOverTheHosts(t *testing.T) {
	w := &world{servers: map[*plan.Plan][]*sshd{}}
	p := w.plan(t, "well")
	p.Parts[0].Stacks[split.Green].Instances = 3
	d := open(t, p)
	if err := d.Raise(t.Context(), split.Green, stacktest.Second); err != nil {
		t.Fatal(err)
	}
	list, err := d.List(t.Context(), split.Green)
	if err != nil || len(list) != 3 || list[0].Place == list[1].Place || list[0].Place != list[2].Place {
		t.Errorf("spread as %+v, %v", list, err)
	}
}

// Whom a host is, and who we are, is settled without asking anybody.
func TestTrust(t *testing.T) {
	w := &world{servers: map[*plan.Plan][]*sshd{}}
	p := w.plan(t, "well")
	green := &p.Parts[0].Stacks[split.Green]
	right := *green
	known, err := os.ReadFile(right.KnownHosts)
	if err != nil {
		t.Fatal(err)
	}
	file := func(name, text string) string {
		path := filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	strange := filepath.Join(t.TempDir(), "strange")
	public := writeKey(t, strange)
	var swapped strings.Builder
	for line := range strings.Lines(string(known)) {
		host, _, _ := strings.Cut(line, " ")
		fmt.Fprintf(&swapped, "%s %s\n", host, public)
	}
	for _, c := range []struct {
		name   string
		change func()
		want   string
	}{
		{"a host that nobody knows", func() { green.KnownHosts = file("known", "") }, "not among the known hosts"},
		{"a host with another key", func() { green.KnownHosts = file("known", swapped.String()) }, "another than the known one"},
		{"a key that is not accepted", func() { green.Identity = strange }, "does not accept our key"},
		{"a key that is not there", func() { green.Identity = "/nowhere/key" }, "no such file"},
		{"no key and no agent", func() { green.Identity = ""; t.Setenv("SSH_AUTH_SOCK", "") }, "no agent"},
	} {
		*green = right
		c.change()
		_, err := open(t, p).List(t.Context(), split.Green)
		if err == nil || !strings.Contains(err.Error(), c.want) || !errors.Is(err, stack.ErrUnreachable) {
			t.Errorf("%s: %v, want it to say %q", c.name, err, c.want)
		}
	}
	*green = right
	// By way of an agent.
	data, err := os.ReadFile(right.Identity)
	if err != nil {
		t.Fatal(err)
	}
	key, err := ssh.ParseRawPrivateKey(data)
	if err != nil {
		t.Fatal(err)
	}
	ring := agent.NewKeyring()
	if err := ring.Add(agent.AddedKey{PrivateKey: key}); err != nil {
		t.Fatal(err)
	}
	socket := filepath.Join(t.TempDir(), "agent")
	l, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go agent.ServeAgent(ring, c)
		}
	}()
	t.Setenv("SSH_AUTH_SOCK", socket)
	green.Identity = ""
	if _, err := open(t, p).List(t.Context(), split.Green); err != nil {
		t.Errorf("with the agent's key: %v", err)
	}
	green.Identity = right.Identity
}

func TestWhatCannotBeStarted(t *testing.T) {
	w := &world{servers: map[*plan.Plan][]*sshd{}}
	p := w.plan(t, "well")
	green := &p.Parts[0].Stacks[split.Green]
	right := *green
	for _, c := range []struct {
		change func()
		want   string
	}{
		{func() { green.Command = []string{"/nowhere/sailings"} }, "no program /nowhere/sailings"},
		{func() { green.Folder = "/nowhere" }, "no folder /nowhere"},
	} {
		*green = right
		c.change()
		err := open(t, p).Raise(t.Context(), split.Green, stacktest.Second)
		if err == nil || !strings.Contains(err.Error(), c.want) || !strings.Contains(err.Error(), "green-1") {
			t.Errorf("%v, want it to say %q of green-1", err, c.want)
		}
		if left := w.remains(t, p); len(left) > 0 {
			t.Errorf("left behind: %v", left)
		}
	}
	*green = right
}

// A server that turns some connections away is asked again, and not for ever.
func TestAHostThatTurnsConnectionsAway(t *testing.T) {
	w := &world{servers: map[*plan.Plan][]*sshd{}}
	p := w.plan(t, "well")
	behind := w.servers[p][0].address
	door, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer door.Close()
	var turnAway, came atomic.Int64
	go func() {
		for {
			c, err := door.Accept()
			if err != nil {
				return
			}
			if came.Add(1); turnAway.Add(-1) >= 0 {
				c.Close()
				continue
			}
			go func() {
				defer c.Close()
				s, err := net.Dial("tcp", behind)
				if err != nil {
					return
				}
				defer s.Close()
				go io.Copy(s, c)
				io.Copy(c, s)
			}()
		}
	}()
	green := &p.Parts[0].Stacks[split.Green]
	known, err := os.ReadFile(green.KnownHosts)
	if err != nil {
		t.Fatal(err)
	}
	_, port, _ := net.SplitHostPort(door.Addr().String())
	_, was, _ := net.SplitHostPort(behind)
	if err := os.WriteFile(green.KnownHosts, []byte(strings.ReplaceAll(string(known), "]:"+was+" ", "]:"+port+" ")), 0o600); err != nil {
		t.Fatal(err)
	}
	right := green.Hosts
	green.Hosts = []plan.Host{{User: right[0].User, Address: door.Addr().String()}}
	turnAway.Store(mostTries - 1)
	if _, err := open(t, p).List(t.Context(), split.Green); err != nil || came.Load() != mostTries {
		t.Errorf("turned away %d times: %v after %d connections", mostTries-1, err, came.Load())
	}
	turnAway.Store(100)
	came.Store(0)
	if _, err := open(t, p).List(t.Context(), split.Green); !errors.Is(err, stack.ErrUnreachable) || came.Load() != mostTries {
		t.Errorf("turned away every time: %v after %d connections", err, came.Load())
	}
	green.Hosts = right
	if err := os.WriteFile(green.KnownHosts, known, 0o600); err != nil {
		t.Fatal(err)
	}
}

// A start that was cut off from here goes on at the host: whoever comes second finds
// what it has started, and takes it if it is the same.
func TestAStartThatWentOnByItself(t *testing.T) {
	w := &world{servers: map[*plan.Plan][]*sshd{}}
	d := open(t, w.plan(t, "well"))
	m := d.machines[split.Green][0]
	start := func(b stack.Build) error {
		return d.start(t.Context(), m, map[int]bool{}, split.Green, "green-1", b)
	}
	var wait sync.WaitGroup
	for range 3 {
		wait.Go(func() {
			if err := start(stacktest.Second); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	list, err := d.List(t.Context(), split.Green)
	if err != nil || len(list) != 1 || !list[0].Running {
		t.Errorf("there is %+v, %v", list, err)
	}
	if err := start(stacktest.First); err == nil || !strings.Contains(err.Error(), `of version "2"`) {
		t.Errorf("another version's start says %v", err)
	}
}

// Texts of the user's go through the shell as they are.
func TestNothingIsTakenForShell(t *testing.T) {
	w := &world{servers: map[*plan.Plan][]*sshd{}}
	p := w.plan(t, "well")
	const odd = `a 'b' "c" $HOME $(touch /tmp/never) ; \ *`
	p.Parts[0].Stacks[split.Green].Environment["ODD"] = odd
	d := open(t, p)
	if err := d.Raise(t.Context(), split.Green, stacktest.Second); err != nil {
		t.Fatal(err)
	}
	list, err := d.List(t.Context(), split.Green)
	if err != nil {
		t.Fatal(err)
	}
	about, err := d.Describe(t.Context(), list[0])
	if err != nil || about.Environment["ODD"] != odd {
		t.Errorf("%q arrived as %q, %v", odd, about.Environment["ODD"], err)
	}
	from, err := d.Place(t.Context(), list[0])
	if err != nil {
		t.Fatal(err)
	}
	out, err := from.Run(t.Context(), place.Command{Words: []string{"printf", "%s", odd}})
	if err != nil || string(out.Output) != odd {
		t.Errorf("a command got %q, %v", out.Output, err)
	}
}

func FuzzParseList(f *testing.F) {
	f.Add([]byte("note eyJuYW1lIjoiZ3JlZW4tMSJ9\nrunning\nexit 7\noutput bm8gYmVydGg=\nport 1F90\n"))
	f.Add([]byte("running\n"))
	f.Fuzz(func(t *testing.T, out []byte) {
		found, err := parseList(out)
		if err == nil && found.listening == nil {
			t.Fatal("a list without ports")
		}
	})
}

// A command that takes too long is given up.
func TestACommandThatTakesTooLong(t *testing.T) {
	w := &world{servers: map[*plan.Plan][]*sshd{}}
	p := w.plan(t, "well")
	d := open(t, p)
	ctx, cancel := context.WithTimeout(t.Context(), 500*time.Millisecond)
	defer cancel()
	if _, err := (site{d.machines[split.Green][0], "/"}).Run(ctx, place.Command{Words: []string{"sleep", "60"}}); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("error %v", err)
	}
}
