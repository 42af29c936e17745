package place

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"time"
)

// Dialer makes connections from somewhere.
type Dialer interface {
	// Dial connects from there. Its errors wrap those of package net, wherever they
	// arose; see [Failure].
	Dial(ctx context.Context, network, address string) (net.Conn, error)
}

// Place is where an instance stands. Its methods may be called concurrently.
type Place interface {
	Dialer
	// Run runs a command to its end. An exit status above 0 is not an error.
	Run(ctx context.Context, c Command) (Outcome, error)
	// ReadFile reads a file of at most [FileLimit] bytes.
	ReadFile(ctx context.Context, path string) ([]byte, error)
	// Close lets the place go.
	Close() error
}

// Command is a program with its arguments. Everybody on the machine can see them as long
// as it runs, and nobody but its user what stands in its environment.
type Command struct {
	Words       []string
	Environment map[string]string // added to what there is
}

// Unsure is a connection that may turn out not to have been made, as whatever carries it says so late. Whoever asks
// something on it hears of it; who does not has to wait.
type Unsure interface {
	// Refused waits until it would have been said, and is why it was not made; nil if nothing speaks against it.
	Refused(context.Context) error
}

// Takes connects to an address from somewhere, and lets it go: it is why nothing takes connections there.
func Takes(ctx context.Context, from Dialer, address string) error {
	conn, err := from.Dial(ctx, "tcp", address)
	if err != nil {
		return err
	}
	defer conn.Close()
	if c, ok := conn.(Unsure); ok {
		return c.Refused(ctx)
	}
	return nil
}

// Carrier is a place from which something else carries connections, which may be ill itself.
type Carrier interface {
	// Carries is why it does not, nil if it does: what is not reached then is not known to be ill.
	Carries(context.Context) error
}

// Preparer is a place that has to be prepared before anything is asked from there. Preparing
// is not counted as a part of what is asked.
type Preparer interface{ Prepare(context.Context) error }

// Outcome is how a command ended.
type Outcome struct {
	Status int
	Output []byte // of both its outputs, at most OutputLimit
}

// Failed is an error for any status but 0, with so many bytes of the last that was said. hide takes secrets out of
// that.
func (o Outcome) Failed(most int, hide func(string) string) error {
	if o.Status == 0 {
		return nil
	}
	said := strings.TrimSpace(hide(strings.ToValidUTF8(string(o.Output), "?")))
	return fmt.Errorf("exit status %d: %s", o.Status, said[max(0, len(said)-most):])
}

// The limits of what is taken from a place, in bytes.
const (
	FileLimit   = 4 << 20
	OutputLimit = 4 << 20
)

// ErrCannot is wrapped when a place cannot do what is asked at all.
var ErrCannot = errors.New("cannot be done from there")

// ErrUnreachable is wrapped when a machine does not answer. What runs there may well go on.
var ErrUnreachable = errors.New("unreachable")

// Local is this machine. The zero value is ready.
type Local struct {
	Dir         string   // where commands run; "" for where we do
	Environment []string // of commands, each NAME=VALUE; nil for our own
}

// Dial connects from this machine.
func (Local) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	var d net.Dialer
	return d.DialContext(ctx, network, address)
}

// Program makes a command of this machine that the context ends with all that it started.
// Who has its output open after its end is waited for a second.
func Program(ctx context.Context, words ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
	return cmd
}

// Run runs a command on this machine. A command that the context ends is killed
// with all that it started; what goes on when it has ended is left alone.
func (l Local) Run(ctx context.Context, c Command) (Outcome, error) {
	cmd := Program(ctx, c.Words...)
	cmd.Dir = l.Dir
	if cmd.Env = slices.Clone(l.Environment); l.Environment == nil {
		cmd.Env = os.Environ()
	}
	for name, value := range c.Environment {
		cmd.Env = append(cmd.Env, name+"="+value)
	}
	var out Output
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	if errors.Is(err, exec.ErrWaitDelay) && ctx.Err() == nil {
		err = nil
	}
	var exit *exec.ExitError
	if errors.As(err, &exit) && ctx.Err() == nil {
		return Outcome{Status: exit.ExitCode(), Output: out.Bytes()}, nil
	}
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	return Outcome{Output: out.Bytes()}, err
}

// ReadFile reads a file of this machine.
func (Local) ReadFile(ctx context.Context, path string) ([]byte, error) {
	return act(ctx, reads, path, func() ([]byte, error) { return readFile(path) })
}

func readFile(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return Limited(f, path)
}

// Close does nothing.
func (Local) Close() error { return nil }

// Limited reads what is there, and refuses more than FileLimit.
func Limited(r io.Reader, name string) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(r, FileLimit+1))
	if err == nil && len(data) > FileLimit {
		err = fmt.Errorf("%s has more than %d bytes", name, FileLimit)
	}
	return data, err
}

// Output keeps the first OutputLimit bytes that are written to it, and takes the
// rest as well.
type Output struct{ kept bytes.Buffer }

// Write takes everything.
func (o *Output) Write(p []byte) (int, error) {
	if room := OutputLimit - o.kept.Len(); room > 0 {
		o.kept.Write(p[:min(room, len(p))])
	}
	return len(p), nil
}

// Bytes is what was kept.
func (o *Output) Bytes() []byte { return o.kept.Bytes() }

// Cause is why a connection was not made.
type Cause string

// The causes that are told apart.
const (
	Refused     Cause = "refused"
	NoName      Cause = "no such name"
	TimeOut     Cause = "time-out"
	Unreachable Cause = "unreachable"
	Other       Cause = "other"
)

// CauseOf is the cause that an error of package net stands for.
func CauseOf(err error) Cause {
	var dns *net.DNSError
	var timeout net.Error
	switch {
	case errors.As(err, &dns) && !dns.IsTimeout:
		return NoName
	case errors.Is(err, syscall.ECONNREFUSED):
		return Refused
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return Unreachable
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, os.ErrDeadlineExceeded), errors.As(err, &timeout) &&
		timeout.Timeout():
		return TimeOut
	}
	return Other
}

// Failure is the error for a connection that was tried elsewhere. It wraps what
// package net would have returned here.
func Failure(cause Cause, address, detail string) error {
	var err error
	switch cause {
	case Refused:
		err = syscall.ECONNREFUSED
	case NoName:
		host, _, _ := net.SplitHostPort(address)
		err = &net.DNSError{Err: "no such host", Name: host, IsNotFound: true}
	case TimeOut:
		err = os.ErrDeadlineExceeded
	case Unreachable:
		err = syscall.EHOSTUNREACH
	default:
		err = errors.New(detail)
	}
	return fmt.Errorf("connect to %s: %w", address, err)
}
