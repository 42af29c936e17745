package api

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"sync"
	"time"

	"vaiven/internal/core/forecast"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/parts"
	"vaiven/internal/plan/tryout"
)

// Config is what a client works with.
type Config struct {
	Dial func(context.Context) (net.Conn, error)
	By   string // the person's handle
	From string // where that is
	// Alone says that it is a command alone: it leaves the wheel vacant, and watches nothing.
	Alone bool
	// Revive starts a keeper where none listens any more; nil if nobody is to.
	Revive func(context.Context) error
	// Home takes all traffic home without a keeper, where that does not answer; nil if nobody can.
	Home func(ctx context.Context, back crossing.Back, why string) error
}

// Client is a keeper in another process. It is safe for concurrent use. Make it with Dial.
type Client struct {
	Config
	identity string
	http     http.Client
}

var _ keeper.Client = (*Client)(nil)

// The times that a client goes by.
const (
	answerLimit = 90 * time.Second       // for what the keeper has to find out first
	backLimit   = 500 * time.Millisecond // for it to take a going home, before that is done without it
	quietLimit  = 4 * time.Second        // a stream that says nothing for so long is dead
	againEvery  = 200 * time.Millisecond
	doubtAfter  = 2 * time.Second // without a keeper, what is shown says so
	reviveAfter = time.Second     // somebody else may be doing it
)

// Dial makes a client. Nothing is asked yet.
func Dial(c Config) *Client {
	one := &Client{Config: c}
	if !c.Alone {
		one.identity = rand.Text()
	}
	one.http.Transport = &http.Transport{
		DialContext:         func(ctx context.Context, _, _ string) (net.Conn, error) { return c.Dial(ctx) },
		MaxIdleConnsPerHost: 2, IdleConnTimeout: idleLimit / 2,
	}
	return one
}

// Close lets the wheel go, if this client has it, and ends its connections.
func (c *Client) Close() error {
	if c.identity != "" {
		ctx, cancel := context.WithTimeout(context.Background(), backLimit)
		defer cancel()
		_, _ = c.send(ctx, keeper.Command{Act: crossing.LeaveWheel{}, By: c.By}) // it falls vacant all the same
	}
	c.http.CloseIdleConnections()
	return nil
}

// Follow tells what is on record after an event, as a standby, until the stream breaks off or take fails. It is one
// stream: who follows on says so again. The error wraps [ErrApart] if the keeper has not got that event.
func (c *Client) Follow(ctx context.Context, since uint64, opened func(), take func(crossing.Event) error) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	return c.lines(ctx, "/v1/follow?since="+strconv.FormatUint(since, 10), func(h http.Header) {
		if n, err := strconv.ParseUint(h.Get(SeqHeader), 10, 64); err == nil && n < since {
			cancel(fmt.Errorf("%w: it ends with event %d", ErrApart, n))
			return
		}
		opened()
	}, func(data json.RawMessage) error {
		var e crossing.Event
		if err := json.Unmarshal(data, &e); err != nil {
			return err
		}
		return take(e)
	})
}

// TakeOver has a standby take over. With force it does although the keeper that it follows answers, or a front cannot
// refuse what that one sends.
func (c *Client) TakeOver(ctx context.Context, force bool) error {
	return c.call(ctx, http.MethodPost, "/v1/takeover", takeOver{Force: force}, nil)
}

// Rest lets connections go that are not used: the next question is asked of whoever listens then.
func (c *Client) Rest() { c.http.CloseIdleConnections() }

// Identity names this client to the keeper.
func (c *Client) Identity() string { return c.identity }

// Info asks which keeper it is.
func (c *Client) Info(ctx context.Context) (Info, error) {
	var i Info
	return i, c.call(ctx, http.MethodGet, "/v1/keeper", nil, &i)
}

// View is everything that is known now.
func (c *Client) View(ctx context.Context) (keeper.Snapshot, error) {
	var s keeper.Snapshot
	return s, c.call(ctx, http.MethodGet, "/v1/view", nil, &s)
}

// HandOver has the keeper end for this process to go on.
func (c *Client) HandOver(ctx context.Context) (keeper.Memory, error) {
	var m keeper.Memory
	return m, c.call(ctx, http.MethodPost, "/v1/handover", nil, &m)
}

// End has the keeper's process end.
func (c *Client) End(ctx context.Context) error {
	return c.call(ctx, http.MethodPost, "/v1/end", nil, nil)
}

// Do carries out a command. A going home that the keeper does not take at once is done without
// it; the error is then [ErrPast].
func (c *Client) Do(ctx context.Context, command keeper.Command) (uint64, error) {
	command.By = c.By
	back, goesBack := command.Act.(crossing.Back)
	if !goesBack || c.Home == nil || command.Try {
		return c.send(ctx, command)
	}
	limited, cancel := context.WithTimeout(ctx, backLimit)
	defer cancel()
	seq, err := c.send(limited, command)
	if errors.Is(err, ErrGone) && ctx.Err() == nil {
		if err := c.Home(ctx, back, command.Why); err != nil {
			return 0, err
		}
		return 0, ErrPast
	}
	return seq, err
}

