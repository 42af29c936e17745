package place

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"vaiven/lab/testkit"
)

// echo is a server that says everything back.
func echo(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				io.Copy(c, c)
			}()
		}
	}()
	return l.Addr().String()
}

// stream is both ends of what a program's standard input and output are.
type stream struct {
	io.Reader
	io.WriteCloser
}

// relayed connects through a relay that runs beside us.
func relayed(t *testing.T, address string) (net.Conn, error) {
	t.Helper()
	toFar, fromNear := io.Pipe()
	toNear, fromFar := io.Pipe()
	done := make(chan struct{})
	go func() {
		defer close(done)
		ServeRelay(t.Context(), toFar, fromFar)
		fromFar.Close()
		toFar.Close()
	}()
	t.Cleanup(func() { <-done })
	return Relay(t.Context(), stream{toNear, fromNear}, "green-1", address)
}

func TestARelayPassesEverything(t *testing.T) {
	c, err := relayed(t, echo(t))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	text := strings.Repeat("vaivén ", 50_000) + "\n"
	go io.WriteString(c, text)
	got, err := bufio.NewReader(c).ReadString('\n')
	if err != nil || got != text {
		t.Errorf("%d bytes came back of %d, %v", len(got), len(text), err)
	}
	if err := c.SetReadDeadline(time.Now().Add(time.Millisecond)); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Read(make([]byte, 1)); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("reading past the deadline: %v", err)
	}
}

// A failure elsewhere is told apart as one here would be.
func TestCausesAreTheSameThroughARelay(t *testing.T) {
	for _, c := range []struct {
		address string
		want    Cause
	}{{testkit.Address(t), Refused}, {"no-such-host.invalid:1", NoName}} {
		_, here := Local{}.Dial(t.Context(), "tcp", c.address)
		_, there := relayed(t, c.address)
		if CauseOf(here) != c.want || CauseOf(there) != c.want {
			t.Errorf("%s: here %q (%v), there %q (%v), want %q", c.address, CauseOf(here), here, CauseOf(there), there,
				c.want)
		}
	}
	for _, cause := range []Cause{Refused, NoName, TimeOut, Unreachable, Other} {
		if got := CauseOf(Failure(cause, "db:1", "something")); got != cause {
			t.Errorf("the failure for %q is of cause %q", cause, got)
		}
	}
}

func TestARelayThatIsNoneIsNamed(t *testing.T) {
	near, far := net.Pipe()
	go func() {
		bufio.NewReader(far).ReadString('\n')
		io.WriteString(far, "Welcome to the harbour\n")
	}()
	if _, err := Relay(t.Context(), near, "", "db:1"); err == nil || !strings.Contains(err.Error(), "Welcome") {
		t.Errorf("error %v", err)
	}
	near, _ = net.Pipe() // nobody at the other end
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	if _, err := Relay(ctx, near, "", "db:1"); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a silent relay: %v", err)
	}
}

func TestLocalCommands(t *testing.T) {
	out, err := Local{}.Run(t.Context(), Command{Words: []string{"/bin/sh", "-c", "echo well; echo badly >&2; exit 3"}})
	if err != nil || out.Status != 3 || string(out.Output) != "well\nbadly\n" {
		t.Errorf("outcome %+v, %v", out, err)
	}
	if _, err := (Local{}).Run(t.Context(), Command{Words: []string{"/nowhere/check"}}); !errors.Is(err,
		os.ErrNotExist) {
		t.Errorf("a command that is not there: %v", err)
	}
	// With what it started: the output would otherwise be waited for.
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	if _, err := (Local{}).Run(ctx, Command{Words: []string{"/bin/sh", "-c", "sleep 60 & sleep 60"}}); !errors.Is(err,
		context.DeadlineExceeded) {
		t.Errorf("a command that takes too long: %v", err)
	}
	out, _ = Local{}.Run(t.Context(), Command{Words: []string{"/bin/sh", "-c", "head -c 5000000 /dev/zero"}})
	if len(out.Output) != OutputLimit {
		t.Errorf("%d bytes of output are kept", len(out.Output))
	}
}

func TestFilesAreBounded(t *testing.T) {
	file := filepath.Join(t.TempDir(), "large")
	if err := os.WriteFile(file, make([]byte, FileLimit+1), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := (Local{}).ReadFile(t.Context(), file); err == nil || !strings.Contains(err.Error(), "more than") {
		t.Errorf("error %v", err)
	}
}

// A process waits for a signal if it sleeps, and the signal is neither held back nor on its way.
func TestWaits(t *testing.T) {
	for _, c := range []struct {
		status string
		want   bool
	}{
		{"State:\tS (sleeping)\nSigPnd:\t0000000000000000\nShdPnd:\t0000000000000000\nSigBlk:\t0000000000000000\n", true},
		{"State:\tR (running)\nSigBlk:\t0000000000000000\n", false},
		{"State:\tS (sleeping)\nSigBlk:\t0000000000000001\n", false},
		{"State:\tS (sleeping)\nShdPnd:\t0000000000000001\n", false},
		{"State:\tS (sleeping)\nSigPnd:\t0000000000000001\n", false},
		{"State:\tS (sleeping)\nSigBlk:\t0000000000000200\n", true}, // another one
		{"", true}, // not known
	} {
		if f, err := ParseFamily([]byte(c.status)); err != nil || f.Waits(syscall.SIGHUP) != c.want {
			t.Errorf("%q: it waits %v, %v", c.status, f.Waits(syscall.SIGHUP), err)
		}
	}
}
