package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front/embedded"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/service"
	"vaiven/internal/stack/process"
	"vaiven/internal/world/secret"
	"vaiven/lab/demo"
	"vaiven/lab/linktest"
	"vaiven/lab/testkit"
)

// viewOf is what the keeper of a plan shows.
func viewOf(t *testing.T, s *demo.Scenario) (v keeper.Snapshot, ok bool) {
	t.Helper()
	client := http.Client{Timeout: 5 * time.Second,
		Transport: &http.Transport{DisableKeepAlives: true,
			DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
				return new(net.Dialer).DialContext(ctx, "unix", s.Plan.KeeperSocket())
			}}}
	w, err := client.Get("http://keeper/v1/view")
	if err != nil {
		return v, false
	}
	defer w.Body.Close()
	return v, json.NewDecoder(w.Body).Decode(&v) == nil
}

// until waits for a view.
func until(t *testing.T, s *demo.Scenario, what string, so func(keeper.Snapshot) bool) (v keeper.Snapshot) {
	t.Helper()
	defer func() {
		if t.Failed() {
			log, _ := os.ReadFile(filepath.Join(s.Plan.State, service.LogIn))
			t.Logf("last seen: %v, blue %+v, trouble %q\n%s", v.Crossing, v.Sides[split.Blue], v.Trouble, log)
		}
	}()
	testkit.Eventually(t, what, func() bool {
		now, ok := viewOf(t, s)
		v = now
		return ok && so(now)
	})
	return v
}

// The terminal closes in the middle of a crossing, and the release turns bad after: it is taken
// home by itself, the logbook says why, and the next screen shows it.
func TestTheTerminalCloses(t *testing.T) {
	t.Parallel() // it mostly waits
	s := scenario(t)
	_, stop := passengers(t, s)
	defer stop()
	term := onFirstLeg(t, s, 142, 38)
	term.tmux("kill-server") // the terminal is gone, and whatever hung on it
	testkit.Eventually(t, "nobody watches", func() bool { v, ok := viewOf(t, s); return ok && v.Watching == 0 })
	if err := s.Befall(demo.NewVersion, demo.Trouble{Kind: demo.Failing, Part: 0.5}); err != nil {
		t.Fatal(err)
	}
	v := until(t, s, "it went home by itself", func(v keeper.Snapshot) bool {
		return v.Crossing.Stage == crossing.RolledBack && v.Front.Split.Share == 0
	})
	if !oneof.IsA[crossing.ByGuard](v.Crossing.Why) {
		t.Errorf("it went home because of %v", v.Crossing.Why)
	}
	steps(t)(0, []string{"rolls back", "guard", "rolled back: "}, "log", s.File, "1")
	again := newTerminal(t, 142, 38, "open", s.File)
	again.wait("rolled back", "crossing 1")
	again.press("q")
	again.wait("ended with status 0")
}

// Two screens on one keeper: one steers, the other sees it, takes the wheel, and goes back.
func TestTwoScreens(t *testing.T) {
	s := scenarioOf(t, demo.Options{Rate: 100, Stays: true})
	one, two := newTerminal(t, 142, 38, "open", s.File, "--version", "4.3.0"), newTerminal(t, 142, 38, "open", s.File)
	one.wait("s starts a crossing", "4 of 4", "2 watch")
	two.wait("wheel free, 2 watch")
	one.press("s")
	one.wait("▸ 4.3.0")
	one.press("Enter")
	one.wait("Start to shift?", "you steer since")
	two.wait("Start to shift?", " steers since ")
	two.press("a")
	two.wait("has the wheel since", "take it first (g g on a screen")
	one.confirm("a")
	two.wait("leg 1 of 3: 10 % on green")
	one.press("Right", "Right", "Right", "Right", "Right", "Right")
	one.wait("enter: 40 % on green")
	one.press("Enter")
	two.wait("40 %", "frozen: the share was changed by hand")
	two.twice("g", "g again within 2 s: take the wheel")
	two.wait("you steer since")
	one.wait("has taken the wheel from you: g g takes it back")
	one.press("Space")
	one.wait("has the wheel since")
	// Rolling back needs no wheel.
	one.press("b", "b")
	two.wait("rolled back ", "by hand")
	steps(t)(0, []string{"took the wheel", "rolled back"}, "log", s.File, "1")
}

