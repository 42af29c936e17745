package embedded

import (
	"context"
	"crypto/subtle"
	"errors"
	"io"
	"log"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httputil"
	"strconv"
	"sync"
	"time"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/plan"
)

// proxy is the part of the front that requests pass through.
type proxy struct {
	key    plan.Key
	cookie string // that keeps a session on its side; "" if none does
	secret []byte // the prober's; empty if there is none
	tell   bool
	idle   time.Duration

	// mu protects table. Requests hold it for reading from looking at the table
	// until they are counted as open, so that once a new table is in place no
	// request can still begin by the old one.
	mu    sync.RWMutex
	table *table

	reverse   httputil.ReverseProxy
	wires     *wires
	transport *http.Transport // for what has a body, or becomes another protocol
}

func newProxy(c Config, t *table) *proxy {
	p := &proxy{key: c.Key, secret: c.Secret, tell: c.Tell, idle: c.Idle, table: t}
	if c.Sticky {
		p.cookie = c.Service + "-side"
	}
	dialer := &net.Dialer{Timeout: time.Second, KeepAlive: 30 * time.Second}
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := dialer.DialContext(ctx, network, address)
		if err != nil {
			return nil, &unsentError{err}
		}
		return conn, nil
	}
	p.wires = &wires{dial: dial, idle: map[string][]*wire{}}
	p.transport = &http.Transport{
		DialContext:            dial,
		MaxIdleConnsPerHost:    mostIdle,
		IdleConnTimeout:        longestIdle,
		DisableCompression:     true, // pass on what was asked for, untouched
		MaxResponseHeaderBytes: mostHeader,
	}
	p.reverse = httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.Out.URL.Scheme = "http"
			r.Out.Host = r.In.Host
			r.Out.URL.RawQuery = r.In.URL.RawQuery // as it came, even where Go would not parse it
			r.Out.Header["X-Forwarded-For"] = r.In.Header["X-Forwarded-For"]
			r.SetXForwarded()
			r.Out.Header.Del(front.ProbeHeader)
			if passageOf(r.In.Context()).probe {
				r.Out.Header.Set(front.ProbeHeader, "yes")
			}
		},
		Transport:      p,
		FlushInterval:  -1, // streams are passed on as they come
		BufferPool:     &buffers{},
		ModifyResponse: p.mark,
		ErrorHandler:   p.fail,
		ErrorLog:       log.New(io.Discard, "", 0), // failures are counted, per instance
	}
	return p
}

// unsentError is a connection that was never made: no byte of the request has
// been sent, so another instance can be asked.
type unsentError struct{ err error }

func (e *unsentError) Error() string { return e.err.Error() }
func (e *unsentError) Unwrap() error { return e.err }

// passage is one request on its way through.
type passage struct {
	pool     pool
	side     split.Side
	instance *instance // that answers it
	client   *paced
	probe    bool
	session  string // the side that the client's cookie names, "" if none does
	begun    time.Time
}

// innocent reports whether what went wrong is the client's doing, so that it
// counts against no instance and trips no guard.
func (p *passage) innocent(r *http.Request) bool {
	return r.Context().Err() != nil || p.client.broke.Load()
}

type passageKey struct{}

func passageOf(ctx context.Context) *passage {
	p, _ := ctx.Value(passageKey{}).(*passage)
	return p
}

// ServeHTTP passes a request on to the side that its key belongs to.
func (p *proxy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	pass := &passage{begun: time.Now(), probe: p.isProbe(r), client: newPaced(w, r, p.idle)}
	if p.cookie != "" && !pass.probe {
		if c, err := r.Cookie(p.cookie); err == nil {
			pass.session = c.Value
		}
	}
	p.enter(pass, p.place(r, pass.probe))
	defer pass.pool.tally.open.Add(-1)
	defer func() {
		if pass.instance != nil {
			pass.instance.open.Add(-1)
		}
		// The reverse proxy panics to cut an answer off that an instance broke off.
		if cut := recover(); cut != nil {
			if pass.instance != nil && !pass.innocent(r) {
				pass.instance.failures.Add(1)
				pass.pool.tally.lost.Add(1)
			}
			panic(cut)
		}
	}()
	p.reverse.ServeHTTP(pass.client, r.WithContext(context.WithValue(r.Context(), passageKey{}, pass)))
}

// enter decides the side by the table in force and counts the request as open
// there, in one step as seen by whoever replaces the table.
func (p *proxy) enter(pass *passage, place split.Place) {
	p.mu.RLock()
	defer p.mu.RUnlock()
	pass.side = place.Side(p.table.split.Share)
	if side, err := split.ParseSide(pass.session); err == nil && !p.table.sides[side].released && len(p.table.sides[side].instances) > 0 {
		pass.side = side
	}
	pass.pool = p.table.sides[pass.side]
	pass.pool.tally.open.Add(1)
}

// swap puts a new table in place. When it returns, every request that began by
// an earlier table is counted as open.
func (p *proxy) swap(t *table) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.table = t
}

func (p *proxy) current() *table {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return p.table
}

func (p *proxy) isProbe(r *http.Request) bool {
	marker := r.Header.Get(front.ProbeHeader)
	return marker != "" && len(p.secret) > 0 && subtle.ConstantTimeCompare([]byte(marker), p.secret) == 1
}

