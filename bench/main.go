package main

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"text/template"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front/embedded"
)

func main() {
	var b bench
	instance := flag.String("instance", "", "be an instance on this address (used by the benchmark itself)")
	flag.StringVar(&b.vaiven, "vaiven", "bin/vaiven", "the program to measure")
	flag.StringVar(&b.out, "out", "docs/benchmarks.md", "file to write")
	flag.IntVar(&b.rounds, "rounds", 5, "rounds")
	flag.DurationVar(&b.load, "load", 4*time.Second, "time of load a front a round")
	flag.IntVar(&b.switches, "switches", 200, "switches to time")
	flag.Parse()
	if *instance != "" {
		serve(*instance)
		return
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	if err := b.run(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// addressHeader is where an instance says which one it is.
const addressHeader = "X-Address"

// serve is an instance: a small JSON answer at once.
func serve(address string) {
	body := []byte(`{"ship":"Aurelia","from":"Vessa","to":"Quillon","departs":"09:40","price":1250}`)
	err := http.ListenAndServe(address, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set(addressHeader, address)
		_, _ = w.Write(body)
	}))
	fmt.Fprintln(os.Stderr, err)
}

// bench is one run.
type bench struct {
	vaiven, out      string
	rounds, switches int
	load             time.Duration

	dir       string
	started   []*exec.Cmd
	instances [2][]string // addresses, by side
	wide      string      // an instance that listens on all of loopback
	fronts    []*proxy
	client    *embedded.Client
}

// proxy is a front under load.
type proxy struct {
	Name    string
	address string
	cmd     *exec.Cmd
	samples []sample
}

// sample is what one round of load came to.
type sample struct {
	rate     float64       // requests a second
	p50, p99 time.Duration // of the whole answer, as the load saw it
	cpu      time.Duration // processor time a request
	resident int64         // bytes, after the load
}

func (b *bench) run(ctx context.Context) (err error) {
	if b.dir, err = os.MkdirTemp("", "vaiven-bench-"); err != nil {
		return err
	}
	defer func() {
		for _, c := range b.started {
			_ = c.Process.Signal(syscall.SIGTERM)
			_ = c.Wait()
		}
		err = errors.Join(err, os.RemoveAll(b.dir))
	}()
	if err := b.startAll(ctx); err != nil {
		return err
	}
	for round := range b.rounds {
		for n := range b.fronts {
			// Each round begins with another front, so that none is always first.
			p := b.fronts[(n+round)%len(b.fronts)]
			s, err := b.loadOnce(ctx, p)
			if err != nil {
				return fmt.Errorf("%s: %w", p.Name, err)
			}
			p.samples = append(p.samples, s)
			fmt.Printf("round %d  %-16s %8.0f /s  p50 %8v  p99 %8v  %8v a request  %5.1f MB\n",
				round+1, p.Name, s.rate, s.p50, s.p99, s.cpu, float64(s.resident)/1e6)
		}
	}
	sw, err := b.timeSwitches(ctx)
	if err != nil {
		return err
	}
	changes, err := b.timeChanges(ctx)
	if err != nil {
		return err
	}
	checks, err := b.timeChecks(ctx)
	if err != nil {
		return err
	}
	return b.write(sw, changes, checks)
}

func (b *bench) start(name string, args ...string) (*exec.Cmd, error) {
	cmd := exec.Command(name, args...)
	log, err := os.Create(filepath.Join(b.dir, filepath.Base(name)+fmt.Sprint(len(b.started))+".log"))
	if err != nil {
		return nil, err
	}
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	b.started = append(b.started, cmd)
	return cmd, nil
}

func freeAddress() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	return l.Addr().String(), l.Close()
}

