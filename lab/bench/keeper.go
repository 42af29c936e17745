package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/api"
)

// kept is what a keeper takes.
type kept struct {
	idle     float64 // of a core
	resident int64   // bytes
	seen     []time.Duration
	watchers float64 // of a core, ten of them
	records  float64 // of a core, a crossing of 500 instances
	hour     float64 // KiB that are written for it
}

const (
	idleSpan  = 30 * time.Second
	wheelings = 50
)

const keeperPlan = `service: bench
front: {listen: "%s"}
versions: folder builds
stack:
  instances: 4
  command: ./builds/{version}/serve {address}
  ports: %d-%d
smoke: [{request: /}]
health: {path: /}
route: [100 %%]
`

// timeKeeper starts a keeper of four instances, and measures what it takes while nothing goes on,
// how soon one of those who watch sees what another has done, and what ten of them cost.
func (b *bench) timeKeeper(ctx context.Context) (k kept, err error) {
	self, err := os.Executable()
	if err != nil {
		return k, err
	}
	dir := filepath.Join(b.dir, "kept")
	if err := os.MkdirAll(filepath.Join(dir, "builds", "1"), 0o755); err != nil {
		return k, err
	}
	address, err := freeAddress()
	if err != nil {
		return k, err
	}
	first := 21_000 + os.Getpid()%200*20
	file := filepath.Join(dir, "bench.yaml")
	if err := errors.Join(os.WriteFile(file, fmt.Appendf(nil, keeperPlan, address, first, first+15), 0o600),
		os.WriteFile(filepath.Join(dir, "builds", "1", "serve"),
			fmt.Appendf(nil, "#!/bin/sh\nexec %s -instance \"$1\"\n", self), 0o755)); err != nil {
		return k, err
	}
	if _, err := b.start(b.vaiven, "front", file); err != nil {
		return k, err
	}
	cmd, err := b.start(b.vaiven, "keep", file)
	if err != nil {
		return k, err
	}
	socket := filepath.Join(dir, "bench.vaiven", "keeper.sock")
	if out, err := exec.CommandContext(ctx, b.vaiven, "raise", file, "--version", "1").CombinedOutput(); err != nil {
		return k, fmt.Errorf("raise: %w: %s", err, out)
	}
	defer func() {
		out, errRetire := exec.Command(b.vaiven, "retire", file, "--yes", "--take-wheel").CombinedOutput()
		if errRetire != nil {
			err = errors.Join(err, fmt.Errorf("retire: %w: %s", errRetire, out))
		}
	}()
	if err := pause(ctx, 5*time.Second); err != nil { // what the raise has left is over
		return k, err
	}
	begun := processorTime(cmd)
	if err := pause(ctx, idleSpan); err != nil {
		return k, err
	}
	k.idle = (processorTime(cmd) - begun).Seconds() / idleSpan.Seconds()
	k.resident = residentAlone(cmd.Process.Pid) // its instances are its children
	if k.seen, err = timeSight(ctx, socket); err != nil {
		return k, err
	}
	if k.watchers, err = figure(ctx, "./internal/keeper/api", "Watchers", "%core/10watchers"); err != nil {
		return k, err
	}
	if k.records, err = figure(ctx, "./internal/keeper/recording", "Take/500", "%core"); err != nil {
		return k, err
	}
	k.hour, err = figure(ctx, "./internal/keeper/recording", "FiveHours", "KiB/h")
	return k, err
}

func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-time.After(d):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// timeSight has two clients take the wheel from each other, and times how long after that each
// sees that the other has it.
func timeSight(ctx context.Context, socket string) ([]time.Duration, error) {
	dial := func(by string) *api.Client {
		return api.Dial(api.Config{By: by,
			Dial: func(ctx context.Context) (net.Conn,
				error) {
				return new(net.Dialer).DialContext(ctx, "unix", socket)
			}})
	}
	a, c := dial("marit"), dial("ines")
	defer a.Close()
	defer c.Close()
	seen := c.Snapshots(ctx)
	<-a.Snapshots(ctx)
	var times []time.Duration
	for range wheelings {
		begun := time.Now()
		if _, err := a.Do(ctx, keeper.Command{Act: crossing.TakeWheel{}}); err != nil {
			return nil, err
		}
		for s := range seen {
			if s.Crossing.Wheel.By == "marit" {
				break
			}
		}
		times = append(times, time.Since(begun))
		if _, err := c.Do(ctx, keeper.Command{Act: crossing.TakeWheel{}}); err != nil {
			return nil, err
		}
		for s := range seen {
			if s.Crossing.Wheel.By == "ines" {
				break
			}
		}
	}
	return times, ctx.Err()
}

// figure is what a benchmark beside the code of a package comes to, in a unit of its own.
func figure(ctx context.Context, of, name, unit string) (float64, error) {
	times := "1x"
	if name == "Take/500" {
		times = "600x" // ten minutes of it
	}
	out, err := exec.CommandContext(ctx, "go", "test", of, "-run", "^$", "-bench", name, "-benchtime",
		times).CombinedOutput()
	m := regexp.MustCompile(`([0-9.e+-]+) ` + regexp.QuoteMeta(unit) + `\s`).FindSubmatch(out)
	if err != nil || m == nil {
		return 0, fmt.Errorf("go test -bench %s: %w: %s", name, err, out)
	}
	return strconv.ParseFloat(string(m[1]), 64)
}

// text is the section about the keeper.
func (k kept) text() string {
	return fmt.Sprintf(`## The keeper

| | |
| --- | --- |
| idle, with 4 instances, of a core over %v | %.2f %% |
| its resident memory | %d MB |
| ten who watch a crossing of 500 instances, of a core, their own ends included | %.1f %% |
| recording such a crossing, of a core | %.2f %% |
| its recording, over five hours, by the hour | %.0f KiB |
| from a command until another client sees what came of it, median | %v |
| the same, at most, of %d | %v |

`, idleSpan, 100*k.idle, k.resident>>20, k.watchers, k.records, k.hour, median(k.seen).Round(100*time.Microsecond), len(k.seen), slices.Max(k.seen).Round(100*time.Microsecond))
}
