package main

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/keeper/service"
	"vaiven/internal/plan/planfile"
	"vaiven/lab/testkit"
)

// port is somebody who listens, for as long as the test or until it is closed.
func port(t *testing.T) net.Listener {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	return l
}

// service has the front of a plan run, with instances of both sides that listen or do not, and all requests on blue.
func (h *houses) service(name string, blue, green, dead int) (f front.Driver, pid int) {
	t := h.t
	t.Helper()
	h.write(name, h.more)
	cmd := exec.Command(program, "front", h.file(name))
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	p, err := planfile.Read(h.file(name))
	if err != nil {
		t.Fatal(err)
	}
	f = all.Open(p)
	testkit.Eventually(t, "the front answers", func() bool {
		_, err := f.Read(t.Context())
		return err == nil
	})
	if blue == 0 { // nobody has raised anything
		return f, cmd.Process.Pid
	}
	for side, number := range []int{blue, green} {
		var list []reading.Server
		for n := range number {
			l := port(t)
			list = append(list, reading.Server{Name: fmt.Sprintf("%v-%d", split.Side(side), n+1),
				Address: l.Addr().String(), Version: "1"})
			if split.Side(side) == split.Green && n < dead {
				l.Close()
			}
		}
		if err := f.SetInstances(t.Context(), split.Side(side), list); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := f.Home(t.Context(), front.Homing{Side: split.Blue}); err != nil {
		t.Fatal(err)
	}
	return f, cmd.Process.Pid
}

// A side is evacuated with twenty services at once: those that can go have gone whatever ails the others, which are
// named.
func TestEvacuate(t *testing.T) {
	t.Parallel() // it mostly waits
	h := newHouses(t, t.TempDir())
	fronts := map[string]front.Driver{}
	for n := range 16 {
		name := fmt.Sprintf("ferry-%02d", n)
		fronts[name], _ = h.service(name, 2, 2, 0)
	}
	var hangs int
	fronts["hangs"], hangs = h.service("hangs", 2, 2, 0)
	fronts["few"], _ = h.service("few", 4, 4, 3)
	fronts["none"], _ = h.service("none", 2, 0, 0)
	fronts["dead"], _ = h.service("dead", 2, 2, 2)
	on := func(name string) split.Side {
		t.Helper()
		r, err := fronts[name].Read(t.Context())
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		side, _ := r.Split.Share.Alone()
		return side
	}
	stays := func(names ...string) {
		t.Helper()
		for name := range fronts {
			want := split.Green
			for _, stay := range names {
				if stay == name {
					want = split.Blue
				}
			}
			if name != "hangs" && on(name) != want {
				t.Errorf("%s is on %v", name, on(name))
			}
		}
	}
	out, said, status := vaiven(t, "evacuate", h.dir, "--from", "blue", "--dry-run", "--within", "20s")
	if status != 1 || !strings.Contains(out, "17 of 20 would be evacuated from blue") {
		t.Errorf("beforehand it says %s%s, exit status %d", out, said, status)
	}
	if on("ferry-00") != split.Blue {
		t.Fatal("what was only asked was done")
	}

	thaw := testkit.Freeze(t, hangs)
	defer thaw()
	out, said, status = vaiven(t, "evacuate", h.dir, "--from", "blue", "--why", "the hall is under water",
		"--within", "5s")
	for _, want := range []string{"16 of 20 evacuated from blue, which is closed", "none             stays: nobody stands on green",
		"dead             stays: nobody stands on green", "few              stays: 1 of 4 instances of green answer",
		"hangs            stays: the front cannot be read"} {
		if !strings.Contains(out, want) {
			t.Errorf("it does not say %q:\n%s", want, out)
		}
	}
	if status != 1 || !strings.Contains(said, "not evacuated: dead, few, hangs, none") {
		t.Errorf("in the end it says %q, exit status %d", said, status)
	}
	stays("few", "none", "dead")

	thaw()
	out, said, status = vaiven(t, "evacuate", h.dir, "--from", "blue", "--force", "--within", "20s")
	if status != 1 || !strings.Contains(said, "not evacuated: dead, none") ||
		!strings.Contains(out, "forced: 1 of 4 instances of green answer") {
		t.Errorf("with force it says %s%s, exit status %d", out, said, status)
	}
	stays("none", "dead")
	if on("hangs") != split.Green {
		t.Error("what hung is not evacuated")
	}

	step := steps(t)
	step(0, []string{"blue is closed since"}, "where", h.file("ferry-03"), "--for", "0s")
	step(4, []string{"blue was evacuated by", "vaiven reopen"}, "back", h.file("ferry-03"), "--to", "blue", "--force")
	step(4, []string{"is closed"}, "back", h.file("ferry-03"), "--to", "blue")
	step(0, []string{"all requests go to green"}, "back", h.file("ferry-03"), "--to", "green")
	step(1, []string{"green is closed itself"}, "evacuate", closedOther(t, h), "--from", "blue", "--force",
		"--within", "20s")
	step(0, []string{"blue is open again; all requests go to green"}, "reopen", h.file("ferry-03"))
	step(0, []string{"no side is closed"}, "reopen", h.file("ferry-03"))
	step(0, []string{"all requests go to blue"}, "back", h.file("ferry-03"), "--to", "blue")
	step(2, []string{"--from takes blue or green"}, "evacuate", h.dir)

	// A mistake elsewhere in a plan holds up nothing, and one where its front is only itself.
	h.write("ferry-04", "wya-back: {}\n")
	if err := os.WriteFile(filepath.Join(h.dir, "wrong.yaml"), []byte("service: wrong\nfront: {listn: x}\n"),
		0o644); err != nil {
		t.Fatal(err)
	}
	out = step(1, []string{"not evacuated: "}, "evacuate", h.dir, "--from", "blue", "--within", "20s")
	if !strings.Contains(out, "· ferry-04") || !strings.Contains(out, "▲ "+filepath.Join(h.dir, "wrong.yaml")) {
		t.Errorf("with plans that are wrong:\n%s", out)
	}
}

// build makes the build that instances can be started from.
func (h *houses) build() { h.buildOf("1", "exec busybox httpd -f -p $1") }

// buildOf makes a build of a version, with what it does.
func (h *houses) buildOf(version, does string) {
	h.t.Helper()
	build := filepath.Join(h.dir, "builds", version)
	script := "#!/bin/sh\necho well " + version + " > index.html\n" + does + "\n"
	err := os.MkdirAll(build, 0o755)
	if err == nil {
		err = os.WriteFile(filepath.Join(build, "serve"), []byte(script), 0o755)
	}
	if err != nil {
		h.t.Fatal(err)
	}
}

// endsAll ends the instances that were started at a front, with the test.
func endsAll(t *testing.T, f front.Driver) {
	t.Helper()
	r, err := f.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, side := range r.Sides {
		for _, i := range side.Instances {
			for _, pid := range pids(t, "httpd", i.Address) {
				t.Cleanup(func() { _ = syscall.Kill(pid, syscall.SIGTERM) })
			}
		}
	}
}

// Where nobody stands on the other side, that is raised at the version that the side runs, which is evacuated then.
func TestEvacuateRaises(t *testing.T) {
	t.Parallel() // it mostly waits
	h := newHouses(t, t.TempDir())
	h.build()
	h.ports = "23100-23140"
	f, _ := h.service("alone", 2, 0, 0)
	cannot, _ := h.service("cannot", 2, 0, 0) // there is no such build
	list := []reading.Server{{Name: "blue-1", Address: port(t).Addr().String(), Version: "0"}}
	if err := cannot.SetInstances(t.Context(), split.Blue, list); err != nil {
		t.Fatal(err)
	}
	keeperEnds(t, h.file("cannot"))
	keeperEnds(t, h.file("alone"))
	out, said, status := vaiven(t, "evacuate", h.dir, "--from", "blue", "--raise", "--within", "20s")
	r, err := f.Read(t.Context())
	if err != nil || status != 1 || r.Split.Share != split.Whole || !strings.Contains(out, "1 of 2 evacuated from blue") ||
		!strings.Contains(said, "not evacuated: cannot") || !strings.Contains(out, "it was not raised") {
		t.Errorf("it says %s%s, exit status %d, with %v on green, %v", out, said, status, r.Split.Share, err)
	}
	endsAll(t, f)
	for n, i := range r.Sides[split.Green].Instances {
		if c, err := net.Dial("tcp", i.Address); err != nil {
			t.Errorf("instance %d does not answer: %v", n, err)
		} else {
			c.Close()
		}
	}
	step := steps(t)
	step(4, []string{"blue is closed"}, "cross", h.file("alone"), "--version", "1", "--same-build", "--take-wheel",
		"--yes")
}

// The screen on many services shows each, opens one and comes back, and evacuates a side with all.
func TestTheScreenOnMany(t *testing.T) {
	t.Parallel() // it mostly waits
	h := newHouses(t, t.TempDir())
	fronts := map[string]front.Driver{}
	for _, name := range []string{"berths", "fares", "sailings"} {
		fronts[name], _ = h.service(name, 2, 2, 0)
	}
	keeperEnds(t, h.file("berths"))
	fleet := filepath.Join(h.dir, "ferries.yaml")
	text := "fleet: ferries\nservices:\n  sailings: {plan: sailings.yaml, needs: [fares]}\n  fares: fares.yaml\n" +
		"  berths: berths.yaml\n"
	if err := os.WriteFile(fleet, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	term := newTerminal(t, 120, 20, "open", fleet)
	term.wait("3 services: all right", "fares", "sailings")
	term.press("Space")
	term.wait("1 marked")
	term.press("Space")
	term.wait("2 marked")
	for _, keys := range [][][2]string{ // each with what it shows
		{{"b", "b again: 2 services rolled back"}, {"b", "not rolled back: "}},            // no crossing is known that says where to
		{{"f", "then Enter: ▏"}, {"2", "then Enter: 2▏"}, {"Enter", "none was frozen: "}}, // no keeper runs
		{{"x", "evacuate which side"}, {"b", "x again: 3 services go to green"}, {"x", "are evacuated from blue"}},
	} {
		for _, k := range keys {
			term.press(k[0])
			term.wait(k[1])
		}
	}
	term.wait("all 3 services are evacuated from blue", "blue is closed since")
	for name, f := range fronts {
		if r, err := f.Read(t.Context()); err != nil || r.Split.Share != split.Whole || !r.Order.Closes(split.Blue) {
			t.Errorf("%s: %v on green, %v", name, r.Split.Share, err)
		}
	}
	term.press("/", "b", "e", "r", "Enter")
	term.wait(`with "ber"`)
	term.press("Enter")
	term.wait("vaiven  berths") // its own screen
	term.press("q")
	term.wait(`with "ber"`)
	term.press("Escape")
	term.wait("2 marked")
	term.press("Escape")
	term.wait("problems first")
	term.press("q")
	term.wait("ended with status 0")
}

// Keepers that run take an evacuation in, and who follows many services reads it of each.
func TestFollowMany(t *testing.T) {
	t.Parallel() // it mostly waits
	h := newHouses(t, t.TempDir())
	h.build()
	names := []string{"fares", "sailings"}
	for n, name := range names {
		h.ports = fmt.Sprintf("%d-%d", 23200+20*n, 23219+20*n)
		f, _ := h.service(name, 0, 0, 0)
		keeperEnds(t, h.file(name))
		steps(t)(0, []string{"settled"}, "cross", h.file(name), "--version", "1", "--yes")
		endsAll(t, f)
		p, err := planfile.Read(h.file(name))
		if err == nil {
			err = service.End(t.Context(), p)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	h.start()
	t.Cleanup(func() {
		_ = h.cmd.Process.Signal(syscall.SIGTERM)
		_ = h.cmd.Wait()
	})
	said := spoken(filepath.Join(t.TempDir(), "followed"))
	out, err := os.Create(string(said))
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	follow := exec.Command(program, "follow", h.dir)
	follow.Stdout = out
	if err := follow.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = follow.Process.Kill()
		_ = follow.Wait()
	})
	for _, name := range names {
		h.keeps(name, 0, "before anything happens")
	}
	times := 0
	testkit.Eventually(t, "both are followed", func() bool { // each evacuation is an event of its own
		times++
		step := steps(t)
		step(0, []string{"2 of 2 evacuated from blue"}, "evacuate", h.dir, "--from", "blue", "--why", fmt.Sprint("fire ", times),
			"--within", "20s")
		for _, name := range names {
			if !regexp.MustCompile(`(?m)^` + name + ` .* closed blue: fire`).MatchString(said.String()) {
				return false
			}
		}
		return true
	})
	says, status := "", 0
	defer func() { // what stood in the way
		if t.Failed() {
			t.Logf("it says %s, exit status %d", says, status)
		}
	}()
	testkit.Eventually(t, "all are well on green, and blue is closed", func() bool {
		says, _, status = vaiven(t, "where", h.dir)
		return status == 10 && strings.Count(says, "blue is closed since") == 2
	})
}

// closedOther is the plan of a service whose green side is closed.
func closedOther(t *testing.T, h *houses) string {
	t.Helper()
	f, _ := h.service("other", 2, 2, 0)
	if _, err := f.Home(t.Context(), front.Homing{Side: split.Blue, By: "ines", Close: true}); err != nil {
		t.Fatal(err)
	}
	return h.file("other")
}

// oneProxy is a proxy that several services are behind, with an instance of each side that it answers for itself.
type oneProxy struct {
	t        *testing.T
	dir      string
	services int
	first    int // port
}

func newOneProxy(t *testing.T, services int) *oneProxy {
	t.Helper()
	first, _ := testkit.Ports(t, 3*services)
	return &oneProxy{t, t.TempDir(), services, first}
}

// ports are those of a service's instances and front.
func (o *oneProxy) ports(n int) (blue, green, front int) {
	return o.first + 3*n, o.first + 3*n + 1, o.first + 3*n + 2
}

func (o *oneProxy) write(name, text string) {
	o.t.Helper()
	file := filepath.Join(o.dir, name)
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		o.t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		o.t.Fatal(err)
	}
}

func (o *oneProxy) file(n int) string { return fmt.Sprintf("%s/plans/ferry%d.yaml", o.dir, n) }

// plan writes a service's plan.
func (o *oneProxy) plan(n int, kind string) {
	o.t.Helper()
	blue, green, front := o.ports(n)
	o.write(fmt.Sprintf("plans/ferry%d.yaml", n), fmt.Sprintf(`service: ferry%d
front:
  listen: 127.0.0.1:%d
  %s
stack:
  blue: {stands: ["127.0.0.1:%d"]}
  green: {stands: ["127.0.0.1:%d"]}
smoke: [{request: /}]
route: [100 %%]
`, n, front, kind, blue, green))
}

func (o *oneProxy) start(words ...string) {
	o.t.Helper()
	cmd := exec.Command(words[0], words[1:]...)
	if err := cmd.Start(); err != nil {
		o.t.Fatal(err)
	}
	o.t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	})
}

