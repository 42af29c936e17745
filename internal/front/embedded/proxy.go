package embedded

import (
	"context"
	"errors"
	"io"
	"log"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/clients"
)

// proxy is the part of the front that requests pass through. The library's reverse proxy and transport
// do the work, on copies of the server's requests; what is decided, counted and bounded here is around them.
type proxy struct {
	settings *Settings
	key      plan.Key
	cookie   string // that keeps a session on its side; "" if none does
	secret   []byte // the prober's; what is signed is signed with it
	spare    spareDoor
	clients  *clients.Counts // nil where the key keeps nobody together
	kept     clients.Kept
	denied   *denials
	retiring atomic.Bool // another process takes in who comes: answers are the last on their connections

	// table is what requests go by. One is counted as open by the table it went by, and looks
	// whether that still is the one in force; so once a new table is in place, no request can
	// begin by the old one.
	table atomic.Pointer[table]

	wires   *wires
	reverse httputil.ReverseProxy
}

func newProxy(c Config, t *table, counts *denials) *proxy {
	p := &proxy{settings: &c.Settings, key: c.Key, secret: c.Secret, denied: counts}
	p.spare.SpareDoor = c.Spare
	p.table.Store(t)
	if c.Key.From != plan.KeyRandom {
		p.clients = clients.New(t.split.Share, time.Now)
	}
	if c.Sticky {
		p.cookie = c.Service + "-side"
	}
	p.wires = newWires(c.Connections, c.HTTP2, func(address string) {
		counts.count(strayBytes, netip.Addr{})
		slog.Debug("instance sent unexpected bytes", "address", address)
	})
	p.reverse = httputil.ReverseProxy{
		Rewrite:    p.rewrite,
		Transport:  p,
		BufferPool: &pieces,
		ModifyResponse: func(answer *http.Response) error {
			p.mark(answer.Header, passageOf(answer.Request.Context()))
			return nil
		},
		ErrorHandler: p.fail,
		ErrorLog:     log.New(io.Discard, "", 0), // failures are counted, per instance
	}
	return p
}

// rewrite makes what an instance is asked of what a client asked.
func (p *proxy) rewrite(r *httputil.ProxyRequest) {
	pass := passageOf(r.In.Context())
	out := r.Out
	out.URL.Scheme = "http"
	pass.first = pass.pool.pick(nil, pass.begun)
	if pass.first != nil {
		out.URL.Host = pass.first.Address
	}
	out.Close = p.wires.framed && bodiless(r.In)
	out.Host = r.In.Host
	out.URL.RawQuery = r.In.URL.RawQuery // as it came, even where Go would not parse it
	out.Trailer = r.In.Trailer           // it is filled in as the body ends
	if len(out.Trailer) > 0 {
		out.ContentLength = -1 // over HTTP/1 only chunks have a trailer
	}
	clean(out.Header, pass.from.trusted)
	p.spare.hide(out.Header)
	pass.from.tell(out.Header, r.In.Header)
	if p.settings.ClientCA != "" {
		shownCertificate(out.Header, r.In, pass.watch.caller)
	}
	if !r.In.ProtoAtLeast(1, 1) {
		out.Header.Del("Expect") // who asks so knows of no word between
	}
	if unsafeUpgrade(out.Header) {
		out.Header.Del("Connection")
		out.Header.Del("Upgrade")
		out.Header.Del("Http2-Settings")
	}
	if pass.probe {
		out.Header.Set(front.ProbeHeader, "yes")
	}
}

// unsafeUpgrade reports whether a request would become one for other requests that nobody here sees:
// HTTP/2, or TLS.
func unsafeUpgrade(h http.Header) bool {
	for _, to := range h["Upgrade"] {
		for name := range strings.SplitSeq(to, ",") {
			name, _, _ = strings.Cut(strings.ToLower(strings.TrimSpace(name)), "/")
			if name == "h2c" || name == "h2" || name == "http" || name == "tls" {
				return true
			}
		}
	}
	return false
}

