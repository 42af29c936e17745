package main

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"vaiven/internal/core/plan"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/keeper/service"
	"vaiven/internal/plan/planfile"
	"vaiven/lab/linktest"
	"vaiven/lab/nettest"
	"vaiven/lab/testkit"
)

// piers are two machines that keep one service, whose front and instances stand on a third: the quay.
type piers struct {
	t    *testing.T
	net  *nettest.Net
	dir  string
	home string // with what ssh has to know
}

// The instances' addresses are further ones of the quay.
const blueAt, greenAt = "10.77.0.21", "10.77.0.22"

// sailingsAt is the plan on both, behind its front: nothing of it is theirs alone.
const sailingsAt = `stack:
  blue:
    stands: ["` + blueAt + `:8000"]
  green:
    stands: ["` + greenAt + `:8000"]
health: {request: /}
says: {path: /, version: json version}
smoke: [{request: /}]
keep: 1h, then leave
`

// byMap is a front of HAProxy, by a map in a file, at an address.
const byMap = `service: sailings
state: state
front:
  listen: %[1]s:8000
  haproxy:
    address: %[1]s:9999
    backends: {blue: sailings-blue, green: sailings-green}
    map: %[2]s/split.map sailings
route: [25 %% for 1h, 100 %%]
`

// byName is a name that a server at an address has, with its key in a folder.
const byName = `service: sailings
state: state
front:
  listen: sailings.lineavessa.example:8000
  dns:
    {server: "%[1]s:5300", zone: lineavessa.example, name: sailings, key: %[2]s/vaiven.key, ttl: 1s, crossing-ttl: 1s,
     shares: yes}
route: [50 %% for 1h, 100 %%]
`

// instancesOnly is the configuration of an HAProxy that answers as the instances.
const instancesOnly = `global
  stats socket ipv4@%[1]s:9999 level admin
defaults
  mode http
  timeout connect 2s
  timeout client 20s
  timeout server 20s
frontend blue-1
  bind ` + blueAt + `:8000
  http-request return status 200 content-type application/json string "{\"version\":\"4.2.0\"}"
frontend green-1
  bind ` + greenAt + `:8000
  http-request return status 200 content-type application/json string "{\"version\":\"4.3.0\"}"
`

// quayHAProxy is the configuration of one that is the front as well.
const quayHAProxy = instancesOnly + `frontend sailings
  bind %[1]s:8000
  http-request set-var(txn.share) str(sailings),map(%[2]s/split.map,0)
  use_backend sailings-green if { rand(10000),sub(txn.share) lt 0 }
  default_backend sailings-blue
backend sailings-blue
  server-template s 4 127.0.0.1:1 disabled
backend sailings-green
  server-template s 4 127.0.0.1:1 disabled
`