// gets is what a user of a service gets.
func (o *oneProxy) gets(n int) string {
	_, _, front := o.ports(n)
	r, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/", front))
	if err != nil {
		return err.Error()
	}
	defer r.Body.Close()
	text, _ := io.ReadAll(r.Body)
	return string(text)
}

// serve makes the instances known, and waits until all users get blue.
func (o *oneProxy) serve() {
	o.t.Helper()
	for n := range o.services {
		p, err := planfile.Read(o.file(n))
		if err != nil {
			o.t.Fatal(err)
		}
		f := all.Open(p)
		for _, side := range split.Sides {
			one := []reading.Server{{Name: side.String() + "-1",
				Address: fmt.Sprintf("127.0.0.1:%d", o.first+3*n+int(side))}}
			testkit.Eventually(o.t, one[0].Name, func() bool { return f.SetInstances(o.t.Context(), side, one) == nil })
		}
		testkit.Eventually(o.t, "requests go to blue", func() bool { return o.gets(n) == "blue" })
	}
}

// home has all services go home at the same moment, each by a process of its own: as soon as one says so, its users get
// that side.
func (o *oneProxy) home(to string) {
	o.t.Helper()
	var all sync.WaitGroup
	for n := range o.services {
		all.Go(func() {
			out, said, status := vaiven(o.t, "back", o.file(n), "--to", to)
			if got := o.gets(n); status != 0 || got != to {
				o.t.Errorf("ferry%d gets %q, exit status %d: %s%s", n, got, status, out, said)
			}
		})
	}
	all.Wait()
}