// A keeper is replaced while it works: no leg is lost, nothing freezes, and nobody notices but by
// its process. One that would not get ready leaves the first at work.
func TestAKeeperIsReplaced(t *testing.T) {
	t.Parallel() // it mostly waits
	s := scenario(t)
	lost, stop := passengers(t, s)
	defer stop()
	cross := startedCross(t, s)
	v := until(t, s, "the first leg has begun",
		func(v keeper.Snapshot) bool { return v.Crossing.Stage == crossing.Shifting && v.Crossing.Task.ID == 0 })
	first := keeperOf(t, s.File)
	next := exec.Command(program, "keep", s.File, "--take-over")
	log, err := os.Create(filepath.Join(t.TempDir(), "log"))
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	next.Stdout, next.Stderr = log, log
	said := func() string {
		data, _ := os.ReadFile(log.Name())
		return string(data)
	}
	if err := next.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan struct{})
	go func() { defer close(ended); next.Wait() }()
	defer func() { next.Process.Signal(syscall.SIGTERM); <-ended }()
	gone(t, first)
	v = until(t, s, "the next one keeps",
		func(now keeper.Snapshot) bool { return now.Ready && keeperOf(t, s.File) == next.Process.Pid })
	if v.Crossing.Stage != crossing.Shifting && v.Crossing.Stage != crossing.Keeping || v.Crossing.Frozen() ||
		!v.Hole.To.IsZero() {
		t.Errorf("taken over at %v, hole %+v: %s", v.Crossing, v.Hole, said())
	}
	if err := cross.Wait(); err != nil {
		t.Errorf("the crossing that was followed: %v, %s", err, said())
	}
	stop()
	if n := lost(); n > 0 {
		t.Errorf("%d requests were lost", n)
	}
	for e := range strings.Lines(steps(t)(0, nil, "log", s.File, "1", "--json")) {
		if strings.Contains(e, `"event":"frozen"`) || strings.Contains(e, `"event":"keeper_restarted"`) {
			t.Errorf("there is %s", e)
		}
	}
	// It is kept: a second one is refused, and one of another front does not take over.
	steps(t)(4, []string{"this service has a keeper already"}, "keep", s.File)
}

// Somebody was to go on for a keeper, and does not: it goes on itself.
func TestNobodyGoesOn(t *testing.T) {
	s := scenario(t)
	steps(t)(0, nil, "rehearse", s.File)
	first := keeperOf(t, s.File)
	other := *s.Plan
	other.Front.Listen = "127.0.0.1:1"
	if _, err := service.TakeOver(t.Context(), &other, "nobody"); !errors.Is(err, service.ErrOtherFront) {
		t.Errorf("taken over for another front: %v", err)
	}
	if _, err := service.TakeOver(t.Context(), s.Plan, "nobody"); err != nil {
		t.Fatal(err)
	}
	until(t, s, "it goes on itself",
		func(v keeper.Snapshot) bool { return v.Ready && v.Sides[split.Blue].Healthy == 4 })
	if now := keeperOf(t, s.File); now != first {
		t.Errorf("process %d keeps, and process %d did", now, first)
	}
}

// A keeper that stands still is no reason to guess: who holds the lock is said, and for how long, and one that is to go
// on by force ends it by its process.
func TestAKeeperThatHangs(t *testing.T) {
	t.Parallel() // it mostly waits
	s := scenario(t)
	step := steps(t)
	step(0, nil, "rehearse", s.File)
	first := keeperOf(t, s.File)
	testkit.Freeze(t, first)
	who := fmt.Sprintf("process %d", first)
	step(2, []string{"--force is for --take-over"}, "keep", s.File, "--force")
	step(4, []string{who, "has not answered for", "--take-over --force"}, "keep", s.File, "--take-over")
	step(4, []string{who, "--take-over --force"}, "say", s.File, "freeze")
	step(0, []string{"all requests go to blue"}, "back", s.File, "--to", "blue")
	next := exec.Command(program, "keep", s.File, "--take-over", "--force")
	if err := next.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan struct{})
	go func() { defer close(ended); next.Wait() }()
	defer func() { next.Process.Signal(syscall.SIGTERM); <-ended }()
	until(t, s, "the next one keeps",
		func(v keeper.Snapshot) bool { return v.Ready && keeperOf(t, s.File) == next.Process.Pid })
	gone(t, first)
}

