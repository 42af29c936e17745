package main

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"net/http"
	"strconv"
	"sync"
	"time"

	"vaiven/internal/proving/door"
	"vaiven/lab/demo"
)

// The client: how often it asks, how long it waits, and what is late for it.
const (
	clientRate  = 200 // requests a second
	clientWaits = 3 * time.Second
	clientLate  = 400 * time.Millisecond
)

// client asks again and again, as many users do, and notes what came to nothing good.
type client struct {
	door  *door.Door    // which users come by
	at    string        // the front
	posts bool          // some of it are POST requests, which nobody may send twice
	late  time.Duration // what takes longer comes to nothing good; 0 for [clientWaits]

	mu  sync.Mutex // protects the rest
	bad []bad
	all int
}

// bad is a request that came to nothing good.
type bad struct {
	begun time.Time
	why   error
}

// run asks until the context ends.
func (c *client) run(ctx context.Context) {
	kept := &http.Client{Transport: c.door.Way(true), Timeout: clientWaits}
	fresh := &http.Client{Transport: c.door.Way(false), Timeout: clientWaits}
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
			c.note(time.Now(), errors.New("too many are open"))
			continue
		}
		go func() {
			defer func() { <-room }()
			by := kept
			if rand.IntN(5) == 0 {
				by = fresh
			}
			begun := time.Now()
			err := c.ask(by)
			if err == nil && c.late > 0 && time.Since(begun) >= c.late {
				err = errors.New("an answer that came too late")
			}
			c.note(begun, err)
		}()
	}
}

func (c *client) ask(by *http.Client) error {
	method, query := http.MethodGet, ""
	switch rand.IntN(20) { // users do not all do the same
	case 0, 1:
		query = "?harbour=arda"
	case 2, 3:
		if c.posts {
			method = http.MethodPost
		}
	}
	r, err := c.door.Request(context.Background(), method, c.at, "/sailings"+query)
	if err != nil {
		return err
	}
	r.Header.Set(demo.GroupHeader, strconv.Itoa(rand.IntN(10)))
	w, err := by.Do(r)
	if err != nil {
		return err
	}
	defer w.Body.Close()
	body, err := io.ReadAll(w.Body)
	switch {
	case err != nil:
		return err
	case w.StatusCode != http.StatusOK:
		return errors.New(w.Status)
	case !bytes.Contains(body, []byte(`"ship"`)):
		return errors.New("an answer of something else")
	}
	return nil
}

func (c *client) note(begun time.Time, why error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.all++
	if why != nil {
		c.bad = append(c.bad, bad{begun, why})
	}
}

// hit is how many requests that began between two times came to nothing good.
func (c *client) hit(from, to time.Time) int { return len(c.between(from, to)) }

func (c *client) between(from, to time.Time) []bad {
	c.mu.Lock()
	defer c.mu.Unlock()
	var in []bad
	for _, b := range c.bad {
		if !b.begun.Before(from) && b.begun.Before(to) {
			in = append(in, b)
		}
	}
	return in
}
