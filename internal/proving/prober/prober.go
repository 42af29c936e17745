package prober

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"net/http/httptrace"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/proving/door"
	"vaiven/internal/world/check"
	"vaiven/internal/world/durable"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
)

// Config says what to send, and what to make of the answers.
type Config struct {
	Off     bool       // ask nothing
	Fronts  []string   // addresses to ask at, in turn
	Path    string     // what to ask for
	Door    *door.Door // nil: by HTTP, without more ado
	Rate    float64    // requests a second
	Timeout time.Duration
	Status  int // of a good answer
	// What a good answer has in its body.
	Contains string
	JSON     []plan.JSONValue
	// Likely is what good answers seem to have in their bodies: it is taken for so where the live side's do.
	Likely  plan.HTTP
	Slow    time.Duration       // a good answer that takes longer is slow; 0: none is
	Hide    func(string) string // takes secrets out of what is said of an answer; nil: it is said as it is
	Secret  string              // known to the embedded front, which then names the side
	Side    plan.Field          // where else an answer names its side
	Key     plan.Key            // of the split: a cookie or header gets a new value with each request
	Version plan.Field
}

// Secret reads the secret that the prober and the embedded front share, making
// one first if there is none, or an empty file. The file has mode 0600.
func Secret(file string) (string, error) {
	data, err := os.ReadFile(file)
	if len(data) > 0 && err == nil {
		return string(data), nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("read the prober's secret: %w", err)
	}
	// Of two that make one at the same time, the second takes what the first made.
	ctx, cancel := context.WithTimeout(context.Background(), secretLimit)
	defer cancel()
	unlock, err := place.Local{}.Lock(ctx, file+".lock")
	if err != nil {
		return "", fmt.Errorf("make the prober's secret: %w", err)
	}
	defer unlock()
	if data, err := os.ReadFile(file); err == nil && len(data) > 0 {
		return string(data), nil
	}
	secret := rand.Text()
	if err := durable.WriteFile(file, []byte(secret)); err != nil {
		return "", fmt.Errorf("make the prober's secret: %w", err)
	}
	return secret, nil
}

// secretLimit is how long somebody else who makes the secret is waited for.
const secretLimit = 10 * time.Second

// newConnection is how often a request gets a connection of its own: one in so
// many. The others use kept ones, as browsers do.
const newConnection = 4

// keptFor is after how many requests kept connections are given up for others: whoever
// stays on one sees the one proxy that accepted it, and none that was forgotten beside.
const keptFor = 16

// recentLength is how many marks a report holds.
const recentLength = 240

// Prober sends and records. Its methods are safe for concurrent use.
type Prober struct {
	config  Config
	clients [2]*http.Client // one keeps connections, one makes a new one for each request

	mu       sync.Mutex // protects what follows
	report   reading.Door
	lastGood time.Time
	resting  bool
	runs     [2]Runs // what the sides run, to know a side by
	learning bool    // only the live side is asked
	held     int     // answers of the live side in a row, until now, that had what is likely
	wants    bool    // the live side's answers had it: it is wanted
}

// New makes a prober that has sent nothing.
func New(c Config) *Prober {
	if c.Hide == nil {
		c.Hide = func(text string) string { return text }
	}
	if c.Door == nil {
		c.Door = door.New(plan.Entrance{}, secret.Values{})
	}
	p := &Prober{config: c}
	for n := range p.clients {
		p.clients[n] = &http.Client{
			Transport:     c.Door.Way(n == 0),
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
			Timeout:       c.Timeout,
		}
	}
	p.report.Versions = map[string]int64{}
	p.report.LastBegun = map[string]time.Time{}
	return p
}

// Run sends at the configured rate until the context ends, then waits for the
// answers that are still out. A slow answer does not hold up the next request,
// but when as many are out as the time-out allows at this rate, it waits.
func (p *Prober) Run(ctx context.Context) {
	if p.config.Off {
		<-ctx.Done()
		return
	}
	interval := p.interval()
	ticker := time.NewTicker(interval)
	defer ticker.Stop()
	room := make(chan struct{}, int(p.config.Rate*p.config.Timeout.Seconds())+2)
	var wait sync.WaitGroup
	defer wait.Wait()
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		if now := p.interval(); now != interval {
			interval = now
			ticker.Reset(interval)
		}
		select {
		case room <- struct{}{}:
		case <-ctx.Done():
			return
		}
		wait.Go(func() {
			defer func() { <-room }()
			client := p.clients[0]
			if n%newConnection == 0 {
				client = p.clients[1]
			}
			p.probe(client, p.config.Fronts[n%len(p.config.Fronts)], rand.Text())
		})
		if n%keptFor == 0 {
			p.clients[0].CloseIdleConnections()
		}
	}
}

// restEvery is how often a prober asks that rests.
const restEvery = time.Second

