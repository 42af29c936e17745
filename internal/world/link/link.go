package link

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"
)

// dialLimit bounds how long a host is waited for.
const dialLimit = 10 * time.Second

// Login is how a host is logged in to.
type Login struct {
	User       string
	Address    string   // host:port
	Identities []string // files with keys; none for those of the agent
	KnownHosts string   // file; "" for ~/.ssh/known_hosts
	Past       []Login  // hosts that the connection goes past, the first one first
}

// Alive asks whether anybody is at the other end of a connection, and waits so long for the
// answer: a network that was cut and a host that is frozen say nothing.
func Alive(client *ssh.Client, limit time.Duration) bool {
	answered := make(chan error, 1)
	go func() {
		_, _, err := client.SendRequest("keepalive@openssh.com", true, nil)
		answered <- err
	}()
	select {
	case err := <-answered:
		return err == nil
	case <-time.After(limit):
		return false
	}
}

// Dial connects to a host. The client's connections end with it, those past other hosts too. Many
// may call it at the same time.
func Dial(ctx context.Context, l Login) (*ssh.Client, error) {
	ctx, cancel := context.WithTimeout(ctx, dialLimit)
	defer cancel()
	dial := func(ctx context.Context, address string) (net.Conn, error) {
		return new(net.Dialer).DialContext(ctx, "tcp", address)
	}
	var past []*ssh.Client
	closePast := func() {
		for _, c := range past {
			_ = c.Close()
		}
	}
	for _, hop := range l.Past {
		client, err := hop.connect(ctx, dial)
		if err != nil {
			closePast()
			return nil, fmt.Errorf("past %s: %w", hop.Address, err)
		}
		past = append(past, client)
		dial = func(ctx context.Context, address string) (net.Conn, error) {
			return client.DialContext(ctx, "tcp", address)
		}
	}
	client, err := l.connect(ctx, dial)
	if err != nil {
		closePast()
		return nil, err
	}
	if len(past) > 0 {
		go func() { // until the connection ends
			_ = client.Wait()
			closePast()
		}()
	}
	return client, nil
}

// connect makes one connection, over what dials.
func (l Login) connect(ctx context.Context, dial func(context.Context, string) (net.Conn, error)) (*ssh.Client, error) {
	file := l.KnownHosts
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
	signers, done, err := l.signers()
	if err != nil {
		return nil, err
	}
	defer done()
	config := &ssh.ClientConfig{
		User: l.User, Auth: []ssh.AuthMethod{ssh.PublicKeysCallback(signers)}, HostKeyCallback: known,
		HostKeyAlgorithms: algorithms(known, l.Address),
	}
	for tries := 1; ; tries++ {
		client, err := handshake(ctx, dial, l.Address, config)
		// A server that is being connected to by many turns some away (MaxStartups in
		// sshd_config(5)), without a word.
		turnedAway := errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET)
		if !turnedAway || tries == MostTries {
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
	MostTries = 4
	pause     = 50 * time.Millisecond
)

// handshake makes one connection.
func handshake(ctx context.Context, dial func(context.Context, string) (net.Conn, error), address string,
	config *ssh.ClientConfig) (*ssh.Client, error) {
	conn, err := dial(ctx, address)
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

// signers are the keys that the host is offered: those of files, or the agent's. done
// is called when they have been used.
func (l Login) signers() (signers func() ([]ssh.Signer, error), done func(), err error) {
	var keys []ssh.Signer
	for _, file := range l.Identities {
		data, err := os.ReadFile(file)
		if err != nil {
			return nil, nil, err
		}
		key, err := ssh.ParsePrivateKey(data)
		var locked *ssh.PassphraseMissingError
		if errors.As(err, &locked) {
			return nil, nil, fmt.Errorf("the key %s has a passphrase: give it to an agent, and name no key file", file)
		}
		if err != nil {
			return nil, nil, fmt.Errorf("read the key %s: %w", file, err)
		}
		keys = append(keys, key)
	}
	if len(keys) > 0 {
		return func() ([]ssh.Signer, error) { return keys, nil }, func() {}, nil
	}
	socket := os.Getenv("SSH_AUTH_SOCK")
	if socket == "" {
		return nil, nil, errors.New(`there is no agent (SSH_AUTH_SOCK is not set), and no key is named: add "identity: FILE" to the plan, or IdentityFile to ~/.ssh/config`)
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
