package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"os/signal"
	"regexp"
	"sync"
	"syscall"
	"time"
)

func main() {
	slog.SetDefault(slog.New(slog.NewTextHandler(io.Discard, nil)))
	keep := flag.String("keep", "", "be the keeper of the service of this plan (used by the torment itself)")
	one := flag.String("cell", "", "try one cell, given as JSON (used by the torment itself)")
	vaiven := flag.String("vaiven", "bin/vaiven", "the program to try")
	out := flag.String("out", "docs/benchmarks.md", "file to write the tables into; - for none")
	results := flag.String("results", "bin/torment.json", "file that outcomes are added to, one a line; the tables "+
		"are made of all of them, the last of each cell")
	only := flag.String("only", "", "only cells whose name this expression is found in, or with -kills fronts whose "+
		"name has it")
	kills := flag.Int("kills", 0, "in place of cells, kill keeper, client or front at so many random instants of "+
		"crossings, over all fronts")
	beside := flag.Int("beside", 2, "cells to try at the same time")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	var err error
	switch {
	case *keep != "":
		err = keeps(ctx, *keep, os.Stdin, os.Stdout)
	case *one != "":
		err = tryOne(ctx, *vaiven, *one)
	case *kills > 0:
		err = killAll(ctx, *vaiven, *only, *kills)
	default:
		err = tryAll(ctx, *vaiven, *out, *results, *only, *beside)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "torment:", err)
		os.Exit(1)
	}
}

func tryOne(ctx context.Context, vaiven, text string) error {
	var c cell
	if err := json.Unmarshal([]byte(text), &c); err != nil {
		return err
	}
	o, err := c.try(ctx, vaiven)
	if err != nil {
		o = outcome{Cell: c, Failed: err.Error()}
	}
	return json.NewEncoder(os.Stdout).Encode(o)
}

// tryAll tries all cells, some of them side by side, and writes what came of them.
func tryAll(ctx context.Context, vaiven, out, results, only string, beside int) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	wanted, err := regexp.Compile(only)
	if err != nil {
		return err
	}
	var list []cell
	for _, c := range cells() {
		if wanted.MatchString(c.String()) {
			list = append(list, c)
		}
	}
	kept, err := os.OpenFile(results, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer kept.Close()
	var mu sync.Mutex // protects the file
	room := make(chan struct{}, max(beside, 1))
	var wait sync.WaitGroup
	for n, c := range list {
		select {
		case room <- struct{}{}:
		case <-ctx.Done():
			wait.Wait()
			return ctx.Err()
		}
		wait.Go(func() {
			defer func() { <-room }()
			o := elsewhere(ctx, self, vaiven, c)
			if o.Failed != "" { // once more
				o = elsewhere(ctx, self, vaiven, c)
			}
			mu.Lock()
			defer mu.Unlock()
			fmt.Printf("%3d of %d  %-60s %s\n", n+1, len(list), c, o)
			_ = json.NewEncoder(kept).Encode(o) // what is not kept has been said
		})
	}
	wait.Wait()
	if out == "-" {
		return nil
	}
	all, err := read(results)
	if err != nil {
		return err
	}
	return write(out, all)
}

// read is the last outcome of each cell in a file.
func read(results string) (map[cell]outcome, error) {
	data, err := os.ReadFile(results)
	if err != nil {
		return nil, err
	}
	all := map[cell]outcome{}
	for lines := json.NewDecoder(bytes.NewReader(data)); lines.More(); {
		var o outcome
		if err := lines.Decode(&o); err != nil {
			return nil, fmt.Errorf("%s: %w", results, err)
		}
		all[o.Cell] = o
	}
	return all, nil
}

// cellLimit is how long a cell may take.
const cellLimit = 3 * time.Minute

// elsewhere tries a cell in a process of its own.
func elsewhere(ctx context.Context, self, vaiven string, c cell) outcome {
	ctx, cancel := context.WithTimeout(ctx, cellLimit)
	defer cancel()
	text, err := json.Marshal(c)
	if err != nil {
		return outcome{Cell: c, Failed: err.Error()}
	}
	cmd := exec.CommandContext(ctx, self, "-vaiven", vaiven, "-cell", string(text))
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = 30 * time.Second
	var said bytes.Buffer
	cmd.Stderr = &said
	data, err := cmd.Output()
	o := outcome{Cell: c}
	if errRead := json.Unmarshal(data, &o); err != nil || errRead != nil {
		o.Failed = fmt.Sprintf("%v, %v: %s", err, errRead, said.String())
	}
	return o
}
