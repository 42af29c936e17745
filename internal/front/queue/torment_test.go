package queue

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"sync"
	"testing"
	"time"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/lab/testkit"
)

// table is where the torment writes what it has counted; it is not run without one.
var table = flag.String("table", "", "a file that the table of the torment goes to (make torment)")

// A hundred thousand numbered messages, counted by those who consume them, over crossings, rollbacks, and again, while
// consumers give messages back, hang and are killed, connections are cut, whoever carries is killed, and so is the
// broker.
func TestTorment(t *testing.T) {
	if *table == "" {
		t.Skip("make torment")
	}
	text := "| queue | messages | changes | broker killed | lost | twice without a mark | given out again | out of order | longest wait |\n" +
		"| --- | --- | --- | --- | --- | --- | --- | --- | --- |\n"
	for _, quorum := range []bool{false, true} {
		kind := map[bool]string{false: "classic", true: "quorum"}[quorum]
		t.Run(kind, func(t *testing.T) { text += "| " + kind + torment(t, quorum) })
		if err := os.WriteFile(*table, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// torment is a row of the table.
func torment(t *testing.T, quorum bool) string {
	s := start(t)
	s.quorum = quorum
	f, d := s.ferries(2, func(settings *Settings) { settings.Backlog = Carry })
	f.harsh = true
	const publishers, rate = 4, 500
	of := map[string]int{}
	for n := range publishers {
		who := fmt.Sprintf("p%d", n)
		of[who] = *messages / publishers
		f.publish(who, of[who], rate/publishers)
	}
	running, stop := context.WithCancel(t.Context())
	defer stop()
	var wait sync.WaitGroup
	wait.Go(func() {
		for running.Err() == nil {
			life, end := context.WithTimeout(running, time.Duration(1500+rand.IntN(1500))*time.Millisecond)
			f.driver(f.settings).Run(life)
			end()
		}
	})
	shares := []split.Share{500, 2500, 5000, split.Whole, 0}
	steps, kills := 0, 0
	killed := time.Now().Add(-time.Minute)
	minutePassed := func() bool { return time.Since(killed) > time.Minute }
	for w := testkit.Waiting(t, "all messages are sent"); int(f.sent.Load()) < *messages; w.Goes(f.sent.Load()) {
		life := f.driver(f.settings)
		if r, err := life.Read(t.Context()); err == nil {
			if _, err = life.Set(t.Context(), shares[steps%len(shares)], front.AsRead(r)); err != nil &&
				!errors.Is(err, front.ErrUnreachable) && !errors.Is(err, front.ErrChanged) &&
				!errors.Is(err, front.ErrRefused) { // where nobody takes messages just now
				t.Errorf("step %d: %v", steps, err)
			}
		}
		switch steps % 4 {
		case 0:
			f.kill(fmt.Sprintf("%v-%d", split.Side(steps%2), 1+rand.IntN(2)))
		case 1:
			s.cut("vaiven")
		case 2:
			testkit.Until(t, "home", func() error {
				_, err := f.driver(f.settings).Home(t.Context(), front.Homing{Side: split.Blue, By: "marit"})
				return err
			})
		case 3:
			if minutePassed() {
				one.Kill()
				one.restart(t)
				killed = time.Now()
				kills++
			}
		}
		steps++
		pause(rand.IntN(1000))
	}
	f.mu.Lock()
	f.harsh = false
	f.mu.Unlock()
	testkit.Until(t, "home at last", func() error {
		_, err := d.Home(t.Context(), front.Homing{Side: split.Blue, By: "marit"})
		return err
	})
	f.end(t, of)
	stop()
	wait.Wait()
	list := f.twice()
	if len(list) > 0 {
		t.Errorf("%d messages came twice, the first %v", len(list), list[:min(5, len(list))])
	}
	return fmt.Sprintf(" | %d | %d | %d times | 0 | %d | %d | %d | %v |\n", *messages, steps, kills, len(list), len(f.again),
		f.disorder, f.longest.Round(100*time.Millisecond))
}
