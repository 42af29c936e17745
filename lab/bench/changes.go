package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"os"
	"slices"
	"sync"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// The load under which fronts are changed, in requests a second.
const (
	changeKept    = 2000 // on kept connections
	changeFresh   = 300  // on new ones
	changeClients = 16
)

// How often fronts are changed: in pairs, by Vaiven and by hand in turn, until the ratio is
// known.
const (
	leastPairs  = 30
	mostPairs   = 2000
	pairsWithin = 3 * time.Minute // of one front
	closeEnough = 0.10            // of the median ratio, each way
)

// changed is what changes of one front came to, by Vaiven and by hand.
type changed struct {
	name         string
	leg, home    compared
	known        bool // the ratios are, as closely as wanted
	lost, closed int64
	asked        int64
}

// compared is changes by Vaiven, each with the next one by hand.
type compared struct{ vaiven, hand []moment }

// moment is one change.
type moment struct{ firstNew, lastOld, gap time.Duration }

// ratio is the median of the pairs' ratios of the time to the first answer of the new side,
// with the interval that it lies in with 95 % (order statistics: David & Nagaraja, Order
// Statistics, section 7.1).
func (c compared) ratio() (median, low, high float64) {
	var list []float64
	for n := range c.hand {
		list = append(list, c.vaiven[n].firstNew.Seconds()/c.hand[n].firstNew.Seconds())
	}
	if len(list) == 0 {
		return 0, 0, math.Inf(1)
	}
	slices.Sort(list)
	n := float64(len(list))
	half := 1.96 * math.Sqrt(n) / 2
	return list[len(list)/2], list[max(int(n/2-half), 0)], list[min(int(math.Ceil(n/2+half)), len(list)-1)]
}

func (c compared) known() bool {
	m, low, high := c.ratio()
	return len(c.hand) >= leastPairs && low >= m*(1-closeEnough) && high <= m*(1+closeEnough)
}

// steered is a front with both ways to change it.
type steered struct {
	name   string
	plan   plan.Front
	driver front.Driver
	hand   func(ctx context.Context, to split.Side) error // nil if there is none but Vaiven's
}

// timeChanges changes every front to and fro under a steady load.
func (b *bench) timeChanges(ctx context.Context) ([]changed, error) {
	fronts, err := b.steered(ctx)
	if err != nil {
		return nil, err
	}
	var list []changed
	for _, f := range fronts {
		c, err := b.change(ctx, f)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.name, err)
		}
		list = append(list, c)
		documentChanges(os.Stdout, list[len(list)-1:])
	}
	return list, nil
}

func (b *bench) change(ctx context.Context, f steered) (changed, error) {
	c := changed{name: f.name}
	load := startLoad(f.plan.Listen, b.sideOf())
	defer load.stop()
	to := split.Blue
	// do makes a change to the other side, and says what it looked like.
	do := func(change func(split.Side) (time.Time, error)) (moment, error) {
		to = to.Other()
		begun, err := change(to)
		if err != nil {
			return moment{}, err
		}
		return load.await(ctx, begun, to)
	}
	leg := func(to split.Side) (time.Time, error) {
		r, err := f.driver.Read(ctx)
		begun := time.Now()
		if err == nil {
			_, err = f.driver.Set(ctx, split.Toward(to, split.Whole),
				front.Expect{Revision: r.Split.Revision, Generation: r.Order.Generation})
		}
		return begun, err
	}
	home := func(to split.Side) (time.Time, error) {
		begun := time.Now()
		_, err := f.driver.Home(ctx, front.Homing{Side: to, By: "bench"})
		return begun, err
	}
	byHand := func(to split.Side) (time.Time, error) { return time.Now(), f.hand(ctx, to) }
	until := time.Now().Add(pairsWithin)
	for n := 0; n < mostPairs && time.Now().Before(until) && !c.known; n++ {
		for _, way := range []struct {
			pairs  *compared
			change func(split.Side) (time.Time, error)
		}{{&c.leg, leg}, {&c.home, home}} {
			mine, err := do(way.change)
			if err != nil {
				return c, err
			}
			way.pairs.vaiven = append(way.pairs.vaiven, mine)
			if f.hand == nil {
				continue
			}
			theirs, err := do(byHand)
			if err != nil {
				return c, err
			}
			way.pairs.hand = append(way.pairs.hand, theirs)
		}
		c.known = c.leg.known() && c.home.known() || f.hand == nil && n+1 >= leastPairs
	}
	load.stop()
	c.lost, c.closed, c.asked = load.lost, load.closed, load.asked
	return c, nil
}

