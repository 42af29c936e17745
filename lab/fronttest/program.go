package fronttest

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"vaiven/lab/testkit"
)

// Need skips nothing: a proxy that is not there fails the test, because "make test"
// installs it.
func Need(t *testing.T, program string) string {
	t.Helper()
	path, err := exec.LookPath(program)
	if err != nil {
		if path, err = exec.LookPath("/usr/sbin/" + program); err != nil {
			t.Fatalf("%s is needed to test its driver: make test installs it", program)
		}
	}
	return path
}

// Program is a proxy that was started in the foreground.
type Program struct {
	t    *testing.T
	cmd  *exec.Cmd
	log  string
	done chan struct{} // closed when it has ended
}

// Start starts a program in a process group of its own, and waits until an address
// takes connections. It ends with the test.
func Start(t *testing.T, address, program string, args ...string) *Program {
	t.Helper()
	p := Shared(t, address, filepath.Join(t.TempDir(), "output"), program, args...)
	t.Cleanup(func() {
		p.Kill()
		p.said(t)
	})
	return p
}

// said logs what a program has said last, if the test failed.
func (p *Program) said(t *testing.T) {
	if t.Failed() {
		data, _ := os.ReadFile(p.log)
		lines := strings.Split(string(data), "\n")
		t.Logf("%s said:\n%s", p.cmd.Path, strings.Join(lines[max(0, len(lines)-40):], "\n"))
	}
}

// Shared starts a program as Start does that goes on after the test, for others: whoever starts it has to kill it.
// What it says is in a file.
func Shared(t *testing.T, address, log, program string, args ...string) *Program {
	t.Helper()
	p := &Program{t: t, cmd: exec.Command(program, args...), log: log, done: make(chan struct{})}
	out, err := os.Create(p.log)
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	p.cmd.Stdout, p.cmd.Stderr = out, out
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := p.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	go func() {
		defer close(p.done)
		_ = p.cmd.Wait()
	}()
	t.Cleanup(func() {
		if t.Failed() {
			data, _ := os.ReadFile(p.log)
			t.Logf("%s said: %s", program, data)
		}
	})
	testkit.Until(t, program+" listens at "+address, func() error {
		if p.Ended() {
			t.Fatalf("%s ended at once", program)
		}
		conn, err := net.DialTimeout("tcp", address, time.Second)
		if err == nil {
			err = conn.Close()
		}
		return err
	})
	return p
}

// Signal sends the program itself a signal.
func (p *Program) Signal(s syscall.Signal) {
	p.t.Helper()
	if err := p.cmd.Process.Signal(s); err != nil {
		p.t.Fatalf("signal %v: %v", s, err)
	}
}

// Freeze stops the program itself until thaw is called.
func (p *Program) Freeze() (thaw func()) {
	p.t.Helper()
	return testkit.Freeze(p.t, p.cmd.Process.Pid)
}

// Ended reports whether it has ended.
func (p *Program) Ended() bool {
	select {
	case <-p.done:
		return true
	default:
		return false
	}
}

// Kill ends the program with all its processes, and waits for each: the workers of a busy machine hold the address
// for a while after their master has gone.
func (p *Program) Kill() {
	group := p.cmd.Process.Pid
	_ = syscall.Kill(-group, syscall.SIGKILL)
	<-p.done
	testkit.Eventually(p.t, "all its processes have ended", func() bool { return !alive(group) })
}

// alive reports whether a process group has a member that is not a zombie (proc(5), fields 3 and 5).
func alive(group int) bool {
	if syscall.Kill(-group, 0) != nil {
		return false
	}
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, file := range stats {
		data, _ := os.ReadFile(file) // none if it has gone
		fields := strings.Fields(string(data[bytes.LastIndexByte(data, ')')+1:]))
		if len(fields) > 2 && fields[2] == strconv.Itoa(group) && fields[0] != "Z" && fields[0] != "X" {
			return true
		}
	}
	return false
}

// Again starts a program that was killed as it was started first, at the same address.
func (p *Program) Again(address string) *Program {
	p.t.Helper()
	return Start(p.t, address, p.cmd.Path, p.cmd.Args[1:]...)
}

// Write writes a file with the lines of a template, NAME by value.
func Write(t *testing.T, file, text string, values ...string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(strings.NewReplacer(values...).Replace(text)), 0o644); err != nil {
		t.Fatal(err)
	}
}

// Append adds to a file.
func Append(t *testing.T, file, text string) {
	t.Helper()
	f, err := os.OpenFile(file, os.O_APPEND|os.O_WRONLY, 0)
	if err == nil {
		_, err = f.WriteString(text)
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		t.Fatal(err)
	}
}

// Address is one of 127.0.0.1.
func Address(port int) string { return fmt.Sprintf("127.0.0.1:%d", port) }
