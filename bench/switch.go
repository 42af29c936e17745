package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
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
		if _, err := b.client.Set(ctx, split.Toward(to, split.Whole), front.Expect{Revision: reading.Split.Revision, Generation: reading.Order.Generation}); err != nil {
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
	return result, nil
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