// newPiers has instances at the quay, behind a front; haproxy is the configuration of what answers there.
func newPiers(t *testing.T, front, haproxy string) *piers {
	t.Helper()
	if _, err := exec.LookPath("haproxy"); err != nil {
		t.Fatal("there is no haproxy: scripts/need test installs it")
	}
	p := &piers{t: t, net: nettest.New(t, "pier-1", "pier-2", "quay"), dir: t.TempDir()}
	p.home = filepath.Join(p.dir, "home")
	bin := filepath.Dir(program)
	var hosts strings.Builder
	for _, pier := range []string{"pier-1", "pier-2"} {
		dir := filepath.Join(p.dir, "ssh-"+pier)
		p.folder(dir)
		s := linktest.StartAt(t, dir, p.net.Address(pier)+":2222", func(name string, args ...string) *exec.Cmd {
			return p.net.Command(pier, name, args...)
		}, "SetEnv PATH="+bin+":/usr/bin:/bin")
		fmt.Fprintf(&hosts, "Host %s\n\tHostName %s\n\tPort 2222\n\tUser root\n\tIdentityFile %s\n\tUserKnownHostsFile %s\n",
			pier, p.net.Address(pier), s.Identity, s.KnownHosts)
	}
	p.write(filepath.Join(p.home, ".ssh", "config"), hosts.String())
	quay := p.net.Address("quay")
	for _, address := range []string{blueAt, greenAt} {
		out, err := p.net.Command("quay", "ip", "addr", "add", address+"/24", "dev", "net").CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	p.write(filepath.Join(p.dir, "split.map"), "sailings 0\n")
	conf := filepath.Join(p.dir, "haproxy.cfg")
	p.write(conf, fmt.Sprintf(haproxy, quay, p.dir))
	p.begin("quay", "haproxy", "-f", conf)
	for _, pier := range []string{"pier-1", "pier-2"} {
		p.write(p.plan(pier), fmt.Sprintf(front, quay, p.dir)+sailingsAt)
	}
	return p
}

func (p *piers) plan(pier string) string { return filepath.Join(p.dir, pier, "sailings.yaml") }
func (p *piers) at(pier string) string   { return "root@" + pier + ":" + p.plan(pier) }

func (p *piers) folder(dir string) {
	p.t.Helper()
	if err := os.MkdirAll(dir, 0o700); err != nil {
		p.t.Fatal(err)
	}
}

func (p *piers) write(file, text string) {
	p.t.Helper()
	p.folder(filepath.Dir(file))
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		p.t.Fatal(err)
	}
}

// ongoing is a program that goes on.
type ongoing struct {
	*exec.Cmd
	t     *testing.T
	said  *os.File
	ended chan struct{}
}

// begin starts a program on a machine. It ends with the test.
func (p *piers) begin(machine, name string, args ...string) *ongoing {
	p.t.Helper()
	cmd := p.net.Command(machine, name, args...)
	cmd.Env = append(os.Environ(), "HOME="+p.home)
	said, err := os.CreateTemp(p.dir, "said-")
	if err != nil {
		p.t.Fatal(err)
	}
	cmd.Stdout, cmd.Stderr = said, said
	if err := cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
	r := &ongoing{cmd, p.t, said, make(chan struct{})}
	go func() {
		defer close(r.ended)
		_ = cmd.Wait()
	}()
	p.t.Cleanup(func() {
		_ = cmd.Process.Kill()
		<-r.ended
		if p.t.Failed() {
			p.t.Logf("%s %v said:\n%s", name, args, r.says())
		}
		said.Close()
	})
	return r
}

func (r *ongoing) says() string {
	text, err := os.ReadFile(r.said.Name())
	if err != nil {
		r.t.Fatal(err)
	}
	return string(text)
}

// ends waits until it has ended, with a status and a word on why.
func (r *ongoing) ends(status int, says string) {
	r.t.Helper()
	testkit.Eventually(r.t, "the end", func() bool {
		select {
		case <-r.ended:
			return true
		default:
			return false
		}
	})
	if got := r.ProcessState.ExitCode(); got != status || !strings.Contains(r.says(), says) {
		r.t.Fatalf("it ended with status %d, not %d, and says not %q:\n%s", got, status, says, r.says())
	}
}

// step runs the program on a machine, and wants a status and what it is to say.
func (p *piers) step(pier string, status int, says string, args ...string) string {
	p.t.Helper()
	out, got := p.run(pier, args...)
	if got != status || !strings.Contains(out, says) {
		p.t.Fatalf("%s: vaiven %v: status %d, not %d, or it does not say %q:\n%s", pier, args, got, status, says, out)
	}
	return out
}

func (p *piers) run(pier string, args ...string) (out string, status int) {
	p.t.Helper()
	cmd := p.net.Command(pier, program, args...)
	cmd.Env = append(os.Environ(), "HOME="+p.home)
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		p.t.Fatal(err)
	}
	return said.String(), cmd.ProcessState.ExitCode()
}

