package main

import (
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"net/http"
	"sync"
	"time"
)

// The client: how often it asks, how long it waits, and what is late for it.
const (
	clientRate  = 200 // requests a second
	clientWaits = 3 * time.Second
	clientLate  = 400 * time.Millisecond
)

// client asks again and again, as many users do, and notes what came to nothing good.
type client struct {
	url string

	mu  sync.Mutex  // protects bad
	bad []time.Time // when requests began that came to nothing good
	all int
}

// run asks until the context ends.
func (c *client) run(ctx context.Context) {
	kept := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 256}, Timeout: clientWaits}
	fresh := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}, Timeout: clientWaits}
	ticker := time.NewTicker(time.Second / clientRate)
	defer ticker.Stop()
	room := make(chan struct{}, clientRate*4)
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		select {
		case room <- struct{}{}:
		default:
			c.note(time.Now(), false)
			continue
		}
		go func() {
			defer func() { <-room }()
			by := kept
			if rand.IntN(5) == 0 {
				by = fresh
			}
			begun := time.Now()
			c.note(begun, c.ask(by) && time.Since(begun) < clientLate)
		}()
	}
}

func (c *client) ask(by *http.Client) bool {
	w, err := by.Get(c.url)
	if err != nil {
		return false
	}
	defer w.Body.Close()
	body, err := io.ReadAll(w.Body)
	return err == nil && w.StatusCode == http.StatusOK && bytes.Contains(body, []byte(`"ship"`))
}

func (c *client) note(begun time.Time, good bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.all++
	if !good {
		c.bad = append(c.bad, begun)
	}
}

// hit is how many requests that began between two times came to nothing good.
func (c *client) hit(from, to time.Time) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	n := 0
	for _, at := range c.bad {
		if !at.Before(from) && at.Before(to) {
			n++
		}
	}
	return n
}