// evacuate leaves blue with all services: as soon as that is said, all users get green.
func (o *oneProxy) evacuate() {
	o.t.Helper()
	out, said, status := vaiven(o.t, "evacuate", filepath.Join(o.dir, "plans"), "--from", "blue")
	if status != 0 || !strings.Contains(out, fmt.Sprintf("%[1]d of %[1]d evacuated from blue", o.services)) {
		o.t.Fatalf("it says %s%s, exit status %d", out, said, status)
	}
	for n := range o.services {
		if got := o.gets(n); got != "green" {
			o.t.Errorf("ferry%d gets %q", n, got)
		}
	}
}

// Services behind one proxy go home from processes of their own at the same moment, and are evacuated by few reloads of
// it.
func TestEvacuateBehindOneProxy(t *testing.T) {
	t.Parallel() // it mostly waits
	nginx, err := exec.LookPath("nginx")
	if err != nil {
		t.Fatal("there is no nginx: scripts/need test installs it")
	}
	o := newOneProxy(t, 8)
	conf := fmt.Sprintf("daemon off;\nmaster_process on;\npid %s/nginx.pid;\nerror_log %[1]s/error.log notice;\n"+
		"events {}\nhttp {\n\taccess_log off;\n", o.dir)
	for n := range o.services {
		blue, green, front := o.ports(n)
		conf += fmt.Sprintf("\tserver { listen 127.0.0.1:%d; return 200 blue; }\n"+
			"\tserver { listen 127.0.0.1:%d; return 200 green; }\n"+
			"\tupstream ferry%[3]d { include %[4]s/inc/ferry%[3]d.conf; }\n"+
			"\tserver { listen 127.0.0.1:%[5]d; location / { proxy_pass http://ferry%[3]d; } }\n", blue, green, n, o.dir, front)
		o.plan(n, fmt.Sprintf("nginx: {config: %[1]s/nginx.conf, include: %[1]s/inc/ferry%[2]d.conf, upstream: ferry%[2]d, "+
			"program: %[3]s}", o.dir, n, nginx))
	}
	o.write("nginx.conf", conf+"}\n")
	o.write("inc/empty", "")
	for n := range o.services {
		if out, said, status := vaiven(t, "front", o.file(n)); status != 0 {
			t.Fatalf("front: %s%s", out, said)
		}
	}
	o.start(nginx, "-c", filepath.Join(o.dir, "nginx.conf"))
	o.serve()
	reloads := func() int {
		log, err := os.ReadFile(filepath.Join(o.dir, "error.log"))
		if err != nil {
			t.Fatal(err)
		}
		return strings.Count(string(log), "(SIGHUP) received")
	}
	o.home("green")
	o.home("blue")
	before := reloads()
	o.evacuate()
	if n := reloads() - before; n == 0 || n >= o.services {
		t.Errorf("nginx was reloaded %d times for %d services", n, o.services)
	}
}

