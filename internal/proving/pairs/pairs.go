package pairs

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"vaiven/internal/core/difference"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/proving/pace"
	"vaiven/internal/world/check"
)

// Config says what is sent, and to whom.
type Config struct {
	Requests []plan.Request
	Sides    [2][]string // addresses of instances, which take turns
	Rate     float64     // pairs a second
	Repeat   int         // of each request
	Ignore   []string    // "json PATTERN", "header NAME"
	Within   time.Duration
	Built    time.Time              // of the spare side's build, to know answers that are older
	Spare    split.Side             // the side whose answers must not come from a cache
	Headers  [2][]map[string]string // of every request, by side and instance; none: no further ones
	Hide     func(string) string    // takes secrets out of what is kept, which may have been cut; nil keeps all

	// Dial connects to an address; nil for from this machine.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
}

// Report is how the answers compare.
type Report struct {
	Pairs    int       `json:"pairs"` // sent to both sides
	Same     int       `json:"same"`
	Findings []Finding `json:"findings"` // the most frequent first
	Times    [2]Times  `json:"times"`    // by side
	Took     Seconds   `json:"took_s"`
	Left               // requests that were not sent
	At       time.Time `json:"at,omitzero"`
	Cached   int       `json:"cached,omitempty"` // answers of the spare side that came from a cache
	Sample   []string  `json:"requests,omitempty"`
}

// Seconds is a time that scripts read in seconds.
type Seconds float64

// Times are how long a side's answers took, in milliseconds.
type Times struct {
	P50 float64 `json:"p50_ms"`
	P99 float64 `json:"p99_ms"`
}

// Finding is one way in which answers differ.
type Finding struct {
	Request string    `json:"request"`
	What    string    `json:"what"` // "status", "header X-Ship", "body fares.0.price"
	Count   int       `json:"count"`
	Value   [2]string `json:"value"`  // of the example, by side
	Answer  [2]string `json:"answer"` // the example in full, as far as it was kept
}

// answer is one side's.
type answer struct {
	status int
	header http.Header
	body   []byte
	took   time.Duration
	err    error
}

// The limits of one answer, in bytes.
const (
	bodyLimit = 1 << 20
	keptLimit = 4 << 10
)

// atOnce bounds the pairs that are under way at the same time.
const atOnce = 32

// Compare sends every request to both sides as often as it is to be repeated, and
// says how the answers compare. If the context ends, the report is of those that
// came until then.
func Compare(ctx context.Context, c Config) Report {
	begun := time.Now()
	client := c.client()
	defer client.CloseIdleConnections()
	g := gathering{config: c, found: map[string]*Finding{}}
	for n := range g.times {
		g.times[n] = reading.NewHistogram()
	}
	total := len(c.Requests) * c.Repeat
	paced(ctx, total, c.Rate, func(n int) {
		q := c.Requests[n%len(c.Requests)]
		var both [2]answer
		var wait sync.WaitGroup
		for _, side := range split.Sides {
			wait.Go(func() { both[side] = send(ctx, client, c, q, side, n) })
		}
		wait.Wait()
		if ctx.Err() == nil {
			g.add(q, both)
		}
	})
	return g.report(time.Since(begun))
}