func (c *Client) send(ctx context.Context, command keeper.Command) (uint64, error) {
	var d done
	err := c.call(ctx, http.MethodPost, "/v1/commands", command, &d)
	return d.Seq, err
}

// Versions is what there is to choose from.
func (c *Client) Versions(ctx context.Context) ([]keeper.Offer, error) {
	var offers []keeper.Offer
	return offers, c.call(ctx, http.MethodGet, "/v1/versions", nil, &offers)
}

// Foresee is what the front would do to put a share on green in force.
func (c *Client) Foresee(ctx context.Context, share split.Share) (front.Change, error) {
	var change front.Change
	return change, c.call(ctx, http.MethodGet, "/v1/change?share="+strconv.Itoa(int(share)), nil, &change)
}

// Tryout tries split keys on the plan's access log.
func (c *Client) Tryout(ctx context.Context) (tryout.Report, string, error) {
	var t tried
	err := c.call(ctx, http.MethodGet, "/v1/tryout", nil, &t)
	return t.Report, t.InForce, err
}

// Clients is what the plan's access log says of clients.
func (c *Client) Clients(ctx context.Context) (forecast.Clients, error) {
	var of forecast.Clients
	return of, c.call(ctx, http.MethodGet, "/v1/clients", nil, &of)
}

// Evidence is what the guards that compare have come to, moment by moment.
func (c *Client) Evidence(ctx context.Context) ([]guard.Story, error) {
	var s stories
	err := c.call(ctx, http.MethodGet, "/v1/evidence", nil, &s)
	return s.Guards, err
}

// Rehearse rehearses going home.
func (c *Client) Rehearse(ctx context.Context) (wayback.Rehearsal, error) {
	var r wayback.Rehearsal
	return r, c.call(ctx, http.MethodPost, "/v1/rehearsals", nil, &r)
}

// track is what came to the track after a time.
func (c *Client) track(ctx context.Context, after time.Time) ([]engine.Point, error) {
	var t pointsTold
	query := ""
	if !after.IsZero() {
		query = "?after=" + url.QueryEscape(after.Format(time.RFC3339Nano))
	}
	return t.Points, c.call(ctx, http.MethodGet, "/v1/track"+query, nil, &t)
}

// request sends a request. The error wraps [ErrGone] if nobody answers.
func (c *Client) request(ctx context.Context, method, path string, body any) (*http.Response, error) {
	var data []byte
	if body != nil {
		var err error
		if data, err = json.Marshal(body); err != nil {
			return nil, err
		}
	}
	r, err := http.NewRequestWithContext(ctx, method, "http://keeper"+path, bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	r.Header.Set(ProtocolHeader, strconv.Itoa(Protocol))
	r.Header.Set(ByHeader, c.By)
	r.Header.Set(FromHeader, c.From)
	if c.identity != "" {
		r.Header.Set(ClientHeader, c.identity)
	}
	w, err := c.http.Do(r)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		if errors.Is(err, context.DeadlineExceeded) {
			err = errors.New("it was waited for in vain")
		}
		return nil, fmt.Errorf("%w: %w", ErrGone, err)
	}
	if w.StatusCode != http.StatusOK {
		defer w.Body.Close()
		text, _ := io.ReadAll(io.LimitReader(w.Body, 1<<20))
		return nil, asError(w.StatusCode, text)
	}
	return w, nil
}

func (c *Client) call(ctx context.Context, method, path string, body, value any) error {
	ctx, cancel := context.WithTimeout(ctx, answerLimit)
	defer cancel()
	w, err := c.request(ctx, method, path, body)
	if err != nil {
		return err
	}
	defer w.Body.Close()
	if value == nil {
		_, err = io.Copy(io.Discard, w.Body)
	} else {
		err = json.NewDecoder(w.Body).Decode(value)
	}
	if err != nil {
		return fmt.Errorf("%w: its answer: %w", ErrGone, err)
	}
	return nil
}

// lines reads a stream, line by line, until it breaks off or says nothing for too long.
func (c *Client) lines(ctx context.Context, path string, opened func(http.Header),
	line func(json.RawMessage) error) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	silence := time.AfterFunc(quietLimit,
		func() { cancel(errors.New("what is shown is old; b b rolls back without it")) })
	defer silence.Stop()
	w, err := c.request(ctx, http.MethodGet, path, nil)
	if err != nil {
		return err
	}
	defer w.Body.Close()
	if opened != nil {
		opened(w.Header)
	}
	d := json.NewDecoder(heard{w.Body, func() { silence.Reset(quietLimit) }})
	for {
		var data json.RawMessage
		if err := d.Decode(&data); err != nil {
			if cause := context.Cause(ctx); cause != nil {
				err = cause
			}
			return fmt.Errorf("%w: %w", ErrGone, err)
		}
		if err := line(data); err != nil {
			return err
		}
	}
}

