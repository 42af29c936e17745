package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"sync"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/plan"
)

// The load under which fronts are changed, in requests a second.
const (
	changeKept    = 2000 // on kept connections
	changeFresh   = 300  // on new ones
	changeClients = 16
	changeRounds  = 8 // changes to and fro, of each way
)

// changed is what changes of one front came to, by Vaiven and by hand.
type changed struct {
	name         string
	vaiven, hand []moment
	lost, closed int64
	asked        int64
}

// moment is one change.
type moment struct{ firstNew, lastOld, gap time.Duration }

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
		fmt.Printf("changes  %-28s %d lost, %d closed of %d\n", c.name, c.lost, c.closed, c.asked)
	}
	return list, nil
}

func (b *bench) change(ctx context.Context, f steered) (changed, error) {
	c := changed{name: f.name}
	load := startLoad(f.plan.Listen, b.sideOf())
	defer load.stop()
	to := split.Blue
	for n := range 2 * changeRounds * 2 {
		byHand := n/2%2 == 1
		if byHand && f.hand == nil {
			continue
		}
		to = to.Other()
		time.Sleep(250 * time.Millisecond)
		begun := time.Now()
		var err error
		if byHand {
			err = f.hand(ctx, to)
		} else {
			var r reading.Front
			if r, err = f.driver.Read(ctx); err == nil {
				begun = time.Now()
				_, err = f.driver.Set(ctx, split.Toward(to, split.Whole), front.Expect{Revision: r.Split.Revision, Generation: r.Order.Generation})
			}
		}
		if err != nil {
			return c, err
		}
		time.Sleep(750 * time.Millisecond)
		m := load.since(begun, to)
		if byHand {
			c.hand = append(c.hand, m)
		} else {
			c.vaiven = append(c.vaiven, m)
		}
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

func (l *steadyLoad) exchange(conn net.Conn, read *bufio.Reader, keep bool) (side split.Side, answered bool, err error) {
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

// since is what a change at a time looks like from outside.
func (l *steadyLoad) since(begun time.Time, to split.Side) moment {
	l.mu.Lock()
	defer l.mu.Unlock()
	var m moment
	var ends []time.Time
	for _, a := range l.answers {
		if a.ended.Before(begun.Add(-100 * time.Millisecond)) {
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
	fmt.Fprintf(w, "\n## Changes of every front\n\nAll requests from one side to the other, %d times by Vaiven and as often by hand with the proxy's own\ncommand, in turn, under %d requests a second on %d kept connections and %d on new ones. Times are\nmedians from the command on, with those by hand and the ratio to them. By Vaiven includes a reading\nbefore, so that nobody's change is overwritten.\n\n",
		2*changeRounds, changeKept, changeClients, changeFresh)
	fmt.Fprintf(w, "| front | first answer of the new side | last of the old | longest gap | lost | idle connections closed |\n| --- | --- | --- | --- | --- | --- |\n")
	for _, c := range list {
		cell := func(of func(moment) time.Duration) string {
			mine := median(times(c.vaiven, of))
			text := mine.Round(100 * time.Microsecond).String()
			if len(c.hand) == 0 {
				return text
			}
			theirs := median(times(c.hand, of))
			text += fmt.Sprintf(", by hand %v", theirs.Round(100*time.Microsecond))
			if theirs >= time.Millisecond { // below, it is a matter of when requests happen to come
				text += fmt.Sprintf(" (%.2f)", mine.Seconds()/theirs.Seconds())
			}
			return text
		}
		fmt.Fprintf(w, "| %s | %s | %s | %s | %d of %d | %d |\n", c.name, cell(func(m moment) time.Duration { return m.firstNew }),
			cell(func(m moment) time.Duration { return m.lastOld }), cell(func(m moment) time.Duration { return m.gap }), c.lost, c.asked, c.closed)
	}
}

func times(list []moment, of func(moment) time.Duration) []time.Duration {
	var out []time.Duration
	for _, m := range list {
		out = append(out, of(m))
	}
	return out
}
