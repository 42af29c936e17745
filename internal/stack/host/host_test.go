package host

import (
	"bufio"
	"bytes"
	"context"
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

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	"vaiven/internal/world/link"
	"vaiven/internal/world/place"
	"vaiven/internal/world/place/distant"
	"vaiven/internal/world/secret"
	"vaiven/lab/linktest"
	"vaiven/lab/stacktest"
	"vaiven/lab/testkit"
)

// sshd is a real server on loopback, with a home folder of its own for what is
// started through it.
type sshd struct {
	dir     string
	home    string // as it is reached from here
	address string
	anchor  *exec.Cmd // holds what a server with an ordinary user sees; nil for others
	process *exec.Cmd
}

// The ordinary user of servers that have one.
const (
	ordinaryUser = "purser"
	ordinaryID   = 54321
)

// aboard prepares what a server with an ordinary user sees. It is a host as there are many:
// root's word does not count, its processes see only their own (hidepid), the login shell has
// something to say, its disk is small, and its clock is an hour off. All of that is seen by
// the server and what it starts alone, also when it is started again.
func (s *sshd) aboard(t *testing.T) {
	t.Helper()
	script := fmt.Sprintf(`set -e
mount --bind %[1]s/passwd /etc/passwd
mount -t proc -o hidepid=2 proc /proc
mount -t tmpfs -o size=2m,mode=700,uid=%[2]d,gid=%[2]d tmpfs %[1]s/home
printf 'echo Welcome aboard\necho mind the gap >&2\n' >%[1]s/home/.bashrc
echo ready
exec sleep 86400`, s.dir, ordinaryID)
	s.anchor = exec.Command("unshare", "--mount", "--propagation", "private", "sh", "-c", script)
	var complaint bytes.Buffer
	s.anchor.Stderr = &complaint
	out, err := s.anchor.StdoutPipe()
	if err == nil {
		err = s.anchor.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	end := sync.OnceFunc(func() {
		s.anchor.Process.Kill()
		s.anchor.Wait()
	})
	t.Cleanup(end)
	if _, err := bufio.NewReader(out).ReadString('\n'); err != nil {
		end() // the complaint is whole then
		t.Skipf("a host of its own cannot be made here: %s", complaint.String())
	}
	s.home = fmt.Sprintf("/proc/%d/root%s/home", s.anchor.Process.Pid, s.dir)
	aboard.Add(1)
}

// aboard counts the hosts with an ordinary user that could be made.
var aboard atomic.Int64

// command starts the server.
func (s *sshd) command(program string) *exec.Cmd {
	serve := []string{program, "-D", "-e", "-f", filepath.Join(s.dir, "conf")}
	if s.anchor != nil {
		serve = append([]string{"nsenter", fmt.Sprintf("--mount=/proc/%d/ns/mnt", s.anchor.Process.Pid)}, serve...)
	}
	return exec.Command(serve[0], serve[1:]...)
}

// startServers starts servers that accept one key. The known_hosts file and the key
// stand in dir.
func startServers(t *testing.T, dir string, n int, ordinary bool) []*sshd {
	t.Helper()
	program := linktest.Program
	if _, err := os.Stat(program); err != nil {
		t.Fatal("there is no sshd: scripts/need test installs it")
	}
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
		t.Skip(err)
	}
	authorized := linktest.Key(t, filepath.Join(dir, "key"))
	if err := os.WriteFile(filepath.Join(dir, "authorized"), []byte(authorized+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	var known strings.Builder
	var servers []*sshd
	for i := range n {
		port, _ := testkit.Ports(t, 1)
		s := &sshd{dir: filepath.Join(dir, fmt.Sprint("host", i)), address: fmt.Sprintf("127.0.0.1:%d", port)}
		s.home = s.dir
		if err := os.MkdirAll(s.dir, 0o755); err != nil {
			t.Fatal(err)
		}
		public := linktest.Key(t, filepath.Join(s.dir, "hostkey"))
		fmt.Fprintf(&known, "[127.0.0.1]:%d %s\n", port, public)
		config := fmt.Sprintf("Port %d\nListenAddress 127.0.0.1\nHostKey %s/hostkey\nPidFile "+
			"none\nAuthorizedKeysFile %s/authorized\n"+
			"PasswordAuthentication no\nUsePAM no\nStrictModes no\nMaxStartups 100\n", port, s.dir, dir)
		if ordinary {
			config += "SetEnv FAKETIME=+1h LD_PRELOAD=" + clock(t)
			if i == 1 {
				config += " PATH=" + otherTools(t, s.dir) // on every second host
			}
			config += "\n"
			s.home = filepath.Join(s.dir, "home")
			users, err := os.ReadFile("/etc/passwd")
			line := fmt.Sprintf("%s:x:%d:%d::%s:/bin/bash\n", ordinaryUser, ordinaryID, ordinaryID, s.home)
			if err := errors.Join(err, os.WriteFile(filepath.Join(s.dir, "passwd"), append(users, line...), 0o644),
				os.Mkdir(s.home, 0o755)); err != nil {
				t.Fatal(err)
			}
			s.aboard(t)
		} else {
			config += "SetEnv HOME=" + s.dir + "\n"
		}
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
	s.process = s.command(program)
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

// otherTools is a folder with the tools of small systems, and flock.
func otherTools(t *testing.T, dir string) string {
	t.Helper()
	bin := filepath.Join(dir, "bin")
	list, err := exec.Command("busybox", "--list").Output()
	if err != nil {
		t.Fatal("there is no busybox: scripts/need test installs it")
	}
	if err := os.Mkdir(bin, 0o755); err != nil {
		t.Fatal(err)
	}
	program, err := exec.LookPath("busybox")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range strings.Fields(string(list)) {
		if err := os.Symlink(program, filepath.Join(bin, name)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("/usr/bin/flock", filepath.Join(bin, "flock")); err != nil {
		t.Fatal(err)
	}
	return bin
}

// clock is the library that makes a process's clock another.
func clock(t *testing.T) string {
	t.Helper()
	found, _ := filepath.Glob("/usr/lib/*/faketime/libfaketime.so.1")
	if len(found) == 0 {
		t.Fatal("there is no libfaketime: scripts/need test installs it")
	}
	return found[0]
}

// freeze stops the server with all its connections, as a host that hangs, until thaw is
// called.
func (s *sshd) freeze(t *testing.T) (thaw func()) {
	all := []int{s.process.Process.Pid}
	children(s.process.Process.Pid, func(pid int) { all = append(all, pid) })
	return testkit.Freeze(t, all...)
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
type world struct {
	servers  map[*plan.Plan][]*sshd
	ordinary bool // they are asked as an ordinary user
}

func (w *world) plan(t *testing.T, as string) *plan.Plan {
	t.Helper()
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	name := me.Username
	if w.ordinary {
		if os.Getuid() != 0 {
			t.Skip("only root can make a host with another user; what ran so far ran as an ordinary one")
		}
		name = ordinaryUser
	}
	dir, err := os.MkdirTemp("", "vaiven-hosts-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	servers := startServers(t, dir, 2, w.ordinary)
	s := stacktest.Stack(t, as)
	s.Command[0] = stacktest.Subject(t)
	s.Identity, s.KnownHosts = filepath.Join(dir, "key"), filepath.Join(dir, "known")
	for _, server := range servers {
		s.Hosts = append(s.Hosts, plan.Host{User: name, Address: server.address})
	}
	p := &plan.Plan{Service: "sailings", State: filepath.Join(dir, "state"),
		Parts: []plan.Part{{Name: "web", Stacks: [2]plan.Stack{s, s}}}}
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
			found, _ := filepath.Glob(filepath.Join(s.home, ".vaiven", "*", "*", "*."+ending))
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
		data, err := os.ReadFile(filepath.Join(s.home, ".vaiven", "sailings", "web", i.Name+".pid"))
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
			server.start(t, linktest.Program)
		}
	}
}

func open(t *testing.T, p *plan.Plan) *Driver {
	d := New(p, 0, secret.Values{})
	t.Cleanup(func() { d.Close() })
	return d
}

func (w *world) freeze(t *testing.T, p *plan.Plan) func() {
	var thaws []func()
	for _, server := range w.servers[p] {
		thaws = append(thaws, server.freeze(t))
	}
	return func() {
		for _, thaw := range thaws {
			thaw()
		}
	}
}

func (w *world) system() stacktest.System {
	return stacktest.System{
		Plan:   w.plan,
		Driver: func(t *testing.T, p *plan.Plan) stack.Driver { return open(t, p) },
		Kill:   w.kill, Remains: w.remains, Cut: w.cut, Freeze: w.freeze,
		Forget: func(t *testing.T, p *plan.Plan) {
			for _, server := range w.servers[p] {
				notes, _ := filepath.Glob(filepath.Join(server.home, ".vaiven", "sailings", "web", "*"))
				for _, file := range notes {
					if err := os.Remove(file); err != nil {
						t.Error(err)
					}
				}
			}
		},
		Deliver: func(p *plan.Plan) string {
			for side := range p.Parts[0].Stacks {
				p.Parts[0].Stacks[side].Build = filepath.Join(filepath.Dir(p.State), "builds", "{version}")
			}
			return filepath.Join(filepath.Dir(p.State), "builds", "2")
		},
	}
}

func TestConformance(t *testing.T) {
	stacktest.Run(t, (&world{servers: map[*plan.Plan][]*sshd{}}).system())
}

func TestConformanceAsAnOrdinaryUser(t *testing.T) {
	testkit.Long(t)
	stacktest.Run(t, (&world{servers: map[*plan.Plan][]*sshd{}, ordinary: true}).system())
	if aboard.Load() > 0 {
		testkit.RanAs(t, "user "+ordinaryUser+" on hosts with a hidden /proc, a small disk, a talkative shell, a "+
			"wrong clock, and on one of them the tools of small systems")
	}
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
	gone.start(t, linktest.Program)
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
	public := linktest.Key(t, strange)
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
		{"a host with another key", func() { green.KnownHosts = file("known", swapped.String()) },
			"another than the known one"},
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
	if err := os.WriteFile(green.KnownHosts, []byte(strings.ReplaceAll(string(known), "]:"+was+" ", "]:"+port+" ")),
		0o600); err != nil {
		t.Fatal(err)
	}
	right := green.Hosts
	green.Hosts = []plan.Host{{User: right[0].User, Address: door.Addr().String()}}
	turnAway.Store(link.MostTries - 1)
	if _, err := open(t, p).List(t.Context(), split.Green); err != nil || came.Load() != link.MostTries {
		t.Errorf("turned away %d times: %v after %d connections", link.MostTries-1, err, came.Load())
	}
	turnAway.Store(100)
	came.Store(0)
	if _, err := open(t, p).List(t.Context(), split.Green); !errors.Is(err, stack.ErrUnreachable) ||
		came.Load() != link.MostTries {
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
	f.Add([]byte("note green-1 eyJuYW1lIjoiZ3JlZW4tMSJ9\nrunning\nstray 7\nexit 7\noutput bm8gYmVydGg=\nport 1F90\n"))
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
	if _, err := (distant.Place{Machine: d.machines[split.Green][0].Machine, Folder: "/"}).Run(ctx,
		place.Command{Words: []string{"sleep", "60"}}); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("error %v", err)
	}
}

// fill leaves nothing of a host's disk.
func fill(t *testing.T, s *sshd) {
	t.Helper()
	f, err := os.Create(filepath.Join(s.home, "cargo"))
	for err == nil {
		_, err = f.Write(make([]byte, 1024))
	}
	if !errors.Is(err, syscall.ENOSPC) {
		t.Fatal(err)
	}
	f.Close()
}

// On a full disk nothing is started, and the disk is named. When there is room again all goes
// on, and what was half done before it was full is found.
func TestAFullDiskIsNamed(t *testing.T) {
	w := &world{servers: map[*plan.Plan][]*sshd{}, ordinary: true}
	p := w.plan(t, "well")
	green := &p.Parts[0].Stacks[split.Green]
	green.Hosts = green.Hosts[:1]
	green.Instances = 1
	d := open(t, p)
	server := w.servers[p][0]
	if err := d.Raise(t.Context(), split.Green, stacktest.Second); err != nil {
		t.Fatal(err)
	}
	pid := filepath.Join(server.home, ".vaiven", "sailings", "web", "green-1.pid")
	if err := os.Truncate(pid, 0); err != nil { // as a disk that was full at that moment leaves it
		t.Fatal(err)
	}
	fill(t, server)
	list, err := d.List(t.Context(), split.Green)
	if err != nil || len(list) != 1 || !list[0].Running {
		t.Errorf("without its number there is %+v, %v", list, err)
	}
	green.Instances = 2
	err = d.Raise(t.Context(), split.Green, stacktest.Second)
	if err == nil || !strings.Contains(err.Error(), "green-2") || !strings.Contains(err.Error(), "is full") ||
		!strings.Contains(err.Error(), server.dir+"/home") {
		t.Errorf("on a full disk: %v", err)
	}
	if list, err := d.List(t.Context(), split.Green); err != nil || len(list) != 1 {
		t.Errorf("what was not started is listed: %+v, %v", list, err)
	}
	if err := os.Remove(filepath.Join(server.home, "cargo")); err != nil {
		t.Fatal(err)
	}
	if err := d.Raise(t.Context(), split.Green, stacktest.Second); err != nil {
		t.Errorf("with room again: %v", err)
	}
	if list, err := d.List(t.Context(), split.Green); err != nil || len(list) != 2 || !list[0].Running ||
		!list[1].Running {
		t.Errorf("with room again there is %+v, %v", list, err)
	}
	if err := d.Stop(t.Context(), split.Green); err != nil {
		t.Error(err)
	}
	if left := w.remains(t, p); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// One host that hangs holds up nothing of the others.
func TestOneHostOfTwoHangs(t *testing.T) {
	w := &world{servers: map[*plan.Plan][]*sshd{}}
	p := w.plan(t, "well")
	d := open(t, p)
	if err := d.Raise(t.Context(), split.Green, stacktest.Second); err != nil {
		t.Fatal(err)
	}
	frozen := w.servers[p][1]
	thaw := frozen.freeze(t)
	list, err := d.List(t.Context(), split.Green)
	if !errors.Is(err, stack.ErrUnreachable) || !strings.Contains(err.Error(), frozen.address) {
		t.Errorf("the error %v does not name the host that hangs", err)
	}
	if len(list) != 1 || list[0].Name != "green-1" || !list[0].Running {
		t.Errorf("there is %+v", list)
	}
	// What can be raised is raised, and the rest is named.
	err = d.Raise(t.Context(), split.Blue, stacktest.First)
	if err == nil || !strings.Contains(err.Error(), frozen.address) || !strings.Contains(err.Error(), "blue-2") ||
		strings.Contains(err.Error(), "blue-1") {
		t.Errorf("raised: %v", err)
	}
	if list, _ := d.List(t.Context(), split.Blue); len(list) != 1 || list[0].Name != "blue-1" || !list[0].Running {
		t.Errorf("of blue there is %+v", list)
	}
	if err := d.Stop(t.Context(), split.Blue); err == nil || !strings.Contains(err.Error(), frozen.address) {
		t.Errorf("stopped: %v", err)
	}
	if list, _ := d.List(t.Context(), split.Blue); len(list) != 0 {
		t.Errorf("of blue there is still %+v", list)
	}
	thaw()
	testkit.Eventually(t, "all can be stopped", func() bool { return d.Stop(t.Context(), split.Blue) == nil })
}

// A note that somebody planted, and a folder that is a link, are not believed.
func TestWhatIsPlantedOnAHostIsNotBelieved(t *testing.T) {
	w := &world{servers: map[*plan.Plan][]*sshd{}}
	p := w.plan(t, "well")
	p.Parts[0].Stacks[split.Green].Hosts = p.Parts[0].Stacks[split.Green].Hosts[:1]
	d := open(t, p)
	home := w.servers[p][0].home
	notes := filepath.Join(home, ".vaiven", "sailings", "web")
	victim := exec.Command("setsid", "sleep", "60")
	if err := errors.Join(victim.Start(), os.MkdirAll(notes, 0o700)); err != nil {
		t.Fatal(err)
	}
	defer func() {
		victim.Process.Kill()
		victim.Wait()
	}()
	m := d.machines[split.Green][0]
	planted := fmt.Sprintf("set -- $(stat %d)\nprintf '{}' >green-1.note\necho \"%[1]d $4 $boot\" "+
		">green-1.pid\nprintf '{' >green-2.note\nexit\n", victim.Process.Pid)
	if a, err := m.Script(t.Context(), within(d.dir())+planted); err != nil || a.Status != 0 {
		t.Fatalf("plant: %+v, %v", a, err)
	}
	list, err := d.List(t.Context(), split.Green)
	if err != nil || len(list) != 2 || list[0].Running || list[1].Running ||
		!strings.Contains(list[1].Exit, "damaged") {
		t.Errorf("listed %+v, %v", list, err)
	}
	if err := d.Stop(t.Context(), split.Green); err != nil {
		t.Error(err)
	}
	if err := victim.Process.Signal(syscall.Signal(0)); err != nil {
		t.Errorf("a process that is not ours was ended: %v", err)
	}
	elsewhere := t.TempDir()
	if err := errors.Join(os.RemoveAll(notes), os.Symlink(elsewhere, notes)); err != nil {
		t.Fatal(err)
	}
	if err := d.Raise(t.Context(), split.Green, stacktest.Second); err == nil ||
		!strings.Contains(err.Error(), "is not believed") {
		t.Errorf("raised through a link: %v", err)
	}
	if left, _ := os.ReadDir(elsewhere); len(left) > 0 {
		t.Errorf("through a link were written %v", left)
	}
	if err := os.Remove(notes); err != nil {
		t.Fatal(err)
	}
}

// The mask for files that instances make is the user's.
func TestAnInstanceHasTheUsersMask(t *testing.T) {
	w := &world{servers: map[*plan.Plan][]*sshd{}}
	p := w.plan(t, "well")
	d := open(t, p)
	green := &p.Parts[0].Stacks[split.Green]
	file := filepath.Join(p.State, "mask")
	green.Command = []string{"/bin/sh", "-c", "umask >" + file + "; exec sleep 60"}
	green.Instances = 1
	if err := d.Raise(t.Context(), split.Green, stacktest.Second); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "it says its mask", func() bool { data, _ := os.ReadFile(file); return len(data) > 0 })
	if mask, _ := os.ReadFile(file); strings.TrimSpace(string(mask)) == "0077" {
		t.Errorf("its mask is %s", mask)
	}
}
