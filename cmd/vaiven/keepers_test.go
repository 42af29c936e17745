package main

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"vaiven/internal/core/plan"
	"vaiven/internal/keeper/service"
	"vaiven/lab/testkit"
)

// houses is a folder with plans, whose keepers are run by one process.
type houses struct {
	t    *testing.T
	dir  string
	cmd  *exec.Cmd
	said spoken
	// by name: where the front of a plan listens
	listens map[string]string
	ports   string // of instances
	more    string // at the end of plans
}

func newHouses(t *testing.T, dir string) *houses {
	return &houses{t: t, dir: dir, listens: map[string]string{}, ports: "9100-9110"}
}

// spoken is the file that processes write what they say to, which outlives them.
type spoken string

func (s spoken) String() string {
	data, _ := os.ReadFile(string(s)) // none yet
	return string(data)
}

func (h *houses) file(name string) string { return filepath.Join(h.dir, name+".yaml") }

// write writes a plan, whose front does not run: a keeper says so, and goes on.
func (h *houses) write(name, more string) {
	h.t.Helper()
	if h.listens[name] == "" {
		h.listens[name] = testkit.Address(h.t)
	}
	text := fmt.Sprintf("service: %s\nfront: {listen: \"%s\"}\nversions: folder builds\nstack:\n"+
		"  command: ./builds/{version}/serve {address}\n  ports: %s\nhealth: {path: /}\nsmoke: [{request: /}]\n"+
		"route: [100 %%]\n%s", name, h.listens[name], h.ports, more)
	if err := os.WriteFile(h.file(name), []byte(text), 0o644); err != nil {
		h.t.Fatal(err)
	}
}

// start runs the keepers.
func (h *houses) start() {
	h.t.Helper()
	if h.said == "" {
		h.said = spoken(filepath.Join(h.t.TempDir(), "said"))
	}
	said, err := os.OpenFile(string(h.said), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		h.t.Fatal(err)
	}
	defer said.Close()
	h.cmd = exec.Command(program, "keep", h.dir)
	h.cmd.Stderr = said
	h.cmd.Env = append(os.Environ(), "OF_ANOTHER=1")
	if err := h.cmd.Start(); err != nil {
		h.t.Fatal(err)
	}
}

// keeps waits until a plan has a keeper other than one, and returns its process.
func (h *houses) keeps(name string, before int, what string) (pid int) {
	h.t.Helper()
	defer func() {
		if h.t.Failed() {
			h.t.Log(h.said)
		}
	}()
	testkit.Eventually(h.t, name+" is kept: "+what, func() bool {
		r, err := service.AskRunning(context.Background(), h.plan(name))
		pid = r.Process
		return err == nil && pid != before && r.Kept
	})
	return pid
}

func (h *houses) plan(name string) *plan.Plan {
	return &plan.Plan{Service: name, State: filepath.Join(h.dir, name+".vaiven")}
}

