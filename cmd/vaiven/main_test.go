package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/embedded"
	"vaiven/internal/keeper/logbook"
	"vaiven/internal/keeper/service"
	"vaiven/internal/people/headless"
	"vaiven/internal/people/script"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/stack/process"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/state"
	"vaiven/lab/demo"
	"vaiven/lab/testkit"
)

// program is the real thing, built once for all tests.
var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "vaiven-test-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "vaiven")
	if err := testkit.Build(dir, "vaiven/cmd/vaiven", "vaiven/cmd/vaiven-relay", "vaiven/lab/vaiven-demo"); err != nil {
		panic(err)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// vaiven runs the program and returns what it printed and its exit status.
func vaiven(t *testing.T, args ...string) (stdout, stderr string, status int) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, args...)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	if slices.Contains(args, "--json") {
		fitsSchema(t, args, out.String())
	}
	return out.String(), errOut.String(), cmd.ProcessState.ExitCode()
}

func TestUsage(t *testing.T) {
	t.Parallel() // it mostly waits
	dir := t.TempDir()
	wrong := filepath.Join(dir, "wrong.yaml")
	if err := os.WriteFile(wrong, []byte("servce: x\nroute: [5]\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	right := filepath.Join(dir, "right.yaml")
	text := "service: sailings\nstack:\n  command: ./builds/{version}/run {address}\n  ports: 18100-18109\nsmoke:\n  " +
		"- request: /\nroute:\n  - 5 % for 2m\n  - ask\n  - 100 %\n"
	if err := os.WriteFile(right, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	secretive := filepath.Join(dir, "secretive.yaml")
	if err := os.WriteFile(secretive, []byte(text+"secrets: {fares: env VAIVEN_NOT_SET}\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	broken := filepath.Join(dir, "broken.yaml") // elsewhere than where its front is
	if err := os.WriteFile(broken, []byte(text+"keep: [\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args   string
		status int
		says   string
	}{
		{"", 2, "Usage"},
		{"--help", 0, "cross"},
		{"sing", 2, `no command "sing"`},
		{"plan", 2, "takes one plan file"},
		{"plan --loud " + right, 2, "unknown flag: --loud"},
		{"plan " + dir + "/nowhere.yaml", 2, "there is no plan file"},
		{"plan " + wrong, 2, `did you mean "service"?`},
		{"plan --json " + wrong, 2, `"kind":"mistakes","mistakes":[{"line":1,"column":1`},
		{"cross " + right, 2, "--version is needed"},
		{"cross " + right + " --version 1 --until later", 2, "no point of a crossing"},
		{"cross " + right + " --version 1 --yes=tea", 2, "nothing that is asked"},
		{"cross " + right + " --version 1 --version 2", 2, "want one VERSION"},
		{"raise " + right, 2, "--version is needed"},
		{"raise " + right + " --version 1", 1, "front does not answer"},
		{"prove " + right, 4, "front does not answer"},
		{"retire " + right, 2, "add --yes"},
		{"raise " + secretive + " --version 1", 1, "secret fares: the environment variable VAIVEN_NOT_SET is not set"},
		{"versions " + secretive, 1, "no such file"},
		{"versions " + right, 1, "no such file"},
		{"back " + right + " --to grene", 2, "blue or green"},
		{"back " + right, 1, "--to blue or --to green"},
		{"back " + right + " --to blue --for 0s", 1, "front does not answer"},
		{"back " + wrong + " --to blue --for 0s", 2, "it is not said whose front this is"},
		{"back " + broken + " --to blue --for 0s", 1, "front does not answer"},
		{"log " + right + " x", 2, "not the number"},
		{"log " + dir + "/nowhere.yaml", 2, "there is no plan file"},
		{"demo --fault fire", 2, `no fault "fire"`},
		{"demo --front abacus", 2, `no front "abacus"`},
		{"shift " + right, 2, "say a share"},
		{"help boat", 2, `no command "boat"`}, {"help back", 0, "vaiven back PLAN"}, {"help", 0, "Available Commands"},
		{"where " + right + " --for -3s", 2, "--for is not below zero"},
		{"where " + right + " --send -1", 2, "--send is not below zero"}, {"demo --rate -5", 2, "--rate is not below zero"},
		{"__complete demo --fault er", 0, "errors\n"}, {"__complete demo --front ng", 0, "nginx\n"},
		{"__complete back " + right + " --to b", 0, "blue\ngreen\n:"},
		{"shift " + right + " --to 101", 2, "more than 100 %"},
		{"shift " + right + " --to green --dry-run", 1, "front does not answer"},
		{"where " + right, 1, "front does not answer"},
		{"split " + dir + "/nowhere.log", 2, "there is no log"},
		{"split " + right, 1, "not an access log"},
		{"split " + right + " --key dice", 2, "not a split key"},
		{"split " + right + " --share many", 2, "not a share"},
		{"split", 2, "takes one log"},
		{"open " + right + " --theme pink", 2, "dark or light"},
		{"open " + right, 2, "the screen needs a terminal"},
		{"--version", 0, "vaiven "},
		{"version extra", 2, "unknown command"},
		{"demo extra", 2, "unknown command"},
		{"keep", 2, "takes one plan file"},
		{"keep " + right + " --log loud", 2, "invalid argument"},
		{"completion fish", 0, "complete -c vaiven"},
		{"cross --help", 0, "Examples:"},
		{"version", 0, "vaiven "},
		{"plan " + right, 0, "◇ asks a person first"},
	} {
		stdout, stderr, status := vaiven(t, strings.Fields(c.args)...)
		if status != c.status || !strings.Contains(stdout+stderr, c.says) {
			t.Errorf("vaiven %s: status %d, said\n%s%s\nwant status %d and %q", c.args, status, stdout, stderr,
				c.status, c.says)
		}
	}
	stdout, _, _ := vaiven(t, "plan", right, "--json")
	for _, want := range []string{`"total_s":1920`, `"asks":1`, `"begins_s":120`, `"part_new":5,`} {
		if !strings.Contains(stdout, want) {
			t.Errorf("the forecast %s has no %s", stdout, want)
		}
	}
}

// The demo does the whole job by itself, and ends as each fault deserves.
func TestHandsFree(t *testing.T) {
	t.Run("ends", handsFree)
	leftNothing(t)
}

func handsFree(t *testing.T) {
	for _, c := range []struct {
		fault   demo.Fault
		outcome headless.Outcome
		status  int
		long    bool // the engine's own tests have it too
	}{
		{demo.None, headless.Settled, 0, false},
		{demo.Errors, headless.RolledBack, 3, false},
		{demo.Crash, headless.RolledBack, 3, false},
		{demo.NeverHealthy, headless.CalledOff, 4, true},
		{demo.Slow, headless.RolledBack, 3, true},
		{demo.Hang, headless.RolledBack, 3, true},
		{demo.OneBad, headless.RolledBack, 3, true},
	} {
		t.Run(string(c.fault), func(t *testing.T) {
			t.Parallel() // they mostly wait
			if c.long {
				testkit.Long(t)
			}
			stdout, stderr, status := vaiven(t, "demo", "--hands-free", "--json", "--fault", string(c.fault),
				fmt.Sprintf("--patient=%v", c.fault != demo.Slow))
			lines := strings.Split(strings.TrimSpace(stdout), "\n")
			for _, line := range lines {
				if !json.Valid([]byte(line)) {
					t.Errorf("not JSON: %s", line)
				}
			}
			most := int64(0)
			if c.fault == demo.Crash {
				most = 3 // one that was in flight on each instance that crashed
			}
			sum := summaryOf(t, lines)
			if status != c.status || sum.Outcome != script.Word(string(c.outcome)) {
				t.Fatalf("status %d, summary %+v, want %d, %s\n%s", status, sum, c.status, c.outcome, stderr)
			}
			if sum.Lost > most || sum.Answers < 50 {
				t.Errorf("%d of %d answers were lost at the front door", sum.Lost, sum.Answers)
			}
		})
	}
}

// leftNothing holds the machine to have no process of this test and no folder of a demo that nobody owns.
func leftNothing(t *testing.T) {
	t.Helper()
	testkit.Eventually(t, "no process is left", func() bool { return len(running(t, "")) == 0 })
	if folders, err := demo.Left(); err != nil || len(folders) > 0 {
		t.Errorf("folders are left: %v, %v", folders, err)
	}
}

// running are the processes of the program under test whose command line has a
// word.
func running(t *testing.T, word string) []string {
	t.Helper()
	var list []string
	files, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, file := range files {
		data, err := os.ReadFile(file)
		line := strings.ReplaceAll(string(data), "\x00", " ")
		if err == nil && strings.HasPrefix(line, program+" ") && strings.Contains(line, word) {
			list = append(list, line)
		}
	}
	return list
}

// scenario builds up the demo, owned by the test.
func scenario(t *testing.T) *demo.Scenario {
	t.Helper()
	return scenarioOf(t, demo.Options{Rate: 100})
}

// scenarioOf is one with some options, which is taken away when the test ends.
func scenarioOf(t *testing.T, o demo.Options) *demo.Scenario {
	t.Helper()
	o.Program, o.Fault, o.Quick, o.Patient = program, demo.None, true, true
	s, err := demo.Build(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Remove(context.Background()); err != nil {
			t.Error(err)
		}
	})
	return s
}

// keeperOf is the process of the plan's keeper, which has to run.
func keeperOf(t *testing.T, file string) int {
	t.Helper()
	p, err := planfile.Read(file)
	if err != nil {
		t.Fatal(err)
	}
	in, err := state.Look(p.State)
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	text, err := in.ReadFile(plan.LockIn)
	if err != nil {
		t.Fatal(err)
	}
	holder, _, _ := strings.Cut(string(text), "\n")
	_, pid, _ := strings.Cut(holder, "process ")
	n, err := strconv.Atoi(pid)
	if err != nil {
		t.Fatalf("the lock says %q", text)
	}
	return n
}

// kill ends a process at once, and waits until it is gone.
func kill(t *testing.T, pid int) {
	t.Helper()
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil && !errors.Is(err, syscall.ESRCH) {
		t.Fatal(err)
	}
	gone(t, pid)
}

// gone waits until a process has ended.
func gone(t *testing.T, pid int) {
	t.Helper()
	testkit.Eventually(t, "the process has ended", func() bool {
		status, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		return err != nil || strings.Contains(string(status), ") Z ")
	})
}

// keeperEnds has a plan's keeper end with the test.
func keeperEnds(t *testing.T, file string) {
	t.Helper()
	t.Cleanup(func() {
		p, err := planfile.Read(file)
		if err == nil {
			err = service.End(context.Background(), p)
		}
		if err != nil {
			t.Error(err)
		}
	})
}

// passengers ask through the front until the test says so, and count what is
// lost.
func passengers(t *testing.T, s *demo.Scenario) (lost func() int64, stop func()) {
	var n atomic.Int64
	var once sync.Once
	failed := func(why string) { // the first says most
		n.Add(1)
		once.Do(func() { t.Logf("lost first, at %s: %s", time.Now().Format("15:04:05.000"), why) })
	}
	quit := make(chan struct{})
	var wait sync.WaitGroup
	for range 4 {
		client := &http.Client{Timeout: 10 * time.Second}
		wait.Go(func() {
			for {
				select {
				case <-quit:
					return
				default:
				}
				w, err := client.Get("http://" + s.Plan.Front.Listen + "/sailings")
				if err != nil {
					failed(err.Error())
					continue
				}
				_, err = io.Copy(io.Discard, w.Body)
				w.Body.Close()
				if err != nil || w.StatusCode == 502 || w.StatusCode == 503 || w.StatusCode == 504 {
					failed(fmt.Sprintf("%s, %v", w.Status, err))
				}
			}
		})
	}
	return n.Load, sync.OnceFunc(func() { close(quit); wait.Wait() })
}

// crossProcess is a crossing that has been started, with what it tells.
func crossProcess(t *testing.T, s *demo.Scenario) (*exec.Cmd, io.Reader) {
	t.Helper()
	cmd := exec.Command(program, "cross", s.File, "--version", demo.NewVersion, "--yes", "--json")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	return cmd, out
}

// startedCross is a crossing of which the first event has been told.
func startedCross(t *testing.T, s *demo.Scenario) *exec.Cmd {
	t.Helper()
	cmd, out := crossProcess(t, s)
	if _, err := out.Read(make([]byte, 1)); err != nil {
		t.Fatal(err)
	}
	go io.Copy(io.Discard, out)
	return cmd
}

// When the live side dies in the middle, the crossing stands still, says what helps, and ends
// with a status of its own; what helps works.
func TestTheLiveSideDies(t *testing.T) {
	s := scenario(t)
	cmd, out := crossProcess(t, s)
	var last string
	killed := false
	for lines := bufio.NewScanner(out); lines.Scan(); {
		last = lines.Text()
		if !killed && strings.Contains(last, `"event":"took_effect"`) {
			killed = true
			for _, pid := range pids(t, filepath.Join(s.Folder, "builds", demo.OldVersion), "--instance blue-") {
				if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
					t.Error(err)
				}
			}
		}
	}
	err := cmd.Wait()
	var exit *exec.ExitError
	if !errors.As(err, &exit) || exit.ExitCode() != 6 || !strings.Contains(last, `"outcome":"live_side_ill"`) ||
		!strings.Contains(last, "What can be done: all to green, ~") {
		t.Fatalf("killed %v, it ends with %v: %s", killed, err, last)
	}
	if stdout, stderr, status := vaiven(t, "back", s.File, "--to", "green"); status != 0 {
		t.Errorf("all forward: status %d, %s%s", status, stdout, stderr)
	}
	if r, err := embedded.Dial(s.Plan.Socket()).Read(t.Context()); err != nil || r.Split.Share != split.Whole {
		t.Errorf("the front has %v on green, %v", r.Split.Share, err)
	}
}

// pids are the processes whose command line has all of the words.
func pids(t *testing.T, words ...string) (list []int) {
	t.Helper()
	files, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		line := strings.ReplaceAll(string(data), "\x00", " ")
		if slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(line, w) }) {
			continue
		}
		if pid, err := strconv.Atoi(filepath.Base(filepath.Dir(file))); err == nil {
			list = append(list, pid)
		}
	}
	return list
}

// inLog holds the logbook's commands to what happened.
func inLog(t *testing.T, s *demo.Scenario) {
	t.Helper()
	book, err := logbook.Read(s.Plan.Logbook())
	if err != nil {
		t.Fatal(err)
	}
	list, err := book.Past(t.Context())
	if err = errors.Join(err, book.Close()); err != nil || len(list) < 2 || list[0].Stage != "settled" {
		t.Fatalf("crossings %+v, %v", list, err)
	}
	stdout, _, status := vaiven(t, "log", s.File)
	listed := regexp.MustCompile(`(?m)^ *\d+  \d\d:\d\d`).FindAllString(stdout, -1)
	if status != 0 || len(listed) != len(list) ||
		!strings.Contains(stdout, "usual here: raised in ") || !strings.Contains(stdout, "settled") ||
		!strings.Contains(stdout, "both sides up for ") {
		t.Errorf("vaiven log: status %d\n%s", status, stdout)
	}
	stdout, _, status = vaiven(t, "log", s.File, fmt.Sprint(list[0].Number))
	if status != 0 || !strings.Contains(stdout, "100 % on green") || !strings.Contains(stdout, "retired") {
		t.Errorf("vaiven log N: status %d\n%s", status, stdout)
	}
	if stdout, stderr, status := vaiven(t, "log", s.File, "999"); status != 1 ||
		!strings.Contains(stderr, "no such crossing") {
		t.Errorf("vaiven log 999: status %d\n%s%s", status, stdout, stderr)
	}
}

// steps carries out commands, each of which has to end with a status and to say some
// things, and returns what it printed.
func steps(t *testing.T) func(status int, says []string, args ...string) string {
	return func(status int, says []string, args ...string) string {
		t.Helper()
		stdout, stderr, got := vaiven(t, args...)
		if got != status {
			t.Fatalf("vaiven %v: status %d, want %d\n%s%s", args, got, status, stdout, stderr)
		}
		for _, text := range says {
			if !strings.Contains(stdout+stderr, text) {
				t.Errorf("vaiven %v does not say %q:\n%s%s", args, text, stdout, stderr)
			}
		}
		return stdout
	}
}

// The spare side by hand, without a crossing: what there is, what is raised, whether
// it is good, what differs, and away with it.
func TestTheSpareSideByHand(t *testing.T) {
	t.Parallel() // it mostly waits
	s := scenario(t)
	step := steps(t)
	step(0, []string{"4.5.0", "same build as blue", "4.2.0"}, "versions", s.File)
	step(4, []string{"raise it first"}, "prove", s.File)
	step(4, []string{"no such version: 9.9; there are 4.5.0"}, "raise", s.File, "--version", "9.9")
	step(4, []string{"nothing has changed", "--same-build"}, "raise", s.File, "--version", "4.2.1")

	// Killed half way and started again, it is completed, with nothing left over.
	cmd := exec.Command(program, "raise", s.File, "--version", "4.4.0")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "an instance is noted", func() bool {
		notes, _ := filepath.Glob(filepath.Join(s.Plan.Instances(), "green-*.json"))
		return len(notes) > 0
	})
	kill(t, keeperOf(t, s.File))
	cmd.Process.Kill()
	cmd.Wait()
	step(0, []string{"green-berths-1", "healthy", "green is up at 4.4.0"}, "raise", s.File, "--version", "4.4.0")
	list, err := process.New(s.Plan, 0, secret.Values{}).List(t.Context(), split.Green)
	if err != nil || len(list) != 3 {
		t.Errorf("green has %+v, %v", list, err)
	}

	var found struct {
		Proven  bool
		Passing int
	}
	if err := json.Unmarshal([]byte(step(4, nil, "prove", s.File, "--json")), &found); err != nil || found.Proven ||
		found.Passing != 25 {
		t.Errorf("proof %v, %d passing, %v", found.Proven, found.Passing, err)
	}
	step(4, []string{"FAILS", "connection refused", "reached from blue in", "not proven: 25 of 29 passing"}, "prove",
		s.File)
	step(4, []string{"configuration sailings.yaml fares.address", "planned", "15 of 15 answers are the same"}, "differ",
		s.File)
	step(0, []string{`"kind":"raised"`, `"version":"4.3.0"`}, "raise", s.File, "--version", "4.3.0", "--json")
	step(0, []string{"proven: 29 of 29 passing"}, "prove", s.File)
	step(0, []string{"0 of them unplanned"}, "differ", s.File)
	step(0, []string{"green is removed; all requests go to blue"}, "retire", s.File, "--yes")
	step(4, []string{"raise it first"}, "differ", s.File)

	// Not in the middle of a crossing, whose way back it may be.
	cross := startedCross(t, s)
	step(4, []string{"has the wheel since"}, "retire", s.File, "--yes")
	step(4, []string{"not now: "}, "retire", s.File, "--yes", "--take-wheel")
	cross.Process.Kill()
	cross.Wait()
	step(4, []string{"crossing 1 to 4.3.0, begun by ", "is still at"}, "raise", s.File, "--version", "4.4.0")
	// Findings are accepted by --accept, and by nothing else.
	step(0, nil, "back", s.File)
	step(10, []string{"accept these 2", "vaiven say ", " yes --question "}, "cross", s.File, "--version", "4.5.0", "--yes")
	step(0, []string{"accepted", "settled"}, "cross", s.File, "--version", "4.5.0", "--yes", "--accept")
}

