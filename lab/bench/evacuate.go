package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front/embedded"
)

// evacuations is what evacuating a side with many services takes.
type evacuations struct {
	services int
	each     []time.Duration // until a front had confirmed it, since its own was begun
	all      []time.Duration // the whole command
	alone    []time.Duration // vaiven back of one of them, until its front had confirmed it
	ratios   []float64       // of the whole command to that, round by round
}

const (
	evacuated       = 20
	evacuatedRounds = 7
)

const evacuatedPlan = `service: ferry-%02d
front: {listen: "%s"}
stack: {command: "none/{version}", ports: 1-9}
smoke: [{request: /}]
route: [100 %%]
`

// timeEvacuations evacuates one side and the other of twenty services, and rolls one of them back beside it.
func (b *bench) timeEvacuations(ctx context.Context) (e evacuations, err error) {
	e.services = evacuated
	dir := filepath.Join(b.dir, "fleet")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return e, err
	}
	for n := range evacuated {
		if err := b.startFerry(ctx, dir, n); err != nil {
			return e, err
		}
	}
	one := filepath.Join(dir, "ferry-00.yaml")
	side := split.Blue
	for range evacuatedRounds {
		begun := time.Now()
		said, err := exec.CommandContext(ctx, b.vaiven, "evacuate", dir, "--from", side.String(), "--json").Output()
		all := time.Since(begun)
		if err != nil {
			return e, fmt.Errorf("evacuate: %w: %s", err, said)
		}
		for line := range bytes.Lines(said) {
			var is struct{ Took float64 }
			if err := json.Unmarshal(line, &is); err != nil {
				return e, err
			}
			e.each = append(e.each, time.Duration(is.Took*float64(time.Second)))
		}
		if out, err := exec.CommandContext(ctx, b.vaiven, "reopen", dir).CombinedOutput(); err != nil {
			return e, fmt.Errorf("reopen: %w: %s", err, out)
		}
		out, err := exec.CommandContext(ctx, b.vaiven, "back", one, "--to", side.String(), "--json").Output()
		if err != nil {
			return e, fmt.Errorf("back: %w: %s", err, out)
		}
		var back struct {
			Took float64 `json:"took_s"`
		}
		if err := json.Unmarshal(out, &back); err != nil || back.Took <= 0 {
			return e, fmt.Errorf("back says %s: %w", out, err)
		}
		alone := time.Duration(back.Took * float64(time.Second))
		e.all, e.alone = append(e.all, all), append(e.alone, alone)
		e.ratios = append(e.ratios, all.Seconds()/alone.Seconds())
		side = side.Other()
	}
	return e, nil
}

// startFerry starts the front of one of them, with two instances of each side.
func (b *bench) startFerry(ctx context.Context, dir string, n int) error {
	address, err := freeAddress()
	if err != nil {
		return err
	}
	name := fmt.Sprintf("ferry-%02d", n)
	file := filepath.Join(dir, name+".yaml")
	if err := os.WriteFile(file, fmt.Appendf(nil, evacuatedPlan, n, address), 0o600); err != nil {
		return err
	}
	if _, err := b.start(b.vaiven, "front", file); err != nil {
		return err
	}
	client := embedded.Dial(filepath.Join(dir, name+".vaiven", "front.sock"))
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		for _, side := range split.Sides {
			var list []reading.Server
			for n, a := range b.instances[side] {
				list = append(list, reading.Server{Name: fmt.Sprintf("%v-%d", side, n+1), Address: a, Version: "1"})
			}
			if err = client.SetInstances(ctx, side, list); err != nil {
				break
			}
		}
		if err == nil || time.Now().After(deadline) {
			return err
		}
	}
}

// text is what is written of it.
func (e evacuations) text() string {
	return fmt.Sprintf("\n## Evacuating a side\n\n%d services on fronts of their own, %d times, by `vaiven evacuate` without "+
		"a keeper, and beside it one of them by\n`vaiven back`. Before a side is evacuated its fronts are read, and the "+
		"other side's instances asked whether they\nlisten; to start the program is part of it.\n\n"+
		"| | median | most |\n| --- | --- | --- |\n"+
		"| a front has confirmed it, since it was begun there | %v | %v |\n| all have, from command to end | %v | %v |\n"+
		"| one that is rolled back has, since it was begun there | %v | %v |\n"+
		"| all, from command to end, to that of one in the same round | %.0f | %.0f |\n",
		e.services, len(e.all), round(median(e.each)), round(slices.Max(e.each)), round(median(e.all)),
		round(slices.Max(e.all)), round(median(e.alone)), round(slices.Max(e.alone)), median(e.ratios),
		slices.Max(e.ratios))
}

func round(d time.Duration) time.Duration { return d.Round(time.Millisecond) }