// client makes the one that sends to both sides.
func (c *Config) client() *http.Client {
	return &http.Client{
		Transport:     &http.Transport{MaxIdleConnsPerHost: atOnce, DisableCompression: true, DialContext: c.Dial},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// paced does something n times at a rate, and waits for all.
func paced(ctx context.Context, n int, rate float64, do func(n int)) {
	room := make(chan struct{}, atOnce)
	pace.Each(ctx, n, time.Duration(float64(time.Second)/rate), func(int) chan struct{} { return room }, do)
}

// send makes the nth request to a side, whose instances take turns, past caches. Nothing that
// one side has said is told to the other.
func send(ctx context.Context, client *http.Client, c Config, q plan.Request, side split.Side, n int) answer {
	address := c.Sides[side][n%len(c.Sides[side])]
	ctx, cancel := context.WithTimeout(ctx, c.Within)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, q.Method, "http://"+address+q.Path, strings.NewReader(q.Body))
	if err != nil {
		return answer{err: err}
	}
	all := []map[string]string{q.Headers}
	if own := c.Headers[side]; len(own) > 0 {
		all = append(all, own[n%len(own)])
	}
	for _, headers := range all {
		for name, value := range headers {
			if r.Header.Set(name, value); http.CanonicalHeaderKey(name) == "Host" {
				r.Host = value
			}
		}
	}
	r.Header.Set("User-Agent", "vaiven-pairs")
	check.PastCaches(r)
	begun := time.Now()
	w, err := client.Do(r)
	if err != nil {
		var urlErr *url.Error
		if errors.As(err, &urlErr) {
			err = urlErr.Err
		}
		return answer{took: time.Since(begun), err: err}
	}
	defer w.Body.Close()
	body, err := io.ReadAll(io.LimitReader(w.Body, bodyLimit))
	return answer{w.StatusCode, w.Header, body, time.Since(begun), err}
}

// gathering is a report that is being made.
type gathering struct {
	config Config

	mu     sync.Mutex // protects the rest
	pairs  int
	same   int
	cached int
	found  map[string]*Finding
	times  [2]*hdrhistogram.Histogram
}

func (g *gathering) add(q plan.Request, both [2]answer) {
	differ := g.config.differ(both)
	cached := both[g.config.Spare].header != nil && check.CachedBy(both[g.config.Spare].header, g.config.Built) != ""
	g.mu.Lock()
	defer g.mu.Unlock()
	g.pairs++
	if cached {
		g.cached++
	}
	for n, a := range both {
		reading.Record(g.times[n], a.took)
	}
	if len(differ) == 0 {
		g.same++
		return
	}
	for _, d := range differ {
		key := q.String() + "\x00" + d.What
		f := g.found[key]
		if f == nil {
			// One for both sides: what differs has another number. The values have their own, so that
			// what is accepted does not depend on the rest of an answer.
			var inValue, inAnswer difference.Mask
			d.Request = new(difference.Mask).Text(g.hide(q.String()))
			for n, a := range both {
				d.Answer[n] = shortened(inAnswer.Text(g.hide(a.whole())))
				d.Value[n] = inValue.Value(d.What, g.hide(d.Value[n]))
			}
			d.Value = apart(d.Value)
			f = &d
			g.found[key] = f
		}
		f.Count++
	}
}

func (g *gathering) hide(text string) string {
	if g.config.Hide != nil {
		return g.config.Hide(text)
	}
	return text
}

func (g *gathering) report(took time.Duration) Report {
	g.mu.Lock()
	defer g.mu.Unlock()
	r := Report{Pairs: g.pairs, Same: g.same, Cached: g.cached, Took: Seconds(took.Seconds()), At: time.Now(),
		Findings: []Finding{}}
	for _, f := range slices.Collect(maps.Values(g.found)) {
		r.Findings = append(r.Findings, *f)
	}
	slices.SortFunc(r.Findings, func(a, b Finding) int {
		return cmp.Or(b.Count-a.Count, cmp.Compare(a.Request, b.Request), cmp.Compare(a.What, b.What))
	})
	for n, h := range g.times {
		r.Times[n] = Times{P50: float64(h.ValueAtQuantile(50)) / 1000, P99: float64(h.ValueAtQuantile(99)) / 1000}
	}
	return r
}

// whole is an answer for a person to read.
func (a answer) whole() string {
	if a.err != nil {
		return check.Words(a.err)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "HTTP %d %s\n", a.status, http.StatusText(a.status))
	_ = a.header.Write(&b) // to memory: cannot fail
	b.WriteByte('\n')
	var indented bytes.Buffer
	if json.Indent(&indented, a.body, "", "  ") == nil {
		b.Write(indented.Bytes()) // so that the same places stand on the same lines
	} else {
		b.Write(a.body)
	}
	return strings.ToValidUTF8(b.String(), "?")
}

// apart are two values from shortly before they differ, as far as they are shown.
func apart(values [2]string) [2]string {
	const before = 20 // characters
	a, b := []rune(values[0]), []rune(values[1])
	same := 0
	for same < min(len(a), len(b)) && a[same] == b[same] {
		same++
	}
	for n, text := range [][]rune{a, b} {
		if from := same - before; from > 0 && len(text) > 2*before {
			values[n] = "…" + string(text[from:])
		}
		values[n] = check.Excerpt([]byte(values[n]))
	}
	return values
}

// shortened is as much of an answer as is kept.
func shortened(text string) string {
	if len(text) > keptLimit {
		return strings.ToValidUTF8(text[:keptLimit], "") + "…"
	}
	return text
}

// unequal are headers that differ between any two answers.
var unequal = []string{"Date", "Content-Length", "Connection", "Keep-Alive"}

// differ names the ways in which two answers differ.
func (c Config) differ(both [2]answer) []Finding {
	blue, green := both[split.Blue], both[split.Green]
	if blue.err != nil || green.err != nil {
		if blue.err != nil && green.err != nil {
			return nil // neither answers: that is for checks to say
		}
		return []Finding{{What: "answer", Value: [2]string{said(blue), said(green)}}}
	}
	if blue.status != green.status {
		return []Finding{{What: "status", Value: [2]string{fmt.Sprint(blue.status), fmt.Sprint(green.status)}}}
	}
	var list []Finding
	names := map[string]bool{}
	for _, h := range []http.Header{blue.header, green.header} {
		for name := range h {
			names[name] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		a, b := strings.Join(blue.header.Values(name), ", "), strings.Join(green.header.Values(name), ", ")
		if a != b && !slices.Contains(unequal, name) && !c.ignores("header", http.CanonicalHeaderKey(name)) {
			list = append(list, Finding{What: "header " + name, Value: [2]string{a, b}})
		}
	}
	return append(list, c.bodies(blue.body, green.body)...)
}

func said(a answer) string {
	if a.err != nil {
		return check.Words(a.err)
	}
	return fmt.Sprintf("status %d", a.status)
}

// mostPaths bounds how many places of one body are named.
const mostPaths = 10

func (c Config) bodies(blue, green []byte) []Finding {
	if bytes.Equal(blue, green) {
		return nil
	}
	a, okA := document(blue)
	b, okB := document(green)
	if !okA || !okB {
		return []Finding{{What: "body", Value: [2]string{string(blue), string(green)}}}
	}
	var list []Finding
	paths := difference.Paths(a, b, c.patterns("json"))
	for n, path := range paths {
		if n == mostPaths {
			list = append(list, Finding{What: fmt.Sprintf("body, %d more places", len(paths)-n)})
			break
		}
		list = append(list, Finding{What: "body " + path, Value: [2]string{a[path], b[path]}})
	}
	return list
}

// document is a JSON body by its paths.
func document(body []byte) (map[string]string, bool) {
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber()
	var v any
	if d.Decode(&v) != nil {
		return nil, false
	}
	return difference.Flatten(v), true
}

// patterns are those of what is ignored that are of a kind.
func (c Config) patterns(kind string) []string {
	var list []string
	for _, text := range c.Ignore {
		if pattern, ok := strings.CutPrefix(text, kind+" "); ok {
			list = append(list, pattern)
		}
	}
	return list
}

func (c Config) ignores(kind, name string) bool {
	return slices.ContainsFunc(c.patterns(kind),
		func(p string) bool { return difference.Matches(strings.ToLower(p), strings.ToLower(name)) })
}

// Warmth is how a warm-up went.
type Warmth struct {
	Requests int     `json:"requests"`
	Failing  int     `json:"failing"`         // no answer, or status 500 and above
	AtLast   int     `json:"failing_at_last"` // of these, among the last tenth
	First    float64 `json:"first_p50_ms"`
	Last     float64 `json:"last_p50_ms"` // of the last tenth
}

// WarmUp sends n requests to one side, each instance in turn.
func WarmUp(ctx context.Context, c Config, side split.Side, n int) Warmth {
	client := c.client()
	defer client.CloseIdleConnections()
	var mu sync.Mutex // protects what follows
	var w Warmth
	first, last := reading.NewHistogram(), reading.NewHistogram()
	paced(ctx, n, c.Rate, func(k int) {
		a := send(ctx, client, c, c.Requests[k%len(c.Requests)], side, k)
		if ctx.Err() != nil {
			return
		}
		mu.Lock()
		defer mu.Unlock()
		w.Requests++
		if a.err != nil || a.status >= 500 {
			w.Failing++
			if k >= n-n/10-1 {
				w.AtLast++
			}
		}
		h := last
		switch {
		case k <= n/10:
			h = first
		case k < n-n/10:
			return
		}
		reading.Record(h, a.took)
	})
	w.First, w.Last = float64(first.ValueAtQuantile(50))/1000, float64(last.ValueAtQuantile(50))/1000
	return w
}
