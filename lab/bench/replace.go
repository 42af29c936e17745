package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"vaiven/internal/core/split"
)

// replaced is what replacing the front under load came to.
type replaced struct {
	times       int
	took        []time.Duration // from the command until the new process serves
	fresh, kept counted         // on connections of their own, and on those that are kept
}

// counted are requests, and those of them that were not answered well.
type counted struct{ of, lost atomic.Int64 }

// How the front is replaced.
const (
	replacements   = 10
	freshConnected = 10_000
	freshClients   = 8
	keptClients    = 16
)

// timeReplacements replaces the front by another process again and again while requests come on new connections
// and on kept ones.
func (b *bench) timeReplacements(ctx context.Context) (*replaced, error) {
	result := &replaced{times: replacements}
	url := "http://" + b.embeddedAddress() + "/"
	asking, stop := context.WithCancel(ctx)
	defer stop()
	var wait sync.WaitGroup
	ask := func(c *counted, keep bool) {
		client := &http.Client{Timeout: 10 * time.Second,
			Transport: &http.Transport{DisableKeepAlives: !keep, MaxIdleConnsPerHost: 1}}
		for asking.Err() == nil {
			w, err := client.Get(url)
			c.of.Add(1)
			if err != nil {
				c.lost.Add(1)
				continue
			}
			if _, err := io.Copy(io.Discard, w.Body); err != nil || w.StatusCode != http.StatusOK {
				c.lost.Add(1)
			}
			_ = w.Body.Close()
		}
	}
	for range freshClients {
		wait.Go(func() { ask(&result.fresh, false) })
	}
	for range keptClients {
		wait.Go(func() { ask(&result.kept, true) })
	}
	for n := range replacements {
		for result.fresh.of.Load() < int64(n+1)*freshConnected/replacements && ctx.Err() == nil {
			time.Sleep(time.Millisecond)
		}
		begun := time.Now()
		out, err := exec.CommandContext(ctx, b.vaiven, "front", filepath.Join(b.dir, "bench.yaml"), "--take-over",
			"--detach", "--grace", "30s").CombinedOutput()
		if err != nil {
			return nil, fmt.Errorf("replace the front: %w: %s", err, out)
		}
		result.took = append(result.took, time.Since(begun))
		fields := strings.Fields(string(out))
		for k := range fields {
			if k > 0 && fields[k-1] == "process" && k+1 < len(fields) && fields[k+1] == "serves;" {
				_, _ = fmt.Sscan(fields[k], &b.background)
			}
		}
	}
	stop()
	wait.Wait()
	if r, err := b.client.Read(ctx); err != nil || r.Sides[split.Blue].Lost > 0 {
		return nil, fmt.Errorf("the last process counts %d lost, %w", r.Sides[split.Blue].Lost, err)
	}
	fmt.Print(result.text())
	return result, nil
}

func (r *replaced) text() string {
	return fmt.Sprintf("\n## Replacing the front\n\n%d times, by `vaiven front --take-over`, while requests come: "+
		"from the command until the new process serves %v\n(at most %v). Requests on new connections that were "+
		"refused or lost: %d of %d; on kept ones: %d of %d.\n",
		r.times, median(r.took).Round(time.Millisecond), quantile(r.took, 1).Round(time.Millisecond),
		r.fresh.lost.Load(), r.fresh.of.Load(), r.kept.lost.Load(), r.kept.of.Load())
}