// interval is how often it asks now.
func (p *Prober) interval() time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	every := time.Duration(float64(time.Second) / p.config.Rate)
	if p.resting {
		return max(every, restEvery)
	}
	return every
}

// Rest has the prober ask seldom, because nobody needs it to ask often. The time until it asks
// again is no gap in its answers.
func (p *Prober) Rest(rest bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.resting != rest {
		p.resting, p.lastGood = rest, time.Time{}
	}
}

// probe sends one request, placed by a value of the split key where that is a cookie or header. It is not cut short
// by the end of the run: a request that was sent is accounted for.
func (p *Prober) probe(c *http.Client, address, value string) {
	r, err := p.config.Door.Request(context.Background(), http.MethodGet, address, p.config.Path)
	if err != nil {
		p.record(time.Now(), reading.Mark{Kind: reading.Unreached}, "", err.Error())
		return
	}
	check.PastCaches(r)
	r.Header.Set("User-Agent", front.ProbeAgent)
	r.Header.Set(front.ProbeHeader, p.config.Secret)
	switch p.config.Key.From {
	case plan.KeyCookie:
		r.AddCookie(&http.Cookie{Name: p.config.Key.Name, Value: value})
	case plan.KeyHeader:
		r.Header.Set(p.config.Key.Name, value)
	}
	var connected atomic.Bool
	r = r.WithContext(httptrace.WithClientTrace(r.Context(),
		&httptrace.ClientTrace{GotConn: func(httptrace.GotConnInfo) { connected.Store(true) }}))
	begun := time.Now()
	w, err := c.Do(r)
	if err != nil {
		kind := reading.LostAnswer
		if !connected.Load() {
			kind = reading.Unreached
		}
		p.record(begun, reading.Mark{Kind: kind}, "", check.Words(err))
		return
	}
	body, err := io.ReadAll(io.LimitReader(w.Body, 1<<20))
	_ = w.Body.Close()
	if err != nil {
		p.record(begun, reading.Mark{Side: p.side(w, body, ""), Kind: reading.LostAnswer}, "", check.Words(err))
		return
	}
	version := w.Header.Get(front.VersionHeader)
	if p.config.Version != (plan.Field{}) {
		version = check.Claim(p.config.Version, w.Header, body)
	}
	m := reading.Mark{Side: p.side(w, body, version), Cache: w.Header.Get("Age") != ""}
	lost := w.Header.Get(front.LostHeader)
	if lost == "" && w.Header.Get(front.InstanceHeader) == "" && isGateway(w.StatusCode) {
		lost = w.Status
	}
	why := lost
	switch {
	case lost != "":
		m.Kind = reading.LostAnswer
	case w.StatusCode != p.config.Status:
		m.Kind, why = reading.FailingAnswer, w.Status
	default:
		if want, got, ok := check.Content(body, p.config.Contains, p.config.JSON, p.config.Hide); !ok {
			m.Kind, why = reading.FailingAnswer, fmt.Sprintf("want %s, got %s", want, got)
		} else if want, got, ok := p.likely(body); !ok {
			m.Kind, why = reading.FailingAnswer, fmt.Sprintf("want %s, got %s, as the live side did", want, got)
		} else if p.config.Slow > 0 && time.Since(begun) > p.config.Slow {
			m.Kind = reading.SlowAnswer
		}
	}
	p.record(begun, m, version, why)
}

// heldLeast is how many answers in a row have to have had what is likely until it is wanted.
const heldLeast = 10

// Learn says whether only the live side is asked. What its last answers have all had is wanted from then on.
func (p *Prober) Learn(learning bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if learning && !p.learning {
		p.held = 0
	}
	if p.learning && !learning {
		p.wants = p.held >= heldLeast
	}
	p.learning = learning
}

// likely holds an answer against what is likely: while it learns any is good.
func (p *Prober) likely(body []byte) (want, got string, ok bool) {
	if p.config.Likely.Contains == "" && len(p.config.Likely.JSON) == 0 {
		return "", "", true
	}
	want, got, ok = check.Content(body, p.config.Likely.Contains, p.config.Likely.JSON, p.config.Hide)
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case !p.learning:
		ok = ok || !p.wants
	case ok:
		p.held++
	default: // it may name a version
		p.held = 0
	}
	return want, got, ok || p.learning
}

// isGateway reports whether a status is one by which a proxy says that nobody
// answered it.
func isGateway(status int) bool {
	return status == http.StatusBadGateway || status == http.StatusServiceUnavailable ||
		status == http.StatusGatewayTimeout
}

