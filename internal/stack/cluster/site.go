package cluster

import (
	"context"
	"fmt"
	"net"
	"sync"

	api "vaiven/internal/world/cluster"
	"vaiven/internal/world/place"
)

// forwarded is this machine, but for connections to pods, which go through the API.
type forwarded struct {
	place.Local
	asks *api.Later
}

// Dial connects to a pod.
func (f forwarded) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	return f.asks.Dial(ctx, network, address)
}

// Carries is why the API does not.
func (f forwarded) Carries(ctx context.Context) error {
	c, err := f.asks.Open()
	if err != nil {
		return told(err)
	}
	return told(c.Answers(ctx))
}

var _ place.Carrier = forwarded{}

// site is a container of a pod: commands run in it, and files are read from it.
type site struct {
	client *api.Client
	of     api.Container
}

// Dial connects from the pod, by a command in it.
func (s site) Dial(ctx context.Context, _, address string) (net.Conn, error) {
	conn, err := s.client.DialFrom(ctx, s.of, address)
	return conn, told(err)
}

// together is what a command says on both its outputs.
type together struct {
	mu sync.Mutex // protects Output
	place.Output
}

func (t *together) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.Output.Write(p)
}

// Run runs a command in the pod.
func (s site) Run(ctx context.Context, c place.Command) (place.Outcome, error) {
	words := c.Words
	if len(c.Environment) > 0 {
		words = []string{"env"}
		for name, value := range c.Environment {
			words = append(words, name+"="+value)
		}
		words = append(words, c.Words...)
	}
	var out together
	status, err := s.client.Exec(ctx, s.of, api.Streams{Out: &out, Err: &out}, words...)
	if err != nil {
		return place.Outcome{}, told(err)
	}
	return place.Outcome{Status: status, Output: out.Bytes()}, nil
}

// ReadFile reads a file of the pod.
func (s site) ReadFile(ctx context.Context, path string) ([]byte, error) {
	var out together
	status, err := s.client.Exec(ctx, s.of, api.Streams{Out: &out, Err: &out}, "cat", path)
	switch {
	case err != nil:
		return nil, told(err)
	case status != 0:
		return nil, fmt.Errorf("%s: %s", path, out.Bytes())
	case len(out.Bytes()) > place.FileLimit:
		return nil, fmt.Errorf("%s has more than %d bytes", path, place.FileLimit)
	}
	return out.Bytes(), nil
}

// Close does nothing.
func (site) Close() error { return nil }
