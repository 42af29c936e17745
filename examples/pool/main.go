package main

import (
	"context"
	"encoding/json"
	"flag"
	"log"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httputil"
	"strconv"
	"sync"
	"time"
)

// Member is one address in the pool.
type Member struct {
	Address string            `json:"address"`
	Weight  int               `json:"weight"`
	Labels  map[string]string `json:"labels,omitempty"`
}

// Pool is what is read and written.
type Pool struct {
	ETag    string   `json:"etag"`
	Pending bool     `json:"pending"` // a change was accepted and is not in force
	Members []Member `json:"members"`
}

// Count is what a member answered.
type Count struct {
	Open     int64    `json:"open"`
	Requests int64    `json:"requests"`
	Status   [6]int64 `json:"status"`
	Failures int64    `json:"failures"`
}

type pool struct {
	delay, lag time.Duration
	refuse     int

	mu      sync.Mutex // protects what follows
	now     Pool       // in force
	shown   Pool       // to who reads
	change  int        // number of the last one that was accepted
	asked   int        // how often a change was asked for
	counts  map[string]*Count
	version int
}

func main() {
	listen := flag.String("listen", "127.0.0.1:8080", "address for requests")
	api := flag.String("api", "127.0.0.1:8081", "address for changes")
	p := &pool{counts: map[string]*Count{}, now: Pool{ETag: "0", Members: []Member{}}}
	flag.DurationVar(&p.delay, "delay", 2*time.Second, "until a change is in force")
	flag.DurationVar(&p.lag, "lag", time.Second, "until it is read")
	flag.IntVar(&p.refuse, "refuse", 0, "refuse one change in so many; 0 for none")
	flag.Parse()
	p.shown = p.now
	mux := http.NewServeMux()
	mux.HandleFunc("GET /pool", p.read)
	mux.HandleFunc("PUT /pool", p.write)
	mux.HandleFunc("GET /counts", p.count)
	go func() { log.Fatal(http.ListenAndServe(*api, mux)) }()
	log.Fatal(http.ListenAndServe(*listen, p))
}

func (p *pool) read(w http.ResponseWriter, _ *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	shown := p.shown
	shown.Pending = p.now.Pending || p.now.ETag != p.shown.ETag
	_ = json.NewEncoder(w).Encode(shown)
}

func (p *pool) count(w http.ResponseWriter, _ *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	_ = json.NewEncoder(w).Encode(p.counts)
}

// write accepts a change of the whole pool, if it was read as it is. "If-Match: *" takes the place of whatever is
// under way.
func (p *pool) write(w http.ResponseWriter, r *http.Request) {
	var next Pool
	if err := json.NewDecoder(r.Body).Decode(&next); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.asked++
	whatever := r.Header.Get("If-Match") == "*"
	switch {
	case p.refuse > 0 && p.asked%p.refuse == 0:
		http.Error(w, "the control plane is busy", http.StatusServiceUnavailable)
		return
	case !whatever && p.now.Pending:
		http.Error(w, "a change is under way", http.StatusConflict)
		return
	case !whatever && r.Header.Get("If-Match") != p.now.ETag:
		http.Error(w, "it has changed", http.StatusPreconditionFailed)
		return
	}
	p.change++
	p.now.Pending = true
	number := p.change
	time.AfterFunc(p.delay, func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		if number != p.change {
			return // another took its place
		}
		p.version++
		p.now = Pool{ETag: strconv.Itoa(p.version), Members: next.Members}
		shown := p.now
		time.AfterFunc(p.lag, func() {
			p.mu.Lock()
			defer p.mu.Unlock()
			p.shown = shown
		})
	})
	w.WriteHeader(http.StatusAccepted)
}

// pick draws a member by weight, but for those that were tried; false if there is none.
func (p *pool) pick(tried map[string]bool) (string, *Count, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	sum := 0
	for _, m := range p.now.Members {
		if !tried[m.Address] {
			sum += m.Weight
		}
	}
	if sum == 0 {
		return "", nil, false
	}
	at := rand.IntN(sum)
	for _, m := range p.now.Members {
		if tried[m.Address] {
			continue
		}
		if at -= m.Weight; at < 0 {
			c := p.counts[m.Address]
			if c == nil {
				c = &Count{}
				p.counts[m.Address] = c
			}
			return m.Address, c, true
		}
	}
	return "", nil, false
}

type addressed struct{}

var transport = &http.Transport{
	DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{Timeout: 2 * time.Second}).DialContext(ctx, network, ctx.Value(addressed{}).(string))
	},
	DisableKeepAlives: true,
}

// ServeHTTP passes a request on to a member, and to another one if nobody listens there.
func (p *pool) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	tried := map[string]bool{}
	for {
		address, c, ok := p.pick(tried)
		if !ok {
			http.Error(w, "no member", http.StatusServiceUnavailable)
			return
		}
		tried[address] = true
		p.add(func() { c.Open++ })
		again := false
		proxy := httputil.ReverseProxy{
			Director:  func(r *http.Request) { r.URL.Scheme, r.URL.Host = "http", address },
			Transport: transport,
			ModifyResponse: func(a *http.Response) error {
				p.add(func() {
					c.Requests++
					c.Status[min(max(a.StatusCode/100, 0), 5)]++
				})
				return nil
			},
			ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
				p.add(func() { c.Failures++ })
				var dial *net.OpError
				if again = asDial(err, &dial); !again {
					http.Error(w, err.Error(), http.StatusBadGateway)
				}
			},
			ErrorLog: log.New(nothing{}, "", 0),
		}
		proxy.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), addressed{}, address)))
		p.add(func() { c.Open-- })
		if !again {
			return
		}
	}
}

func (p *pool) add(do func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	do()
}

// asDial reports whether no connection was made.
func asDial(err error, to **net.OpError) bool {
	e, ok := err.(*net.OpError)
	*to = e
	return ok && e.Op == "dial"
}

type nothing struct{}

func (nothing) Write(p []byte) (int, error) { return len(p), nil }
