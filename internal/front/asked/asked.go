package asked

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/world/place"
	"vaiven/internal/world/scrape"
	"vaiven/internal/world/section"
)

// Counts is where instances tell how many requests they have answered: a page in the text format of Prometheus.
type Counts struct {
	Path     string // "" if nobody tells
	Requests string // counter
	Label    string // of it, with the status or its class
	Open     string // gauge: requests that are being answered; "" if nobody tells
}

// Read reads what a plan says of it.
func Read(r *section.Reader, n ast.Node) Counts {
	c := Counts{Label: "code"}
	r.Mapping(n, "counts",
		section.Need("path", func(n ast.Node) { r.Text(n, "path", &c.Path) }),
		section.Need("requests", func(n ast.Node) { r.Text(n, "requests", &c.Requests) }),
		section.May("open", func(n ast.Node) { r.Text(n, "open", &c.Open) }),
		section.May("label", func(n ast.Node) { r.Text(n, "label", &c.Label) }))
	if c.Path != "" && !strings.HasPrefix(c.Path, "/") {
		r.Wrong(n, fmt.Sprintf("the path %q does not begin with /", c.Path), `write it as in "path: /metrics"`)
	}
	return c
}

// Counter asks the instances of both sides how many requests they have answered. Make it with New. It is safe for
// concurrent use; nil counts nothing.
type Counter struct {
	plan   Counts
	client *http.Client

	mu     sync.Mutex          // protects what follows
	before map[string]answered // by address: of instances that were started again since
	last   map[string]answered
	rests  [2]rest // by side
}

// answered is what an instance has answered since it was started.
type answered struct {
	requests int64
	status   [6]int64 // by class
}

func (a answered) and(b answered) answered {
	a.requests += b.requests
	for n := range a.status {
		a.status[n] += b.status[n]
	}
	return a
}

// New makes a counter that asks from somewhere, nil if nobody tells.
func New(from place.Dialer, p Counts) *Counter {
	if p.Path == "" {
		return nil
	}
	t := &http.Transport{DialContext: from.Dial, MaxIdleConnsPerHost: 1}
	return &Counter{plan: p, client: &http.Client{Transport: t, Timeout: time.Second}, before: map[string]answered{},
		last: map[string]answered{}}
}

// Count writes a reading's figures, all instances asked at the same time. One that does not tell makes the reading
// blind.
func (c *Counter) Count(ctx context.Context, r *reading.Front) {
	if c == nil {
		return
	}
	r.Tells.Counts = true
	var wait sync.WaitGroup
	var mu sync.Mutex // protects failed
	var failed []string
	for _, side := range split.Sides {
		for n := range r.Sides[side].Instances {
			i := &r.Sides[side].Instances[n]
			wait.Go(func() {
				if err := c.one(ctx, i); err != nil {
					i.Untold = true
					mu.Lock()
					defer mu.Unlock()
					failed = append(failed, fmt.Sprintf("%s does not tell what it answers: %v", i.Name, err))
				}
			})
		}
	}
	wait.Wait()
	for _, side := range split.Sides {
		for _, i := range r.Sides[side].Instances {
			r.Sides[side].Open += i.Open
		}
	}
	if len(failed) > 0 {
		r.Blind = strings.Join(failed, "; ")
	}
}

// one asks an instance.
func (c *Counter) one(ctx context.Context, i *reading.Count) error {
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+i.Address+c.plan.Path, nil)
	if err != nil {
		return err
	}
	w, err := c.client.Do(q)
	if err != nil {
		return err
	}
	defer w.Body.Close()
	if w.StatusCode != http.StatusOK {
		return fmt.Errorf("%s: status %s", c.plan.Path, w.Status)
	}
	page, err := scrape.Read(io.LimitReader(w.Body, scrape.Limit))
	if err != nil {
		return fmt.Errorf("%s: %w", c.plan.Path, err)
	}
	byStatus, found := page.By(c.plan.Requests, c.plan.Label)
	if !found {
		return fmt.Errorf("%s has no %s", c.plan.Path, c.plan.Requests)
	}
	if c.plan.Open != "" {
		open, found := page.Sum(c.plan.Open, nil)
		if !found {
			return fmt.Errorf("%s has no %s", c.plan.Path, c.plan.Open)
		}
		i.Open = max(int64(open), 0)
	}
	var now answered
	for status, n := range byStatus {
		if len(status) > 0 && status[0] >= '1' && status[0] <= '5' {
			now.status[status[0]-'0'] += int64(n)
		}
		now.requests += int64(n)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if now.requests < c.last[i.Address].requests {
		c.before[i.Address] = c.before[i.Address].and(c.last[i.Address])
	}
	c.last[i.Address] = now
	all := now.and(c.before[i.Address])
	i.Requests, i.Status = all.requests, all.status
	return nil
}

// rest is since when a side answers nothing.
type rest struct {
	all, more int64 // all requests, and how many of them came last
	at        time.Time
}

// quiet is how long nobody has to come before nobody does.
const quiet = 3 * time.Second

// Stragglers is how many requests a side that is to be given up is answering, or answered last; 0 once none came for
// a while.
func (c *Counter) Stragglers(side split.Side, r reading.Front) int64 {
	if c == nil {
		return 0
	}
	var all int64
	for _, i := range r.Sides[side].Instances {
		all += i.Requests
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	switch was := &c.rests[side]; {
	case was.at.IsZero(): // what they have counted before says nothing of now
		*was = rest{all, 1, r.At}
	case all != was.all:
		*was = rest{all, max(all-was.all, 1), r.At}
	case r.At.Sub(was.at) >= quiet:
		return r.Sides[side].Open
	}
	return max(c.rests[side].more, r.Sides[side].Open)
}