// passage is one request on its way through, and the context of that, in which it is found again.
type passage struct {
	context.Context
	pool     pool
	side     split.Side
	first    *instance // that is asked first, nil if there is none
	instance *instance // that answers it
	from     origin
	watch    watch
	answer   answer   // on its way to the client,
	body     download // and its body
	probe    bool
	aside    bool     // it came by the spare side's door: it counts for nothing
	lost     error    // why no instance answered
	session  *session // that the client's cookie says, nil if none does
	begun    time.Time
	place    split.Place
	who      split.Place // the client, whatever the order in which clients go over
	full     bool        // too many of the side wait for their answers
	waits    bool        // it is counted among those
}

// answered says that the answer has begun: the request waits no more.
func (p *passage) answered() {
	if p.waits {
		p.waits = false
		p.pool.tally.waits.Add(-1)
	}
}

// leave counts the request as through.
func (p *passage) leave() {
	p.answered()
	p.pool.tally.open.Add(-1)
	if p.instance != nil {
		p.instance.open.Add(-1)
	}
}

// brokeOff counts an answer that did not come to its end. If that is the client's doing
// it counts against no instance, and trips no guard.
func (p *passage) brokeOff() {
	if p.instance != nil && !p.watch.left() && !p.aside {
		p.instance.failures.Add(1)
		p.pool.tally.lost.Add(1)
	}
}

type passageKey struct{}

// Value finds the passage.
func (p *passage) Value(key any) any {
	if key == (passageKey{}) {
		return p
	}
	return p.Context.Value(key)
}

func passageOf(ctx context.Context) *passage {
	p, _ := ctx.Value(passageKey{}).(*passage)
	return p
}

// ServeHTTP passes a request on to the side that its key belongs to.
func (p *proxy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	c := callerFrom(r.Context())
	if r.Host == "" && !r.ProtoAtLeast(1, 1) && c != nil {
		named := *r // HTTP/1.0 need not name one
		r, named.Host = &named, c.LocalAddr().String()
	}
	if no := refuse(r); no != nil {
		p.refuse(w, r, no)
		return
	}
	if c != nil && !p.enterRoom(w, r, c) {
		return
	}
	defer p.leaveRoom(r, c)

	ctx, cancel := context.WithCancelCause(r.Context())
	defer cancel(nil)
	pass := &passage{Context: ctx, begun: time.Now()}
	pass.watch.begin(w, r, c, p.settings.limits(r), cancel)
	defer pass.watch.end()
	if size := pass.watch.size; size > 0 && r.ContentLength > size {
		p.refuse(w, r, &denial{http.StatusRequestEntityTooLarge, "the request's body is larger than allowed",
			largeBody})
		return
	}
	p.begin(pass, r, c)
	defer pass.leave()
	defer func() {
		// The reverse proxy panics to cut an answer off that an instance broke off.
		if cut := recover(); cut != nil {
			pass.brokeOff()
			panic(cut)
		}
	}()
	in := r.WithContext(pass)
	if pass.watch.body != nil {
		in.Body = pass.watch.body
	}
	pass.answer = answer{ResponseWriter: w, watch: &pass.watch, old: !r.ProtoAtLeast(1, 1), last: &p.retiring}
	p.reverse.ServeHTTP(&pass.answer, in)
}

// enterRoom takes what a request needs besides its connection, and answers it where there is none left.
func (p *proxy) enterRoom(w http.ResponseWriter, r *http.Request, c *caller) bool {
	if r.ProtoMajor < 2 {
		return true
	}
	switch {
	case p.wires.framed && !c.room.enter(c):
		w.Header().Set("Retry-After", "1")
		http.Error(w, "too many requests at once", http.StatusServiceUnavailable)
	case !c.room.takeHead(c, headerSize(r)-headFree):
		if p.wires.framed {
			c.room.exit(c)
		}
		http.Error(w, "too many large request headers at once", http.StatusRequestHeaderFieldsTooLarge)
	default:
		return true
	}
	return false
}

// leaveRoom gives it back.
func (p *proxy) leaveRoom(r *http.Request, c *caller) {
	switch {
	case c == nil:
	case r.ProtoMajor < 2:
		c.headDone()
	default:
		c.room.giveHead(c, headerSize(r)-headFree)
		if p.wires.framed {
			c.room.exit(c)
		}
	}
}