// sideOf knows the side of an instance by its address.
func (b *bench) sideOf() map[string]split.Side {
	m := map[string]split.Side{}
	for _, side := range split.Sides {
		for _, a := range b.instances[side] {
			m[a] = side
		}
	}
	return m
}

// steadyLoad is requests at a steady rate, and their answers.
type steadyLoad struct {
	address string
	sides   map[string]split.Side
	done    chan struct{}
	once    sync.Once
	wait    sync.WaitGroup

	mu                  sync.Mutex // protects what follows
	answers             []seen
	lost, closed, asked int64
}

func startLoad(address string, sides map[string]split.Side) *steadyLoad {
	l := &steadyLoad{address: address, sides: sides, done: make(chan struct{})}
	for range changeClients {
		l.wait.Go(func() { l.ask(true, time.Second*changeClients/changeKept) })
	}
	for range 4 {
		l.wait.Go(func() { l.ask(false, time.Second*4/changeFresh) })
	}
	return l
}

func (l *steadyLoad) stop() {
	l.once.Do(func() { close(l.done) })
	l.wait.Wait()
}

// ask sends requests one after the other. One of which no byte was answered, on a kept
// connection that was closed, is sent again and counted apart.
func (l *steadyLoad) ask(keep bool, every time.Duration) {
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	var conn net.Conn
	var read *bufio.Reader
	for {
		select {
		case <-l.done:
			if conn != nil {
				_ = conn.Close()
			}
			return
		case <-ticker.C:
		}
		begun := time.Now()
		var side split.Side
		var err error
		for again := true; again; {
			kept := conn != nil
			if conn == nil {
				if conn, err = net.DialTimeout("tcp", l.address, 5*time.Second); err != nil {
					break
				}
				read = bufio.NewReader(conn)
			}
			var answered bool
			side, answered, err = l.exchange(conn, read, keep)
			if err != nil || !keep {
				_ = conn.Close()
				conn = nil
			}
			again = err != nil && kept && !answered
			if again {
				l.mu.Lock()
				l.closed++
				l.mu.Unlock()
			}
		}
		l.mu.Lock()
		l.asked++
		if err != nil {
			l.lost++
		} else {
			l.answers = append(l.answers, seen{begun, time.Now(), side})
		}
		l.mu.Unlock()
	}
}

func (l *steadyLoad) exchange(conn net.Conn, read *bufio.Reader, keep bool) (side split.Side, answered bool,
	err error) {
	_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
	text := "GET / HTTP/1.1\r\nHost: bench\r\n"
	if !keep {
		text += "Connection: close\r\n"
	}
	if _, err := io.WriteString(conn, text+"\r\n"); err != nil {
		return 0, false, err
	}
	if _, err := read.Peek(1); err != nil {
		return 0, false, err
	}
	w, err := http.ReadResponse(read, nil)
	if err != nil {
		return 0, true, err
	}
	if _, err := io.Copy(io.Discard, w.Body); err != nil {
		return 0, true, err
	}
	side, known := l.sides[w.Header.Get(addressHeader)]
	if w.StatusCode != http.StatusOK || !known {
		return 0, true, fmt.Errorf("%s from %q", w.Status, w.Header.Get(addressHeader))
	}
	return side, true, nil
}

// The times around a change.
const (
	before  = 50 * time.Millisecond // that belong to it
	quiet   = 60 * time.Millisecond // without an answer of the old side: it is through
	through = 5 * time.Second       // at most
)

