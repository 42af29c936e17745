package host

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"vaiven/internal/link"
	"vaiven/internal/place"
	"vaiven/internal/plan"
	"vaiven/internal/stack"
)

// machine is one host with its connection, which is made when it is needed and
// made anew when it is lost. Make it with newMachine.
type machine struct {
	plan.Host
	identity   string
	knownHosts string

	dialing stack.Turn
	client  atomic.Pointer[ssh.Client]
}

// identities are the plan's key, if it names one.
func (m *machine) identities() []string {
	if m.identity == "" {
		return nil
	}
	return []string{m.identity}
}

func newMachine(h plan.Host, identity, knownHosts string) *machine {
	return &machine{Host: h, identity: identity, knownHosts: knownHosts, dialing: stack.NewTurn()}
}

// connect is the connection to the host.
func (m *machine) connect(ctx context.Context) (*ssh.Client, error) {
	if client := m.client.Load(); client != nil {
		return client, nil
	}
	if err := m.dialing.Take(ctx); err != nil {
		return nil, m.unreachable(fmt.Errorf("no connection yet: %w", context.Cause(ctx)))
	}
	defer m.dialing.Give()
	if client := m.client.Load(); client != nil {
		return client, nil
	}
	client, err := link.Dial(ctx, link.Login{User: m.User, Address: m.Address, Identities: m.identities(), KnownHosts: m.knownHosts})
	if errors.Is(err, context.DeadlineExceeded) {
		err = fmt.Errorf("it does not answer a connection: %w", err)
	}
	if err != nil {
		return nil, m.unreachable(err)
	}
	m.client.Store(client)
	go func() { // until the connection ends
		_ = client.Wait()
		m.lost(client)
	}()
	return client, nil
}

func (m *machine) unreachable(err error) error {
	return fmt.Errorf("%w: host %v: %w", stack.ErrUnreachable, m.Host, err)
}

// lost forgets a connection.
func (m *machine) lost(client *ssh.Client) {
	if m.client.CompareAndSwap(client, nil) {
		_ = client.Close()
	}
}

// aliveLimit is how long a host has to say that it is there.
const aliveLimit = 2 * time.Second

// doubt forgets a connection on which nothing comes back any more: a host that is frozen
// keeps it open.
func (m *machine) doubt(client *ssh.Client) {
	go func() {
		if !link.Alive(client, aliveLimit) {
			m.lost(client)
		}
	}()
}

// said is what a script on a host came to.
type said struct {
	out     []byte // what the script itself wrote on standard output
	status  int
	warning string // what it, or whoever logs in there, wrote on standard error
}

// run runs a script on the host. It is given by way of standard input, so that what stands
// in it shows in no list of processes. Its answer stands between two marks: login shells
// have words of their own.
func (m *machine) run(ctx context.Context, script string) (said, error) {
	client, err := m.connect(ctx)
	if err != nil {
		return said{}, err
	}
	type outcome struct {
		said
		err error
	}
	done := make(chan outcome, 1)
	go func() { // until the command ends, which may be later than we wait
		s, err := m.script(ctx, client, script)
		done <- outcome{s, err}
	}()
	select {
	case o := <-done:
		return o.said, o.err
	case <-ctx.Done():
	}
	m.doubt(client)
	return said{}, m.unreachable(fmt.Errorf("no answer in time: %w", context.Cause(ctx)))
}

// script runs a script and waits for its end. It is not begun when the context has ended, and
// is ended with it if the host hears of that.
func (m *machine) script(ctx context.Context, client *ssh.Client, text string) (said, error) {
	s, err := client.NewSession()
	if err != nil {
		m.lost(client)
		return said{}, m.unreachable(err)
	}
	defer s.Close()
	if ctx.Err() != nil {
		return said{}, context.Cause(ctx)
	}
	stop := context.AfterFunc(ctx, func() {
		_ = s.Signal(ssh.SIGKILL)
		_ = s.Close()
	})
	defer stop()
	mark := "vaiven " + rand.Text()
	out, warning := bounded{limit: place.FileLimit + 4096}, bounded{limit: 64 << 10}
	s.Stdin, s.Stdout, s.Stderr = strings.NewReader(framed(text, mark)), &out, &warning
	err = s.Run("sh -s")
	var exit *ssh.ExitError
	answer := said{warning: strings.TrimSpace(string(warning.kept))}
	switch {
	case errors.As(err, &exit):
		answer.status = exit.ExitStatus()
	case ctx.Err() != nil:
		return said{}, context.Cause(ctx) // ended by us: the connection may be well
	case err != nil:
		m.lost(client)
		return said{}, m.unreachable(err)
	}
	var ok bool
	if answer.out, ok = unframed(out.kept, mark); !ok {
		return said{}, fmt.Errorf("host %v: its login shell did not run \"sh -s\", and said: %q", m.Host, cut(string(out.kept)+answer.warning))
	}
	return answer, nil
}

