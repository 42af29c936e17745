package embedded

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"syscall"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/world/permit"
)

// Client steers a front through its admin socket. It is safe for concurrent use.
type Client struct {
	socket string
	homes  []string // sockets for those who may only go home
	http   http.Client
	gate   front.Gate
}

// Dial makes a client; the socket is opened with the first call that needs it. Who may not open it, and may only go
// home, is led to another one.
func Dial(socket string, homes ...string) *Client {
	dial := func(ctx context.Context, _, _ string) (c net.Conn, err error) {
		var d net.Dialer
		for _, at := range append([]string{socket}, homes...) {
			if c, err = d.DialContext(ctx, "unix", at); !errors.Is(err, fs.ErrPermission) {
				break
			}
		}
		return c, err
	}
	return &Client{socket: socket, homes: homes, http: http.Client{Transport: &http.Transport{DialContext: dial}}}
}

// Read is what the front has in force and has counted.
func (c *Client) Read(ctx context.Context) (reading.Front, error) {
	var r reading.Front
	return r, c.call(ctx, http.MethodGet, "/reading", nil, &r)
}

// usually is how long a change takes to be in force.
const usually = time.Millisecond

// Foresee is what Set would do.
func (c *Client) Foresee(ctx context.Context, share split.Share) (front.Change, error) {
	r, err := c.Read(ctx)
	change := front.Change{From: r.Split.Share, Wanted: share, Reached: share, Usually: usually,
		Connections: front.StaysOpen}
	for _, side := range split.Sides {
		if err == nil && share.Of(side) > 0 && len(r.Sides[side].Instances) == 0 {
			err = fmt.Errorf("%w: %v has no instances to send requests to", front.ErrRefused, side)
		}
	}
	change.Steps = did(share)
	return change, err
}

// did is a change of the share in words.
func did(share split.Share) []string { return []string{fmt.Sprintf("split %v on green", share)} }

// Set puts a share on green in force if the front still is as expected when it takes effect.
func (c *Client) Set(ctx context.Context, share split.Share, e front.Expect) (front.Done, error) {
	changing, through, err := c.gate.Change(ctx)
	if err != nil {
		return front.Done{}, err
	}
	defer through()
	if err := permit.Ask(changing); err != nil {
		return front.Done{}, front.Because(changing, err)
	}
	d, err := c.change(changing, "/split",
		setSplit{Share: share, Revision: e.Revision, Generation: e.Generation, Term: e.Term}, share)
	return d, front.Because(changing, err)
}

// Home sends all requests to a side, whatever the split is now.
func (c *Client) Home(ctx context.Context, h front.Homing) (front.Done, error) {
	c.gate.Home()
	return c.change(ctx, "/home", goHome(h), split.Toward(h.Side, split.Whole))
}

func (c *Client) change(ctx context.Context, path string, body any, share split.Share) (front.Done, error) {
	var now inForce
	if err := c.call(ctx, http.MethodPut, path, body, &now); err != nil {
		return front.Done{}, err
	}
	return front.Done{Split: now.Split, Nearest: share, Order: now.Order, Did: did(share)}, nil
}

// HomeWays is the socket for those who may only go home.
func (c *Client) HomeWays() (front.HomeWays, error) { return front.HomeWays{Sockets: c.homes}, nil }

// NewTerm begins another term.
func (c *Client) NewTerm(ctx context.Context, after uint64) (uint64, error) {
	var t term
	err := c.call(ctx, http.MethodPost, "/term", term{after}, &t)
	return t.Term, err
}

// Rehearse has the front make up a going home to a side, and put what is in force in place
// once more.
func (c *Client) Rehearse(ctx context.Context, side split.Side) ([]wayback.Step, error) {
	var steps front.Steps
	err := steps.Do("put the same split in force", func() error {
		return c.call(ctx, http.MethodPost, "/rehearsal", rehearsal{side}, nil)
	})
	return steps, err
}

// Reach has the front connect to an address. One that is older than this question says that it does not know.
func (c *Client) Reach(ctx context.Context, address string) error {
	var r reached
	if err := c.call(ctx, http.MethodPost, "/reach", reach{address}, &r); err != nil {
		return fmt.Errorf("%w: %w", front.ErrUnknown, err)
	}
	if r.Error != "" {
		return errors.New(r.Error)
	}
	return nil
}

// Doors are the spare side's own door.
func (c *Client) Doors(ctx context.Context) ([]front.Spare, error) {
	var d front.Spare
	err := c.call(ctx, http.MethodGet, "/door", nil, &d)
	return []front.Spare{d}, err
}

// SetInstances replaces a side's instances. Requests that are open finish with
// the instance they have.
func (c *Client) SetInstances(ctx context.Context, side split.Side, instances []reading.Server) error {
	return c.call(ctx, http.MethodPut, "/sides/"+side.String()+"/instances", setInstances{instances}, nil)
}

// Drain marks a side without a share as being given up, and says how many
// requests it is still answering.
func (c *Client) Drain(ctx context.Context, side split.Side) (front.Left, error) {
	var d drained
	err := c.call(ctx, http.MethodPost, "/sides/"+side.String()+"/drain", nil, &d)
	return front.Left{Open: d.Open}, err
}

// call asks the front. One that is just being replaced has the next process be asked.
func (c *Client) call(ctx context.Context, method, path string, body, answer any) error {
	for wait := 5 * time.Millisecond; ; wait *= 2 {
		err := c.once(ctx, method, path, body, answer)
		if !errors.Is(err, errReplaced) || wait > time.Second {
			return err
		}
		c.http.CloseIdleConnections() // they lead to the process that was replaced
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return err
		}
	}
}

func (c *Client) once(ctx context.Context, method, path string, body, answer any) error {
	var data []byte
	if body != nil {
		var err error
		if data, err = json.Marshal(body); err != nil {
			return err
		}
	}
	r, err := http.NewRequestWithContext(ctx, method, "http://front"+path, bytes.NewReader(data))
	if err != nil {
		return err
	}
	w, err := c.http.Do(r)
	switch {
	case errors.Is(err, syscall.ENOENT), errors.Is(err, syscall.ECONNREFUSED):
		return fmt.Errorf("%w: vaiven front PLAN starts it; nobody listens at %s", front.ErrUnreachable, c.socket)
	case err != nil:
		return fmt.Errorf("%w at %s: %w", front.ErrUnreachable, c.socket, errors.Unwrap(err))
	}
	defer w.Body.Close()
	data, err = io.ReadAll(w.Body)
	if err != nil {
		return fmt.Errorf("%w at %s: %w", front.ErrUnreachable, c.socket, err)
	}
	if w.StatusCode != http.StatusOK {
		return refused(w.StatusCode, data)
	}
	if answer == nil {
		return nil
	}
	if err := json.Unmarshal(data, answer); err != nil {
		return fmt.Errorf("answer of the front at %s: %w", c.socket, err)
	}
	return nil
}

// refused turns a refusal back into the error that the front had.
func refused(status int, data []byte) error {
	var no refusal
	if err := json.Unmarshal(data, &no); err != nil || no.Error == "" {
		return fmt.Errorf("%w: status %d", front.ErrRefused, status)
	}
	kind, ok := refusals[no.Kind]
	if !ok {
		kind = front.ErrRefused
	}
	return &refusedError{kind, no.Error}
}

// refusedError keeps the front's own words.
type refusedError struct {
	kind error
	text string
}

func (e *refusedError) Error() string { return e.text }
func (e *refusedError) Unwrap() error { return e.kind }
