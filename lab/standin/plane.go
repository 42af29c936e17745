package standin

import (
	"errors"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"sync"
	"time"
)

// table is what the data plane goes by, by names with their namespaces.
type table struct {
	services map[string]*service
	routes   map[string]*route
}

// service places connections: each on one of its backends, as the kernel does.
type service struct {
	listen   string   // host:port, "" if it has none
	backends []string // host:port
}

// route places requests.
type route struct {
	listen     string
	generation any
	refs       []weighted
}

type weighted struct {
	service string
	weight  int
}

// plane carries requests. It is safe for concurrent use.
type plane struct {
	through *http.Transport

	mu        sync.Mutex // protects what follows
	now       table
	listeners map[string]io.Closer // by address
	failed    error
	wait      sync.WaitGroup
}

func newPlane() *plane {
	return &plane{through: &http.Transport{MaxIdleConnsPerHost: 32, IdleConnTimeout: time.Minute,
		DisableCompression: true}, listeners: map[string]io.Closer{}}
}

// set has new connections and requests go by a table, and listens where it says.
func (p *plane) set(t table) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.now = t
	for name, s := range t.services {
		p.listen(s.listen, func(l net.Listener) io.Closer { return p.connections(l, name) })
	}
	for name, r := range t.routes {
		p.listen(r.listen, func(l net.Listener) io.Closer { return p.requests(l, name) })
	}
}

// listen opens an address once. The caller holds the lock.
func (p *plane) listen(address string, serve func(net.Listener) io.Closer) {
	if _, there := p.listeners[address]; there || address == "" {
		return
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		p.failed = errors.Join(p.failed, err)
		return
	}
	p.listeners[address] = serve(l)
}

// backend is one of a service's, "" if it has none.
func (p *plane) backend(service string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	s := p.now.services[service]
	if s == nil || len(s.backends) == 0 {
		return ""
	}
	return s.backends[rand.IntN(len(s.backends))]
}

// connections carries the connections of a service.
func (p *plane) connections(l net.Listener, name string) io.Closer {
	p.wait.Go(func() {
		for {
			from, err := l.Accept()
			if err != nil {
				return
			}
			go p.carry(from, p.backend(name))
		}
	})
	return l
}

func (p *plane) carry(from net.Conn, backend string) {
	defer from.Close()
	if backend == "" {
		return
	}
	to, err := net.DialTimeout("tcp", backend, 5*time.Second)
	if err != nil {
		return
	}
	defer to.Close()
	go func() {
		_, _ = io.Copy(to, from)
		_ = to.(*net.TCPConn).CloseWrite()
	}()
	_, _ = io.Copy(from, to)
}

// requests carries the requests of a route.
func (p *plane) requests(l net.Listener, name string) io.Closer {
	to := &httputil.ReverseProxy{
		Transport: p.through, ErrorLog: log.New(io.Discard, "", 0),
		Rewrite: func(q *httputil.ProxyRequest) {
			q.SetURL(&url.URL{Scheme: "http", Host: q.In.Header.Get(placed)})
			q.Out.Host = q.In.Host
			q.Out.Header.Del(placed)
		},
	}
	srv := &http.Server{ReadHeaderTimeout: 10 * time.Second,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
			backend := p.backend(p.chosen(name))
			if backend == "" {
				http.Error(w, "no backend is there", http.StatusServiceUnavailable)
				return
			}
			q.Header.Set(placed, backend)
			to.ServeHTTP(w, q)
		})}
	p.wait.Go(func() { _ = srv.Serve(l) })
	return srv
}

// placed is where a request goes, on its way through.
const placed = "Standin-Backend"

// chosen is the service that a request of a route goes to, by the weights.
func (p *plane) chosen(name string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	r := p.now.routes[name]
	all := 0
	for _, ref := range r.refs {
		all += ref.weight
	}
	if all == 0 {
		return ""
	}
	n := rand.IntN(all)
	for _, ref := range r.refs {
		if n -= ref.weight; n < 0 {
			return ref.service
		}
	}
	return ""
}

func (p *plane) close() error {
	p.mu.Lock()
	err := p.failed
	for _, l := range p.listeners {
		err = errors.Join(err, l.Close())
	}
	p.mu.Unlock()
	p.wait.Wait()
	p.through.CloseIdleConnections()
	return err
}