// heard calls with whatever arrives.
type heard struct {
	io.Reader
	call func()
}

// Read reads.
func (h heard) Read(p []byte) (int, error) {
	n, err := h.Reader.Read(p)
	if n > 0 {
		h.call()
	}
	return n, err
}

// again keeps a stream open until the context ends, and has a keeper started where none listens.
// What a keeper refuses ends it.
func (c *Client) again(ctx context.Context, stream func() error, broken func(error)) error {
	gone := time.Time{}
	for {
		begun := time.Now()
		err := stream()
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case !errors.Is(err, ErrGone) && !errors.Is(err, ErrBusy):
			return err
		}
		if gone.IsZero() || time.Since(begun) > quietLimit {
			gone = time.Now()
		}
		broken(err)
		if c.Revive != nil && time.Since(gone) > reviveAfter && nobodyListens(err) {
			if errRevive := c.Revive(ctx); errRevive != nil {
				broken(errRevive)
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(againEvery):
		}
	}
}

// nobodyListens reports whether a connection was refused, or there is no socket.
func nobodyListens(err error) bool {
	var op *net.OpError
	return errors.As(err, &op) && op.Op == "dial"
}

// Snapshots sends the newest snapshot. While the keeper does not answer it is the last one, which
// says so in its trouble. See [keeper.Client].
func (c *Client) Snapshots(ctx context.Context) <-chan keeper.Snapshot {
	out := make(chan keeper.Snapshot, 1)
	go func() {
		defer close(out)
		var s keeper.Snapshot
		cursor := ""
		var mu sync.Mutex // protects the sending
		send := func(s keeper.Snapshot) {
			mu.Lock()
			defer mu.Unlock()
			select {
			case <-out:
			default:
			}
			out <- s
		}
		since := time.Time{} // when it was last heard of, while it is gone
		err := c.again(ctx, func() error {
			path := "/v1/views"
			if cursor != "" {
				path += "?since=" + url.QueryEscape(cursor)
			}
			return c.lines(ctx, path, nil, func(data json.RawMessage) error {
				var u update
				if err := json.Unmarshal(data, &u); err != nil {
					return err
				}
				if err := parts.Put(&s, u.Parts); err != nil {
					return err
				}
				cursor, since = u.Cursor, time.Time{}
				c.drawn(ctx, &s)
				send(s)
				return nil
			})
		}, func(err error) {
			if since.IsZero() {
				since = time.Now()
			}
			if time.Since(since) > doubtAfter && !s.At.IsZero() {
				doubtful := s
				doubtful.Trouble = fmt.Sprintf("%v (since %s)", err, since.Format("15:04:05"))
				send(doubtful)
			}
		})
		if ctx.Err() == nil && err != nil && !s.At.IsZero() {
			s.Trouble = err.Error()
			send(s)
		}
	}()
	return out
}

// drawn has a snapshot carry the whole track: what has come to it is asked for.
func (c *Client) drawn(ctx context.Context, s *keeper.Snapshot) {
	last := time.Time{}
	if n := len(s.Track); n > 0 {
		last = s.Track[n-1].At
	}
	if !s.Drawn.After(last) {
		return
	}
	points, err := c.track(ctx, last)
	if err != nil {
		return // with the next one
	}
	track := s.Track
	if len(track) >= 2*keeper.TrackMost {
		track = track[len(track)-keeper.TrackMost:]
	}
	s.Track = append(track[:len(track):len(track)], points...)
}

// Events sends every event after one, also over a keeper that was replaced meanwhile. See
// [keeper.Client].
func (c *Client) Events(ctx context.Context, since uint64) <-chan crossing.Event {
	out := make(chan crossing.Event)
	opened := make(chan struct{})
	go func() {
		defer close(out)
		var once sync.Once
		_ = c.again(ctx, func() error {
			path := "/v1/events"
			if since != keeper.FromNow {
				path += "?since=" + strconv.FormatUint(since, 10)
			}
			return c.lines(ctx, path, func(h http.Header) {
				// A keeper that was killed may have told what it had not recorded yet: there is less then.
				if n, err := strconv.ParseUint(h.Get(SeqHeader), 10, 64); err == nil && n < since {
					since = n
				}
				once.Do(func() { close(opened) })
			}, func(data json.RawMessage) error {
				var e crossing.Event
				if err := json.Unmarshal(data, &e); err != nil {
					return err
				}
				if e.Seq <= since {
					return nil
				}
				select {
				case out <- e:
					since = e.Seq
				case <-ctx.Done():
				}
				return ctx.Err()
			})
		}, func(error) {})
		once.Do(func() { close(opened) })
	}()
	select { // what is asked for after this is told
	case <-opened:
	case <-time.After(doubtAfter):
	case <-ctx.Done():
	}
	return out
}
