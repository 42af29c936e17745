package main

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/proving/pairs"
	"vaiven/internal/world/check"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
)

// How checks are measured.
const (
	checked    = 2000 // instances
	plainAlike = 256  // plain requests at the same time, as many as the monitor makes
	pairAlike  = 32   // as many as the comparison makes
	pairsEach  = 4000
)

// checking is what the checks came to, round by round.
type checking struct {
	rate, plainRate   []float64 // readings and plain requests a second, on one core
	cpu, plainCPU     []time.Duration
	perInstance       int64 // bytes
	pairs, plainPairs []float64
	pairCPU, plainPer []time.Duration
}

// timeChecks reads the health of many instances, each by a connection of its own, and
// sends the same requests to both sides; beside both, plain requests of the same kind
// that nobody judges. All of it runs on one core; the instances are another process.
func (b *bench) timeChecks(ctx context.Context) (checking, error) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	var c checking
	_, port, err := net.SplitHostPort(b.wide)
	if err != nil {
		return c, err
	}
	p := &plan.Plan{Service: "bench", Parts: []plan.Part{{Name: "web", Health: plan.Check{
		Name: "health", Within: 10 * time.Second, Up: 1, Down: 1, What: plan.HTTP{Method: "GET", URL: "/"},
	}}}}
	instances := make([]reading.Instance, checked)
	for n := range instances {
		instances[n] = reading.Instance{
			Name: fmt.Sprintf("green-%d", n+1), Part: "web", Side: split.Green, Running: true,
			Started: time.Unix(int64(n), 0),
			Address: net.JoinHostPort(fmt.Sprintf("127.0.%d.%d", n/200, n%200+1), port),
		}
	}
	before := heap()
	m := check.NewMonitor(p, secret.Values{}, func(reading.Instance) place.Place { return place.Local{} })
	var last []reading.Condition
	for range b.rounds {
		rate, cpu, err := timed(checked, func() error {
			last = m.Round(ctx, instances)
			for _, i := range last {
				if i.State != reading.Healthy {
					return fmt.Errorf("%s at %s: %s", i.Name, i.Address, i.Said)
				}
			}
			return nil
		})
		if err != nil {
			return c, err
		}
		c.rate, c.cpu = append(c.rate, rate), append(c.cpu, cpu)
		rate, cpu, err = timed(checked, func() error {
			client := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}, Timeout: 10 * time.Second}
			return plainly(ctx, client, plainAlike, checked, func(n int) string { return instances[n].Address })
		})
		if err != nil {
			return c, err
		}
		c.plainRate, c.plainCPU = append(c.plainRate, rate), append(c.plainCPU, cpu)
	}
	c.perInstance = (heap() - before) / checked
	runtime.KeepAlive(last)
	return c, b.timePairs(ctx, &c)
}

// timePairs times the same request to both sides.
func (b *bench) timePairs(ctx context.Context, c *checking) error {
	config := pairs.Config{
		Requests: []plan.Request{{Method: "GET", Path: "/"}}, Rate: 1e9, Repeat: pairsEach, Within: 10 * time.Second,
		Sides: [2][]string{{b.wide}, {strings.Replace(b.wide, "127.0.0.1", "127.0.1.1", 1)}},
	}
	for range b.rounds {
		rate, cpu, err := timed(2*pairsEach, func() error {
			if r := pairs.Compare(ctx, config); r.Same != pairsEach {
				return fmt.Errorf("%d of %d answers are the same", r.Same, pairsEach)
			}
			return nil
		})
		if err != nil {
			return err
		}
		c.pairs, c.pairCPU = append(c.pairs, rate), append(c.pairCPU, cpu)
		rate, cpu, err = timed(2*pairsEach, func() error {
			client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: pairAlike, DisableCompression: true},
				Timeout: 10 * time.Second}
			defer client.CloseIdleConnections()
			return plainly(ctx, client, pairAlike, 2*pairsEach, func(n int) string { return config.Sides[n%2][0] })
		})
		if err != nil {
			return err
		}
		c.plainPairs, c.plainPer = append(c.plainPairs, rate), append(c.plainPer, cpu)
	}
	return nil
}

// plainly makes requests that nobody judges, so many at a time.
func plainly(ctx context.Context, client *http.Client, alike, n int, address func(int) string) error {
	room := make(chan struct{}, alike)
	failed := make(chan error, n)
	var wait sync.WaitGroup
	for k := range n {
		room <- struct{}{}
		wait.Go(func() {
			defer func() { <-room }()
			r, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+address(k)+"/", nil)
			if err != nil {
				failed <- err
				return
			}
			w, err := client.Do(r)
			if err != nil {
				failed <- err
				return
			}
			_, err = io.Copy(io.Discard, w.Body)
			_ = w.Body.Close()
			if err != nil {
				failed <- err
			}
		})
	}
	wait.Wait()
	select {
	case err := <-failed:
		return err
	default:
		return nil
	}
}

// timed is how many of n things were done a second, and the processor time of each.
func timed(n int, do func() error) (rate float64, cpu time.Duration, err error) {
	begun, used := time.Now(), ownTime()
	if err := do(); err != nil {
		return 0, 0, err
	}
	return float64(n) / time.Since(begun).Seconds(), (ownTime() - used) / time.Duration(n), nil
}

// ownTime is the processor time that this process has used.
func ownTime() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u) // cannot fail with these arguments
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// heap is what is in use after everything that can go has gone.
func heap() int64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}

// document writes what the checks came to.
func (c checking) document(w io.Writer) {
	ratio := func(a, b []float64) string {
		var list []float64
		for n := range a {
			list = append(list, a[n]/b[n])
		}
		return fmt.Sprintf("%.2f (%.2f–%.2f)", median(list), slices.Min(list), slices.Max(list))
	}
	times := func(a, b []time.Duration) string {
		var x, y []float64
		for n := range a {
			x, y = append(x, float64(a[n])), append(y, float64(b[n]))
		}
		return ratio(x, y)
	}
	fmt.Fprintf(w, "\n## Checks\n\nThe health of %d instances, each read by a connection of its own, and the same "+
		"request to\nboth sides, on kept connections; all on one core, the instances in another process. Ratios "+
		"are\nto plain requests of the same kind that nobody judges, in the same round.\n\n", checked)
	fmt.Fprintf(w, "| | a second | ratio | processor time each | ratio |\n| --- | --- | --- | --- | --- |\n")
	fmt.Fprintf(w, "| health readings | %.0f | %s | %v | %s |\n", median(c.rate), ratio(c.rate, c.plainRate),
		median(c.cpu).Round(time.Microsecond), times(c.cpu, c.plainCPU))
	fmt.Fprintf(w, "| requests that are compared | %.0f | %s | %v | %s |\n", median(c.pairs),
		ratio(c.pairs, c.plainPairs), median(c.pairCPU).Round(time.Microsecond), times(c.pairCPU, c.plainPer))
	fmt.Fprintf(w, "\nMemory that stays in use for an instance between two rounds: %d bytes.\n", c.perInstance)
}
