package prober

import (
	"context"
	"crypto/rand"
	"net/http"
	"net/http/cookiejar"
	"time"

	"vaiven/internal/proving/pace"
)

// Sending is a number of requests that a person wants sent.
type Sending struct {
	Requests int
	Per      time.Duration // between the beginnings of two
	// that send them in turn: each has a value of its own for the split key, keeps its cookies, and its connections
	Clients int
	Fresh   bool // each request has a connection of its own
}

// Send sends requests until all are answered, or the context ends. What comes of them is in the report. At most as many
// are out at the same time as there are clients.
func (p *Prober) Send(ctx context.Context, s Sending) {
	type client struct {
		http  *http.Client
		value string
		turn  chan struct{}
	}
	clients := make([]client, max(s.Clients, 1))
	for n := range clients {
		jar, _ := cookiejar.New(nil) // fails never without options
		clients[n] = client{
			http: &http.Client{Transport: p.config.Door.Way(!s.Fresh), Jar: jar,
				CheckRedirect: p.clients[0].CheckRedirect, Timeout: p.config.Timeout},
			value: rand.Text(), turn: make(chan struct{}, 1),
		}
		defer clients[n].http.CloseIdleConnections()
	}
	turn := func(n int) chan struct{} { return clients[n%len(clients)].turn }
	pace.Each(ctx, s.Requests, s.Per, turn, func(n int) {
		c := clients[n%len(clients)]
		p.probe(c.http, p.config.Fronts[n%len(p.config.Fronts)], c.value)
	})
}
