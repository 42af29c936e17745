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

	"github.com/miekg/dns"
)

// Passengers search through the front at about the given rate, in irregular
// intervals as people do, until the context ends. Each has a cookie of their own,
// and connections are kept. Where a server of names is given, that is asked by ten resolvers who remember.
func Passengers(ctx context.Context, url, names string, rate float64) {
	const most = 256 // searches open at the same time
	client := &http.Client{
		Transport: &http.Transport{MaxIdleConnsPerHost: 64, DisableCompression: true, DialContext: dialer(names)},
		Timeout:   5 * time.Second,
	}
	room := make(chan struct{}, most)
	var wait sync.WaitGroup
	defer wait.Wait()
	for come := (arrivals{rate: rate, next: time.Now()}); come.wait(ctx); {
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

// arrivals come at about a rate a second, in irregular intervals as people do.
type arrivals struct {
	rate float64
	next time.Time
}

// wait waits for the next; false if the context has ended.
func (a *arrivals) wait(ctx context.Context) bool {
	a.next = a.next.Add(time.Duration(rand.ExpFloat64() / a.rate * float64(time.Second)))
	if behind := time.Since(a.next); behind > time.Second {
		a.next = a.next.Add(behind) // a slow service is not made slower by catching up
	}
	select {
	case <-ctx.Done():
		return false
	case <-time.After(time.Until(a.next)):
		return true
	}
}

// dialer connects passengers: to an address, or to one that a name has.
func dialer(names string) func(ctx context.Context, network, address string) (net.Conn, error) {
	if names == "" {
		return fromAnywhere
	}
	resolvers := make([]*resolver, 10)
	for n := range resolvers {
		resolvers[n] = &resolver{server: names}
	}
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		name, port, err := net.SplitHostPort(address)
		if err != nil {
			return nil, err
		}
		to, err := resolvers[rand.IntN(len(resolvers))].find(ctx, name)
		if err != nil {
			return nil, err
		}
		return fromAnywhere(ctx, network, net.JoinHostPort(to, port))
	}
}

// resolver remembers what a name was for as long as it may.
type resolver struct {
	server string

	mu    sync.Mutex // protects what follows
	found []string
	until time.Time
}

// find is one of the addresses of a name.
func (r *resolver) find(ctx context.Context, name string) (string, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if time.Now().After(r.until) {
		a, err := dns.ExchangeContext(ctx, new(dns.Msg).SetQuestion(dns.Fqdn(name), dns.TypeA), r.server)
		if err != nil {
			return "", err
		}
		r.found = nil
		for _, rr := range a.Answer {
			if a, ok := rr.(*dns.A); ok {
				r.found = append(r.found, a.A.String())
				r.until = time.Now().Add(time.Duration(a.Hdr.Ttl) * time.Second)
			}
		}
	}
	if len(r.found) == 0 {
		return "", fmt.Errorf("%s points nowhere", name)
	}
	return r.found[rand.IntN(len(r.found))], nil
}

// fromAnywhere connects from one of some hundred addresses of this machine, so that
// passengers are as many clients.
func fromAnywhere(ctx context.Context, network, address string) (net.Conn, error) {
	d := net.Dialer{Timeout: 5 * time.Second,
		LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, byte(1+rand.IntN(8)), byte(1+rand.IntN(60)))}}
	return d.DialContext(ctx, network, address)
}
