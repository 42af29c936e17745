package distant

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"

	"vaiven/internal/world/place"
)

// mostHands is how many scripts run at the same time on one machine: servers allow ten sessions on a
// connection (MaxSessions in sshd_config(5)).
const mostHands = 6

// hand is a shell there that is given one script after the other.
type hand struct {
	client  *ssh.Client
	session *ssh.Session
	in      io.WriteCloser
	out     *listened // standard output
	warned  *listened // standard error
	end     func()    // ends it, from wherever
	how     error     // how it ended, when it has
}

// errNoShell is wrapped when whoever logs in gets no shell.
var errNoShell = errors.New("its login shell did not run \"sh -s\"")

// hand is a shell of a connection that is free, made if there is none.
func (m *Machine) hand(ctx context.Context, client *ssh.Client) (*hand, error) {
	select {
	case m.hands <- struct{}{}:
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
	m.mu.Lock()
	for n := len(m.idle) - 1; n >= 0; n-- {
		h := m.idle[n]
		m.idle = m.idle[:n]
		if h.client == client {
			m.mu.Unlock()
			return h, nil
		}
		go h.end() // of a connection that was lost
	}
	m.mu.Unlock()
	h, err := newHand(client)
	if err != nil {
		m.drop()
		m.lost(client)
		return nil, m.unreachable(err)
	}
	return h, nil
}

// back lets another script have a shell, if it is still of use.
func (m *Machine) back(h *hand, well bool) {
	if well {
		m.mu.Lock()
		m.idle = append(m.idle, h)
		m.mu.Unlock()
	} else {
		h.end()
	}
	m.drop()
}

// drop says that a shell is free, or gone.
func (m *Machine) drop() { <-m.hands }

func newHand(client *ssh.Client) (*hand, error) {
	s, err := client.NewSession()
	if err != nil {
		return nil, err
	}
	h := &hand{client: client, session: s, out: newListened(place.FileLimit + 4096), warned: newListened(64 << 10)}
	h.end = sync.OnceFunc(func() {
		_ = s.Signal(ssh.SIGKILL)
		_ = s.Close()
	})
	s.Stdout, s.Stderr = h.out, h.warned
	h.in, err = s.StdinPipe()
	if err == nil {
		err = s.Start("sh -s")
	}
	if err != nil {
		h.end()
		return nil, err
	}
	go func() { // until it ends, however it does
		h.how = s.Wait()
		h.out.close()
		h.warned.close()
	}()
	return h, nil
}

// do gives it a script, and waits for what that comes to. After an error the shell is of no use any more.
func (h *hand) do(text string) (Said, error) {
	mark := "vaiven " + rand.Text()
	begins, ends := mark+" begins\n", "\n"+mark+" ends "
	h.out.listen(ends)
	h.warned.listen(ends)
	// A shell of its own runs it, so that nothing is left of it to the next one.
	script := fmt.Sprintf("echo '%s begins'\nsh -s <<'%[1]s'\n%s\n%[1]s\nset -- $?\nprintf '\\n%[1]s ends %%d\\n' "+
		"$1\nprintf '\\n%[1]s ends %%d\\n' $1 >&2\n", mark, text)
	if _, err := io.WriteString(h.in, script); err != nil && !errors.Is(err, io.EOF) {
		return Said{}, err
	}
	out, ended := h.out.wait()
	if !ended {
		warned, _ := h.warned.wait()
		var exit *ssh.ExitError
		if errors.As(h.how, &exit) && !bytes.Contains(out, []byte(begins)) { // it ended by itself
			return Said{}, fmt.Errorf("%w, and said: %q", errNoShell,
				cut(string(out)+strings.TrimSpace(string(warned))))
		}
		return Said{}, errors.New("the connection ended in the middle")
	}
	_, out, began := bytes.Cut(out, []byte(begins))
	out, status, _ := cutLast(out, ends)
	warned, _ := h.warned.wait()
	warned, _, _ = cutLast(warned, ends)
	n, err := strconv.Atoi(strings.TrimSpace(status))
	if !began || err != nil {
		return Said{}, fmt.Errorf("%w, and said: %q", errNoShell, cut(string(out)))
	}
	return Said{Out: out, Status: n, Warning: strings.TrimSpace(string(warned))}, nil
}

// lock is the taking of a lock by a shell.
type lock struct {
	hand  *hand
	mark  string
	taken chan struct{} // closed when it has it
	ended chan error    // when the shell is free again; an error if it is of no use any more
}

// lock has the shell take the lock of a file, and hold it until it is told to let go. While it waits it tries again
// whenever it is told to.
func (h *hand) lock(file string) *lock {
	l := &lock{hand: h, mark: "vaiven " + rand.Text(), taken: make(chan struct{}), ended: make(chan error, 1)}
	has, ends := l.mark+" has it\n", "\n"+l.mark+" ends "
	h.out.listen(ends)
	h.out.noticeAt(has, func() { close(l.taken) })
	script := fmt.Sprintf("( f=%s; [ -d \"${f%%/*}\" ] || exit %d; [ ! -L \"$f\" ] || exit; umask 002; exec "+
		"9<>\"$f\" || exit; "+
		"until flock -n 9; do read -r go || exit; done; echo '%s has it'; while read -r go; do [ \"$go\" != done ] "+
		"|| break; done; exit 0 ) 2>&1; set -- $?; printf '\\n%[3]s ends %%d\\n' $1\n", Name(file), statusNone, l.mark)
	go func() {
		_, err := io.WriteString(h.in, script)
		if err != nil {
			l.ended <- err
			return
		}
		if _, ended := h.out.wait(); !ended {
			l.ended <- errors.New("the connection ended")
			return
		}
		l.ended <- nil
	}()
	return l
}

// again has the shell try again.
func (l *lock) again() { _, _ = io.WriteString(l.hand.in, "\n") } // if that fails, the shell has ended

// letGo has it let go of the lock.
func (l *lock) letGo() { _, _ = io.WriteString(l.hand.in, "done\n") }

// why is why it was not taken.
func (l *lock) why(file string) error {
	out, _ := l.hand.out.wait()
	out, status, _ := cutLast(out, "\n"+l.mark+" ends ")
	if strings.TrimSpace(status) == strconv.Itoa(statusNone) {
		return &fs.PathError{Op: "lock", Path: file, Err: fs.ErrNotExist}
	}
	return fmt.Errorf("the lock of %s was not taken (is there a flock?): %s", file, cut(strings.TrimSpace(string(out))))
}

// cutLast cuts a text at the last place where another stands in it.
func cutLast(text []byte, at string) (before []byte, after string, found bool) {
	n := bytes.LastIndex(text, []byte(at))
	if n < 0 {
		return text, "", false
	}
	return text[:n], string(text[n+len(at):]), true
}

// listened is what a shell says, until a text that ends it. What is more than a limit is not kept.
type listened struct {
	limit int

	mu     sync.Mutex // protects what follows
	heard  *sync.Cond
	kept   []byte
	until  []byte
	notice []byte // a text on the way, and what is called when it was said
	tell   func()
	last   []byte // the end of what was said, as far as it may be the beginning of what ends it
	ended  bool
	closed bool
}

func newListened(limit int) *listened {
	l := &listened{limit: limit}
	l.heard = sync.NewCond(&l.mu)
	return l
}

// listen forgets what was said, and waits for another text.
func (l *listened) listen(until string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.kept, l.last, l.until, l.ended, l.notice, l.tell = nil, nil, []byte(until), false, nil, nil
}

// noticeAt calls once when a text was said, which comes before the one that ends it.
func (l *listened) noticeAt(text string, tell func()) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.notice, l.tell = []byte(text), tell
}

// Write takes everything. What follows the text that ends it belongs to it up to the end of its line.
func (l *listened) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	room := l.limit - len(l.kept)
	l.kept = append(l.kept, p[:min(len(p), max(room, 0))]...)
	l.last = append(l.last, p...)
	if l.tell != nil && bytes.Contains(l.kept, l.notice) {
		l.tell()
		l.tell = nil
	}
	if at := bytes.Index(l.last, l.until); len(l.until) > 0 && at >= 0 {
		if bytes.IndexByte(l.last[at+len(l.until):], '\n') >= 0 {
			if room < len(p) { // the end was not kept
				l.kept = append(l.kept, l.last[at:]...)
			}
			l.ended = true
			l.heard.Broadcast()
		}
		return len(p), nil
	}
	if keep := len(l.until) + 1; len(l.last) > keep {
		l.last = append([]byte(nil), l.last[len(l.last)-keep:]...)
	}
	return len(p), nil
}

func (l *listened) close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.closed = true
	l.heard.Broadcast()
}

// wait is what was said when it ended, and false if nothing more is to come.
func (l *listened) wait() ([]byte, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for !l.ended && !l.closed {
		l.heard.Wait()
	}
	return l.kept, l.ended
}