func stateOf(t *testing.T, s *demo.Scenario) *state.Folder {
	t.Helper()
	in, err := state.Open(s.Plan.State)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { in.Close() })
	return in
}

// Two must not steer at once; going back works all the same.
func TestASecondOneMustNotSteer(t *testing.T) {
	s := scenario(t)
	unlock, err := service.Lock(stateOf(t, s), "somebody")
	if err != nil {
		t.Fatal(err)
	}
	defer unlock()
	if _, stderr, status := vaiven(t, "cross", s.File, "--version", demo.NewVersion, "--yes"); status != 4 ||
		!strings.Contains(stderr, "this service has a keeper already (somebody, process ") {
		t.Errorf("a second one: status %d, %s", status, stderr)
	}
	if stdout, stderr, status := vaiven(t, "back", s.File, "--to", "blue"); status != 0 ||
		!strings.Contains(stdout, "all requests go to blue") {
		t.Errorf("back beside a keeper: status %d, %s%s", status, stdout, stderr)
	}
}

// What a demo that was killed leaves behind, the next one clears.
func TestAKilledDemoIsCleared(t *testing.T) {
	cmd := exec.Command(program, "demo", "--hands-free", "--json")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := out.Read(make([]byte, 1)); err != nil { // the first event
		t.Fatal(err)
	}
	cmd.Process.Kill()
	cmd.Wait()
	if len(running(t, "front")) == 0 {
		t.Fatal("nothing was left behind, so this test tests nothing")
	}
	if err := demo.Clear(t.Context()); err != nil {
		t.Fatal(err)
	}
	leftNothing(t)
}