// until waits until a machine says of the service what is wanted.
func (p *piers) until(pier, says string) {
	p.t.Helper()
	out := ""
	defer func() {
		if p.t.Failed() {
			p.t.Logf("%s says:\n%s", pier, out)
		}
	}()
	testkit.Eventually(p.t, pier+" says "+says, func() bool {
		out, _ = p.run(pier, "where", p.plan(pier), "--for", "0s")
		return strings.Contains(out, says)
	})
}

// resume ends the freeze that a machine's keeper shows.
func (p *piers) resume(pier string) {
	p.t.Helper()
	says := p.step(pier, 4, "it is frozen", "say", p.plan(pier), "resume")
	shown := regexp.MustCompile(`--freeze (\d+)`).FindStringSubmatch(says)
	if shown == nil {
		p.t.Fatal("it does not say which freeze")
	}
	p.step(pier, 0, "", "say", p.plan(pier), "resume", "--freeze", shown[1])
}

// steer has a machine's keeper move the share, as soon as that has proven the new side for itself.
func (p *piers) steer(pier, share string) {
	p.t.Helper()
	testkit.Eventually(p.t, pier+" steers", func() bool {
		_, status := p.run(pier, "say", p.plan(pier), "steer", share)
		return status == 0
	})
}

// Two machines that keep one service: whatever is cut apart or frozen, one of them has the word, by what the front
// knows, and the other one ends.
func TestStandby(t *testing.T) {
	t.Parallel() // it mostly waits
	p := newPiers(t, byMap, quayHAProxy)
	first := p.begin("pier-1", program, "keep", p.plan("pier-1"))
	p.until("pier-1", "0 % of the requests go to green")
	p.until("pier-1", "keeper, process")
	second := p.begin("pier-2", program, "keep", p.plan("pier-2"), "--standby", p.at("pier-1"), "--after", "10s")
	p.until("pier-2", ", followed since")
	p.until("pier-1", ", standby at ")
	p.step("pier-2", 4, "answers", "take-over", p.plan("pier-2"))
	p.step("pier-2", 4, "a standby runs here, and no keeper", "say", p.plan("pier-2"), "freeze")
	p.step("pier-1", 4, "a keeper runs here already", "take-over", p.plan("pier-1"))
	p.step("pier-1", 0, "reached", "cross", p.plan("pier-1"), "--version", "4.3.0", "--yes", "--until", "leg 1")
	p.until("pier-2", "By what it has taken down, crossing 1: shift, 25 %")

	// The standby is the one that is cut off: it does not take over, not even when it sees the front again.
	p.net.Cut("pier-2")
	p.until("pier-2", "not followed since")
	testkit.Eventually(t, "it would take over", func() bool { return strings.Contains(second.says(), "has not taken over") })
	p.net.Mend("pier-2")
	p.until("pier-2", ", followed since")
	p.step("pier-1", 0, "keeper, process", "where", p.plan("pier-1"), "--for", "0s")

	// They do not see each other, and both the front: who takes over has the word.
	p.net.Apart(true, "pier-1", "pier-2")
	first.ends(4, "another keeper has taken over")
	p.until("pier-2", "25 % of the requests go to green")
	p.until("pier-2", "keeper, process")
	p.step("pier-2", 0, "taken over from the keeper of "+p.at("pier-1"), "log", p.plan("pier-2"))
	p.step("pier-1", 4, "another keeper has taken over", "keep", p.plan("pier-1"))
	p.step("pier-1", 0, "another one has taken over", "where", p.plan("pier-1"), "--for", "0s")
	p.resume("pier-2")
	p.steer("pier-2", "50")
	p.until("pier-2", "50 % of the requests go to green")

	// The first one stands by in turn, with the logbook of the second, and that one is cut off from all others. What it
	// is told meanwhile comes to nothing.
	p.net.Apart(false, "pier-1", "pier-2")
	first = p.begin("pier-1", program, "keep", p.plan("pier-1"), "--standby", p.at("pier-2"), "--after", "10s")
	p.until("pier-1", ", followed since")
	if aside, _ := filepath.Glob(filepath.Join(p.dir, "pier-1", "state", "logbook.db.taken-over-*Z")); len(aside) != 1 {
		t.Errorf("the first one's logbook was put aside as %q", aside)
	}
	p.until("pier-1", "By what it has taken down, crossing 1: shift, 50 %")
	p.net.Cut("pier-2")
	p.run("pier-2", "say", p.plan("pier-2"), "steer", "75")
	p.until("pier-1", "keeper, process")
	p.resume("pier-1")
	p.steer("pier-1", "40")
	p.until("pier-1", "40 % of the requests go to green")
	p.net.Mend("pier-2")
	second.ends(4, "another keeper has taken over")
	p.step("pier-1", 0, "40 % of the requests go to green", "where", p.plan("pier-1"), "--for", "2s")

	// It stands by again, the first one is frozen, and a person has the standby take over.
	second = p.begin("pier-2", program, "keep", p.plan("pier-2"), "--standby", p.at("pier-1"))
	p.until("pier-2", ", followed since")
	thaw := testkit.Freeze(t, first.Process.Pid)
	defer thaw()
	p.until("pier-2", "not followed since")
	p.step("pier-2", 0, `"kind":"taken over"`, "take-over", p.plan("pier-2"), "--json")
	p.until("pier-2", "keeper, process")
	thaw()
	first.ends(4, "another keeper has taken over")
	p.step("pier-2", 0, "all requests go to blue", "back", p.plan("pier-2"))
	_ = second.Process.Signal(os.Interrupt)
	second.ends(0, "ends")
}