// place is where the request's key falls. Probes are placed at random, so that
// they see both sides whatever the key is. A request without the cookie or
// header that is the key is placed by its client's address.
func (p *proxy) place(r *http.Request, probe bool) split.Place {
	if probe || p.key.From == plan.KeyRandom {
		return split.Place(rand.Uint64())
	}
	switch p.key.From {
	case plan.KeyCookie:
		if c, err := r.Cookie(p.key.Name); err == nil && c.Value != "" {
			return split.PlaceOf(c.Value)
		}
	case plan.KeyHeader:
		if h := r.Header.Get(p.key.Name); h != "" {
			return split.PlaceOf(h)
		}
	}
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	return split.PlaceOf(split.Network(host, p.key.Prefix))
}

// errNoInstance is a side that has nothing to send a request to.
var errNoInstance = errors.New("no instance takes the request")

// RoundTrip asks instances of the passage's side until one can be connected to.
// Once a byte was sent the request is not repeated here. The request is the
// reverse proxy's own copy, so its address may be filled in.
func (p *proxy) RoundTrip(r *http.Request) (*http.Response, error) {
	pass := passageOf(r.Context())
	var tried []*instance
	last := errNoInstance
	body := r.Body
	for {
		i := pass.pool.pick(tried, time.Now())
		if i == nil {
			return nil, last
		}
		if body != nil && body != http.NoBody {
			r.Body = io.NopCloser(body) // the transport closes what it could not send
		}
		r.URL.Host = i.Address
		i.open.Add(1)
		answer, err := p.send(r)
		if err == nil {
			pass.instance = i // its open count goes down when the answer is through
			i.answered(answer.StatusCode, time.Since(pass.begun))
			return answer, nil
		}
		i.open.Add(-1)
		var unsent *unsentError
		if pass.innocent(r) {
			return nil, err
		}
		i.failures.Add(1)
		if !errors.As(err, &unsent) {
			return nil, err
		}
		i.downUntil.Store(time.Now().Add(avoided).UnixNano())
		tried = append(tried, i)
		last = err
	}
}

// send passes a request on, the short way if it can go that.
func (p *proxy) send(r *http.Request) (*http.Response, error) {
	if plain(r) {
		return p.wires.RoundTrip(r)
	}
	return p.transport.RoundTrip(r)
}

// mark names side, instance and version in answers to probes, and in nobody
// else's unless the plan says so. Instances cannot forge the names.
func (p *proxy) mark(answer *http.Response) error {
	h := answer.Header
	for _, name := range []string{front.SideHeader, front.InstanceHeader, front.VersionHeader, front.LostHeader} {
		delete(h, name)
	}
	pass := passageOf(answer.Request.Context())
	if pass != nil && p.cookie != "" && !pass.probe && pass.session != pass.side.String() {
		h.Add("Set-Cookie", (&http.Cookie{Name: p.cookie, Value: pass.side.String(), Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode}).String())
	}
	if pass == nil || !pass.probe && !p.tell {
		return nil
	}
	h.Set(front.SideHeader, pass.side.String())
	h.Set(front.InstanceHeader, pass.instance.Name)
	h.Set(front.VersionHeader, pass.instance.Version)
	return nil
}

// fail answers a request that no instance answered, and counts it as lost unless
// it was the client who left.
func (p *proxy) fail(w http.ResponseWriter, r *http.Request, err error) {
	pass := passageOf(r.Context())
	if pass.innocent(r) {
		w.Header().Set("Connection", "close")
		w.WriteHeader(http.StatusRequestTimeout) // if anybody is there to read it
		return
	}
	pass.pool.tally.lost.Add(1)
	status := http.StatusBadGateway
	var netErr net.Error
	switch {
	case errors.Is(err, errNoInstance):
		status = http.StatusServiceUnavailable
	case errors.As(err, &netErr) && netErr.Timeout():
		status = http.StatusGatewayTimeout
	}
	if pass.probe || p.tell {
		w.Header().Set(front.SideHeader, pass.side.String())
		w.Header().Set(front.LostHeader, strconv.Quote(err.Error()))
	}
	slog.Debug("request lost", "side", pass.side, "status", status, "err", err)
	http.Error(w, http.StatusText(status), status)
}

// reading is the front's state and figures as of now.
func (p *proxy) reading(now time.Time) front.Reading {
	t := p.current()
	r := front.Reading{At: now, Split: t.split}
	for _, side := range split.Sides {
		pool := t.sides[side]
		s := front.Side{Draining: pool.draining, Open: pool.tally.open.Load(), Lost: pool.tally.lost.Load(), Instances: []front.Count{}}
		for _, i := range pool.instances {
			s.Instances = append(s.Instances, i.count())
		}
		r.Sides[side] = s
	}
	return r
}

// buffers is a pool of copy buffers.
type buffers struct{ pool sync.Pool }

const bufferSize = 32 << 10

func (b *buffers) Get() []byte {
	if buf, ok := b.pool.Get().(*[bufferSize]byte); ok {
		return buf[:]
	}
	return make([]byte, bufferSize)
}

func (b *buffers) Put(buf []byte) {
	if cap(buf) >= bufferSize {
		b.pool.Put((*[bufferSize]byte)(buf[:bufferSize]))
	}
}