// The demo's job on every proxy that people run.
func TestHandsFreeWithEveryFront(t *testing.T) {
	for _, kind := range demo.Fronts()[1:] {
		t.Run(string(kind), func(t *testing.T) {
			t.Parallel() // they mostly wait
			if slices.Contains([]string{"haproxy", "nginx", "httpd"}, string(kind)) {
				testkit.Long(t) // docs/begin.md crosses there
			}
			stdout, stderr, status := vaiven(t, "demo", "--hands-free", "--json", "--patient", "--front", string(kind))
			sum := summaryOf(t, strings.Split(strings.TrimSpace(stdout), "\n"))
			switch {
			case status != 0 || sum.Outcome != "settled":
				t.Errorf("status %d, summary %+v\n%s", status, sum, stderr)
			case sum.Lost > 0 || sum.Answers < 50:
				t.Errorf("%d of %d answers were lost at the front door", sum.Lost, sum.Answers)
			case !strings.Contains(stdout, `"did":[`):
				t.Error("what was done at the front is not among the events")
			}
		})
	}
}

// Where requests go is told of what runs, and of one share.
func TestWhereCountsWhatIsThere(t *testing.T) {
	s := scenario(t)
	for _, pid := range pids(t, filepath.Join(s.Folder, "builds", demo.OldVersion), "--instance blue-2") {
		if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
	}
	testkit.Eventually(t, "blue-2 is told to have ended", func() bool {
		stdout, _, _ := vaiven(t, "where", s.File, "--for", "0s")
		return strings.Contains(stdout, "blue   2 instances") && strings.Contains(stdout, "does not run: ")
	})
	// Somebody swings the share while requests are counted.
	steps(t)(0, nil, "raise", s.File, "--version", demo.NewVersion)
	somebody := embedded.Dial(s.Plan.Socket())
	swinging, stop := context.WithCancel(t.Context())
	defer stop()
	done := make(chan struct{})
	go func() {
		defer close(done)
		for n := 0; swinging.Err() == nil; n++ {
			_, _ = somebody.Home(swinging, front.Homing{Side: split.Sides[n%2], By: "somebody"})
		}
	}()
	stdout, _, status := vaiven(t, "where", s.File, "--for", "300ms")
	if status != 0 || !strings.Contains(stdout, "not judged") || strings.Contains(stdout, "split as asked") {
		t.Errorf("status %d\n%s", status, stdout)
	}
	stop()
	<-done
}

