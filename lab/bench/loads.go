package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/split"
)

// load is a kind of requests that fronts are put under.
type load struct {
	name, path string
	script     string // for the load generator; "" for plain requests
	fresh      bool   // a connection for each, which the load generator does not do
}

const (
	largePath = "/timetable" // 100 KB
	postBody  = `wrk.method = "POST"
wrk.headers["Content-Type"] = "application/octet-stream"
wrk.body = string.rep("x", 65536)
`
	mixedPosts = `local get, post
local n = 0
init = function(args)
   get = wrk.format("GET")
   post = wrk.format("POST", nil, {["Content-Type"] = "application/json"}, '{"ship":"Aurelia","berths":2}')
end
request = function()
   n = n + 1
   if n % 50 == 0 then return post end
   return get
end
`
)

// loads are the kinds, in the order of the table.
var loads = []load{
	{name: "small GET", path: "/"},
	{name: "100 KB GET", path: largePath},
	{name: "64 KB POST", path: "/", script: postBody},
	{name: "2 % small POST", path: "/", script: mixedPosts},
	{name: "new connections", path: "/", fresh: true},
}

// serve is an instance: an answer at once, small or large, after the request's body.
func serve(address string) {
	small := []byte(`{"ship":"Aurelia","from":"Vessa","to":"Quillon","departs":"09:40","price":1250}`)
	large := []byte(strings.Repeat("Vessa 09:40 Quillon ", 5*1024))
	err := http.ListenAndServe(address, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set(addressHeader, address)
		body := small
		if r.URL.Path == largePath {
			body = large
		}
		w.Header().Set("Content-Length", fmt.Sprint(len(body)))
		_, _ = w.Write(body)
	}))
	fmt.Fprintln(os.Stderr, err)
}

// servePlain is what the library has to offer: its reverse proxy, with connections kept, and
// nothing of Vaiven's.
func servePlain(address string, to []string) {
	err := http.ListenAndServe(address, &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(&url.URL{Scheme: "http", Host: to[rand.IntN(len(to))]})
			r.SetXForwarded()
		},
		Transport:  &http.Transport{MaxIdleConnsPerHost: 512, DisableCompression: true},
		BufferPool: &buffers{},
	})
	fmt.Fprintln(os.Stderr, err)
}

// buffers is a pool of copy buffers.
type buffers struct{ sync.Pool }

func (b *buffers) Get() []byte {
	if buf, ok := b.Pool.Get().(*[32 << 10]byte); ok {
		return buf[:]
	}
	return make([]byte, 32<<10)
}

func (b *buffers) Put(buf []byte) { b.Pool.Put((*[32 << 10]byte)(buf)) }

func (b *bench) startPlain(self string) error {
	address, err := freeAddress()
	if err != nil {
		return err
	}
	cmd, err := b.start(self, append([]string{"-plain", address}, b.instances[split.Blue]...)...)
	b.fronts = append(b.fronts, &proxy{Name: plainName, address: address, cmd: cmd})
	return err
}

// The names of fronts in the table.
const (
	ourName   = "Vaiven's front"
	plainName = "a plain library proxy"
)

// sample is what one round of load came to.
type sample struct {
	rate     float64       // requests a second
	p50, p99 time.Duration // of the whole answer, as the load saw it
	cpu      time.Duration // processor time a request
	resident int64         // bytes, after the load
}

// loadAll puts every front under every load, in turn.
func (b *bench) loadAll(ctx context.Context) error {
	for n, l := range loads {
		if l.script == "" {
			continue
		}
		if err := os.WriteFile(b.script(n), []byte(l.script), 0o600); err != nil {
			return err
		}
	}
	for round := range b.rounds {
		for k, l := range loads {
			for n := range b.fronts {
				// Each round begins with another front, so that none is always first.
				p := b.fronts[(n+round)%len(b.fronts)]
				s, err := b.loadOnce(ctx, p, k)
				if err != nil {
					return fmt.Errorf("%s: %w", p.Name, err)
				}
				if p.samples == nil {
					p.samples = make([][]sample, len(loads))
				}
				p.samples[k] = append(p.samples[k], s)
				fmt.Printf("round %d  %-16s  %-22s %8.0f /s  p50 %8v  p99 %8v  %8v a request  %5.1f MB\n",
					round+1, l.name, p.Name, s.rate, s.p50, s.p99, s.cpu, float64(s.resident)/1e6)
			}
		}
	}
	b.documentLoads(os.Stdout)
	return nil
}

func (b *bench) script(n int) string { return filepath.Join(b.dir, fmt.Sprintf("load%d.lua", n)) }