// A logbook that is damaged holds up nothing but what would be recorded: it is said what can be done, going home
// works, and after a person's word there is a new one.
func TestADamagedLogbook(t *testing.T) {
	t.Parallel() // it mostly waits
	s := scenario(t)
	step := steps(t)
	step(0, nil, "rehearse", s.File)
	step(4, []string{"has a keeper already"}, "log", s.File, "--mend")
	if err := service.End(t.Context(), s.Plan); err != nil {
		t.Fatal(err)
	}
	step(0, []string{"the logbook is whole"}, "log", s.File, "--mend")
	if err := os.WriteFile(s.Plan.Logbook(), bytes.Repeat([]byte("herring "), 1000), 0o600); err != nil {
		t.Fatal(err)
	}
	step(1, []string{"the logbook is damaged", "--mend", "back"}, "rehearse", s.File)
	step(1, []string{"the logbook is damaged", "--mend"}, "log", s.File)
	step(0, []string{"0 % of the requests go to green"}, "where", s.File, "--for", "0s")
	step(1, []string{"say --to blue or --to green"}, "back", s.File)
	step(0, []string{"all requests go to blue"}, "back", s.File, "--to", "blue")
	step(2, []string{"nothing of it can be read", "--yes"}, "log", s.File, "--mend")
	step(0, []string{"begun anew; the one before is"}, "log", s.File, "--mend", "--yes")
	step(0, []string{"begin the logbook anew"}, "log", s.File)
	step(0, []string{"green is up at 4.3.0"}, "raise", s.File, "--version", "4.3.0")
}

// A keeper for systemd says when it is ready, and what it leaves when it is ended.
func TestKeepInTheForeground(t *testing.T) {
	s := scenario(t)
	step := steps(t)
	unit := step(0, []string{"Type=notify", "KillMode=process", "WatchdogSec=", "ProtectSystem=strict"}, "keep", s.File,
		"--unit")
	if !strings.Contains(unit, "ExecStart="+program+" keep "+s.File+"\n") {
		t.Errorf("the unit is\n%s", unit)
	}
	socket := filepath.Join(t.TempDir(), "notify")
	heard, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: socket, Net: "unixgram"})
	if err != nil {
		t.Fatal(err)
	}
	defer heard.Close()
	cmd := exec.Command(program, "keep", s.File, "--log", "info")
	cmd.Env = append(os.Environ(), "NOTIFY_SOCKET="+socket)
	var log bytes.Buffer
	cmd.Stderr = &log
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	next := func() string {
		data := make([]byte, 4096)
		heard.SetReadDeadline(time.Now().Add(30 * time.Second))
		n, err := heard.Read(data)
		if err != nil {
			t.Fatalf("nothing was said: %v, %s", err, log.String())
		}
		return string(data[:n])
	}
	if said := next(); said != "READY=1" {
		t.Errorf("it said %q", said)
	}
	if said := next(); said != "WATCHDOG=1" {
		t.Errorf("then %q", said)
	}
	step(0, []string{"nobody has the wheel"}, "where", s.File, "--for", "0s")
	if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	for said := next(); said != "STOPPING=1"; said = next() {
	}
	if err := cmd.Wait(); err != nil {
		t.Errorf("it ended with %v", err)
	}
	last := strings.Split(strings.TrimSpace(log.String()), "\n")
	var line struct{ Msg, Leaves string }
	if err := json.Unmarshal([]byte(last[len(last)-1]), &line); err != nil || line.Msg != "ends" ||
		!strings.HasPrefix(line.Leaves, "0 % on green; nobody watches blue") ||
		!strings.Contains(line.Leaves, "--unit prints a unit file") {
		t.Errorf("its last line is %s", last[len(last)-1])
	}
}

