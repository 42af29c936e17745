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
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/reading"
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

	wires   *wires // for requests on lanes
	buffers buffers

	// For all other requests.
	reverse   httputil.ReverseProxy
	transport *http.Transport
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
		Transport:     p,
		FlushInterval: -1, // streams are passed on as they come
		BufferPool:    &p.buffers,
		ModifyResponse: func(answer *http.Response) error {
			p.mark(answer.Header, passageOf(answer.Request.Context()))
			return nil
		},
		ErrorHandler: p.fail,
		ErrorLog:     log.New(io.Discard, "", 0), // failures are counted, per instance
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
	probe    bool
	lost     error       // why no instance answered
	session  string      // the side that the client's cookie names, "" if none does
	left     func() bool // whether what went wrong is the client's doing
	begun    time.Time
}

// leave counts the request as through.
func (p *passage) leave() {
	p.pool.tally.open.Add(-1)
	if p.instance != nil {
		p.instance.open.Add(-1)
	}
}

// brokeOff counts an answer that did not come to its end. If that is the client's doing
// it counts against no instance, and trips no guard.
func (p *passage) brokeOff() {
	if p.instance != nil && !p.left() {
		p.instance.failures.Add(1)
		p.pool.tally.lost.Add(1)
	}
}

type passageKey struct{}

func passageOf(ctx context.Context) *passage {
	p, _ := ctx.Value(passageKey{}).(*passage)
	return p
}

// asked is a request as far as its side depends on it.
type asked interface {
	header(name string) string // "" if there is none
	cookie(name string) string
	client() string // its address, without a port
}

// begin decides where a request goes.
func (p *proxy) begin(pass *passage, r asked) {
	pass.begun = time.Now()
	if len(p.secret) > 0 {
		marker := r.header(front.ProbeHeader)
		pass.probe = marker != "" && subtle.ConstantTimeCompare([]byte(marker), p.secret) == 1
	}
	if p.cookie != "" && !pass.probe {
		pass.session = r.cookie(p.cookie)
	}
	p.enter(pass, p.place(r, pass.probe))
}

// library is a request that the library has read.
type library struct{ *http.Request }

func (r library) header(name string) string {
	if strings.EqualFold(name, "Host") {
		return r.Host // the library keeps it apart
	}
	return r.Header.Get(name)
}

func (r library) cookie(name string) string {
	if c, err := r.Cookie(name); err == nil {
		return c.Value
	}
	return ""
}

func (r library) client() string {
	if host, _, err := net.SplitHostPort(r.RemoteAddr); err == nil {
		return host
	}
	return r.RemoteAddr
}

// ServeHTTP passes a request on to the side that its key belongs to.
func (p *proxy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	client := newPaced(w, r, p.idle)
	pass := &passage{left: func() bool { return r.Context().Err() != nil || client.broke.Load() }}
	p.begin(pass, library{r})
	defer pass.leave()
	defer func() {
		// The reverse proxy panics to cut an answer off that an instance broke off.
		if cut := recover(); cut != nil {
			pass.brokeOff()
			panic(cut)
		}
	}()
	p.reverse.ServeHTTP(client, r.WithContext(context.WithValue(r.Context(), passageKey{}, pass)))
}

