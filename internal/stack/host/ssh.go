package host

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"

	"vaiven/internal/place"
	"vaiven/internal/plan"
	"vaiven/internal/stack"
)

// dialLimit bounds how long a host is waited for.
const dialLimit = 10 * time.Second

// machine is one host with its connection, which is made when it is needed and
// made anew when it is lost.
type machine struct {
	plan.Host
	identity   string
	knownHosts string

	mu     sync.Mutex // protects client
	client *ssh.Client
}

// connect is the connection to the host.
func (m *machine) connect(ctx context.Context) (*ssh.Client, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.client != nil {
		return m.client, nil
	}
	client, err := m.dial(ctx)
	if err != nil {
		return nil, fmt.Errorf("%w: host %v: %w", stack.ErrUnreachable, m.Host, err)
	}
	m.client = client
	go func() { // until the connection ends
		_ = client.Wait()
		m.lost(client)
	}()
	return client, nil
}

// lost forgets a connection.
func (m *machine) lost(client *ssh.Client) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.client == client {
		m.client = nil
		_ = client.Close()
	}
}

func (m *machine) dial(ctx context.Context) (*ssh.Client, error) {
	file := m.knownHosts
	if file == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return nil, err
		}
		file = filepath.Join(home, ".ssh", "known_hosts")
	}
	known, err := knownhosts.New(file)
	if err != nil {
		return nil, fmt.Errorf("read the known hosts: %w", err)
	}
	signers, done, err := m.signers()
	if err != nil {
		return nil, err
	}
	defer done()
	config := &ssh.ClientConfig{
		User: m.User, Auth: []ssh.AuthMethod{ssh.PublicKeysCallback(signers)}, HostKeyCallback: known,
		HostKeyAlgorithms: algorithms(known, m.Address),
	}
	ctx, cancel := context.WithTimeout(ctx, dialLimit)
	defer cancel()
	for tries := 1; ; tries++ {
		client, err := handshake(ctx, m.Address, config)
		// A server that is being connected to by many turns some away (MaxStartups in
		// sshd_config(5)), without a word.
		turnedAway := errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET)
		if !turnedAway || tries == mostTries {
			return client, err
		}
		select {
		case <-ctx.Done():
			return nil, err
		case <-time.After(time.Duration(tries) * pause):
		}
	}
}

// How often a host is tried that turns connections away, and how long is waited after
// the first time.
const (
	mostTries = 4
	pause     = 50 * time.Millisecond
)