// loadOnce puts a front under a load by 64 connections.
func (b *bench) loadOnce(ctx context.Context, p *proxy, kind int) (sample, error) {
	l := loads[kind]
	if l.fresh {
		return b.freshOnce(ctx, p)
	}
	args := []string{"-t", "2", "-c", "64", "-d", b.load.String(), "--latency"}
	if l.script != "" {
		args = append(args, "-s", b.script(kind))
	}
	before := processorTime(p.cmd)
	out, err := exec.CommandContext(ctx, "wrk", append(args, "http://"+p.address+l.path)...).CombinedOutput()
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

// freshOnce puts a front under a load of 64 clients that connect for each request.
func (b *bench) freshOnce(ctx context.Context, p *proxy) (sample, error) {
	ctx, cancel := context.WithTimeout(ctx, b.load)
	defer cancel()
	before, begun := processorTime(p.cmd), time.Now()
	var mu sync.Mutex // protects what follows
	var took []time.Duration
	var failed error
	var wait sync.WaitGroup
	for range 64 {
		wait.Go(func() {
			var mine []time.Duration
			answer := make([]byte, 4<<10)
			for ctx.Err() == nil {
				begun := time.Now()
				n, err := askFresh(p.address, answer)
				if err == nil && !strings.HasPrefix(string(answer[:n]), "HTTP/1.1 200") {
					err = fmt.Errorf("answered %.40q", answer[:n])
				}
				if err != nil {
					mu.Lock()
					failed = err
					mu.Unlock()
					return
				}
				mine = append(mine, time.Since(begun))
			}
			mu.Lock()
			took = append(took, mine...)
			mu.Unlock()
		})
	}
	wait.Wait()
	if failed != nil || len(took) == 0 {
		return sample{}, fmt.Errorf("new connections: %w", failed)
	}
	slices.Sort(took)
	s := sample{rate: float64(len(took)) / time.Since(begun).Seconds(), p50: took[len(took)/2],
		p99: took[len(took)*99/100]}
	if p.cmd != nil {
		s.cpu = (processorTime(p.cmd) - before) / time.Duration(len(took))
		s.resident = resident(p.cmd)
	}
	return s, nil
}

// askFresh asks over a connection of its own, and reads to its end.
func askFresh(address string, answer []byte) (int, error) {
	conn, err := net.Dial("tcp", address)
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	if _, err := io.WriteString(conn, "GET / HTTP/1.1\r\nHost: bench\r\nConnection: close\r\n\r\n"); err != nil {
		return 0, err
	}
	n := 0
	for {
		more, err := conn.Read(answer[n:])
		n += more
		if err == io.EOF {
			return n, nil
		}
		if err != nil {
			return n, err
		}
	}
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

// ratios are of a front's figures to another's in the same rounds, in order.
func ratios(p, to []sample, of func(sample) float64) []float64 {
	var list []float64
	for n := range p {
		list = append(list, of(p[n])/of(to[n]))
	}
	slices.Sort(list)
	return list
}

func of[T float64 | time.Duration | int64](list []sample, what func(sample) T) T {
	var values []T
	for _, s := range list {
		values = append(values, what(s))
	}
	return median(values)
}

func rate(s sample) float64 { return s.rate }

// documentLoads writes what the loads came to.
func (b *bench) documentLoads(t io.Writer) {
	named := map[string]*proxy{}
	for _, p := range b.fronts {
		named[p.Name] = p
	}
	spread := func(r []float64) string { return fmt.Sprintf("%.2f (%.2f–%.2f)", median(r), r[0], r[len(r)-1]) }
	fmt.Fprintf(t, "## Throughput\n\nEach as a plain reverse proxy in front of the same two instances, 64 "+
		"connections. Requests a\nsecond, as ratios to HAProxy's in the same round.\n\n| front |")
	for _, l := range loads {
		fmt.Fprintf(t, " %s |", l.name)
	}
	fmt.Fprintf(t, "\n| --- |%s\n", strings.Repeat(" --- |", len(loads)))
	row := func(name string, p, to *proxy) {
		fmt.Fprintf(t, "| %s |", name)
		for k := range loads {
			fmt.Fprintf(t, " %s |", spread(ratios(p.samples[k], to.samples[k], rate)))
		}
		fmt.Fprintln(t)
	}
	for _, p := range b.fronts {
		if p.Name != "HAProxy" {
			row(p.Name, p, named["HAProxy"])
		}
	}
	row(ourName+" beside "+plainName, named[ourName], named[plainName])
	fmt.Fprintf(t, "\nSmall GETs in more detail, with ratios to HAProxy:\n\n| front | requests a second | p50 | "+
		"ratio | p99 | ratio | processor time a request | resident | ratio |\n| --- | --- | --- | --- | --- | --- | "+
		"--- | --- | --- |\n")
	for _, p := range b.fronts {
		mine, theirs := p.samples[0], named["HAProxy"].samples[0]
		ratio := func(of func(sample) float64) string { return spread(ratios(mine, theirs, of)) }
		cpu, size, sizes := "–", "–", "–"
		if p.cmd != nil {
			cpu = of(mine, func(s sample) time.Duration { return s.cpu }).Round(time.Microsecond).String()
			size = fmt.Sprintf("%.0f MB", float64(of(mine, func(s sample) int64 { return s.resident }))/1e6)
			sizes = ratio(func(s sample) float64 { return float64(s.resident) })
		}
		fmt.Fprintf(t, "| %s | %.0f | %v | %s | %v | %s | %s | %s | %s |\n", p.Name, of(mine, rate),
			of(mine, func(s sample) time.Duration { return s.p50 }).Round(10*time.Microsecond),
			ratio(func(s sample) float64 { return float64(s.p50) }),
			of(mine, func(s sample) time.Duration { return s.p99 }).Round(10*time.Microsecond),
			ratio(func(s sample) float64 { return float64(s.p99) }),
			cpu, size, sizes)
	}
}
