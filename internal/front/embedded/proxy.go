package embedded

import (
	"context"
	"errors"
	"io"
	"log"
	"log/slog"
	"math"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httputil"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/clients"
	"vaiven/internal/plan"
)

// proxy is the part of the front that requests pass through.
type proxy struct {
	settings *Settings
	key      plan.Key
	cookie   string // that keeps a session on its side; "" if none does
	secret   []byte // the prober's; what is signed is signed with it
	spare    spareDoor
	clients  *clients.Counts // nil where the key keeps nobody together

	// table is what requests go by. One is counted as open by the table it went by, and looks
	// whether that still is the one in force; so once a new table is in place, no request can
	// begin by the old one.
	table atomic.Pointer[table]

	wires   *wires
	buffers buffers
	reverse httputil.ReverseProxy
}

func newProxy(c Config, t *table) *proxy {
	p := &proxy{settings: &c.Settings, key: c.Key, secret: c.Secret}
	p.spare.SpareDoor = c.Spare
	p.table.Store(t)
	if c.Key.From != plan.KeyRandom {
		p.clients = clients.New(t.split.Share)
	}
	if c.Sticky {
		p.cookie = c.Service + "-side"
	}
	dialer := &net.Dialer{Timeout: time.Second, KeepAlive: 30 * time.Second}
	p.wires = &wires{
		dial: func(ctx context.Context, address string) (net.Conn, error) {
			return dialer.DialContext(ctx, "tcp", address)
		},
		buffers: &p.buffers, firstByte: c.FirstByte, nextByte: c.NextByte, tunnel: c.TunnelIdle, kept: map[string][]*wire{}, odd: map[string]bool{},
	}
	p.reverse = httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			pass := passageOf(r.In.Context())
			r.Out.URL.Scheme = "http"
			r.Out.Host = r.In.Host
			r.Out.URL.RawQuery = r.In.URL.RawQuery // as it came, even where Go would not parse it
			pass.from.tell(r.Out.Header, r.In.Header)
			r.Out.Header.Del("Expect") // who waits for a word has had it
			if pass.probe {
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
	from     origin
	probe    bool
	aside    bool        // it came by the spare side's door: it counts for nothing
	lost     error       // why no instance answered
	session  *split.Side // the side that the client's cookie names, nil if none does
	left     func() bool // whether what went wrong is the client's doing
	begun    time.Time
	place    split.Place
	full     bool // the side has too many
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
	if p.instance != nil && !p.left() && !p.aside {
		p.instance.failures.Add(1)
		p.pool.tally.lost.Add(1)
	}
}

type passageKey struct{}

func passageOf(ctx context.Context) *passage {
	p, _ := ctx.Value(passageKey{}).(*passage)
	return p
}

// ServeHTTP passes a request on to the side that its key belongs to.
func (p *proxy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !answerable(w, r) {
		return
	}
	caller := callerFrom(r.Context())
	client := newPaced(w, r, caller, p.settings)
	defer client.done()
	pass := &passage{begun: time.Now(), left: func() bool { return r.Context().Err() != nil || client.broke.Load() }}
	p.begin(pass, r, caller)
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

// answerable answers requests that no instance is asked, and reports whether it is not one.
func answerable(w http.ResponseWriter, r *http.Request) bool {
	switch {
	case r.Method == http.MethodConnect || r.Method == http.MethodTrace:
		w.Header().Set("Connection", "close")
		http.Error(w, "this front does not do "+r.Method, http.StatusMethodNotAllowed)
	case r.Host == "" && r.ProtoAtLeast(1, 1):
		w.Header().Set("Connection", "close")
		http.Error(w, "the request names no host", http.StatusBadRequest)
	default:
		return true
	}
	return false
}

// begin decides where a request goes.
func (p *proxy) begin(pass *passage, r *http.Request, c *caller) {
	pass.from = originOf(r, p.settings.TrustedProxies)
	pass.probe = p.isProbe(r)
	pass.aside = c != nil && c.spare || p.spare.opens(r)
	key := ""
	switch {
	case pass.probe || p.key.From == plan.KeyRandom:
	case p.key.From == plan.KeyCookie:
		if c, err := r.Cookie(p.key.Name); err == nil {
			key = c.Value
		}
	case p.key.From == plan.KeyHeader:
		if key = r.Header.Get(p.key.Name); http.CanonicalHeaderKey(p.key.Name) == "Host" {
			key = r.Host // the library keeps it apart
		}
	}
	if p.cookie != "" && !pass.probe {
		if c, err := r.Cookie(p.cookie); err == nil {
			if side, ok := p.unseal(c.Value); ok {
				pass.session = &side
			}
		}
	}
	clean(r.Header)
	p.spare.hide(r.Header)
	p.enter(pass, key)
}

// enter decides the side by the table in force and counts the request as open there, in one
// step as seen by whoever replaces the table.
func (p *proxy) enter(pass *passage, key string) {
	for {
		t := p.table.Load()
		pass.place = p.place(t, pass, key)
		switch {
		case pass.aside:
			pass.side = t.whole.Other()
		case pass.session != nil && !t.sides[*pass.session].released && len(t.sides[*pass.session].instances) > 0:
			pass.side = *pass.session
		default:
			pass.side = pass.place.Side(t.split.Share)
		}
		pass.pool = t.sides[pass.side]
		open := pass.pool.tally.open.Add(1)
		if p.table.Load() == t {
			pass.full = open > p.budget(t)
			return
		}
		pass.pool.tally.open.Add(-1)
	}
}

// budget is how many requests one side may have open, so that instances that hang leave the
// other side its part of the connections.
func (p *proxy) budget(t *table) int64 {
	if t.split.Share == 0 || t.split.Share == split.Whole {
		return math.MaxInt64
	}
	return max(int64(p.settings.Connections/2), 1)
}

// swap puts a new table in place. When it returns, every request that began by
// an earlier table is counted as open.
func (p *proxy) swap(t *table) {
	p.table.Store(t)
	if p.clients != nil {
		p.clients.Changed(t.split.Share)
	}
}

// met counts the client of a request, by what it got; took is 0 if that was no answer.
func (p *proxy) met(pass *passage, bad bool, took time.Duration) {
	if p.clients != nil && !pass.probe {
		p.clients.Answered(pass.side, uint64(pass.place), bad, took)
	}
}

func (p *proxy) current() *table { return p.table.Load() }

// place is where the request's key falls. Probes are placed at random, so that
// they see both sides whatever the key is. A request without the cookie or
// header that is the key is placed by its client's address.
func (p *proxy) place(t *table, pass *passage, key string) split.Place {
	if pass.probe || p.key.From == plan.KeyRandom {
		return split.Place(rand.Uint64())
	}
	if key == "" {
		key = split.Network(pass.from.client, p.key.Prefix)
	}
	return split.PlaceOf(t.seed + key)
}

// errNoInstance is a side that has nothing to send a request to.
var errNoInstance = errors.New("no instance takes the request")

// errFull is a side that has as many requests open as it may have.
var errFull = errors.New("the side has too many requests open")

// errUnasked is an answer that would make another protocol of a connection.
var errUnasked = errors.New("the instance switches protocols unasked")

// RoundTrip asks instances of the passage's side until one can be connected to, and counts
// what came of it. Once a byte was sent the request is not repeated here. The request is the
// reverse proxy's own copy, so its address may be filled in.
func (p *proxy) RoundTrip(r *http.Request) (*http.Response, error) {
	pass := passageOf(r.Context())
	if pass.full {
		return nil, errFull
	}
	var tried []*instance
	last := errNoInstance
	for {
		i := pass.pool.pick(tried, time.Now())
		if i == nil {
			return nil, last
		}
		i.open.Add(1)
		slot := i.waits.begin(time.Now())
		r.URL.Host = i.Address
		answer, err := p.wires.ask(r, i.Address, pass.left)
		i.waits.end(slot)
		if err == nil && answer.StatusCode == http.StatusSwitchingProtocols && r.Header.Get("Upgrade") == "" {
			err = errors.Join(errUnasked, answer.Body.Close())
		}
		if err == nil {
			pass.instance = i // its open count goes down when the answer is through
			if !pass.aside {
				took := time.Since(pass.begun)
				i.answered(answer.StatusCode, took)
				p.met(pass, answer.StatusCode >= 500, took)
			}
			return answer, nil
		}
		i.open.Add(-1)
		var unsent *unsentError
		switch {
		case pass.left():
			if !pass.aside {
				i.left.Add(1)
				p.met(pass, true, 0)
			}
			return nil, err
		case ours(err):
			return nil, err
		case !pass.aside:
			i.failures.Add(1)
		}
		if !errors.As(err, &unsent) {
			return nil, err
		}
		i.downUntil.Store(time.Now().Add(avoided).UnixNano())
		tried = append(tried, i)
		last = err
	}
}

// mark names side, instance and version in answers to probes, and in nobody
// else's unless the plan says so. Instances cannot forge the names.
func (p *proxy) mark(h http.Header, pass *passage) {
	for name := range h {
		if strings.HasPrefix(name, ownPrefix) {
			delete(h, name)
		}
	}
	for name, values := range p.marks(pass) {
		h[name] = append(h[name], values...)
	}
}

// marks are the fields that are added to an answer.
func (p *proxy) marks(pass *passage) http.Header {
	session := p.cookie != "" && !pass.probe && !pass.aside && pass.instance != nil && (pass.session == nil || *pass.session != pass.side)
	if !session && !pass.probe && !p.settings.Tell {
		return nil
	}
	h := http.Header{}
	if session {
		h.Set("Set-Cookie", (&http.Cookie{Name: p.cookie, Value: p.seal(pass.side), Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode}).String())
	}
	if pass.probe || p.settings.Tell {
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
	if !pass.aside {
		pass.pool.tally.lost.Add(1)
		p.met(pass, true, 0)
	}
	pass.lost = err
	status = http.StatusBadGateway
	var netErr net.Error
	switch {
	case errors.Is(err, errNoInstance), errors.Is(err, errFull), ours(err):
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
	r := reading.Front{At: now, Split: t.split, Order: t.order, Tells: reading.Tells{Counts: true, Times: true, Waits: true, Both: true, Clients: p.clients != nil}}
	for _, side := range split.Sides {
		pool := t.sides[side]
		s := reading.Side{Draining: pool.draining, Open: pool.tally.open.Load(), Lost: pool.tally.lost.Load(), Instances: []reading.Count{}}
		for n, i := range pool.instances {
			c := i.count()
			c.Out = pool.out[n]
			s.Instances = append(s.Instances, c)
		}
		if p.clients != nil {
			s.Clients = p.clients.Read(side)
		}
		r.Sides[side] = s
	}
	return r
}

// buffers is a pool of copy buffers.
type buffers struct{ pool sync.Pool }

const bufferSize = 64 << 10

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