// Services behind one HAProxy, which takes no more than ten who ask at once, go home from processes of their own at the
// same moment, and are evacuated.
func TestHomeBehindOneHAProxy(t *testing.T) {
	t.Parallel() // it mostly waits
	haproxy, err := exec.LookPath("haproxy")
	if err != nil {
		t.Fatal("there is no haproxy: scripts/need test installs it")
	}
	o := newOneProxy(t, 12)
	conf := fmt.Sprintf("global\n\tstats socket %s/socket level admin\ndefaults\n\tmode http\n\ttimeout connect 2s\n"+
		"\ttimeout client 20s\n\ttimeout server 20s\n", o.dir)
	for n := range o.services {
		blue, green, front := o.ports(n)
		conf += fmt.Sprintf(`frontend blue%[1]d
	bind 127.0.0.1:%[2]d
	http-request return status 200 content-type text/plain string blue
frontend green%[1]d
	bind 127.0.0.1:%[3]d
	http-request return status 200 content-type text/plain string green
frontend ferry%[1]d
	bind 127.0.0.1:%[4]d
	http-request set-var(txn.share) str(ferry%[1]d),map(%[5]s/ferry%[1]d.map,0)
	use_backend ferry%[1]d-green if { rand(10000),sub(txn.share) lt 0 }
	default_backend ferry%[1]d-blue
backend ferry%[1]d-blue
	server-template s 2 127.0.0.1:1 disabled
backend ferry%[1]d-green
	server-template s 2 127.0.0.1:1 disabled
`, n, blue, green, front, o.dir)
		o.write(fmt.Sprintf("ferry%d.map", n), fmt.Sprintf("ferry%d 0\n", n))
		o.plan(n, fmt.Sprintf("haproxy: {socket: %[1]s/socket, backends: {blue: ferry%[2]d-blue, green: ferry%[2]d-green}, "+
			"map: %[1]s/ferry%[2]d.map ferry%[2]d}", o.dir, n))
	}
	o.write("haproxy.cfg", conf)
	o.start(haproxy, "-f", filepath.Join(o.dir, "haproxy.cfg"))
	o.serve()
	o.home("green")
	o.home("blue")
	o.evacuate()
}