// enter decides the side by the table in force and counts the request as open
// there, in one step as seen by whoever replaces the table.
func (p *proxy) enter(pass *passage, place split.Place) {
	p.mu.RLock()
	defer p.mu.RUnlock()
	pass.side = place.Side(p.table.split.Share)
	if side, err := split.ParseSide(pass.session); pass.session != "" && err == nil && !p.table.sides[side].released && len(p.table.sides[side].instances) > 0 {
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

// place is where the request's key falls. Probes are placed at random, so that
// they see both sides whatever the key is. A request without the cookie or
// header that is the key is placed by its client's address.
func (p *proxy) place(r asked, probe bool) split.Place {
	key := ""
	switch {
	case probe || p.key.From == plan.KeyRandom:
		return split.Place(rand.Uint64())
	case p.key.From == plan.KeyCookie:
		key = r.cookie(p.key.Name)
	case p.key.From == plan.KeyHeader:
		key = r.header(p.key.Name)
	}
	if key == "" {
		key = split.Network(r.client(), p.key.Prefix)
	}
	return split.PlaceOf(key)
}

// errNoInstance is a side that has nothing to send a request to.
var errNoInstance = errors.New("no instance takes the request")

// errUnasked is an answer that would make another protocol of a connection.
var errUnasked = errors.New("the instance switches protocols unasked")

// through asks instances of the passage's side until one can be connected to, and
// counts what came of it. Once a byte was sent the request is not repeated here. ask
// returns the status as soon as an answer has begun.
func (p *proxy) through(pass *passage, ask func(*instance) (status int, err error)) error {
	var tried []*instance
	last := errNoInstance
	for {
		i := pass.pool.pick(tried, time.Now())
		if i == nil {
			return last
		}
		i.open.Add(1)
		slot := i.waits.begin(time.Now())
		status, err := ask(i)
		i.waits.end(slot)
		if err == nil {
			pass.instance = i // its open count goes down when the answer is through
			i.answered(status, time.Since(pass.begun))
			return nil
		}
		i.open.Add(-1)
		if pass.left() {
			i.left.Add(1)
			return err
		}
		i.failures.Add(1)
		var unsent *unsentError
		if !errors.As(err, &unsent) {
			return err
		}
		i.downUntil.Store(time.Now().Add(avoided).UnixNano())
		tried = append(tried, i)
		last = err
	}
}

// RoundTrip asks instances. The request is the reverse proxy's own copy, so its address
// may be filled in.
func (p *proxy) RoundTrip(r *http.Request) (answer *http.Response, err error) {
	body := r.Body
	err = p.through(passageOf(r.Context()), func(i *instance) (int, error) {
		if body != nil && body != http.NoBody {
			r.Body = io.NopCloser(body) // the transport closes what it could not send
		}
		r.URL.Host = i.Address
		if answer, err = p.transport.RoundTrip(r); err != nil {
			return 0, err
		}
		if answer.StatusCode == http.StatusSwitchingProtocols && r.Header.Get("Upgrade") == "" {
			return 0, errors.Join(errUnasked, answer.Body.Close())
		}
		return answer.StatusCode, nil
	})
	if err != nil {
		return nil, err
	}
	return answer, nil
}

// mark names side, instance and version in answers to probes, and in nobody
// else's unless the plan says so. Instances cannot forge the names.
func (p *proxy) mark(h http.Header, pass *passage) {
	for name := range h {
		if kindOf([]byte(name)) == mark {
			delete(h, name)
		}
	}
	for name, values := range p.marks(pass) {
		h[name] = append(h[name], values...)
	}
}

// marks are the fields that are added to an answer.
func (p *proxy) marks(pass *passage) http.Header {
	session := p.cookie != "" && !pass.probe && pass.instance != nil && pass.session != pass.side.String()
	if !session && !pass.probe && !p.tell {
		return nil
	}
	h := http.Header{}
	if session {
		h.Set("Set-Cookie", (&http.Cookie{Name: p.cookie, Value: pass.side.String(), Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode}).String())
	}
	if pass.probe || p.tell {
		h.Set(front.SideHeader, pass.side.String())
		if pass.instance != nil {
			h.Set(front.InstanceHeader, pass.instance.Name)
			h.Set(front.VersionHeader, pass.instance.Version)
		} else {
			h.Set(front.LostHeader, strconv.Quote(pass.lost.Error()))
		}
	}
	return h
}

// lost counts a request that no instance answered, and returns the status to answer it
// with.
func (p *proxy) lost(pass *passage, err error) (status int) {
	pass.pool.tally.lost.Add(1)
	pass.lost = err
	status = http.StatusBadGateway
	var netErr net.Error
	switch {
	case errors.Is(err, errNoInstance):
		status = http.StatusServiceUnavailable
	case errors.As(err, &netErr) && netErr.Timeout():
		status = http.StatusGatewayTimeout
	}
	slog.Debug("request lost", "side", pass.side, "status", status, "err", err)
	return status
}

// fail answers a request that no instance answered.
func (p *proxy) fail(w http.ResponseWriter, r *http.Request, err error) {
	pass := passageOf(r.Context())
	if pass.left() {
		w.Header().Set("Connection", "close")
		w.WriteHeader(http.StatusRequestTimeout) // if anybody is there to read it
		return
	}
	status := p.lost(pass, err)
	p.mark(w.Header(), pass)
	http.Error(w, http.StatusText(status), status)
}

// reading is the front's state and figures as of now.
func (p *proxy) reading(now time.Time) reading.Front {
	t := p.current()
	r := reading.Front{At: now, Split: t.split, Order: t.order, Tells: reading.Tells{Counts: true, Times: true, Waits: true}}
	for _, side := range split.Sides {
		pool := t.sides[side]
		s := reading.Side{Draining: pool.draining, Open: pool.tally.open.Load(), Lost: pool.tally.lost.Load(), Instances: []reading.Count{}}
		for n, i := range pool.instances {
			c := i.count()
			c.Out = pool.out[n]
			s.Instances = append(s.Instances, c)
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