// A name compares as well: a keeper that is frozen in the middle of a crossing is taken over from, and ends.
func TestStandbyBehindAName(t *testing.T) {
	t.Parallel() // it mostly waits
	p := newPiers(t, byName, instancesOnly)
	of, err := planfile.Read(p.plan("pier-1"))
	if err != nil {
		t.Fatal(err)
	}
	kind := all.Of(of.Front)
	server, err := exec.LookPath(kind.Program)
	if err != nil {
		t.Fatalf("there is no %s: scripts/need test installs it", kind.Program)
	}
	c := kind.Config(of.Service, of.Front, front.Site{Folder: p.dir})
	p.write(c.File, c.Text)
	for file, text := range c.Beside {
		p.write(file, text)
	}
	p.begin("quay", server, c.Args...)
	testkit.Eventually(t, "the name is prepared", func() bool {
		_, status := p.run("pier-1", "front", p.plan("pier-1"))
		return status == 0
	})
	first := p.begin("pier-1", program, "keep", p.plan("pier-1"))
	p.until("pier-1", "0 % of the requests go to green")
	p.until("pier-1", "keeper, process")
	p.begin("pier-2", program, "keep", p.plan("pier-2"), "--standby", p.at("pier-1"), "--after", "10s")
	p.until("pier-2", ", followed since")
	p.step("pier-1", 0, "reached", "cross", p.plan("pier-1"), "--version", "4.3.0", "--yes", "--until", "leg 1")
	p.until("pier-2", "By what it has taken down, crossing 1: shift, 50 %")
	thaw := testkit.Freeze(t, first.Process.Pid)
	defer thaw()
	p.until("pier-2", "keeper, process")
	thaw()
	first.ends(4, "another keeper has taken over")
	p.step("pier-2", 0, "all requests go to blue", "back", p.plan("pier-2"))
}

