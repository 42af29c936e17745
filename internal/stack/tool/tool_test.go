package tool

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	"vaiven/internal/world/secret"
	"vaiven/lab/stacktest"
	"vaiven/lab/testkit"
)

func newPlan(t *testing.T, as string) *plan.Plan {
	t.Helper()
	file := testkit.Program(t, "vaiven/examples/yard")
	dir := t.TempDir()
	s := stacktest.Stack(t, as)
	s.Command[0] = stacktest.Subject(t)
	// By way of a script that hangs when it is told to.
	wrapper := filepath.Join(t.TempDir(), "yard")
	if err := os.WriteFile(wrapper, []byte("#!/bin/sh\n[ ! -e \"$0.hangs\" ] || sleep 600\nexec "+file+" \"$@\"\n"),
		0o755); err != nil {
		t.Fatal(err)
	}
	s.Tool = []string{wrapper, "-folder", dir}
	p := &plan.Plan{Service: "sailings", State: dir, Parts: []plan.Part{{Name: "web", Stacks: [2]plan.Stack{s, s}}}}
	t.Cleanup(func() {
		for i := range p.Parts[0].Stacks {
			p.Parts[0].Stacks[i].Grace, p.Parts[0].Stacks[i].Tool[0] = 0, file
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
		// what tools do is theirs
		Lacks: []string{"hangs", "more and less", "started again", "started again of the same build", "output put aside",
			"notes that are lost"},
		Whole:  true,
		Plan:   newPlan,
		Driver: func(t *testing.T, p *plan.Plan) stack.Driver { return open(p) },
		Kill: func(t *testing.T, p *plan.Plan, i reading.Instance) {
			each(p, i.Name, func(pid int) { syscall.Kill(pid, syscall.SIGKILL) })
		},
		Remains: func(t *testing.T, p *plan.Plan) []string {
			left, _ := filepath.Glob(filepath.Join(p.State, "*", "*", "*", "*"))
			each(p, "", func(pid int) { left = append(left, fmt.Sprint("process ", pid)) })
			return left
		},
		Cut: func(t *testing.T, p *plan.Plan) func() {
			words := p.Parts[0].Stacks[0].Tool // one list for both sides
			right := words[0]
			words[0] = "/nowhere/yard"
			return func() { words[0] = right }
		},
		Freeze: func(t *testing.T, p *plan.Plan) func() {
			hangs := p.Parts[0].Stacks[0].Tool[0] + ".hangs"
			if err := os.WriteFile(hangs, nil, 0o644); err != nil {
				t.Fatal(err)
			}
			return func() { os.Remove(hangs) }
		},
	})
}

// each finds the processes of an instance, or of all.
func each(p *plan.Plan, name string, do func(pid int)) {
	files, _ := filepath.Glob("/proc/[0-9]*/environ")
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		for _, variable := range strings.Split(string(data), "\x00") {
			if strings.HasPrefix(variable, "FLEET="+p.State) && strings.HasSuffix(variable, name) {
				var pid int
				fmt.Sscan(filepath.Base(filepath.Dir(file)), &pid)
				do(pid)
			}
		}
	}
}

// script is a plan whose tool is a shell script.
func script(t *testing.T, text string) *plan.Plan {
	t.Helper()
	file := filepath.Join(t.TempDir(), "tool")
	if err := os.WriteFile(file, []byte("#!/bin/sh\n"+text), 0o755); err != nil {
		t.Fatal(err)
	}
	s := stacktest.Stack(t, "well")
	s.Tool, s.Grace, s.Raise = []string{file}, 100*time.Millisecond, 200*time.Millisecond
	return &plan.Plan{Service: "sailings", Parts: []plan.Part{{Name: "web", Stacks: [2]plan.Stack{s, s}}}}
}

// What a command says that it should not is named, with the command.
func TestAToolThatMisbehaves(t *testing.T) {
	t.Setenv("FLEET_TOKEN", "sea salt")
	secrets, err := secret.Read(map[string]plan.Secret{"token": {Env: "FLEET_TOKEN"}})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ name, script, want string }{
		{"says nothing", "exit 0", "not an answer"},
		{"says something else", "echo welcome", "not an answer: invalid character 'w' looking for beginning of " +
			"value: welcome"},
		{"says something else and fails", "echo the cloud is closed; exit 1", "and it says: the cloud is closed"},
		{"goes on after its answer", `echo '{}' done`, "something follows the answer"},
		{"tells a secret where its answer should be", "echo the token is sea salt", "the token is (secret token)"},
		{"says what nobody knows", `echo '{"berths":3}'`, "unknown field"},
		{"an address that is none", `echo '{"instances":[{"name":"green-1","running":true,"address":"here"}]}'`,
			"want host:port"},
		{"fails", "echo the cloud is closed >&2; exit 1", "the cloud is closed"},
		{"complains in its answer", `echo '{"error":"quota exceeded"}'`, "quota exceeded"},
		{"tells a secret", "echo bad token sea salt >&2; exit 1", "bad token (secret token)"},
	} {
		d := New(script(t, c.script), 0, secrets)
		_, err := d.List(t.Context(), split.Green)
		if err == nil || !strings.Contains(err.Error(), c.want) || strings.Contains(err.Error(), "salt") {
			t.Errorf("%s: %v, want it to say %q", c.name, err, c.want)
		}
	}
	slow := open(script(t, "sleep 60 & sleep 60"))
	if err := slow.Raise(t.Context(), split.Green, stacktest.Second); !errors.Is(err, stack.ErrUnreachable) ||
		!strings.Contains(err.Error(), "no answer within") {
		t.Errorf("a tool that takes too long: %v", err)
	}
	deaf, err := open(script(t, "exit 0")).Place(t.Context(), reading.Instance{Name: "green-1"})
	if err != nil {
		t.Fatal(err)
	}
	var conn net.Conn
	if conn, err = deaf.Dial(t.Context(), "tcp", "db:1"); err == nil {
		conn.Close()
		t.Error("a tool that relays nothing connected")
	}
}

// An instance that is listed twice is one. Two that go by one name are a mistake, which hides
// none of the others.
func TestAnInstanceThatIsListedTwice(t *testing.T) {
	one := `{"name":"green-1","running":true,"address":"10.1.0.5:80","version":"2"}`
	d := open(script(t, `echo '{"instances":[`+one+`,`+one+`]}'`))
	if list, err := d.List(t.Context(), split.Green); err != nil || len(list) != 1 {
		t.Errorf("the same twice: %+v, %v", list, err)
	}
	d = open(script(t, `echo '{"instances":[`+one+
		`,{"name":"green-1","running":true,"address":"10.1.0.6:80"},{"name":"green-2","running":true,"address":"10.1.0.7:80"}]}'`))
	list, err := d.List(t.Context(), split.Green)
	if len(list) != 2 || list[1].Name != "green-2" || err == nil ||
		!strings.Contains(err.Error(), "lists green-1 twice") {
		t.Errorf("two of one name: %+v, %v", list, err)
	}
}
