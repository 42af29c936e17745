package main

import (
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/embedded"
	"vaiven/lab/testkit"
)

// The front is replaced by a command while passengers ask, goes home from there, and its unit files name
// what they need.
func TestTheFrontIsReplaced(t *testing.T) {
	s := scenario(t)
	lost, stop := passengers(t, s)
	defer stop()
	client := embedded.Dial(s.Plan.Socket())
	before, err := client.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	step := steps(t)
	said := step(0, []string{"it replaces process", "serves"}, "front", s.File, "--take-over", "--detach", "--grace",
		"20s")
	endsWith(t, said)
	after, err := client.Read(t.Context())
	if err != nil || after.Split != before.Split ||
		after.Sides[split.Blue].Instances[0].Requests < before.Sides[split.Blue].Instances[0].Requests {
		t.Errorf("the new process has %+v after %+v, %v", after.Split, before.Split, err)
	}
	step(0, []string{"blue"}, "back", s.File, "--to", "blue", "--why", "a try")
	stop()
	if n := lost(); n > 0 {
		t.Errorf("%d requests were lost while the front was replaced", n)
	}
	step(1, []string{"front is running already"}, "front", s.File)
	step(0, []string{"ListenStream=" + s.Plan.Front.Listen, "ExecReload=" + program + " front " + s.File +
		" --take-over --detach", "NotifyAccess=all"}, "front", s.File, "--unit")
}

// endsWith has the front that took over, by what was said of it, end with the test: the scenario knows the one before.
func endsWith(t *testing.T, said string) {
	t.Helper()
	pid, err := strconv.Atoi(regexp.MustCompile(`process (\d+) serves`).FindStringSubmatch(said)[1])
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = syscall.Kill(pid, syscall.SIGTERM) })
}

// Listeners that systemd opened are used, and those that do not fit are refused.
func TestListenersFromSystemd(t *testing.T) {
	folder := t.TempDir()
	listen := func() (*net.TCPListener, *os.File) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		f, err := l.(*net.TCPListener).File()
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { f.Close() })
		return l.(*net.TCPListener), f
	}
	l, file := listen()
	plan := filepath.Join(folder, "sailings.yaml")
	text := fmt.Sprintf("service: sailings\nfront: {listen: \"%s\"}\nstack: {command: \"./builds/{version}/sailings "+
		"--listen {address}\", ports: 18100-18199, instances: 1}\nsmoke: [{request: /}]\nroute: [100 %%]\n", l.Addr())
	if err := os.WriteFile(plan, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	run := func(f *os.File) *exec.Cmd {
		cmd := exec.Command("sh", "-c", "LISTEN_PID=$$ LISTEN_FDS=1 exec "+program+" front "+plan)
		cmd.ExtraFiles = []*os.File{f}
		return cmd
	}
	_, other := listen()
	if out, err := run(other).CombinedOutput(); err == nil ||
		!strings.Contains(string(out), "the plan has none there") {
		t.Errorf("a listener elsewhere: %v, %s", err, out)
	}
	cmd := run(file)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	}()
	at := l.Addr().String()
	_ = l.Close() // ours; the front has its own
	testkit.Eventually(t, "the front answers at the address that it was given", func() bool {
		w, err := (&http.Client{Timeout: 5 * time.Second}).Get("http://" + at)
		if err != nil {
			return false
		}
		w.Body.Close()
		return w.StatusCode == http.StatusServiceUnavailable // nobody is there
	})
	if _, err := embedded.Dial(filepath.Join(folder, "sailings.vaiven", "front.sock")).Home(t.Context(),
		front.Homing{Side: split.Blue}); err != nil {
		t.Errorf("it is steered: %v", err)
	}
}