// A standby is refused where one machine alone has what a service needs, with what that is.
func TestNoStandby(t *testing.T) {
	t.Parallel() // it mostly waits
	s := scenario(t)
	step := steps(t)
	step(4, []string{"only one machine has the front", "blue's instances of search (processes of this machine)"}, "keep", s.File,
		"--standby", "ines@pier-1:/srv/sailings.yaml")
	step(0, []string{"standby: not possible on another machine. Only this one has the front"}, "plan", s.File)
	step(4, []string{"no standby runs here"}, "take-over", s.File)
	step(2, []string{"--after is for --standby"}, "keep", s.File, "--after", "30s")
	step(2, []string{"--after takes 10s at least"}, "keep", s.File, "--standby", "ines@pier-1:/srv/sailings.yaml", "--after",
		"1s")
	step(2, []string{"is this one's own"}, "keep", s.File, "--standby", s.File)
	step(0, []string{"keep " + s.File + " --standby ines@pier-1:/srv/sailings.yaml --after 30s"}, "keep", s.File, "--unit",
		"--standby", "ines@pier-1:/srv/sailings.yaml", "--after", "30s")
}

// One process runs the standbys of all plans of a folder, which take over at one word; one that has taken over is kept
// up as a keeper.
func TestStandbysOfAFolder(t *testing.T) {
	t.Parallel() // it mostly waits
	p := newPiers(t, byMap, quayHAProxy)
	for _, pier := range []string{"pier-1", "pier-2"} {
		p.write(filepath.Join(p.dir, pier, "sailings.env"), "HOME="+p.home+"\n")
	}
	keepers := p.begin("pier-1", program, "keep", filepath.Dir(p.plan("pier-1")))
	p.until("pier-1", "keeper, process")
	folder := filepath.Dir(p.plan("pier-2"))
	p.step("pier-2", 2, "this one's own", "keep", folder, "--standby", folder)
	p.step("pier-2", 2, "and "+p.dir+"/none is none", "keep", folder, "--standby", filepath.Join(p.dir, "none"))
	of := filepath.Dir(p.at("pier-1"))
	all := p.begin("pier-2", program, "keep", folder, "--standby", of, "--after", "1h")
	p.until("pier-2", ", followed since")
	p.step("pier-2", 4, "answers", "take-over", folder)

	restarted := func(why string, do func(pid int)) {
		t.Helper()
		before := p.process("pier-2")
		do(before)
		testkit.Eventually(t, why, func() bool { now := p.process("pier-2"); return now != 0 && now != before })
	}
	restarted("it stands by again after it was killed", func(pid int) { kill(t, pid) })
	p.until("pier-2", ", followed since")
	restarted("it goes by the plan as it is now", func(int) {
		p.write(p.plan("pier-2"), fmt.Sprintf(byMap, p.net.Address("quay"), p.dir)+sailingsAt+"# a new berth\n")
	})
	p.until("pier-2", ", followed since")
	p.until("pier-1", "keeper, process")

	p.net.Cut("pier-1")
	p.until("pier-2", "not followed since")
	p.write(filepath.Join(folder, "fares.yaml"), "service: fares\nnobody-knows: this\n")
	p.step("pier-2", 4, "1 of 2 services are not taken over", "take-over", folder)
	p.until("pier-2", "keeper, process")
	restarted("it keeps again after it was killed", func(pid int) { kill(t, pid) })
	p.until("pier-2", "keeper, process")
	restarted("another keeper goes by the plan as it is now", func(int) {
		p.write(p.plan("pier-2"), fmt.Sprintf(byMap, p.net.Address("quay"), p.dir)+sailingsAt)
	})
	p.until("pier-2", "keeper, process")
	if said := all.says(); strings.Count(said, `"the plan has changed"`) != 2 || !strings.Contains(said, `"msg":"take over"`) {
		t.Error("a plan that has changed is not said twice")
	}
	for _, one := range []*ongoing{all, keepers} { // with the keepers that they run
		_ = one.Process.Signal(os.Interrupt)
		one.ends(0, "")
	}
}

// process is the one that keeps a machine's service, or stands by for it; 0 for none.
func (p *piers) process(pier string) int {
	r, err := service.AskRunning(p.t.Context(), &plan.Plan{Service: "sailings",
		State: filepath.Join(filepath.Dir(p.plan(pier)), "state")})
	if err != nil {
		return 0
	}
	return r.Process
}