// await waits until a change is through, and says what it looked like from outside.
func (l *steadyLoad) await(ctx context.Context, begun time.Time, to split.Side) (moment, error) {
	for {
		m := l.since(begun, to)
		if m.firstNew > 0 && time.Since(begun) > max(m.firstNew, m.lastOld)+quiet {
			l.forget()
			return m, nil
		}
		if time.Since(begun) > through {
			return m, fmt.Errorf("%v after the change the new side has not answered, or the old one still does: %+v",
				through, m)
		}
		select {
		case <-ctx.Done():
			return m, ctx.Err()
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// forget drops the answers that are older than what belongs to the next change.
func (l *steadyLoad) forget() {
	l.mu.Lock()
	defer l.mu.Unlock()
	after := time.Now().Add(-before)
	l.answers = slices.DeleteFunc(l.answers, func(a seen) bool { return a.ended.Before(after) })
}

// since is what a change at a time looks like from outside so far.
func (l *steadyLoad) since(begun time.Time, to split.Side) moment {
	l.mu.Lock()
	defer l.mu.Unlock()
	var m moment
	var ends []time.Time
	for _, a := range l.answers {
		if a.ended.Before(begun.Add(-before)) {
			continue
		}
		ends = append(ends, a.ended)
		if a.ended.Before(begun) {
			continue
		}
		if after := a.ended.Sub(begun); a.side == to {
			if m.firstNew == 0 || after < m.firstNew {
				m.firstNew = after
			}
		} else {
			m.lastOld = max(m.lastOld, after)
		}
	}
	slices.SortFunc(ends, time.Time.Compare)
	for n := 1; n < len(ends); n++ {
		m.gap = max(m.gap, ends[n].Sub(ends[n-1]))
	}
	return m
}

// documentChanges writes what changes came to.
func documentChanges(w io.Writer, list []changed) {
	fmt.Fprintf(w, "\n## Changes of every front\n\nAll requests from one side to the other under %d requests a "+
		"second on %d kept connections and %d on new\nones: by Vaiven, as a leg and as a going home, and each time "+
		"back by hand with the proxy's own command, until\nthe median ratio of a pair lies within ±%.0f %% (with 95 "+
		"%%), for at most %d pairs and %v. Times are medians from\nthe command to the first answer of the new "+
		"side.\n\n",
		changeKept, changeClients, changeFresh, 100*closeEnough, mostPairs, pairsWithin)
	fmt.Fprintf(w, "| front | leg | by hand | ratio | home | by hand | ratio | pairs | last answer of the old side, "+
		"by hand | longest gap, by hand | lost | idle connections closed |\n| --- | --- | --- | --- | --- | --- | "+
		"--- | --- | --- | --- | --- | --- |\n")
	short := func(list []moment, of func(moment) time.Duration) string {
		if len(list) == 0 {
			return "–"
		}
		return median(times(list, of)).Round(100 * time.Microsecond).String()
	}
	first := func(m moment) time.Duration { return m.firstNew }
	for _, c := range list {
		fmt.Fprintf(w, "| %s |", c.name)
		for _, p := range []compared{c.leg, c.home} {
			ratio := "–"
			if m, low, high := p.ratio(); len(p.hand) > 0 {
				ratio = fmt.Sprintf("%.2f (%.2f–%.2f)", m, low, high)
			}
			fmt.Fprintf(w, " %s | %s | %s |", short(p.vaiven, first), short(p.hand, first), ratio)
		}
		mine, theirs := append(slices.Clone(c.leg.vaiven), c.home.vaiven...),
			append(slices.Clone(c.leg.hand), c.home.hand...)
		last, gap := func(m moment) time.Duration { return m.lastOld }, func(m moment) time.Duration { return m.gap }
		fmt.Fprintf(w, " %d | %s, %s | %s, %s | %d of %d | %d |\n", len(c.leg.vaiven), short(mine, last),
			short(theirs, last), short(mine, gap), short(theirs, gap), c.lost, c.asked, c.closed)
	}
}

func times(list []moment, of func(moment) time.Duration) []time.Duration {
	var out []time.Duration
	for _, m := range list {
		out = append(out, of(m))
	}
	return out
}