// startAll starts instances and fronts, and waits until each answers.
func (b *bench) startAll(ctx context.Context) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	for _, side := range split.Sides {
		for range 2 {
			address, err := freeAddress()
			if err != nil {
				return err
			}
			if _, err := b.start(self, "-instance", address); err != nil {
				return err
			}
			b.instances[side] = append(b.instances[side], address)
		}
	}
	if b.wide, err = freeAddress(); err != nil {
		return err
	}
	if _, err := b.start(self, "-instance", strings.Replace(b.wide, "127.0.0.1", "0.0.0.0", 1)); err != nil {
		return err
	}
	direct := &proxy{Name: "no proxy", address: b.instances[split.Blue][0]}
	b.fronts = append(b.fronts, direct)
	if err := b.startEmbedded(ctx); err != nil {
		return err
	}
	for _, other := range []struct{ name, program, config string }{
		{"HAProxy", "haproxy", haproxyConfig}, {"nginx", "nginx", nginxConfig},
	} {
		if err := b.startOther(other.name, other.program, other.config); err != nil {
			return fmt.Errorf("%s: %w", other.name, err)
		}
	}
	if err := answers(ctx, "http://"+b.wide+"/"); err != nil {
		return err
	}
	for _, p := range b.fronts {
		if err := answers(ctx, "http://"+p.address+"/"); err != nil {
			return fmt.Errorf("%s: %w", p.Name, err)
		}
	}
	return nil
}

func (b *bench) startEmbedded(ctx context.Context) error {
	address, err := freeAddress()
	if err != nil {
		return err
	}
	plan := filepath.Join(b.dir, "bench.yaml")
	text := fmt.Sprintf("service: bench\nstate: %s\nfront:\n  listen: %s\nstack:\n  command: none/{version}\n  ports: 1-9\nsmoke:\n  - request: /\nroute:\n  - 100 %%\n", b.dir, address)
	if err := os.WriteFile(plan, []byte(text), 0o600); err != nil {
		return err
	}
	cmd, err := b.start(b.vaiven, "front", plan)
	if err != nil {
		return err
	}
	b.fronts = append(b.fronts, &proxy{Name: "Vaiven's front", address: address, cmd: cmd})
	b.client = embedded.Dial(filepath.Join(b.dir, "front.sock"))
	deadline := time.Now().Add(10 * time.Second)
	for {
		var failed error
		for _, side := range split.Sides {
			var list []reading.Server
			for n, a := range b.instances[side] {
				list = append(list, reading.Server{Name: fmt.Sprintf("%v-%d", side, n+1), Address: a, Version: side.String()})
			}
			failed = errors.Join(failed, b.client.SetInstances(ctx, side, list))
		}
		if failed == nil {
			return nil
		}
		if time.Now().After(deadline) {
			return failed
		}
		time.Sleep(50 * time.Millisecond)
	}
}

const haproxyConfig = `global
    nbthread 2
    maxconn 4000
defaults
    mode http
    timeout connect 5s
    timeout client 30s
    timeout server 30s
    http-reuse always
frontend f
    bind {{.Listen}}
    default_backend b
backend b
    balance leastconn
{{range $n, $a := .Instances}}    server s{{$n}} {{$a}}
{{end}}`

const nginxConfig = `worker_processes 2;
daemon off;
pid {{.Dir}}/nginx.pid;
error_log {{.Dir}}/nginx-error.log;
events { worker_connections 4000; }
http {
    access_log off;
    client_body_temp_path {{.Dir}}/body;
    proxy_temp_path {{.Dir}}/proxy;
    fastcgi_temp_path {{.Dir}}/fastcgi;
    uwsgi_temp_path {{.Dir}}/uwsgi;
    scgi_temp_path {{.Dir}}/scgi;
    keepalive_requests 1000000000;
    upstream b {
        least_conn;
{{range .Instances}}        server {{.}};
{{end}}        keepalive 256;
        keepalive_requests 1000000000;
    }
    server {
        listen {{.Listen}};
        location / {
            proxy_pass http://b;
            proxy_http_version 1.1;
            proxy_set_header Connection "";
            proxy_set_header Host $host;
            proxy_set_header X-Forwarded-For $proxy_add_x_forwarded_for;
        }
    }
}
`