// As behind an nginx; and an httpd that takes a while to read its configuration is asked once for all where it notes
// its process.
func TestHomeBehindOneHTTPD(t *testing.T) {
	t.Parallel() // it mostly waits
	httpd, err := exec.LookPath("apache2")
	if err != nil {
		t.Fatal("there is no httpd: scripts/need test installs it")
	}
	o := newOneProxy(t, 4)
	conf := fmt.Sprintf("ServerRoot %s\nServerName pier\nPidFile %[1]s/pid\nErrorLog %[1]s/error.log\n"+
		"DefaultRuntimeDir %[1]s\n", o.dir)
	for _, module := range []string{"mpm_event", "authz_core", "proxy", "proxy_http", "proxy_balancer",
		"lbmethod_byrequests", "slotmem_shm"} {
		conf += fmt.Sprintf("LoadModule %s_module /usr/lib/apache2/modules/mod_%[1]s.so\n", module)
	}
	for n := range 5000 {
		conf += fmt.Sprintf("Define berth%d %d\n", n, n)
	}
	for n := range o.services {
		_, _, front := o.ports(n)
		for _, side := range split.Sides {
			l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", o.first+3*n+int(side)))
			if err != nil {
				t.Fatal(err)
			}
			s := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				_, _ = io.WriteString(w, side.String())
			})}
			go func() { _ = s.Serve(l) }()
			t.Cleanup(func() { _ = s.Close() })
		}
		conf += fmt.Sprintf("Listen 127.0.0.1:%d\nInclude %s/inc/ferry%d.conf\n<VirtualHost 127.0.0.1:%[1]d>\n"+
			"ProxyPass / balancer://ferry%[3]d/\n</VirtualHost>\n", front, o.dir, n)
		o.plan(n, fmt.Sprintf("httpd: {config: %[1]s/httpd.conf, include: %[1]s/inc/ferry%[2]d.conf, balancer: ferry%[2]d, "+
			"program: %[3]s}", o.dir, n, httpd))
	}
	o.write("httpd.conf", conf)
	o.write("inc/empty", "")
	for n := range o.services {
		if out, said, status := vaiven(t, "front", o.file(n)); status != 0 {
			t.Fatalf("front: %s%s", out, said)
		}
	}
	o.start(httpd, "-D", "FOREGROUND", "-f", filepath.Join(o.dir, "httpd.conf"))
	o.serve()
	o.home("green")
	o.home("blue")
	o.evacuate()
}
