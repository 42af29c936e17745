package standin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"sync"
	"time"

	"github.com/goccy/go-yaml"
)

// Config is how a server is.
type Config struct {
	Address   string             // host:port at which it listens
	Lag       time.Duration      // of everything that follows: controllers, and after them the data plane
	Remembers int                // changes, for watches that begin in the past; 0 for 1000
	Bookmarks time.Duration      // between two that are told to a watch; 0 for 10 s
	Image     Image              // nil: nobody runs pods, and whoever makes them says how they are
	IP        func(n int) string // that a pod gets, by its number from 1 on
	Dir       string             // where pods run
	Backoff   time.Duration      // before a container is started again, or an image pulled; 0 for 10 s
}

// Server is a stand-in. It is safe for concurrent use.
type Server struct {
	config Config
	http   *http.Server
	plane  *plane
	node   *node // nil if nobody runs pods
	wait   sync.WaitGroup
	stop   context.CancelFunc

	mu        sync.Mutex // protects what follows
	version   int64
	objects   map[*resource]map[key]object
	log       []change
	forgotten int64         // the last change that is not remembered
	more      chan struct{} // closed when there are more changes
	ill       Illness
	forwards  int // that were begun
}

// Illness is what goes wrong with a server. The zero value is nothing.
type Illness struct {
	Delay   time.Duration // before each answer
	Busy    int           // so many requests are answered 429, and not done
	Break   int           // each watch ends, without a word, after so many events; 0 for never
	Deaf    bool          // controllers and data plane follow nothing
	Refuses string        // changes of this plural are forbidden, or of pods the use of this part: "pods/portforward"
	Old     bool          // it knows no WebSockets, as servers did
}

// Start starts a server that has nothing. It is there when this returns.
func Start(c Config) (*Server, error) {
	if c.Remembers == 0 {
		c.Remembers = 1000
	}
	if c.Bookmarks == 0 {
		c.Bookmarks = 10 * time.Second
	}
	if c.Backoff == 0 {
		c.Backoff = 10 * time.Second
	}
	l, err := net.Listen("tcp", c.Address)
	if err != nil {
		return nil, err
	}
	s := &Server{config: c, objects: map[*resource]map[key]object{}, more: make(chan struct{})}
	for _, r := range resources {
		s.objects[r] = map[key]object{}
	}
	ctx, cancel := context.WithCancel(context.Background())
	s.stop = cancel
	s.plane = newPlane()
	if c.Image != nil {
		s.node = &node{server: s, pods: map[key]*running{}}
	}
	s.http = &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second,
		BaseContext: func(net.Listener) context.Context { return ctx }}
	s.wait.Go(func() { _ = s.http.Serve(l) }) // until it is closed
	s.wait.Go(func() { s.follow(ctx) })
	return s, nil
}

// Stop ends it, and everything that it carries.
func (s *Server) Stop() error {
	s.stop()
	err := s.http.Close()
	s.wait.Wait()
	if s.node != nil {
		s.node.wait.Wait()
	}
	return errors.Join(err, s.plane.close())
}

// Kubeconfig is the text of a configuration for kubectl and others.
func (s *Server) Kubeconfig(namespace string) string { return s.config.Kubeconfig(namespace) }

// Kubeconfig is that of a server with this configuration.
func (c Config) Kubeconfig(namespace string) string {
	return fmt.Sprintf(`apiVersion: v1
kind: Config
clusters:
- name: standin
  cluster: {server: "http://%s"}
users:
- name: anybody
  user: {}
contexts:
- name: standin
  context: {cluster: standin, user: anybody, namespace: %s}
current-context: standin
`, c.Address, namespace)
}

// Put makes an object in the server, as its manifest says in YAML or JSON, or another one of the one that there is.
func (s *Server) Put(manifest []byte) error {
	written, err := yaml.YAMLToJSON(manifest)
	var o object
	if err == nil {
		err = json.Unmarshal(written, &o)
	}
	if err != nil {
		return err
	}
	for _, r := range resources {
		if r.kind == o["kind"] && r.apiVersion() == o["apiVersion"] {
			s.mu.Lock()
			defer s.mu.Unlock()
			s.put(r, o)
			return nil
		}
	}
	return fmt.Errorf("the stand-in has no %v of %v", o["kind"], o["apiVersion"])
}

// Forwards is how many connections to pods were begun through it; each carries any number.
func (s *Server) Forwards() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.forwards
}

// Fall has it fall ill, or be well again.
func (s *Server) Fall(i Illness) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ill = i
	close(s.more)
	s.more = make(chan struct{})
}
