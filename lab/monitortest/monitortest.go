package monitortest

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"vaiven/lab/testkit"
)

// Server is one that runs, at a port of its own on loopback.
type Server struct {
	URL   string
	t     *testing.T
	words []string
	cmd   *exec.Cmd
	log   string
}

// Prometheus starts one that reads pages every second: each target is an address with labels, such as
// "127.0.0.1:8080 side=blue". more is added to its configuration.
func Prometheus(t *testing.T, targets []string, more string) *Server {
	t.Helper()
	dir := t.TempDir()
	config := "global: {scrape_interval: 1s, evaluation_interval: 1s}\n" + more + "\nscrape_configs:\n- job_name: ferries\n" +
		"  static_configs:\n"
	for _, target := range targets {
		address, labels, _ := strings.Cut(target, " ")
		config += fmt.Sprintf("  - targets: [%q]\n", address)
		if name, value, ok := strings.Cut(labels, "="); ok {
			config += fmt.Sprintf("    labels: {%s: %q}\n", name, value)
		}
	}
	file := write(t, dir, "prometheus.yml", config)
	address := testkit.Address(t)
	return start(t, dir, "http://"+address, "prometheus", "--config.file="+file, "--storage.tsdb.path="+dir+"/data",
		"--web.listen-address="+address, "--log.level=warn")
}

// Alertmanager starts one that tells nobody.
func Alertmanager(t *testing.T) *Server {
	t.Helper()
	dir := t.TempDir()
	file := write(t, dir, "alertmanager.yml", "route: {receiver: nobody}\nreceivers: [{name: nobody}]\n")
	address := testkit.Address(t)
	return start(t, dir, "http://"+address, "prometheus-alertmanager", "--config.file="+file, "--storage.path="+dir+"/data",
		"--web.listen-address="+address, "--cluster.listen-address=", "--log.level=warn")
}

// Fire has an alert fire from a time on at an Alertmanager until another. Labels are such as "severity=page".
func (s *Server) Fire(name string, since, until time.Time, labels ...string) {
	s.t.Helper()
	all := fmt.Sprintf("%q: %q", "alertname", name)
	for _, l := range labels {
		label, value, _ := strings.Cut(l, "=")
		all += fmt.Sprintf(", %q: %q", label, value)
	}
	body := fmt.Sprintf(`[{"labels": {%s}, "annotations": {"summary": "%s is up"}, "startsAt": %q, "endsAt": %q}]`, all,
		name, since.Format(time.RFC3339Nano), until.Format(time.RFC3339Nano))
	w, err := http.Post(s.URL+"/api/v2/alerts", "application/json", strings.NewReader(body))
	if err != nil {
		s.t.Fatal(err)
	}
	defer w.Body.Close()
	if w.StatusCode != http.StatusOK {
		s.t.Fatalf("the alert is refused: %s", w.Status)
	}
}

// Stop ends the server, and Start starts it again with all that it has kept.
func (s *Server) Stop() {
	_ = s.cmd.Process.Kill()
	_ = s.cmd.Wait()
}

// Start starts it, and waits until it is ready.
func (s *Server) Start() {
	s.t.Helper()
	log, err := os.OpenFile(s.log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		s.t.Fatal(err)
	}
	defer log.Close()
	s.cmd = exec.Command(s.words[0], s.words[1:]...)
	s.cmd.Stdout, s.cmd.Stderr = log, log
	if err := s.cmd.Start(); err != nil {
		s.t.Fatal(err)
	}
	testkit.Eventually(s.t, s.words[0]+" is ready", func() bool {
		ctx, cancel := context.WithTimeout(s.t.Context(), time.Second)
		defer cancel()
		r, _ := http.NewRequestWithContext(ctx, http.MethodGet, s.URL+"/-/ready", nil)
		w, err := http.DefaultClient.Do(r)
		if err != nil {
			return false
		}
		defer w.Body.Close()
		return w.StatusCode == http.StatusOK
	})
}

func start(t *testing.T, dir, url string, words ...string) *Server {
	t.Helper()
	if _, err := exec.LookPath(words[0]); err != nil {
		t.Fatalf("there is no %s: scripts/need test installs it", words[0])
	}
	s := &Server{URL: url, t: t, words: words, log: filepath.Join(dir, "log")}
	s.Start()
	t.Cleanup(func() {
		s.Stop()
		if t.Failed() {
			log, _ := os.ReadFile(s.log)
			t.Logf("%s said:\n%s", words[0], log)
		}
	})
	return s
}

func write(t *testing.T, dir, name, text string) string {
	t.Helper()
	file := filepath.Join(dir, name)
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}

// Page is a page of figures, at an address of its own.
type Page struct {
	Address string

	mu     sync.Mutex
	values map[string]float64
}

// NewPage makes one that is served until the test ends.
func NewPage(t *testing.T) *Page {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	p := &Page{Address: l.Addr().String(), values: map[string]float64{}}
	server := &http.Server{Handler: p}
	go func() { _ = server.Serve(l) }()
	t.Cleanup(func() { _ = server.Close() })
	return p
}

// Add adds to a figure, which may have labels: orders_total{kind="deck"}.
func (p *Page) Add(name string, more float64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.values[name] += more
}

// Set sets one.
func (p *Page) Set(name string, value float64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.values[name] = value
}

// ServeHTTP is the page.
func (p *Page) ServeHTTP(w http.ResponseWriter, _ *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for name, value := range p.values {
		fmt.Fprintf(w, "%s %v\n", name, value)
	}
}