func (p *Prober) side(w *http.Response, body []byte, version string) string {
	name := w.Header.Get(front.SideHeader)
	if p.config.Side != (plan.Field{}) {
		name = check.Claim(p.config.Side, w.Header, body)
	}
	if _, err := split.ParseSide(name); err == nil {
		return name
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, side := range split.Sides {
		own, other := p.runs[side].Version, p.runs[side.Other()]
		if version != "" && version == own && version != other.Version && (other.Version != "" || !other.Somebody) {
			return side.String()
		}
	}
	return ""
}

// Runs is what a side runs.
type Runs struct {
	Somebody bool   // there is an instance
	Version  string // that all of them say; "" if they say none, or several
}

// Sides tells what the sides run, so that an answer that names its version and not its side is known by that. Where one
// side's version is not known, nothing is known by versions: the other side's answers alone would be all there are.
func (p *Prober) Sides(runs [2]Runs) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.runs = runs
}

// kept is how far back answers are known by side.
const kept = 10 * time.Minute

// count notes an answer of a side.
func (p *Prober) count(begun time.Time, name string) {
	side, err := split.ParseSide(name)
	if err != nil {
		return
	}
	list := p.report.Seconds
	if n := len(list); n == 0 || begun.Sub(list[n-1].At) >= time.Second {
		list = append(list, reading.Second{At: begun})
		for len(list) > 1 && begun.Sub(list[0].At) > kept {
			list = list[1:]
		}
		p.report.Seconds = list
	}
	if last := &list[len(list)-1]; !begun.Before(last.At) { // of a slow one the second is over
		last.Sides[side]++
	}
}

// tally notes what came of a request that has just ended.
func (p *Prober) tally(now time.Time, m reading.Mark) {
	list := p.report.Ended
	if n := len(list); n == 0 || now.Sub(list[n-1].At) >= time.Second {
		list = append(list, reading.Ended{At: now})
		for len(list) > 1 && now.Sub(list[0].At) > kept {
			list = list[1:]
		}
		p.report.Ended = list
	}
	last := &list[len(list)-1]
	if m.Kind == reading.Unreached {
		last.Unreached++
		return
	}
	t := &last.Nobody
	if side, err := split.ParseSide(m.Side); err == nil {
		t = &last.Sides[side]
	}
	t.Of++
	if m.Kind != reading.GoodAnswer {
		t.Bad++
	}
}

// note keeps the words of an answer that came to nothing good.
func (p *Prober) note(now time.Time, m reading.Mark, why string) {
	list := append(p.report.Bad, reading.Bad{Mark: m, At: now, Why: why})
	p.report.Bad = list[max(0, len(list)-reading.BadMost):]
}

func (p *Prober) record(begun time.Time, m reading.Mark, version, why string) {
	now := time.Now()
	p.mu.Lock()
	defer p.mu.Unlock()
	r := &p.report
	r.Answers++
	if !m.Cache {
		p.tally(now, m)
	}
	lost := m.Kind == reading.LostAnswer || m.Kind == reading.Unreached
	switch m.Kind {
	case reading.LostAnswer, reading.Unreached:
		r.Lost++
		p.note(now, m, why)
	case reading.FailingAnswer:
		r.Failing++
		p.note(now, m, why)
	default:
		if m.Kind == reading.SlowAnswer {
			r.Slow++
		}
		if !p.lastGood.IsZero() {
			r.Gap = max(r.Gap, now.Sub(p.lastGood))
			r.LongestGap = max(r.LongestGap, r.Gap)
		}
		if p.lastGood = now; p.resting {
			p.lastGood = time.Time{}
		}
	}
	if !lost && !m.Cache {
		p.count(begun, m.Side)
	}
	if !lost && m.Side != "" && begun.After(r.LastBegun[m.Side]) {
		r.LastBegun[m.Side] = begun
	}
	if version != "" && (r.Versions[version] > 0 || len(r.Versions) < 20) {
		r.Versions[version]++
	}
	r.Recent = append(r.Recent, m)
	if len(r.Recent) > 2*recentLength {
		r.Recent = append([]reading.Mark(nil), r.Recent[len(r.Recent)-recentLength:]...)
	}
}

// Report is the door log as of now. A gap that still lasts counts. Gaps since the last report are for one who asks.
func (p *Prober) Report(now time.Time) reading.Door {
	p.mu.Lock()
	defer p.mu.Unlock()
	r := p.report
	r.At = now
	if n, ok := p.config.Door.Numbers(); ok {
		r.Twice, r.Disordered = n.Twice, n.Disordered
	}
	if p.report.Gap = 0; !p.lastGood.IsZero() {
		r.Gap = max(r.Gap, now.Sub(p.lastGood))
		r.LongestGap = max(r.LongestGap, r.Gap)
	}
	r.Recent = append([]reading.Mark(nil), r.Recent[max(0, len(r.Recent)-recentLength):]...)
	r.Bad = slices.Clone(p.report.Bad)
	r.Versions = maps.Clone(p.report.Versions)
	r.LastBegun = maps.Clone(p.report.LastBegun)
	r.Seconds = slices.Clone(p.report.Seconds)
	r.Ended = slices.Clone(p.report.Ended)
	return r
}