// By hand: where requests go, what a shift would do, and a shift.
func TestShiftByHand(t *testing.T) {
	s := scenario(t)
	step := steps(t)
	step(0, []string{"0 % of the requests go to green", "blue-1", "0 instances"}, "where", s.File, "--for", "0s")
	step(1, []string{"green has no instances"}, "shift", s.File, "--to", "25 on green", "--dry-run")
	step(4, []string{"green is not proven", "vaiven prove"}, "shift", s.File, "--to", "25 on green")
	step(4, []string{"green has no instances"}, "shift", s.File, "--to", "25 on green", "--unproven", "--why", "a try")
	step(0, nil, "raise", s.File, "--version", demo.NewVersion)
	step(0, []string{"25 % of the requests go to green", "no crossing is under way"}, "shift", s.File, "--to",
		"25 % on green",
		"--unproven", "--why", "a try")
	step(0, []string{"25 % → 50 % on green", "every connection stays open"}, "shift", s.File, "--to", "1 in 2 on green",
		"--dry-run")
	step(0, []string{`"share_green":25,"share_new":25`, `"judgment"`, `"green-1"`}, "where", s.File, "--json", "--for",
		"1s")
	step(0, []string{"0 % of the requests go to green"}, "shift", s.File, "--to", "blue")
	step(0, []string{"shift to 0 % on green", "shift to 25 % on green, though nobody has proven it",
		"raise green at " + demo.NewVersion}, "log", s.File)
	step(0, []string{`"what":"shift to 0 % on green"`, `"did":[`}, "log", s.File, "--json")
	log := filepath.Join(t.TempDir(), "access.log")
	var text strings.Builder
	for n := range 5000 {
		fmt.Fprintf(&text, "10.0.%d.%d - - [23/Nov/2026:21:%02d:%02d +0000] \"GET / HTTP/1.1\" 200 1\n", n%7, n%200,
			n/3000, n/50%60)
	}
	if err := os.WriteFile(log, []byte(text.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	chart := filepath.Join(t.TempDir(), "split.svg")
	step(0, []string{"requests in ", "in bursts of", "client /24"}, "split", log, "--chart", chart)
	step(0, []string{`"clients_change"`}, "split", log, "--json", "--key", "client", "--share", "25")
	if _, err := os.Stat(chart); err != nil {
		t.Error(err)
	}
}

// The screen is drawn with the signs of ASCII where the locale says that there are no others.
func TestTheLocale(t *testing.T) {
	for _, c := range []struct {
		lang, ctype, all string
		want             bool
	}{
		{"", "", "", false}, {"C.UTF-8", "", "", false}, {"de_DE.utf8", "", "", false}, {"C", "", "", true},
		{"en_US.ISO-8859-1", "", "", true}, {"C", "C.UTF-8", "", false}, {"C.UTF-8", "", "POSIX", true},
	} {
		env := map[string]string{"LANG": c.lang, "LC_CTYPE": c.ctype, "LC_ALL": c.all}
		if got := onlyASCII(func(name string) string { return env[name] }); got != c.want {
			t.Errorf("%+v: %v", c, got)
		}
	}
}
