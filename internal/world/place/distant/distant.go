package distant

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"vaiven/internal/world/link"
	"vaiven/internal/world/place"
)

// Machine is one machine with its connection. Make it with New. It is safe for concurrent use.
type Machine struct {
	name  string
	login func() (link.Login, error)

	dialing place.Turn
	client  atomic.Pointer[ssh.Client]

	hands chan struct{} // one for each shell that there is
	mu    sync.Mutex    // protects idle
	idle  []*hand       // shells that nothing is given to, the last one used last
}

// New makes a machine with a name for people. How it is logged in to is found when that is first
// needed; nothing is asked yet.
func New(name string, login func() (link.Login, error)) *Machine {
	return &Machine{name: name, login: login, dialing: place.NewTurn(), hands: make(chan struct{}, mostHands)}
}

// At makes the machine at host:port, with a file with the key of who logs in there ("" for those of
// the agent) and one with the keys of hosts ("" for ~/.ssh/known_hosts).
func At(user, address, identity, knownHosts string) *Machine {
	l := link.Login{User: user, Address: address, KnownHosts: knownHosts}
	if identity != "" {
		l.Identities = []string{identity}
	}
	return New(user+"@"+address, func() (link.Login, error) { return l, nil })
}

// String is the machine's name.
func (m *Machine) String() string { return m.name }

// connect is the connection to the machine.
func (m *Machine) connect(ctx context.Context) (*ssh.Client, error) {
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
	login, err := m.login()
	if err != nil {
		return nil, m.unreachable(err)
	}
	client, err := link.Dial(ctx, login)
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

func (m *Machine) unreachable(err error) error {
	return fmt.Errorf("%w: host %s: %w", place.ErrUnreachable, m.name, err)
}

// lost forgets a connection.
func (m *Machine) lost(client *ssh.Client) {
	if m.client.CompareAndSwap(client, nil) {
		_ = client.Close()
	}
}

// End ends the connection, if there is one. What is done next makes another.
func (m *Machine) End() {
	if client := m.client.Load(); client != nil {
		m.lost(client)
	}
}

// Answers reports whether there is a connection on which the machine answers in time.
func (m *Machine) Answers(limit time.Duration) bool {
	client := m.client.Load()
	return client != nil && link.Alive(client, limit)
}

// aliveLimit is how long a host has to say that it is there.
const aliveLimit = 4 * time.Second

// doubt forgets a connection on which nothing comes back any more: a host that is frozen
// keeps it open.
func (m *Machine) doubt(client *ssh.Client) {
	go func() {
		if !link.Alive(client, aliveLimit) {
			m.lost(client)
		}
	}()
}

// Said is what a script came to.
type Said struct {
	Out     []byte // what the script itself wrote on standard output
	Status  int
	Warning string // what it, or whoever logs in there, wrote on standard error
}

// Script runs a script of the shell there. It is given by way of standard input, so that what stands
// in it shows in no list of processes. Its answer stands between two marks: login shells
// have words of their own. Many may run at the same time; the shells that they are given to stay, since
// logging in takes longer than most of what is done.
func (m *Machine) Script(ctx context.Context, script string) (Said, error) {
	client, err := m.connect(ctx)
	if err != nil {
		return Said{}, err
	}
	type outcome struct {
		Said
		err error
	}
	done := make(chan outcome, 1)
	go func() { // until the script ends, which may be later than we wait
		s, err := m.script(ctx, client, script)
		done <- outcome{s, err}
	}()
	select {
	case o := <-done:
		return o.Said, o.err
	case <-ctx.Done():
	}
	m.doubt(client)
	return Said{}, m.unreachable(fmt.Errorf("no answer in time: %w", context.Cause(ctx)))
}

// script gives a script to a shell and waits for its end. It is not begun when the context has ended, and
// is ended with it if the host hears of that.
func (m *Machine) script(ctx context.Context, client *ssh.Client, text string) (Said, error) {
	h, err := m.hand(ctx, client)
	if err != nil {
		return Said{}, err
	}
	if ctx.Err() != nil {
		m.back(h, true)
		return Said{}, context.Cause(ctx)
	}
	stop := context.AfterFunc(ctx, h.end)
	s, err := h.do(text)
	m.back(h, stop() && err == nil)
	switch {
	case err == nil:
		return s, nil
	case ctx.Err() != nil:
		return Said{}, context.Cause(ctx) // ended by us: the connection may be well
	case errors.Is(err, errNoShell):
		return Said{}, fmt.Errorf("host %s: %w", m.name, err)
	}
	m.lost(client)
	return Said{}, m.unreachable(err)
}

// cut is the beginning of a text that somebody else wrote.
func cut(text string) string { return text[:min(len(text), 400)] }
