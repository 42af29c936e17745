package remote

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"vaiven/internal/world/link"
)

// Address is a plan on another machine.
type Address struct {
	Login string // as ssh has it: user@host
	Plan  string // the file there; relative ones are to the user's home
}

// String is the address as it was given.
func (a Address) String() string { return a.Login + ":" + a.Plan }

// Parse reads user@host:PLAN. It is false for the name of a file here.
func Parse(text string) (Address, bool) {
	at := strings.Index(text, "@")
	colon := strings.Index(text, ":")
	if at <= 0 || colon < at || colon == len(text)-1 || strings.ContainsAny(text[:at], "/\\ ") {
		return Address{}, false
	}
	if _, err := os.Stat(text); err == nil {
		return Address{}, false
	}
	return Address{Login: text[:colon], Plan: text[colon+1:]}, true
}

// Where is what another machine's vaiven says of its keeper.
type Where struct {
	Socket  string   `json:"socket"` // the keeper's, absolute
	Service string   `json:"service"`
	Notes   []string `json:"notes,omitempty"`
	Error   string   `json:"error,omitempty"`  // why there is none
	Status  int      `json:"status,omitempty"` // the exit status that this is
}

// Ask are the words by which another machine's vaiven is asked for that.
var Ask = []string{"reach", "--json"}

// Start is the word with which a keeper is started where none runs.
const Start = "--start"

// Through is the word with which a connection is carried by a command, and ByCommand stands for a keeper's socket that
// is reached in no other way: who comes by a key with a forced command has that command alone.
const (
	Through   = "--through"
	ByCommand = "-"
)

// Machine is the other machine, connected to. Many may use it at the same time.
type Machine struct {
	Address
	login link.Login

	mu     sync.Mutex // protects client
	client *ssh.Client
	socket string
}

// Connect connects to the other machine.
func Connect(ctx context.Context, a Address) (*Machine, error) {
	login, err := link.Find(a.Login, "")
	if err != nil {
		return nil, err
	}
	m := &Machine{Address: a, login: login}
	_, err = m.connected(ctx)
	return m, err
}

// Close ends the connection.
func (m *Machine) Close() error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.client == nil {
		return nil
	}
	return m.client.Close()
}

// connected is the connection, made anew if it was lost.
func (m *Machine) connected(ctx context.Context) (*ssh.Client, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.client != nil {
		return m.client, nil
	}
	client, err := link.Dial(ctx, m.login)
	if err != nil {
		return nil, fmt.Errorf("connect to %s: %w", m.Login, err)
	}
	m.client = client
	go func() { // until the connection ends
		_ = client.Wait()
		m.lost(client)
	}()
	go m.beat(client)
	return client, nil
}

func (m *Machine) lost(client *ssh.Client) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.client == client {
		m.client = nil
	}
	_ = client.Close()
}

// The times in which a connection is looked after.
const (
	beatEvery = 5 * time.Second
	beatLimit = 10 * time.Second
)

// beat finds out again and again whether a connection is still one.
func (m *Machine) beat(client *ssh.Client) {
	for {
		time.Sleep(beatEvery)
		if !link.Alive(client, beatLimit) {
			m.lost(client)
			return
		}
	}
}

// Dial connects to the keeper's socket.
func (m *Machine) Dial(ctx context.Context) (net.Conn, error) {
	client, err := m.connected(ctx)
	if err != nil {
		return nil, err
	}
	if m.socket == ByCommand {
		return m.carried(client)
	}
	conn, err := client.DialContext(ctx, "unix", m.socket)
	if err != nil {
		return nil, &net.OpError{Op: "dial", Net: "unix", Err: fmt.Errorf("%s at %s: %w", m.socket, m.Login, err)}
	}
	return conn, nil
}

// carried is a connection to the keeper that a command on the other machine carries.
func (m *Machine) carried(client *ssh.Client) (net.Conn, error) {
	s, err := client.NewSession()
	if err != nil {
		return nil, err
	}
	in, errIn := s.StdinPipe()
	out, errOut := s.StdoutPipe()
	if err := errors.Join(errIn, errOut); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if err := s.Start(line(append(append([]string(nil), Ask...), Through, "--", m.Plan))); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return &session{Reader: out, WriteCloser: in, of: s}, nil
}

// session is a connection over the streams of a command, which know no deadlines.
type session struct {
	io.Reader
	io.WriteCloser
	of *ssh.Session
}