// One process keeps all plans of a folder: what befalls one keeper touches no other, and what befalls that process
// touches none.
func TestKeepersOfAFolder(t *testing.T) {
	t.Parallel() // it mostly waits
	h := newHouses(t, t.TempDir())
	names := []string{"fares", "berths", "manifests"}
	for _, name := range names {
		h.write(name, "")
	}
	if err := os.WriteFile(filepath.Join(h.dir, "fares.env"), []byte("FARES_PASSWORD=\"sea $alt\"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(h.file("crew"), []byte("crew: [marit, ines]\n"), 0o644); err != nil { // which is no plan
		t.Fatal(err)
	}
	h.start()
	t.Cleanup(func() {
		_ = h.cmd.Process.Signal(syscall.SIGTERM)
		_ = h.cmd.Wait()
	})
	pids := map[string]int{}
	for _, name := range names {
		pids[name] = h.keeps(name, 0, "at first")
	}
	for name, want := range map[string]bool{"fares": true, "berths": false} {
		data, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pids[name]))
		if has := bytes.Contains(data, []byte("FARES_PASSWORD=sea $alt")); err != nil || has != want ||
			bytes.Contains(data, []byte("OF_ANOTHER")) {
			t.Errorf("the environment of %s's keeper is %q, %v", name, data, err)
		}
	}
	if _, text, status := vaiven(t, "keep", h.dir); status != 4 || !strings.Contains(text, "kept already") {
		t.Errorf("a second one says %q, exit status %d", text, status)
	}

	kill(t, pids["berths"])
	was := pids["berths"]
	pids["berths"] = h.keeps("berths", was, "again after it was killed")

	h.write("manifests", "way-back: {idle: 1h}\n") // which nobody understands
	testkit.Eventually(t, "what is wrong is said", func() bool {
		return strings.Contains(h.said.String(), "goes by the plan as it was")
	})
	h.write("manifests", "keep-log: 40 days\n")
	front := exec.Command(program, "front", h.file("manifests")) // which it needs for another one to go on
	if err := front.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = front.Process.Kill()
		_ = front.Wait()
	})
	pids["manifests"] = h.keeps("manifests", pids["manifests"], "by the plan that has changed")

	_ = h.cmd.Process.Kill()
	_ = h.cmd.Wait()
	if err := os.Remove(h.file("berths")); err != nil {
		t.Fatal(err)
	}
	h.start()
	testkit.Eventually(t, "the plan that is gone has no keeper", func() bool {
		return !service.Holding(h.plan("berths")).ID.Running()
	})
	for _, name := range []string{"fares", "manifests"} {
		if pid := h.keeps(name, 0, "whoever runs it"); pid != pids[name] {
			t.Errorf("%s's keeper was process %d, and is %d after who runs it was killed", name, pids[name], pid)
		}
	}
	if err := h.cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := h.cmd.Wait(); err != nil {
		t.Errorf("it ended with %v:\n%s", err, h.said)
	}
	for _, name := range names {
		if service.Holding(h.plan(name)).ID.Running() {
			t.Errorf("%s is kept after all", name)
		}
	}
}

// Each plan is kept as the user who could write it, and nobody gets another's secrets.
func TestKeepersOfSeveralUsers(t *testing.T) {
	t.Parallel() // it mostly waits
	if os.Getuid() != 0 {
		t.Skip("only root can be several users")
	}
	h := newHouses(t, t.TempDir())
	opened(t, filepath.Dir(program))
	opened(t, h.dir)
	const games = 5
	for n, name := range []string{"fares", "berths", "stolen"} {
		sub := filepath.Join(h.dir, name)
		if err := os.Mkdir(sub, 0o755); err != nil {
			t.Fatal(err)
		}
		one := newHouses(t, sub)
		one.write(name, "")
		if n == 0 {
			continue
		}
		for _, path := range []string{sub, one.file(name)} {
			if err := os.Chown(path, games, games); err != nil {
				t.Fatal(err)
			}
		}
	}
	secret := filepath.Join(h.dir, "fares", "fares.env")
	if err := os.WriteFile(secret, []byte("FARES_PASSWORD=salt\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(secret, filepath.Join(h.dir, "stolen", "stolen.env")); err != nil {
		t.Fatal(err)
	}
	h.start()
	t.Cleanup(func() {
		_ = h.cmd.Process.Signal(syscall.SIGTERM)
		_ = h.cmd.Wait()
	})
	for name, uid := range map[string]string{"fares": "0", "berths": "5"} {
		one := &houses{t: t, dir: filepath.Join(h.dir, name), said: h.said}
		pid := one.keeps(name, 0, "as its user")
		status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		if err != nil || !strings.Contains(string(status), "\nUid:\t"+uid+"\t"+uid) {
			t.Errorf("the keeper of %s is of\n%s", name, status)
		}
	}
	testkit.Eventually(t, "it is said that a secret is somebody else's", func() bool {
		return strings.Contains(h.said.String(), "stolen.env belongs to user 0, and the plan beside it to user 5")
	})
}
