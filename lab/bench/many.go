package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vaiven/internal/keeper/service"
	"vaiven/internal/plan/planfile"
)

// resting is what keepers of services at rest take, while nobody looks at them.
type resting struct {
	keepers  int
	own      []int64         // memory that a keeper shares with no other process, bytes
	busy     []time.Duration // of a processor, by keeper, while it was looked at
	lookedAt time.Duration
}

const (
	keepersAtRest = 20
	settleAtRest  = 40 * time.Second // until what a start takes is over
	lookAtRest    = time.Minute
)

const restingPlan = `service: pier-%02d
front: {listen: "%s"}
stack:
  blue: {stands: ["%s", "%s"]}
  green: {stands: ["%s", "%s"]}
health: {request: /}
smoke: [{request: /}]
route: [100 %%]
`

// timeAtRest runs the keepers of many services, and looks at what they take when nothing is under way.
func (b *bench) timeAtRest(ctx context.Context) (r resting, err error) {
	r.keepers, r.lookedAt = keepersAtRest, lookAtRest
	dir := filepath.Join(b.dir, "piers")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return r, err
	}
	var files []string
	for n := range keepersAtRest {
		address, err := freeAddress()
		if err != nil {
			return r, err
		}
		blue, green := b.instances[0], b.instances[1]
		file := filepath.Join(dir, fmt.Sprintf("pier-%02d.yaml", n))
		text := fmt.Appendf(nil, restingPlan, n, address, blue[0], blue[1], green[0], green[1])
		if err := os.WriteFile(file, text, 0o600); err != nil {
			return r, err
		}
		if _, err := b.start(b.vaiven, "front", file); err != nil {
			return r, err
		}
		files = append(files, file)
	}
	if _, err := b.start(b.vaiven, "keep", dir); err != nil {
		return r, err
	}
	var processes []int
	for _, file := range files {
		pid, err := keeperOf(ctx, file)
		if err != nil {
			return r, err
		}
		processes = append(processes, pid)
	}
	time.Sleep(settleAtRest)
	var before []time.Duration
	for _, pid := range processes {
		before = append(before, busyAlone(pid))
	}
	time.Sleep(lookAtRest)
	for n, pid := range processes {
		r.busy = append(r.busy, busyAlone(pid)-before[n])
		own, err := private(pid)
		if err != nil {
			return r, err
		}
		r.own = append(r.own, own)
	}
	return r, nil
}

// keeperOf waits until the keeper of a plan answers, and says which process it is.
func keeperOf(ctx context.Context, file string) (int, error) {
	p, err := planfile.Read(file)
	if err != nil {
		return 0, err
	}
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(100 * time.Millisecond) {
		i, err := service.AskRunning(ctx, p)
		if err == nil {
			return i.Process, nil
		}
		if time.Now().After(deadline) {
			return 0, fmt.Errorf("the keeper of %s does not answer: %w", file, err)
		}
	}
}

// private is the memory that a process shares with no other one, in bytes.
func private(pid int) (int64, error) {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/smaps_rollup", pid))
	if err != nil {
		return 0, err
	}
	var sum int64
	for line := range strings.Lines(string(data)) {
		var kilobytes int64
		if name, rest, _ := strings.Cut(line, ":"); name == "Private_Clean" || name == "Private_Dirty" {
			if _, err := fmt.Sscan(rest, &kilobytes); err != nil {
				return 0, err
			}
			sum += kilobytes << 10
		}
	}
	return sum, nil
}

// text is what is written of it.
func (r resting) text() string {
	var all time.Duration
	for _, d := range r.busy {
		all += d
	}
	part := func(d time.Duration) float64 { return 100 * d.Seconds() / r.lookedAt.Seconds() }
	return fmt.Sprintf("\n## Keepers at rest\n\n%d services of four instances with their keepers, by `vaiven keep FOLDER`, while "+
		"nothing is under way and nobody looks, for\n%v. Memory is what a keeper shares with no other process. The aim is 12 MB.\n\n"+
		"| | median | most |\n| --- | --- | --- |\n| memory of a keeper, of its own | %.1f MB | %.1f MB |\n"+
		"| of a core, by a keeper | %.2f %% | %.2f %% |\n\nA hundred of them take %.0f %% of a core.\n",
		r.keepers, r.lookedAt, float64(median(r.own))/1e6, float64(slices.Max(r.own))/1e6, part(median(r.busy)),
		part(slices.Max(r.busy)), 100*part(all)/float64(r.keepers))
}
