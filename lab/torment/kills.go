package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/api"
	"vaiven/internal/proving/door"
	"vaiven/internal/world/secret"
	"vaiven/lab/demo"
)

// victim is what is killed.
type victim string

// The victims.
const (
	theKeeper victim = "keeper"
	theClient victim = "command that follows"
	theFront  victim = "front"
)

// The times of kills.
const (
	begunLimit   = 20 * time.Second // for a crossing to begin
	latest       = 9 * time.Second  // after which it is killed
	downFor      = time.Second      // a front that was killed, before it is started again
	toldAgain    = 2 * time.Second  // for a keeper to tell a front what it forgot
	openFor      = time.Second      // what began so long before the front was killed may have been open on it
	settledLimit = 2 * time.Minute  // for a crossing to end
	viewLimit    = 2 * time.Second  // for a keeper to show it
)

// killing is a service that something is killed of again and again.
type killing struct {
	scenario *demo.Scenario
	vaiven   string
	keeper   *api.Client
	client   client
	dead     []span // in which there was no front
}

type span struct{ from, to time.Time }

// killed is what came of it.
type killed struct {
	Front string
	Kills map[victim]int
	Ends  map[crossing.Stage]int
	Asked int
	Lost  int // but for what was open on a front that was killed, and while there was none
	Cut   int // those
	Why   []string
}

// killAll kills something at so many random instants of crossings, over these fronts.
func killAll(ctx context.Context, vaiven, only string, kills int) error {
	fronts := slices.DeleteFunc(slices.Clone(fronts), func(front string) bool { return !strings.Contains(front, only) })
	var mu sync.Mutex // protects failed
	var failed []error
	room := make(chan struct{}, 2)
	var wait sync.WaitGroup
	for n, front := range fronts {
		share := kills/len(fronts) + min(1, max(0, kills%len(fronts)-n))
		if share == 0 {
			continue
		}
		room <- struct{}{}
		wait.Go(func() {
			defer func() { <-room }()
			k, err := killSome(ctx, vaiven, front, share)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				err = fmt.Errorf("%s: %w", front, err)
			} else if k.Lost > 0 {
				err = fmt.Errorf("%s: %d requests were lost", front, k.Lost)
			}
			failed = append(failed, err)
			for _, line := range k.Why {
				fmt.Println("  ", line)
			}
			fmt.Printf("%-16s kills %v, ends %v, %d requests, %d lost, %d cut off with a front\n", front, k.Kills,
				k.Ends, k.Asked, k.Lost, k.Cut)
		})
	}
	wait.Wait()
	return errors.Join(failed...)
}

var building sync.Mutex

func killSome(ctx context.Context, vaiven, front string, kills int) (k killed, err error) {
	k = killed{Front: front, Kills: map[victim]int{}, Ends: map[crossing.Stage]int{}}
	kind, way, _ := strings.Cut(front, ", ")
	building.Lock() // two at once would find the same free ports
	s, err := demo.Build(ctx,
		demo.Options{Program: vaiven, Fault: demo.None, Front: plan.FrontKind(kind), Way: way, Quick: true, Rate: 0.01,
			Patient: true})
	building.Unlock()
	if err != nil {
		return k, err
	}
	defer func() { err = errors.Join(err, s.Remove(context.WithoutCancel(ctx))) }()
	t := &killing{scenario: s, vaiven: vaiven,
		client: client{door: door.Of(s.Plan, secret.Values{}), at: s.Plan.Front.Listen}}
	t.keeper = api.Dial(api.Config{By: "torment", Alone: true, Dial: func(ctx context.Context) (net.Conn, error) {
		return new(net.Dialer).DialContext(ctx, "unix", s.Plan.KeeperSocket())
	}})
	defer t.keeper.Close()
	asking, stop := context.WithCancel(ctx)
	begun := time.Now()
	var asked sync.WaitGroup
	asked.Go(func() { t.client.run(asking) })
	for n := range kills {
		since, cut := time.Now(), len(t.dead)
		stage, v, err := t.once(ctx)
		k.Why = append(k.Why, t.lost(fmt.Sprintf("kill %d, of the %s, %s", n+1, v, stage), since, t.dead[cut:])...)
		if err != nil {
			stop()
			return k, fmt.Errorf("kill %d, of the %s: %w", n+1, v, err)
		}
		k.Kills[v]++
		k.Ends[stage]++
	}
	time.Sleep(clientWaits) // what was asked is answered
	stop()
	asked.Wait()
	k.Asked, k.Lost = t.client.all, t.client.hit(begun, time.Now())
	for _, d := range t.dead {
		k.Cut += t.client.hit(d.from, d.to)
	}
	k.Lost -= k.Cut
	return k, nil
}

// lost tells of what was lost since a time, but for what began in some spans: when, and why.
func (t *killing) lost(of string, since time.Time, but []span) []string {
	type reason struct {
		n           int
		first, last time.Time
	}
	reasons := map[string]*reason{}
	for _, b := range t.client.between(since, time.Now()) {
		if slices.ContainsFunc(but, func(s span) bool { return !b.begun.Before(s.from) && b.begun.Before(s.to) }) {
			continue
		}
		r := reasons[b.why.Error()]
		if r == nil {
			r = &reason{first: b.begun}
			reasons[b.why.Error()] = r
		}
		r.n, r.last = r.n+1, b.begun
	}
	var lines []string
	for why, r := range reasons {
		lines = append(lines, fmt.Sprintf("%s: %d requests from %v to %v after its beginning: %s", of, r.n,
			r.first.Sub(since).Round(time.Millisecond), r.last.Sub(since).Round(time.Millisecond), why))
	}
	slices.Sort(lines)
	return lines
}