// Without a screen, words do what keys do, and whoever follows hears of it to the end.
func TestSayAndFollow(t *testing.T) {
	t.Parallel() // it mostly waits
	s := scenario(t)
	step := steps(t)
	step(4, []string{"no keeper runs"}, "say", s.File, "freeze")
	step(2, []string{"there is no word"}, "say", s.File, "sing")
	term := newTerminal(t, 100, 30, "open", s.File, "--version", "4.3.0")
	term.wait("s starts a crossing", "4 of 4")
	term.press("s")
	term.wait("▸ 4.3.0")
	follow := exec.Command(program, "follow", s.File, "--json", "--since", "0")
	var told bytes.Buffer
	follow.Stdout = &told
	if err := follow.Start(); err != nil {
		t.Fatal(err)
	}
	term.press("Enter")
	term.wait("Start to shift?")
	step(2, []string{"--question N"}, "say", s.File, "yes")
	asked := until(t, s, "it is asked", func(v keeper.Snapshot) bool { return v.Crossing.Question.ID != 0 })
	question := fmt.Sprint(asked.Crossing.Question.ID)
	step(4, []string{"has the wheel since"}, "say", s.File, "yes", "--question", question)
	step(0, []string{"yes, to: green is proven"}, "say", s.File, "yes", "--question", question, "--take-wheel", "--why",
		"the captain agrees")
	until(t, s, "the first leg has begun",
		func(v keeper.Snapshot) bool { return v.Crossing.Stage == crossing.Shifting })
	step(0, []string{"freeze"}, "say", s.File, "freeze")
	frozen := until(t, s, "it is frozen", func(v keeper.Snapshot) bool { return v.Crossing.Frozen() }).Crossing.Freezes
	step(4, []string{"say that you have seen it: --freeze"}, "say", s.File, "steer", "60")
	step(4, []string{"say that you have seen it: --freeze"}, "shift", s.File, "--to", "60")
	step(4, []string{"frozen"}, "say", s.File, "resume", "--freeze", "1")
	step(0, []string{`"said":"steer 60"`}, "say", s.File, "steer", "60", "--json", "--freeze",
		fmt.Sprint(frozen[len(frozen)-1].ID))
	until(t, s, "it is steered", func(v keeper.Snapshot) bool { return v.Front.Split.Share == 6000 })
	step(4, []string{"nothing is asked any more"}, "say", s.File, "yes", "--question", "3")
	step(2, []string{"a route has to end at 100 %"}, "say", s.File, "reroute", "80 % for 1m")
	step(4, []string{"stay as they are"}, "say", s.File, "reroute", "80 % for 1m", "100 %")
	legs := []string{"say", s.File, "reroute"}
	until(t, s, "more goes by other legs", func(v keeper.Snapshot) bool {
		legs = legs[:3]
		for _, l := range v.Crossing.Route[:v.Crossing.Leg+1] {
			legs = append(legs, l.String())
		}
		return v.Crossing.Leg >= 0 && v.Crossing.Task.ID == 0
	})
	step(0, []string{"80 % until sure, at most 2m 100 %"}, append(legs, "80 % until sure, at most 2m", "100 %")...)
	until(t, s, "a guard has come to something", func(keeper.Snapshot) bool {
		out, _, _ := vaiven(t, "evidence", s.File)
		return strings.Contains(out, "trips at ")
	})
	chart := filepath.Join(t.TempDir(), "failing.svg")
	step(0, []string{`"needed"`, `"points"`}, "evidence", s.File, "--json")
	step(2, []string{"there is no guard"}, "evidence", s.File, "--guard", "nothing", "--chart", chart)
	// A front that does not answer has the keeper go on when whoever asked has given up.
	thaw := testkit.Freeze(t, frontOf(t, s.File))
	step(1, []string{"the keeper was told, and goes on trying"}, "back", s.File, "--why", "enough", "--for", "1s")
	// which it does already
	step(1, []string{"the keeper was told, and goes on trying"}, "back", s.File, "--why", "enough", "--for", "1s")
	thaw()
	var exit *exec.ExitError
	if err := follow.Wait(); err == nil || !asExit(err, &exit) || exit.ExitCode() != exitRolledBack {
		t.Errorf("whoever followed ended with %v", err)
	}
	events := told.String()
	for _, want := range []string{`"event":"begun"`, `"said":"the captain agrees"`, `"event":"frozen"`,
		`"event":"rerouted"`, `"event":"ended"`} {
		if !strings.Contains(events, want) {
			t.Errorf("who followed did not hear %s:\n%s", want, events)
		}
	}
	term.press("q")
	term.wait("ended with status 0")
}