// refuse answers a request that no instance is asked.
func (p *proxy) refuse(w http.ResponseWriter, r *http.Request, no *denial) {
	var of netip.Addr
	if c := callerFrom(r.Context()); c != nil {
		of = c.peer
	}
	p.denied.count(no.reason, of)
	if r.ProtoMajor < 2 {
		w.Header().Set("Connection", "close")
	}
	http.Error(w, no.why, no.status)
}

// begin decides where a request goes.
func (p *proxy) begin(pass *passage, r *http.Request, c *caller) {
	pass.from = originOf(r, c, p.settings.TrustedProxies)
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
			if s, ok := p.unseal(c.Value); ok {
				pass.session = &s
			}
		}
	}
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
		case pass.session != nil && pass.session.epoch == t.sides[pass.session.side].epoch &&
			len(t.sides[pass.session.side].instances) > 0:
			pass.side = pass.session.side
			p.kept.Came(pass.side, pass.session.number, pass.begun)
		default:
			pass.side = pass.place.Side(t.split.Share)
		}
		pass.pool = t.sides[pass.side]
		pass.pool.tally.open.Add(1)
		if p.table.Load() == t {
			waiting := pass.pool.tally.waiting()
			pass.waits = true
			if t.steady() {
				pass.pool.tally.carry(waiting)
			} else {
				pass.full = waiting > max(int64(p.settings.Connections/2), pass.pool.tally.carried(), 1)
			}
			return
		}
		pass.pool.tally.open.Add(-1)
	}
}

// swap puts a new table in place. When it returns, every request that began by
// an earlier table is counted as open.
func (p *proxy) swap(t *table) {
	before := p.table.Swap(t)
	for _, side := range split.Sides {
		if before.sides[side].epoch != t.sides[side].epoch {
			p.kept.Release(side)
		}
	}
	if p.clients != nil {
		p.clients.Changed(t.split.Share)
	}
}