// Close ends the command.
func (s *session) Close() error {
	_ = s.WriteCloser.Close()
	if err := s.of.Close(); !errors.Is(err, io.EOF) { // it has ended
		return err
	}
	return nil
}
func (s *session) LocalAddr() net.Addr              { return &net.UnixAddr{Net: "unix"} }
func (s *session) RemoteAddr() net.Addr             { return &net.UnixAddr{Net: "unix"} }
func (s *session) SetDeadline(time.Time) error      { return nil }
func (s *session) SetReadDeadline(time.Time) error  { return nil }
func (s *session) SetWriteDeadline(time.Time) error { return nil }

// Reach asks the machine's vaiven for the keeper, and to start one where none runs if start says
// so. Its notes are for the person.
func (m *Machine) Reach(ctx context.Context, start bool) (Where, error) {
	words := append([]string(nil), Ask...)
	if start {
		words = append(words, Start)
	}
	var out, said bytes.Buffer
	status, err := m.Run(ctx, append(words, "--", m.Plan), nil, &out, &said)
	if err != nil {
		return Where{}, err
	}
	var w Where
	if json.Unmarshal(out.Bytes(), &w) != nil {
		if strings.Contains(said.String(), "unknown") || strings.Contains(said.String(), "no command") {
			return w, fmt.Errorf("the vaiven at %s is too old to have a keeper of its own: install this one's "+
				"version there", m.Login)
		}
		return w, fmt.Errorf("vaiven at %s says (status %d): %s", m.Login, status, strings.TrimSpace(said.String()))
	}
	m.socket = w.Socket
	return w, nil
}

// notFound is the exit status of a shell that does not find a command.
const notFound = 127

// Run runs the machine's vaiven there, and returns its exit status.
func (m *Machine) Run(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) (status int, err error) {
	client, err := m.connected(ctx)
	if err != nil {
		return 0, err
	}
	s, err := client.NewSession()
	if err != nil {
		return 0, fmt.Errorf("run vaiven at %s: %w", m.Login, err)
	}
	defer s.Close()
	stop := context.AfterFunc(ctx, func() {
		_ = s.Signal(ssh.SIGTERM)
		_ = s.Close()
	})
	defer stop()
	s.Stdin, s.Stdout, s.Stderr = in, out, errOut
	err = s.Run(line(args))
	var exit *ssh.ExitError
	switch {
	case err == nil:
		return 0, nil
	case ctx.Err() != nil:
		return 0, context.Cause(ctx)
	case errors.As(err, &exit) && exit.ExitStatus() == notFound:
		return 0, fmt.Errorf("%s has no vaiven on the path of a shell that is not logged in to: install it there, "+
			"such as at /usr/local/bin/vaiven", m.Login)
	case errors.As(err, &exit):
		return exit.ExitStatus(), nil
	}
	return 0, fmt.Errorf("run vaiven at %s: %w", m.Login, err)
}

// line is what a shell there is told: this program with its arguments.
func line(args []string) string {
	words := []string{"vaiven"}
	for _, a := range args {
		words = append(words, quoted(a))
	}
	return strings.Join(words, " ")
}

// Words reads what was told to a shell on the way here, as it is quoted by whoever connects. What is not of that form
// is an error: nothing else is taken for words.
func Words(line string) (words []string, err error) {
	for line != "" {
		word, quotes := "", strings.HasPrefix(line, "'")
		switch {
		case !quotes:
			word, line, _ = strings.Cut(line, " ")
			if word == "" || strings.ContainsAny(word, "'\"\\$`;&|<>(){}*?~# \t\n") {
				return nil, fmt.Errorf("%q is no word of Vaiven's", word)
			}
		default:
			for {
				part, rest, closed := strings.Cut(line[1:], "'")
				if !closed {
					return nil, errors.New("a quotation mark has no other")
				}
				word += part
				if line = rest; !strings.HasPrefix(line, `\''`) {
					break
				}
				word, line = word+"'", line[2:]
			}
			if line != "" && line[0] != ' ' {
				return nil, fmt.Errorf("%q stands behind a word", line)
			}
			line = strings.TrimPrefix(line, " ")
		}
		words = append(words, word)
	}
	return words, nil
}

// quoted is a word for a POSIX shell.
func quoted(word string) string { return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'" }
