package process

import (
	"context"
	"errors"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/state"
	"vaiven/lab/stacktest"
	"vaiven/lab/testkit"
)

// newPlan is a plan whose instances are the subject as it is told to be.
func newPlan(t *testing.T, as string) *plan.Plan {
	t.Helper()
	dir := t.TempDir()
	s := stacktest.Stack(t, as)
	s.Command[0] = stacktest.Subject(t)
	s.Build, s.Folder = filepath.Join(dir, "builds", "{version}"), dir
	for _, version := range []string{"1", "2"} {
		if err := os.MkdirAll(filepath.Join(dir, "builds", version), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	p := &plan.Plan{Service: "sailings", State: filepath.Join(dir, "state"),
		Parts: []plan.Part{{Name: "web", Stacks: [2]plan.Stack{s, s}}}}
	t.Cleanup(func() {
		for i := range p.Parts[0].Stacks {
			p.Parts[0].Stacks[i].Grace = 0
		}
		for _, side := range split.Sides {
			if err := open(p).Stop(context.Background(), side); err != nil {
				t.Error(err)
			}
		}
	})
	return p
}

func open(p *plan.Plan) *Driver { return New(p, 0, secret.Values{}) }

func TestConformance(t *testing.T) {
	stacktest.Run(t, stacktest.System{
		Lacks:  []string{"unreachable", "hangs"}, // it is this machine
		Plan:   newPlan,
		Driver: func(t *testing.T, p *plan.Plan) stack.Driver { return open(p) },
		Kill: func(t *testing.T, p *plan.Plan, i reading.Instance) {
			session(t, open(p), i.Side, i.Name).Signal(syscall.SIGKILL)
		},
		Forget: func(t *testing.T, p *plan.Plan) {
			notes, _ := filepath.Glob(filepath.Join(p.Instances(), "*.json"))
			for _, file := range notes {
				if err := os.Remove(file); err != nil {
					t.Error(err)
				}
			}
		},
		Remains: remains, Deliver: func(p *plan.Plan) string {
			return filepath.Join(filepath.Dir(p.State), "builds",
				"2")
		},
		DropCopies: func(t *testing.T, p *plan.Plan) {
			copies, err := filepath.Glob(filepath.Join(p.State, buildsIn, "*", "*.build"))
			if err != nil || len(copies) == 0 {
				t.Errorf("copies of builds are %q, %v", copies, err)
			}
			for _, folder := range copies {
				if err := os.RemoveAll(folder); err != nil {
					t.Error(err)
				}
			}
		},
	})
}

// A state folder that is gone, or that another one stands in the place of, is none without notes.
func TestAStateFolderThatIsGone(t *testing.T) {
	p := newPlan(t, "well")
	d := open(p)
	if l := list(t, d, split.Green); len(l) > 0 {
		t.Fatalf("before there was one there is %v", l)
	}
	if err := d.Raise(t.Context(), split.Green, stacktest.Second); err != nil {
		t.Fatal(err)
	}
	list(t, d, split.Green)
	away := p.State + ".away"
	if err := os.Rename(p.State, away); err != nil {
		t.Fatal(err)
	}
	if l, err := d.List(t.Context(), split.Green); err == nil ||
		!strings.Contains(err.Error(), "is gone: what runs is not known") {
		t.Errorf("gone, it lists %v, %v", l, err)
	}
	if err := d.Raise(t.Context(), split.Green, stacktest.Second); err == nil {
		t.Error("a side is raised of which nothing is known")
	}
	other, err := state.Open(p.State)
	if err == nil {
		err = other.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	if l, err := d.List(t.Context(), split.Green); err == nil ||
		!strings.Contains(err.Error(), "another folder stands in the place of") {
		t.Errorf("exchanged, it lists %v, %v", l, err)
	}
	// one that begins with the empty folder: by their marks
	if l := list(t, open(p), split.Green); len(l) != 2 || !l[0].Running {
		t.Errorf("to a driver that knows no other folder there is %+v", l)
	}
	if err := errors.Join(os.RemoveAll(p.State), os.Rename(away, p.State)); err != nil {
		t.Fatal(err)
	}
	if l := list(t, d, split.Green); len(l) != 2 || !l[0].Running {
		t.Errorf("back in its place, it lists %+v", l)
	}
}

// remains are notes, and processes that carry their marker.
func remains(t *testing.T, p *plan.Plan) []string {
	t.Helper()
	left, _ := filepath.Glob(filepath.Join(p.Instances(), "*"))
	files, _ := filepath.Glob("/proc/[0-9]*/environ")
	for _, file := range files {
		if data, err := os.ReadFile(file); err == nil &&
			strings.Contains(string(data), stack.Marker+"="+p.Instances()) {
			left = append(left, file)
		}
	}
	return left
}

func list(t *testing.T, d *Driver, side split.Side) []reading.Instance {
	t.Helper()
	l, err := d.List(t.Context(), side)
	if err != nil {
		t.Fatal(err)
	}
	return l
}

func raise(t *testing.T, d *Driver, side split.Side) []reading.Instance {
	t.Helper()
	if err := d.Raise(t.Context(), side, stacktest.Second); err != nil {
		t.Fatal(err)
	}
	return list(t, d, side)
}

func answers(i reading.Instance) bool {
	c, err := net.DialTimeout("tcp", i.Address, time.Second)
	if err == nil {
		c.Close()
	}
	return err == nil
}

func notesOf(t *testing.T, d *Driver, side split.Side) []*note {
	t.Helper()
	notes, err := d.notes(folder(t, d), side)
	if err != nil {
		t.Fatal(err)
	}
	return notes
}

func folder(t *testing.T, d *Driver) *state.Folder {
	t.Helper()
	in, err := state.Open(d.state)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { in.Close() })
	return in
}

// session is the process that a note names.
func session(t *testing.T, d *Driver, side split.Side, name string) ID {
	t.Helper()
	for _, n := range notesOf(t, d, side) {
		if n.Name == name {
			return n.Session
		}
	}
	t.Fatalf("no note on %s", name)
	return ID{}
}

// again is a driver like another, as if the program had been started anew.
func again(d *Driver) *Driver {
	return &Driver{service: d.service, part: d.part, first: d.first, state: d.state, dir: d.dir, secrets: d.secrets,
		turn: place.NewTurn(), most: [2]int{-1, -1}}
}

// Killed from outside, the program's end is told by the shell above it.
func TestAKilledProgramIsSeen(t *testing.T) {
	d := open(newPlan(t, "well"))
	i := raise(t, d, split.Green)[0]
	testkit.Eventually(t, "it answers", func() bool { return answers(i) })
	child := childOf(t, session(t, d, split.Green, "green-1").PID)
	if err := syscall.Kill(child, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "the signal is known", func() bool {
		return list(t, d, split.Green)[0].Exit == "ended by signal 9 (killed)"
	})
}

func childOf(t *testing.T, parent int) int {
	t.Helper()
	for pid := range processes() {
		if fields, err := statFields(pid); err == nil && fields[1] == strconv.Itoa(parent) {
			return pid
		}
	}
	t.Fatalf("process %d has no child", parent)
	return 0
}

// The shell that watches an instance may be killed: the instance is still ours.
func TestAnInstanceWithoutItsShellIsStillStopped(t *testing.T) {
	d := open(newPlan(t, "well"))
	i := raise(t, d, split.Green)[0]
	testkit.Eventually(t, "it answers", func() bool { return answers(i) })
	shell := session(t, d, split.Green, "green-1").PID
	if err := syscall.Kill(shell, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "the shell is gone", func() bool { _, err := startTicks(shell); return err != nil })
	if got := list(t, d, split.Green)[0]; !got.Running {
		t.Error("an instance that runs reads as ended")
	}
	if err := d.Stop(t.Context(), split.Green); err != nil {
		t.Fatal(err)
	}
	if answers(i) {
		t.Error("it still answers")
	}
}

// A number that was given to another process is not taken for the instance.
func TestAReusedNumberIsNotTheInstance(t *testing.T) {
	self, err := Identify(os.Getpid())
	if err != nil {
		t.Fatal(err)
	}
	if !self.Running() {
		t.Error("we do not run")
	}
	other := self
	other.Ticks++
	if other.Running() {
		t.Error("a process that started at another time is taken for ours")
	}
	rebooted := self
	rebooted.Boot = "another"
	if rebooted.Running() || (ID{}).Running() {
		t.Error("a process of another boot, or none, is taken for ours")
	}
}

// Killed between starting an instance and noting its number, the driver finds it
// again.
func TestAStartThatWasNotNotedIsFound(t *testing.T) {
	d := open(newPlan(t, "well"))
	i := raise(t, d, split.Green)[0]
	testkit.Eventually(t, "it answers", func() bool { return answers(i) })
	unfinished := *notesOf(t, d, split.Green)[0]
	unfinished.Session = ID{}
	if err := unfinished.write(folder(t, d)); err != nil {
		t.Fatal(err)
	}
	if got := list(t, again(d), split.Green)[0]; !got.Running {
		t.Error("the instance is not found")
	}
	if err := again(d).Stop(t.Context(), split.Green); err != nil {
		t.Fatal(err)
	}
	if answers(i) {
		t.Error("it was left behind")
	}
}

func TestASessionOutlivesTheCommandThatStartedIt(t *testing.T) {
	cmd := exec.Command("/bin/sh", "-c", "sleep 60 & wait")
	id, err := Start(cmd)
	if err != nil {
		t.Fatal(err)
	}
	if !id.Running() {
		t.Error("it does not run")
	}
	id.Signal(syscall.SIGKILL)
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	if !id.Gone(ctx) {
		t.Error("it is still there")
	}
}

func TestWhatCannotBeRaised(t *testing.T) {
	t.Run("no such version", func(t *testing.T) {
		d := open(newPlan(t, "well"))
		if err := d.Raise(t.Context(), split.Green, stack.Build{Version: "9"}); err == nil ||
			!strings.Contains(err.Error(), "no build of version 9") {
			t.Errorf("error %v", err)
		}
	})
	t.Run("no such program", func(t *testing.T) {
		p := newPlan(t, "well")
		p.Parts[0].Stacks[split.Green].Command = []string{"/nowhere/sailings"}
		if err := open(p).Raise(t.Context(), split.Green, stacktest.Second); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("error %v", err)
		}
	})
	t.Run("a damaged note", func(t *testing.T) {
		p := newPlan(t, "well")
		d := open(p)
		before := raise(t, d, split.Green)
		if err := os.WriteFile(filepath.Join(p.Instances(), "green-1.json"), []byte("{"), 0o600); err != nil {
			t.Fatal(err)
		}
		after := list(t, d, split.Green)
		if len(after) != 2 || !after[0].Running || after[1].Address != before[1].Address {
			t.Errorf("listed %+v, were %+v", after, before)
		}
		if err := d.Stop(t.Context(), split.Green); err != nil {
			t.Error(err)
		}
		if left := remains(t, p); len(left) > 0 {
			t.Errorf("left behind: %v", left)
		}
	})
}

// The parts of a side are kept apart.
func TestPartsHaveNotesOfTheirOwn(t *testing.T) {
	p := newPlan(t, "well")
	worker := p.Parts[0]
	worker.Name = "worker"
	worker.Stacks[split.Green].FirstPort, worker.Stacks[split.Green].LastPort = testkit.Ports(t, 10)
	p.Parts = append(p.Parts, worker)
	d := New(p, 1, secret.Values{})
	defer func() {
		if err := d.Stop(context.Background(), split.Green); err != nil {
			t.Error(err)
		}
	}()
	if got := raise(t, d, split.Green); len(got) != 2 || got[0].Name != "green-worker-1" || got[0].Part != "worker" {
		t.Errorf("raised %+v", got)
	}
	if got := list(t, open(p), split.Green); len(got) != 0 {
		t.Errorf("the first part has %+v", got)
	}
}

func TestASecretReachesTheInstanceAndNothingElse(t *testing.T) {
	t.Setenv("FARES_PASSWORD", "sea salt")
	p := newPlan(t, "well")
	secrets, err := secret.Read(map[string]plan.Secret{"fares": {Env: "FARES_PASSWORD"}})
	if err != nil {
		t.Fatal(err)
	}
	p.Parts[0].Stacks[split.Green].Environment["PASSWORD"] = "{secret fares}"
	d := New(p, 0, secrets)
	i := raise(t, d, split.Green)[0]
	testkit.Eventually(t, "it answers", func() bool { return answers(i) })
	about, err := d.Describe(t.Context(), i)
	if err != nil || about.Environment["PASSWORD"] != "sea salt" {
		t.Errorf("the instance has %q, %v", about.Environment["PASSWORD"], err)
	}
	files, _ := filepath.Glob(filepath.Join(p.State, "*", "*"))
	for _, file := range files {
		if data, _ := os.ReadFile(file); strings.Contains(string(data), "sea salt") {
			t.Errorf("%s holds the secret", file)
		}
	}
}

// Whoever asks for a stop may end meanwhile: instances keep their grace.
func TestAStopKeepsItsGrace(t *testing.T) {
	p := newPlan(t, "")
	begun, done := filepath.Join(filepath.Dir(p.State), "begun"), filepath.Join(filepath.Dir(p.State), "done")
	for i := range p.Parts[0].Stacks {
		s := &p.Parts[0].Stacks[i]
		s.Command = []string{"/bin/sh", "-c", "trap 'touch " + begun + "; sleep 0.3; touch " + done +
			"; exit 0' TERM; touch " + begun + ".ready; while :; do sleep 0.05; done"}
		s.Instances, s.Grace = 1, time.Minute
	}
	d := open(p)
	if err := d.Raise(t.Context(), split.Green, stack.Build{Version: "2"}); err != nil {
		t.Fatal(err)
	}
	there := func(file string) func() bool {
		return func() bool { _, err := os.Stat(file); return err == nil }
	}
	testkit.Eventually(t, "it listens to signals", there(begun+".ready"))
	ctx, cancel := context.WithCancel(t.Context())
	stopped := make(chan error, 1)
	go func() { stopped <- d.Stop(ctx, split.Green) }()
	testkit.Eventually(t, "it is being stopped", there(begun))
	cancel() // the screen is closed
	if err := <-stopped; err != nil {
		t.Error(err)
	}
	if !there(done)() {
		t.Error("it was killed without its grace")
	}
}

// What instances get of Vaiven's environment is a short list; a secret in it is none of
// their business.
func TestAnInstanceGetsNoVariableThatIsNotItsOwn(t *testing.T) {
	t.Setenv("BERTHS_TOKEN", "of somebody else")
	t.Setenv("TZ", "Europe/Oslo")
	d := open(newPlan(t, "well"))
	i := raise(t, d, split.Green)[0]
	about, err := d.Describe(t.Context(), i)
	if err != nil {
		t.Fatal(err)
	}
	if _, there := about.Environment["BERTHS_TOKEN"]; there || about.Environment["TZ"] != "Europe/Oslo" ||
		about.Environment["PATH"] == "" {
		t.Errorf("it has %v", about.Environment)
	}
}

// What a placeholder stands for is not filled in again: a folder's name cannot ask for a
// secret.
func TestAPlaceholderIsFilledInOnce(t *testing.T) {
	t.Setenv("FARES_PASSWORD", "sea salt")
	p := newPlan(t, "well")
	secrets, err := secret.Read(map[string]plan.Secret{"fares": {Env: "FARES_PASSWORD"}})
	if err != nil {
		t.Fatal(err)
	}
	const name = "{secret fares}"
	if err := os.Mkdir(filepath.Join(filepath.Dir(p.State), "builds", name), 0o755); err != nil {
		t.Fatal(err)
	}
	green := &p.Parts[0].Stacks[split.Green]
	green.Command = append(green.Command, "{version}")
	green.Environment["VERSION"] = "{version}"
	d := New(p, 0, secrets)
	if err := d.Raise(t.Context(), split.Green, stack.Build{Version: name}); err != nil {
		t.Fatal(err)
	}
	about, err := d.Describe(t.Context(), list(t, d, split.Green)[0])
	if err != nil || about.Command[len(about.Command)-1] != name || about.Environment["VERSION"] != name {
		t.Errorf("it runs %q with %q, %v", about.Command, about.Environment["VERSION"], err)
	}
}

// A program that puts itself into the background is found out, and goes with the others.
func TestAProgramInTheBackgroundIsFoundOut(t *testing.T) {
	p := newPlan(t, "background")
	d := open(p)
	i := raise(t, d, split.Green)[0]
	testkit.Eventually(t, "it answers", func() bool { return answers(i) })
	testkit.Eventually(t, "it is said", func() bool {
		got := list(t, d, split.Green)[0]
		return !got.Running && strings.Contains(got.Exit, "exit status 0, and left process ") &&
			strings.Contains(got.Exit, "foreground")
	})
	if err := d.Stop(t.Context(), split.Green); err != nil {
		t.Fatal(err)
	}
	if answers(i) {
		t.Error("it was left behind")
	}
	if left := remains(t, p); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// A note that somebody planted names a process that is not ours: nothing happens to it.
func TestAPlantedNoteIsNotBelieved(t *testing.T) {
	p := newPlan(t, "well")
	d := open(p)
	other := exec.Command("sleep", "60")
	victim, err := Start(other)
	if err != nil {
		t.Fatal(err)
	}
	defer victim.Signal(syscall.SIGKILL)
	in := folder(t, d)
	if err := in.Mkdir(d.dir); err != nil {
		t.Fatal(err)
	}
	planted := d.noteOf(in, "green-1")
	planted.Side, planted.Session = split.Green, victim
	if err := planted.write(in); err != nil {
		t.Fatal(err)
	}
	if got := list(t, d, split.Green); len(got) != 1 || got[0].Running {
		t.Errorf("listed %+v", got)
	}
	if err := d.Stop(t.Context(), split.Green); err != nil {
		t.Fatal(err)
	}
	if !victim.Running() {
		t.Error("a process that is not ours was killed")
	}
}

// In a state folder with links nothing is started, and nothing is written through them.
func TestLinksInTheStateFolderAreNotFollowed(t *testing.T) {
	p := newPlan(t, "well")
	d := open(p)
	precious := filepath.Join(t.TempDir(), "precious")
	if err := errors.Join(os.WriteFile(precious, []byte("as it was"), 0o600),
		os.MkdirAll(p.Instances(), 0o700)); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"green-1.log", "green-1.json", "green-1.exit"} {
		link := filepath.Join(p.Instances(), name)
		if err := os.Symlink(precious, link); err != nil {
			t.Fatal(err)
		}
		if err := d.Raise(t.Context(), split.Green, stacktest.Second); !errors.Is(err, state.ErrNotOurs) {
			t.Errorf("with the link %s it was raised: %v", name, err)
		}
		if data, err := os.ReadFile(precious); err != nil || string(data) != "as it was" {
			t.Errorf("through the link %s was written: %q, %v", name, data, err)
		}
		if err := os.Remove(link); err != nil {
			t.Fatal(err)
		}
	}
}

func TestAsAnOrdinaryUser(t *testing.T) {
	testkit.AsNobody(t, "TestConformance|TestAProgramInTheBackground|TestAStartThatWasNotNoted|TestAPlantedNote|TestLinksInTheStateFolder",
		testkit.ProgramsIn+"="+filepath.Dir(stacktest.Subject(t)))
}