func (b *bench) startOther(name, program, config string) error {
	path, err := exec.LookPath(program)
	if err != nil {
		path = "/usr/sbin/" + program
	}
	address, err := freeAddress()
	if err != nil {
		return err
	}
	var text bytes.Buffer
	err = template.Must(template.New(program).Parse(config)).Execute(&text, map[string]any{
		"Listen": address, "Dir": b.dir, "Instances": b.instances[split.Blue],
	})
	file := filepath.Join(b.dir, program+".conf")
	if err = errors.Join(err, os.WriteFile(file, text.Bytes(), 0o600)); err != nil {
		return err
	}
	flag := "-c"
	if program == "haproxy" {
		flag = "-f"
	}
	cmd, err := b.start(path, flag, file)
	if err != nil {
		return err
	}
	b.fronts = append(b.fronts, &proxy{Name: name, address: address, cmd: cmd})
	return nil
}

func answers(ctx context.Context, url string) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	for {
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
		if err != nil {
			return err
		}
		if w, err := http.DefaultClient.Do(r); err == nil {
			_, _ = io.Copy(io.Discard, w.Body)
			_ = w.Body.Close()
			if w.StatusCode == http.StatusOK {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s does not answer: %w", url, ctx.Err())
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// loadOnce puts a front under load by 64 kept-alive connections.
func (b *bench) loadOnce(ctx context.Context, p *proxy) (sample, error) {
	before := processorTime(p.cmd)
	out, err := exec.CommandContext(ctx, "wrk", "-t", "2", "-c", "64", "-d", b.load.String(), "--latency", "http://"+p.address+"/").CombinedOutput()
	if err != nil {
		return sample{}, fmt.Errorf("wrk: %w: %s", err, out)
	}
	s, requests, err := readLoad(string(out))
	if err != nil {
		return sample{}, err
	}
	if p.cmd != nil {
		s.cpu = (processorTime(p.cmd) - before) / time.Duration(requests)
		s.resident = resident(p.cmd)
	}
	return s, nil
}

// readLoad reads what the load generator printed.
func readLoad(out string) (s sample, requests int64, err error) {
	for _, line := range strings.Split(out, "\n") {
		words := strings.Fields(line)
		switch {
		case len(words) == 2 && words[0] == "50%":
			s.p50, err = time.ParseDuration(words[1])
		case len(words) == 2 && words[0] == "99%":
			s.p99, err = time.ParseDuration(words[1])
		case strings.Contains(line, "requests in"):
			_, err = fmt.Sscan(words[0], &requests)
		case strings.HasPrefix(line, "Requests/sec:"):
			_, err = fmt.Sscan(words[1], &s.rate)
		case strings.Contains(line, "Non-2xx") || strings.Contains(line, "Socket errors"):
			err = errors.New(line)
		}
		if err != nil {
			return s, requests, err
		}
	}
	if requests == 0 || s.rate == 0 {
		return s, 0, fmt.Errorf("no figures in %q", out)
	}
	return s, requests, nil
}

func ratios(p, to *proxy, of func(sample) float64) []float64 {
	var list []float64
	for n := range p.samples {
		list = append(list, of(p.samples[n])/of(to.samples[n]))
	}
	slices.Sort(list)
	return list
}

func median[T float64 | time.Duration | int64](list []T) T {
	list = slices.Clone(list)
	slices.Sort(list)
	return list[len(list)/2]
}

func of[T float64 | time.Duration | int64](p *proxy, what func(sample) T) T {
	var list []T
	for _, s := range p.samples {
		list = append(list, what(s))
	}
	return median(list)
}

// others begins the figures of other targets.
const others = "## Simulation\n"

// write makes the document.
func (b *bench) write(sw switched, changes []changed, checks checking) error {
	var t bytes.Buffer
	memory, _ := os.ReadFile("/proc/meminfo")
	total, _, _ := strings.Cut(strings.TrimPrefix(string(memory), "MemTotal:"), "kB")
	var kilobytes int64
	_, _ = fmt.Sscan(total, &kilobytes)
	fmt.Fprintf(&t, "# Benchmarks\n\nMade by `make bench` on a machine with %d processors and %d GiB of memory, all of it\n", runtime.NumCPU(), (kilobytes+1<<19)>>20)
	fmt.Fprintf(&t, "on the same processors: load, front and instances. Medians of %d rounds of %v a front;\nratios are taken within a round, with the least and the greatest behind them.\n", b.rounds, b.load)
	fmt.Fprintf(&t, "Single figures depend on the machine and the moment; compare the ratios.\n\n")
	fmt.Fprintf(&t, "## Throughput\n\nEach as a plain reverse proxy in front of the same two instances, small JSON answers,\n64 kept-alive connections.\n\n")
	fmt.Fprintf(&t, "Ratios are to HAProxy's in the same round.\n\n| front | requests a second | ratio | p50 | ratio | p99 | ratio | processor time a request | resident | ratio |\n| --- | --- | --- | --- | --- | --- | --- | --- | --- | --- |\n")
	named := map[string]*proxy{}
	for _, p := range b.fronts {
		named[p.Name] = p
	}
	haproxy := named["HAProxy"]
	for _, p := range b.fronts {
		ratio := func(of func(sample) float64) string {
			r := ratios(p, haproxy, of)
			return fmt.Sprintf("%.2f (%.2f–%.2f)", median(r), r[0], r[len(r)-1])
		}
		cpu, size, sizes := "–", "–", "–"
		if p.cmd != nil {
			cpu = of(p, func(s sample) time.Duration { return s.cpu }).Round(time.Microsecond).String()
			size = fmt.Sprintf("%.0f MB", float64(of(p, func(s sample) int64 { return s.resident }))/1e6)
			sizes = ratio(func(s sample) float64 { return float64(s.resident) })
		}
		fmt.Fprintf(&t, "| %s | %.0f | %s | %v | %s | %v | %s | %s | %s | %s |\n", p.Name,
			of(p, func(s sample) float64 { return s.rate }), ratio(func(s sample) float64 { return s.rate }),
			of(p, func(s sample) time.Duration { return s.p50 }).Round(10*time.Microsecond), ratio(func(s sample) float64 { return float64(s.p50) }),
			of(p, func(s sample) time.Duration { return s.p99 }).Round(10*time.Microsecond), ratio(func(s sample) float64 { return float64(s.p99) }),
			cpu, size, sizes)
	}
	beside := ratios(named["Vaiven's front"], named["nginx"], func(s sample) float64 { return s.rate })
	fmt.Fprintf(&t, "\nVaiven's front answers %.2f (%.2f–%.2f) times as many requests as nginx in the same round.\n", median(beside), beside[0], beside[len(beside)-1])
	fmt.Fprintf(&t, "\n## The switch\n\n%d switches of the embedded front between 100 %% blue and 100 %% green, with %d kept-alive\nclients asking as fast as they can. The command is kept on disk before it is in force.\n\n", sw.switches, switchClients)
	fmt.Fprintf(&t, "| | median | most |\n| --- | --- | --- |\n")
	fmt.Fprintf(&t, "| from command to confirmation | %v | %v |\n", median(sw.took).Round(10*time.Microsecond), slices.Max(sw.took).Round(10*time.Microsecond))
	fmt.Fprintf(&t, "| last answer of the old side: how long after confirmation its request began | %v | %v |\n", median(sw.late).Round(10*time.Microsecond), slices.Max(sw.late).Round(10*time.Microsecond))
	fmt.Fprintf(&t, "\nRequests that were lost: %d of %d. Requests that began more than 5 ms after confirmation and\nwere answered by the old side: %d.\n", sw.lost, sw.asked, sw.strays)
	documentChanges(&t, changes)
	checks.document(&t)
	// What other targets came to is written by hand, and stays.
	if before, err := os.ReadFile(b.out); err == nil {
		if at := bytes.Index(before, []byte(others)); at >= 0 {
			fmt.Fprintf(&t, "\n%s", before[at:])
		}
	}
	return os.WriteFile(b.out, t.Bytes(), 0o644)
}
