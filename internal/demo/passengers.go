package demo

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"sync"
	"time"
)

// Passengers search through the front at about the given rate, in irregular
// intervals as people do, until the context ends. Each has a cookie of their own,
// and connections are kept.
func Passengers(ctx context.Context, url string, rate float64) {
	const most = 256 // searches open at the same time
	client := &http.Client{
		Transport: &http.Transport{MaxIdleConnsPerHost: 64, DisableCompression: true, DialContext: fromAnywhere},
		Timeout:   5 * time.Second,
	}
	room := make(chan struct{}, most)
	var wait sync.WaitGroup
	defer wait.Wait()
	next := time.Now()
	for {
		next = next.Add(time.Duration(rand.ExpFloat64() / rate * float64(time.Second)))
		if behind := time.Since(next); behind > time.Second {
			next = next.Add(behind) // a slow service is not made slower by catching up
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Until(next)):
		}
		select {
		case room <- struct{}{}:
		default:
			continue // this passenger gives up
		}
		wait.Go(func() {
			defer func() { <-room }()
			r, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
			if err != nil {
				return
			}
			r.Close = rand.IntN(8) == 0 // somebody leaves, and somebody else comes
			r.AddCookie(&http.Cookie{Name: passengerCookie, Value: fmt.Sprint(rand.IntN(4000))})
			w, err := client.Do(r)
			if err != nil {
				return // counted by front and prober
			}
			_, _ = io.Copy(io.Discard, w.Body)
			_ = w.Body.Close()
		})
	}
}

// fromAnywhere connects from one of some hundred addresses of this machine, so that
// passengers are as many clients.
func fromAnywhere(ctx context.Context, network, address string) (net.Conn, error) {
	d := net.Dialer{Timeout: 5 * time.Second, LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, byte(1+rand.IntN(8)), byte(1+rand.IntN(60)))}}
	return d.DialContext(ctx, network, address)
}