// once begins a crossing, kills something of it, and takes it to an end.
func (t *killing) once(ctx context.Context) (crossing.Stage, victim, error) {
	v := []victim{theKeeper, theClient, theFront}[rand.IntN(3)]
	before, _ := t.view(ctx)
	cross := exec.Command(t.vaiven, "cross", t.scenario.File, "--version", demo.NewVersion, "--yes", "--take-wheel",
		"--same-build")
	var said bytes.Buffer
	cross.Stdout, cross.Stderr = &said, &said
	if err := cross.Start(); err != nil {
		return "", v, err
	}
	ended := make(chan struct{})
	go func() { defer close(ended); _ = cross.Wait() }()
	defer func() {
		_ = cross.Process.Kill()
		<-ended
	}()
	if !t.soon(ctx, begunLimit, func(s keeper.Snapshot) bool { return s.Crossing.Number > before.Crossing.Number }) {
		return "", v, fmt.Errorf("no crossing begins: %s", said.String())
	}
	time.Sleep(rand.N(latest))
	switch v {
	case theKeeper:
		if err := t.killKeeper(ctx); err != nil {
			return "", v, err
		}
	case theClient:
		_ = cross.Process.Kill()
	case theFront:
		at := time.Now()
		t.scenario.KillFront()
		time.Sleep(downFor)
		err := t.scenario.FrontAgain(ctx)
		for end := time.Now().Add(toldAgain); err == nil && t.client.ask(http.DefaultClient) != nil &&
			time.Now().Before(end); {
			time.Sleep(10 * time.Millisecond)
		}
		t.dead = append(t.dead, span{at.Add(-openFor), time.Now()})
		if err != nil {
			return "", v, err
		}
	}
	// On with it, or home.
	if rand.IntN(2) == 0 {
		_ = exec.Command(t.vaiven, "rehearse", t.scenario.File).Run() // starts a keeper where none is left
		if s, ok := t.view(ctx); ok && s.Crossing.Frozen() {
			last := s.Crossing.Freezes[len(s.Crossing.Freezes)-1].ID
			_ = exec.Command(t.vaiven, "say", t.scenario.File, "go-on", "--take-wheel", "--freeze",
				fmt.Sprint(last)).Run()
		}
		if t.soon(ctx, settledLimit, func(s keeper.Snapshot) bool {
			return s.Ready && (s.Crossing.Stage.Over() || s.Crossing.Frozen() && s.Crossing.Task.ID == 0 ||
				s.Crossing.Question.ID != 0)
		}) {
			if s, ok := t.view(ctx); ok && s.Crossing.Stage.Over() {
				return t.over(ctx, v)
			}
		}
	}
	if out, err := exec.Command(t.vaiven, "back", t.scenario.File).CombinedOutput(); err != nil &&
		!t.soon(ctx, time.Second, func(s keeper.Snapshot) bool { return s.Crossing.Stage.Over() }) {
		return "", v, fmt.Errorf("back: %w: %s", err, out)
	}
	return t.over(ctx, v)
}

// over waits until everything is done, and holds the end to what an end is.
func (t *killing) over(ctx context.Context, v victim) (crossing.Stage, victim, error) {
	_ = exec.Command(t.vaiven, "rehearse", t.scenario.File).Run()
	var last keeper.Snapshot
	if !t.soon(ctx, settledLimit, func(s keeper.Snapshot) bool {
		last = s
		live := s.Sides[s.Crossing.Live()]
		return s.Ready && s.Crossing.Stage.Over() && s.Crossing.Task.ID == 0 && s.Front.Error == "" &&
			live.Healthy >= live.Wanted
	}) {
		return "", v, fmt.Errorf("it comes to no end: %s, task %v, front %q, blue %d and green %d healthy",
			last.Crossing.Stage, last.Crossing.Task, last.Front.Error, last.Sides[split.Blue].Healthy,
			last.Sides[split.Green].Healthy)
	}
	c := last.Crossing
	share, live := last.Front.Split.Share, c.Live()
	if share != split.Toward(live, split.Whole) {
		return "", v, fmt.Errorf("%s, and %v of the requests go to green", c.Stage, share)
	}
	if n := len(last.Sides[live.Other()].Instances); n > 0 && c.Stage != crossing.RolledBack {
		return "", v, fmt.Errorf("%s, and %d instances of %v are left", c.Stage, n, live.Other())
	}
	return c.Stage, v, nil
}

func (t *killing) killKeeper(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, viewLimit)
	defer cancel()
	info, err := t.keeper.Info(ctx)
	if err != nil {
		return err
	}
	return syscall.Kill(info.Process, syscall.SIGKILL)
}

// view is what the keeper shows.
func (t *killing) view(ctx context.Context) (s keeper.Snapshot, ok bool) {
	ctx, cancel := context.WithTimeout(ctx, viewLimit)
	defer cancel()
	s, err := t.keeper.View(ctx)
	return s, err == nil
}

// soon waits until the keeper shows something, and reports whether it did in time.
func (t *killing) soon(ctx context.Context, limit time.Duration, so func(keeper.Snapshot) bool) bool {
	for end := time.Now().Add(limit); time.Now().Before(end) && ctx.Err() == nil; time.Sleep(50 * time.Millisecond) {
		if s, ok := t.view(ctx); ok && so(s) {
			return true
		}
	}
	return false
}