// framed is a script that says where its answer begins and ends.
func framed(script, mark string) string {
	return fmt.Sprintf("echo '%s begins'\ntrap 'echo; echo \"%[1]s ends\"' EXIT\n%s", mark, script)
}

// unframed is the answer of a framed script, without its end if that was cut off, and false
// if it did not begin.
func unframed(out []byte, mark string) ([]byte, bool) {
	_, answer, ok := bytes.Cut(out, []byte(mark+" begins\n"))
	answer, _, _ = bytes.Cut(answer, []byte("\n"+mark+" ends\n"))
	return answer, ok
}

// cut is the beginning of a text that somebody else wrote.
func cut(text string) string { return text[:min(len(text), 400)] }

// bounded keeps what is written up to a limit.
type bounded struct {
	kept  []byte
	limit int
}

func (b *bounded) Write(p []byte) (int, error) {
	b.kept = append(b.kept, p[:min(len(p), max(b.limit-len(b.kept), 0))]...)
	return len(p), nil
}

// site is the host as a place; commands run in a folder of it.
type site struct {
	machine *machine
	folder  string
}

// Dial connects from the host: the name is resolved there.
func (s site) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	client, err := s.machine.connect(ctx)
	if err != nil {
		return nil, err
	}
	conn, err := client.DialContext(ctx, network, address)
	var open *ssh.OpenChannelError
	if !errors.As(err, &open) {
		return conn, err
	}
	text := strings.ToLower(open.Message)
	cause := place.Other
	switch {
	case open.Reason == ssh.Prohibited:
		return nil, fmt.Errorf("%w: host %v forbids forwarding: %s", place.ErrCannot, s.machine.Host, open.Message)
	case strings.Contains(text, "refused"):
		cause = place.Refused
	case strings.Contains(text, "name"), strings.Contains(text, "unknown host"), strings.Contains(text, "no address"):
		cause = place.NoName // getaddrinfo's words: "Name or service not known", "Temporary failure in name resolution"
	case strings.Contains(text, "timed out"):
		cause = place.TimeOut
	case strings.Contains(text, "unreachable"), strings.Contains(text, "no route"):
		cause = place.Unreachable
	}
	return nil, place.Failure(cause, address, open.Message)
}

// Run runs a command on the host.
func (s site) Run(ctx context.Context, c place.Command) (place.Outcome, error) {
	var b strings.Builder
	fmt.Fprintf(&b, "cd %s || exit\n", folderWord(s.folder))
	for _, name := range slices.Sorted(maps.Keys(c.Environment)) {
		fmt.Fprintf(&b, "export %s=%s\n", name, quote(c.Environment[name]))
	}
	quoted := make([]string, len(c.Words))
	for n, w := range c.Words {
		quoted[n] = quote(w)
	}
	fmt.Fprintf(&b, "%s </dev/null 2>&1\nexit\n", strings.Join(quoted, " "))
	a, err := s.machine.run(ctx, b.String())
	if err == nil && a.warning != "" && len(a.out) == 0 {
		a.out = []byte(a.warning) // of the shell, which did not find it
	}
	return place.Outcome{Status: a.status, Output: a.out[:min(len(a.out), place.OutputLimit)]}, err
}

// ReadFile reads a file of the host.
func (s site) ReadFile(ctx context.Context, path string) ([]byte, error) {
	file := folderWord(path)
	a, err := s.machine.run(ctx, fmt.Sprintf("[ ! -e %s ] || [ -f %[1]s ] || { echo 'it is no file' >&2; exit 1; }\nhead -c %d -- %[1]s\nexit\n", file, place.FileLimit+1))
	switch {
	case err != nil:
		return nil, err
	case a.status != 0:
		return nil, fmt.Errorf("host %v: %s: %s", s.machine.Host, path, a.warning)
	}
	return place.Limited(bytes.NewReader(a.out), path)
}

// Close keeps the connection, which is the driver's.
func (site) Close() error { return nil }