// frontOf is the process of a plan's own front.
func frontOf(t *testing.T, file string) int {
	t.Helper()
	list, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range list {
		text, _ := os.ReadFile(name) // of one that has ended meanwhile there is none
		if strings.HasSuffix(string(text), "\x00front\x00"+file+"\x00") {
			n, _ := strconv.Atoi(filepath.Base(filepath.Dir(name)))
			return n
		}
	}
	t.Fatal("no front runs")
	return 0
}

func asExit(err error, to **exec.ExitError) bool {
	e, ok := err.(*exec.ExitError)
	*to = e
	return ok
}

// From another machine, over SSH: the same screen and the same commands.
func TestOpenOverSSH(t *testing.T) {
	s := scenario(t)
	home := t.TempDir()
	bin := filepath.Join(home, "bin")
	server := linktest.Start(t, home, "SetEnv PATH="+bin+":/usr/bin:/bin")
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	host, port, _ := net.SplitHostPort(server.Address)
	config := fmt.Sprintf("Host quay\n\tHostName %s\n\tPort %s\n\tUser %s\n\tIdentityFile %s\n\tUserKnownHostsFile "+
		"%s\n", host, port, me.Username, server.Identity, server.KnownHosts)
	if err := os.MkdirAll(filepath.Join(home, ".ssh"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(home, ".ssh", "config"), []byte(config), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("HOME", home)
	at := me.Username + "@quay:" + s.File
	step := steps(t)
	step(1, []string{"has no vaiven on the path"}, "rehearse", at)
	if err := os.Mkdir(bin, 0o755); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"vaiven", "vaiven-relay"} {
		if err := os.Symlink(filepath.Join(filepath.Dir(program), name), filepath.Join(bin, name)); err != nil {
			t.Fatal(err)
		}
	}
	step(4, []string{"no keeper runs"}, "say", at, "freeze")
	step(0, []string{"0 % of the requests go to green"}, "where", at, "--for=0s")
	step(0, []string{"at " + me.Username + "@quay: a keeper of sailings was started",
		"the rollback, but for its last act"}, "rehearse", at)
	step(0, []string{"green is up at 4.3.0"}, "raise", at, "--version", "4.3.0")
	step(4, []string{"environment", "28 of 29 passing"}, "prove", at) // it was started from another session than blue
	term := newTerminal(t, 142, 38, "open", at)
	term.wait("4 of 4 healthy", "sailings")
	step(0, []string{"10 % of the requests go to green"}, "shift", at, "--to", "10 on green", "--unproven", "--why",
		"a try")
	term.wait("10 %")
	step(0, []string{"all requests go to blue"}, "back", at, "--to=blue")
	term.wait("0 %")
	step(0, []string{"green is removed"}, "retire", at, "--yes")
	step(0, []string{"shift to 10 % on green, though nobody has proven it"}, "log", at)
	step(2, []string{"there is no plan file"}, "rehearse", me.Username+"@quay:/nowhere.yaml")
	term.press("q")
	term.wait("ended with status 0")
}

// Instances that are killed while they are wanted are started again, and counted.
func TestInstancesHaveSomebody(t *testing.T) {
	s := scenario(t)
	step := steps(t)
	step(0, nil, "rehearse", s.File) // starts the keeper
	before := pids(t, filepath.Join(s.Folder, "builds"), "--instance blue-2")
	if len(before) == 0 {
		t.Fatal("there is no blue-2")
	}
	for _, pid := range before {
		if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
	}
	v := until(t, s, "it runs again", func(v keeper.Snapshot) bool {
		side := v.Sides[split.Blue]
		return side.Healthy == 4 && len(side.Restarts) == 1 && side.Restarts[0].Instance == "blue-2" &&
			side.Restarts[0].Count == 1
	})
	if i := slices.IndexFunc(v.Sides[split.Blue].Instances,
		func(c reading.Condition) bool { return c.Name == "blue-2" }); i < 0 ||
		v.Sides[split.Blue].Instances[i].Version != demo.OldVersion {
		t.Errorf("blue is %+v", v.Sides[split.Blue].Instances)
	}
	step(0, []string{"start blue-2 again", "started again, for the first time"}, "log", s.File)
}

// standing holds the sides that get requests to having their instances.
func standing(t *testing.T, s *demo.Scenario, front *embedded.Client) {
	t.Helper()
	r, err := front.Read(t.Context())
	if err != nil {
		t.Fatalf("the front is gone: %v", err)
	}
	for _, side := range split.Sides {
		if r.Split.Share.Of(side) == 0 {
			continue
		}
		if list, err := process.New(s.Plan, 0, secret.Values{}).List(t.Context(), side); err != nil || len(list) != 3 ||
			slices.ContainsFunc(list, func(i reading.Instance) bool { return !i.Running }) {
			t.Fatalf("%v gets %v, and has %+v, %v", side, r.Split.Share, list, err)
		}
	}
}

// SIGKILL of the keeper, or of who follows it, at random instants of crossings: nothing is lost, what
// serves goes on, and the crossing is taken to an end by whoever comes after. make torment has
// two hundred of them, on all fronts, which are killed as well.
func TestKilledAtRandom(t *testing.T) {
	t.Parallel() // it mostly waits
	s := scenario(t)
	lost, stop := passengers(t, s)
	defer stop()
	r := testkit.Rand(t)
	front := embedded.Dial(s.Plan.Socket())
	var kills atomic.Int64
	defer func() {
		if t.Failed() {
			out, _ := exec.Command("sh", "-c",
				"tail -n 3 "+s.Folder+"/cross-*.log "+filepath.Join(s.Plan.State, service.LogIn)).CombinedOutput()
			t.Logf("%s", out)
		}
	}()
	for n := range 4 {
		cross := exec.Command(program, "cross", s.File, "--version", demo.NewVersion, "--yes", "--take-wheel",
			"--same-build")
		out, err := os.Create(filepath.Join(s.Folder, fmt.Sprintf("cross-%d.log", n)))
		if err != nil {
			t.Fatal(err)
		}
		defer out.Close()
		cross.Stdout, cross.Stderr = out, out
		if err := cross.Start(); err != nil {
			t.Fatal(err)
		}
		testkit.Eventually(t, "it has begun: "+out.Name(),
			func() bool { v, ok := viewOf(t, s); return ok && v.Crossing.Stage.UnderWay() })
		// the instant is the test's input, nothing waits for it to be right
		time.Sleep(time.Duration(r.IntN(5000)) * time.Millisecond)
		switch n % 2 {
		case 0:
			kill(t, keeperOf(t, s.File))
		case 1:
			cross.Process.Kill()
		}
		kills.Add(1)
		standing(t, s, front)
		testkit.Eventually(t, "a keeper is at work again, or still", func() bool {
			_, ok := viewOf(t, s)
			if !ok {
				vaiven(t, "rehearse", s.File)
			}
			return ok
		})
		step := steps(t)
		step(0, nil, "back", s.File, "--to", "blue")
		until(t, s, "it is over", func(v keeper.Snapshot) bool {
			return v.Ready && !v.Crossing.Stage.UnderWay() && v.Crossing.Task.ID == 0
		})
		cross.Process.Signal(syscall.SIGTERM)
		cross.Wait()
		now, err := front.Read(t.Context())
		if err != nil || now.Split.Share != 0 {
			t.Fatalf("after %d kills: %+v, %v\n%s", kills.Load(), now.Split, err, out.Name())
		}
	}
	if stdout, stderr, status := vaiven(t, "cross", s.File, "--version", demo.NewVersion, "--yes",
		"--json"); status != 0 {
		t.Errorf("a crossing after all that: status %d\n%s%s", status, stdout, stderr)
	}
	stop()
	if n := lost(); n > 0 {
		t.Errorf("%d requests were lost in %d kills", n, kills.Load())
	}
	inLog(t, s)
}
