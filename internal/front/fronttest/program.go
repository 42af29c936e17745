package fronttest

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
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
// takes connections.
func Start(t *testing.T, address, program string, args ...string) *Program {
	t.Helper()
	p := &Program{t: t, cmd: exec.Command(program, args...), log: filepath.Join(t.TempDir(), "output"), done: make(chan struct{})}
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
		p.Kill()
		if t.Failed() {
			data, _ := os.ReadFile(p.log)
			lines := strings.Split(string(data), "\n")
			t.Logf("%s said:\n%s", program, strings.Join(lines[max(0, len(lines)-40):], "\n"))
		}
	})
	Eventually(t, program+" at "+address, func() error {
		select {
		case <-p.done:
			data, _ := os.ReadFile(p.log)
			t.Fatalf("%s ended at once: %s", program, data)
		default:
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

// Kill ends the program with all its processes, and waits for it.
func (p *Program) Kill() {
	_ = syscall.Kill(-p.cmd.Process.Pid, syscall.SIGKILL)
	<-p.done
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