// handshake makes one connection.
func handshake(ctx context.Context, address string, config *ssh.ClientConfig) (*ssh.Client, error) {
	conn, err := place.Local{}.Dial(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	c, channels, requests, err := ssh.NewClientConn(conn, address, config)
	if !stop() || err != nil {
		_ = conn.Close()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, plainly(err)
	}
	return ssh.NewClient(c, channels, requests), nil
}

// algorithms are those of the keys that are known of a host: asked for any other
// key, it would be called unknown.
func algorithms(known ssh.HostKeyCallback, address string) []string {
	err := known(address, &net.TCPAddr{}, unknownKey{})
	var keyErr *knownhosts.KeyError
	if !errors.As(err, &keyErr) {
		return nil
	}
	var list []string
	for _, k := range keyErr.Want {
		if t := k.Key.Type(); t == ssh.KeyAlgoRSA {
			list = append(list, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		} else {
			list = append(list, t)
		}
	}
	return list
}

// unknownKey is a key that no host has.
type unknownKey struct{}

func (unknownKey) Type() string                        { return "none" }
func (unknownKey) Marshal() []byte                     { return []byte("none") }
func (unknownKey) Verify([]byte, *ssh.Signature) error { return errors.New("no key") }

// signers are the keys that the host is offered: the plan's, or the agent's. done
// is called when they have been used.
func (m *machine) signers() (signers func() ([]ssh.Signer, error), done func(), err error) {
	if m.identity != "" {
		data, err := os.ReadFile(m.identity)
		if err != nil {
			return nil, nil, err
		}
		key, err := ssh.ParsePrivateKey(data)
		var locked *ssh.PassphraseMissingError
		if errors.As(err, &locked) {
			return nil, nil, fmt.Errorf("the key %s has a passphrase: give it to an agent, and leave \"identity\" out of the plan", m.identity)
		}
		if err != nil {
			return nil, nil, fmt.Errorf("read the key %s: %w", m.identity, err)
		}
		return func() ([]ssh.Signer, error) { return []ssh.Signer{key}, nil }, func() {}, nil
	}
	socket := os.Getenv("SSH_AUTH_SOCK")
	if socket == "" {
		return nil, nil, errors.New(`there is no agent (SSH_AUTH_SOCK is not set), and the plan names no key: add "identity: FILE"`)
	}
	conn, err := net.Dial("unix", socket)
	if err != nil {
		return nil, nil, fmt.Errorf("ask the agent: %w", err)
	}
	return agent.NewClient(conn).Signers, func() { _ = conn.Close() }, nil
}

// plainly says what a failed handshake means.
func plainly(err error) error {
	var key *knownhosts.KeyError
	switch {
	case errors.As(err, &key) && len(key.Want) == 0:
		return fmt.Errorf("its key is not among the known hosts: look at it, and add it (ssh-keyscan): %w", err)
	case errors.As(err, &key):
		return fmt.Errorf("its key is another than the known one, in line %d of %s: somebody may be in between: %w",
			key.Want[0].Line, key.Want[0].Filename, err)
	case strings.Contains(err.Error(), "unable to authenticate"):
		return fmt.Errorf("it does not accept our key: %w", err)
	}
	return err
}

// run runs a script on the host, and what is to follow on its standard input.
func (m *machine) run(ctx context.Context, command, input string) (out []byte, status int, err error) {
	client, err := m.connect(ctx)
	if err != nil {
		return nil, 0, err
	}
	session, err := client.NewSession()
	if err != nil {
		m.lost(client)
		return nil, 0, fmt.Errorf("%w: host %v: %w", stack.ErrUnreachable, m.Host, err)
	}
	var kept place.Output
	all := &unbounded{limit: place.FileLimit + 1}
	session.Stdin, session.Stdout, session.Stderr = strings.NewReader(input), all, &kept
	done := make(chan error, 1)
	go func() { // until the command ends, which may be later than we wait
		done <- session.Run(command)
		_ = session.Close()
	}()
	select {
	case <-ctx.Done():
		_ = session.Signal(ssh.SIGKILL)
		_ = session.Close()
		return nil, 0, ctx.Err()
	case err = <-done:
	}
	var exit *ssh.ExitError
	switch {
	case errors.As(err, &exit):
		return append(all.kept, kept.Bytes()...), exit.ExitStatus(), nil
	case err != nil:
		m.lost(client)
		return nil, 0, fmt.Errorf("%w: host %v: %w", stack.ErrUnreachable, m.Host, err)
	}
	return append(all.kept, kept.Bytes()...), 0, nil
}

// unbounded keeps what is written up to a limit that no list reaches.
type unbounded struct {
	kept  []byte
	limit int
}

func (u *unbounded) Write(p []byte) (int, error) {
	u.kept = append(u.kept, p[:min(len(p), max(u.limit-len(u.kept), 0))]...)
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
func (s site) Run(ctx context.Context, words []string) (place.Outcome, error) {
	quoted := make([]string, len(words))
	for n, w := range words {
		quoted[n] = quote(w)
	}
	// By way of standard input, so that secrets among the words do not show there
	// longer than the command itself shows them.
	out, status, err := s.machine.run(ctx, "sh -s", fmt.Sprintf("cd %s && exec %s\n", folderWord(s.folder), strings.Join(quoted, " ")))
	return place.Outcome{Status: status, Output: out[:min(len(out), place.OutputLimit)]}, err
}

// ReadFile reads a file of the host.
func (s site) ReadFile(ctx context.Context, path string) ([]byte, error) {
	out, status, err := s.machine.run(ctx, "sh -s", fmt.Sprintf("head -c %d -- %s\n", place.FileLimit+1, folderWord(path)))
	switch {
	case err != nil:
		return nil, err
	case status != 0:
		return nil, fmt.Errorf("host %v: %s", s.machine.Host, strings.TrimSpace(string(out)))
	}
	return place.Limited(strings.NewReader(string(out)), path)
}

// Close keeps the connection, which is the driver's.
func (site) Close() error { return nil }
