package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// switchClients is how many clients ask while the front is switched.
const switchClients = 32

// switched is what switching to and fro came to.
type switched struct {
	switches    int
	took        []time.Duration // from command to confirmation
	crowded     []time.Duration // the same with crowd connections asking
	homes       []time.Duration // and of goings home among them
	weights     []time.Duration // and of a server's weight at HAProxy under the same
	late        []time.Duration // last request of the old side: how long after confirmation it began; 0 if none did
	strays      int             // answers of the old side to requests that began over 5 ms after confirmation
	asked, lost int64
}

// seen is one answer: when its request began, when it was there, and which side
// gave it.
type seen struct {
	begun, ended time.Time
	side         split.Side
}

// crowd is how many connections ask while it is looked at how soon a change is confirmed.
const crowd = 1000

// timeCrowded changes the split, and goes home, while many connections ask as fast as they
// can; and a weight at HAProxy while they ask there.
func (b *bench) timeCrowded(ctx context.Context, result *switched) error {
	err := b.crowded(ctx, b.embeddedAddress(), func(n int) error {
		r, err := b.client.Read(ctx)
		if err != nil {
			return err
		}
		begun := time.Now()
		if n%2 == 0 {
			if _, err = b.client.Set(ctx, split.Whole/4,
				front.Expect{Revision: r.Split.Revision, Generation: r.Order.Generation}); err == nil {
				result.crowded = append(result.crowded, time.Since(begun))
			}
		} else if _, err = b.client.Home(ctx, front.Homing{Side: split.Blue, By: "bench"}); err == nil {
			result.homes = append(result.homes, time.Since(begun))
		}
		return err
	})
	if err != nil {
		return err
	}
	var haproxy string
	for _, p := range b.fronts {
		if p.Name == "HAProxy" {
			haproxy = p.address
		}
	}
	err = b.crowded(ctx, haproxy, func(n int) error {
		begun := time.Now()
		err := told(filepath.Join(b.dir, "throughput.sock"), fmt.Sprintf("set server b/s0 weight %d", 1+n%2))
		result.weights = append(result.weights, time.Since(begun))
		return err
	})
	for name, list := range map[string][]time.Duration{"set": result.crowded, "home": result.homes,
		"HAProxy's weight": result.weights} {
		fmt.Printf("with %d connections  %s p50 %v p99 %v\n", crowd, name, quantile(list, 0.5), quantile(list, 0.99))
	}
	return err
}

// crowded does something often while many connections ask at an address.
func (b *bench) crowded(ctx context.Context, address string, do func(n int) error) error {
	loading, stop := context.WithCancel(ctx)
	defer stop()
	load := exec.CommandContext(loading, "wrk", "-t", "2", "-c", fmt.Sprint(crowd), "-d", "600s", "http://"+address+"/")
	if err := load.Start(); err != nil {
		return err
	}
	defer func() {
		stop()
		_ = load.Wait()
	}()
	time.Sleep(2 * time.Second) // until all ask
	for n := range b.switches {
		time.Sleep(20 * time.Millisecond)
		if err := do(n); err != nil {
			return err
		}
	}
	return nil
}

func quantile(list []time.Duration, q float64) time.Duration {
	list = slices.Clone(list)
	slices.Sort(list)
	return list[min(int(q*float64(len(list))), len(list)-1)].Round(10 * time.Microsecond)
}

// timeSwitches switches under load and looks at every answer.
func (b *bench) timeSwitches(ctx context.Context) (switched, error) {
	result := switched{switches: b.switches}
	var mu sync.Mutex // protects answers and result's counts
	var answers []seen
	secret, err := readSecret(b.dir)
	if err != nil {
		return result, err
	}
	var url string
	for _, p := range b.fronts {
		if p.Name == ourName {
			url = "http://" + p.address + "/"
		}
	}
	stop := make(chan struct{})
	var wait sync.WaitGroup
	for range switchClients {
		client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 1}}
		wait.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				begun := time.Now()
				side, err := askSide(client, url, secret)
				mu.Lock()
				result.asked++
				if err != nil {
					result.lost++
				} else {
					answers = append(answers, seen{begun, time.Now(), side})
				}
				mu.Unlock()
			}
		})
	}
	type change struct {
		at time.Time
		to split.Side
	}
	var changes []change
	for n := range b.switches {
		time.Sleep(30 * time.Millisecond)
		to := split.Sides[(n+1)%2]
		reading, err := b.client.Read(ctx)
		if err != nil {
			return result, err
		}
		begun := time.Now()
		if _, err := b.client.Set(ctx, split.Toward(to, split.Whole),
			front.Expect{Revision: reading.Split.Revision, Generation: reading.Order.Generation}); err != nil {
			return result, err
		}
		changes = append(changes, change{time.Now(), to})
		result.took = append(result.took, changes[n].at.Sub(begun))
	}
	time.Sleep(30 * time.Millisecond)
	close(stop)
	wait.Wait()
	for n, c := range changes {
		until := time.Now()
		if n+1 < len(changes) {
			until = changes[n+1].at.Add(-result.took[n+1])
		}
		var last time.Duration
		for _, a := range answers {
			// What ends after the next command began may belong to the next switch.
			if a.side == c.to || a.begun.Before(c.at) || a.ended.After(until) {
				continue
			}
			last = max(last, a.begun.Sub(c.at))
			if a.begun.Sub(c.at) > 5*time.Millisecond {
				result.strays++
			}
		}
		result.late = append(result.late, last)
	}
	return result, b.timeCrowded(ctx, &result)
}

// askSide makes a request that the front answers with its side.
func askSide(client *http.Client, url, secret string) (split.Side, error) {
	r, err := http.NewRequest(http.MethodGet, url, nil)
	if err != nil {
		return 0, err
	}
	r.Header.Set(front.ProbeHeader, secret)
	w, err := client.Do(r)
	if err != nil {
		return 0, err
	}
	defer w.Body.Close()
	if _, err := io.Copy(io.Discard, w.Body); err != nil {
		return 0, err
	}
	if w.StatusCode != http.StatusOK {
		return 0, fmt.Errorf("status %d", w.StatusCode)
	}
	return split.ParseSide(w.Header.Get(front.SideHeader))
}
