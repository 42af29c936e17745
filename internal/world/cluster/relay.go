package cluster

import (
	"context"
	"fmt"
	"net"
	"regexp"
	"strings"
	"sync"
	"time"

	"vaiven/internal/world/place"
)

// relay is what a pod's shell connects with, by bash or by nc: it says on its second output when it has, or why not.
// What it is given it sends, what comes it prints, until either ends.
const relay = `if command -v bash >/dev/null; then
  exec bash -c 'exec 3<>"/dev/tcp/$0/$1" || exit 1; echo open >&2; { cat >&3; kill $$; } <&0 >/dev/null 2>&1 & exec cat <&3' "$1" "$2"
fi
command -v nc >/dev/null || exit 127
case "$(nc -h 2>&1)" in *"-q secs"*) quit="-q 0" ;; esac
exec nc -v $quit "$1" "$2"`

// relayed is how a relay says that it is connected, in a line of its own: bash as it is told to, and the several
// kinds of nc.
var relayed = regexp.MustCompile(`(?m)^(open|.* open|.* succeeded!|Ncat: Connected to .*)\r?\n`)

// heard is what a relay says of itself.
type heard struct {
	open chan struct{} // closed when it is connected

	mu   sync.Mutex // protects what follows
	text []byte
	is   bool
}

func (h *heard) Write(p []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.text = append(h.text, p[:min(len(p), max(0, 4096-len(h.text)))]...)
	if !h.is && relayed.Match(h.text) {
		h.is = true
		close(h.open)
	}
	return len(p), nil
}

// failure is why it has not connected.
func (h *heard) failure(pod, address string, status int) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	text := strings.TrimSpace(string(h.text))
	has := func(words ...string) bool {
		for _, w := range words {
			if strings.Contains(strings.ToLower(text), w) {
				return true
			}
		}
		return false
	}
	cause := place.Other
	switch {
	case status == 126, status == 127:
		return fmt.Errorf("%w: pod %s has neither bash nor nc to connect with: make the check a command that it has",
			place.ErrCannot, pod)
	case has("refused"):
		cause = place.Refused
	case has("not known", "bad address", "name resolution", "no address", "not resolve", "host lookup"):
		cause = place.NoName
	case has("no route", "unreachable"):
		cause = place.Unreachable
	case has("timed out"):
		cause = place.TimeOut
	}
	return place.Failure(cause, address, text)
}

// DialFrom connects from inside a container, by a command that runs there as long as the connection stands. Errors are
// those of [place.Failure], or wrap [place.ErrCannot] if the pod has nothing to connect with, or what [Client.Exec]
// returns. Any number may be made at the same time.
func (c *Client) DialFrom(ctx context.Context, from Container, address string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	near, far := net.Pipe()
	life, end := context.WithCancel(context.Background())
	s := &relaying{Conn: near, end: end}
	h := &heard{open: make(chan struct{})}
	over := make(chan error, 1)
	go func() {
		status, err := c.Exec(life, from, Streams{In: far, Out: far, Err: h}, "sh", "-c", relay, "sh", host, port)
		if err == nil {
			err = h.failure(from.Pod, address, status)
		}
		over <- err
		_ = far.Close()
		end()
	}()
	select {
	case <-h.open:
		return s, nil
	case err := <-over:
		_ = near.Close()
		return nil, err
	case <-ctx.Done():
		_ = s.Close()
		return nil, place.Failure(place.TimeOut, address, "")
	}
}

// relaying is a connection that a command in a pod has made.
type relaying struct {
	net.Conn
	end context.CancelFunc
}

// Close has the command end, and does not wait for it.
func (r *relaying) Close() error {
	time.AfterFunc(partingFor, r.end)
	return r.Conn.Close()
}