// met counts the client of a request, by what it got; took is 0 if that was no answer.
func (p *proxy) met(pass *passage, bad bool, took time.Duration) {
	if p.clients != nil && !pass.probe {
		p.clients.Answered(pass.side, uint64(pass.who), bad, took)
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
	pass.who = split.PlaceOf(key)
	if t.seed == "" {
		return pass.who
	}
	return split.PlaceOf(t.seed + key)
}

// errNoInstance is a side that has nothing to send a request to.
var errNoInstance = errors.New("no instance takes the request")

// errFull is a side of which as many requests wait for an answer as may.
var errFull = errors.New("too many requests wait for the side's answers")

// errUnasked is an answer that would make another protocol of a connection.
var errUnasked = errors.New("the instance switches protocols unasked")

// RoundTrip asks instances of the passage's side until one can be connected to, and counts
// what came of it. Once a byte was sent the request is not repeated here.
func (p *proxy) RoundTrip(r *http.Request) (*http.Response, error) {
	pass := passageOf(r.Context())
	if pass.full {
		return nil, errFull
	}
	var tried []*instance
	last := errNoInstance
	for i := pass.first; ; i = pass.pool.pick(tried, time.Now()) {
		if i == nil {
			return nil, last
		}
		i.open.Add(1)
		slot := i.waits.begin(time.Now())
		pass.watch.asks()
		answer, err := p.wires.ask(r, i.Address)
		i.waits.end(slot)
		if err == nil && answer.StatusCode == http.StatusSwitchingProtocols && r.Header.Get("Upgrade") == "" {
			err = errors.Join(errUnasked, answer.Body.Close())
		}
		if err == nil {
			pass.instance = i // its open count goes down when the answer is through
			pass.answered()
			p.follow(pass, answer)
			return answer, nil
		}
		i.open.Add(-1)
		if cause := context.Cause(r.Context()); cause != nil {
			err = cause
		}
		var unsent *unsentError
		switch {
		case pass.watch.left():
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

// follow counts an answer that has begun, and sees to how it goes on.
func (p *proxy) follow(pass *passage, answer *http.Response) {
	status, calls := answer.StatusCode, isGRPC(answer.Header)
	nextByte := pass.watch.nextByte
	if calls {
		nextByte = 0 // a stream of answers may be quiet
	}
	pass.watch.answers(nextByte)
	switch {
	case pass.aside:
	case pass.probe: // what users get is counted without it
		pass.instance.probes.Add(1)
	default:
		took := time.Since(pass.begun)
		pass.instance.answered(status, took)
		p.met(pass, status >= 500, took)
	}
	if status == http.StatusSwitchingProtocols {
		return
	}
	body := &pass.body
	*body = download{ReadCloser: answer.Body, watch: &pass.watch}
	if calls && !pass.aside {
		body.ends = func() {
			if badCall(answer) {
				pass.instance.failures.Add(1)
				p.met(pass, true, 0)
			}
		}
	}
	answer.Body = body
}

// own are the names of fields that only the front says.
var own = [...]string{front.ProbeHeader, front.SideHeader, front.InstanceHeader, front.VersionHeader, front.LostHeader}

// mark names side, instance and version in answers to probes, and in nobody
// else's unless the plan says so. Instances cannot forge the names.
func (p *proxy) mark(h http.Header, pass *passage) {
	for _, name := range own {
		delete(h, name)
	}
	for name, values := range p.marks(pass) {
		h[name] = append(h[name], values...)
	}
	if pass.aside { // nobody else is to get it from a cache
		h.Set("Cache-Control", "no-store")
		for _, by := range p.spare.names() {
			h.Add("Vary", by)
		}
	}
}

// marks are the fields that are added to an answer.
func (p *proxy) marks(pass *passage) http.Header {
	begins := p.cookie != "" && !pass.probe && !pass.aside && pass.instance != nil &&
		(pass.session == nil || pass.session.side != pass.side || pass.session.epoch != pass.pool.epoch)
	if !begins && !pass.probe && !p.settings.Tell {
		return nil
	}
	h := http.Header{}
	if begins {
		h.Set("Set-Cookie", (&http.Cookie{
			Name: p.cookie, Value: p.seal(session{pass.side, pass.pool.epoch, rand.Uint64()}), Path: "/",
			HttpOnly: true, Secure: pass.from.proto == "https", SameSite: http.SameSiteLaxMode,
		}).String())
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
	var slow *slowError
	switch {
	case errors.Is(err, errFull):
		p.denied.count(sideFull, pass.from.peer)
		status = http.StatusServiceUnavailable
	case errors.Is(err, errNoInstance):
		p.denied.count(noInstance, pass.from.peer)
		status = http.StatusServiceUnavailable
	case ours(err):
		p.denied.count(noRoom, pass.from.peer)
		status = http.StatusServiceUnavailable
	case errors.As(err, &slow), isTimeout(err):
		status = http.StatusGatewayTimeout
	}
	slog.Debug("request lost", "side", pass.side, "status", status, "err", err)
	return status
}

// fail answers a request that no instance answered.
func (p *proxy) fail(w http.ResponseWriter, r *http.Request, err error) {
	pass := passageOf(r.Context())
	if pass.watch.left() {
		status := http.StatusRequestTimeout // if anybody is there to read it
		switch {
		case errors.Is(err, errLargeBody):
			status = http.StatusRequestEntityTooLarge
			p.denied.count(largeBody, pass.from.peer)
		case errors.Is(err, errSlowBody):
			p.denied.count(slowBody, pass.from.peer)
		}
		w.Header().Set("Connection", "close")
		w.WriteHeader(status)
		return
	}
	status := p.lost(pass, err)
	p.mark(w.Header(), pass)
	http.Error(w, http.StatusText(status), status)
}

// reading is the front's state and figures as of now.
func (p *proxy) reading(now time.Time) reading.Front {
	t := p.current()
	r := reading.Front{Refused: p.denied.read(), At: now, Split: t.split, Order: t.order,
		Tells: reading.Capabilities{Counts: true, Times: true, Waits: true, Both: true, Clients: p.clients != nil}}
	for _, side := range split.Sides {
		pool := t.sides[side]
		s := reading.Side{Open: pool.tally.open.Load(), Lost: pool.tally.lost.Load(), Kept: p.kept.Count(side, now),
			Instances: []reading.Count{}}
		for n, i := range pool.instances {
			c := i.count()
			c.Server = pool.described(n)
			s.Instances = append(s.Instances, c)
		}
		if p.clients != nil {
			s.Clients = p.clients.Read(side)
		}
		r.Sides[side] = s
	}
	return r
}
