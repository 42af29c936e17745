package cluster

import (
	"context"
	"fmt"
	"net"

	api "vaiven/internal/cluster"
	"vaiven/internal/place"
)

// site is a pod: commands run in it, and files are read from it.
type site struct {
	client *api.Client
	pod    string
}

// Dial connects from this machine: a pod has nothing that connections could be made through.
func (site) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	return place.Local{}.Dial(ctx, network, address)
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
	var out place.Output
	status, err := s.client.Exec(ctx, s.pod, words, &out)
	if err != nil {
		return place.Outcome{}, told(err)
	}
	return place.Outcome{Status: status, Output: out.Bytes()}, nil
}

// ReadFile reads a file of the pod.
func (s site) ReadFile(ctx context.Context, path string) ([]byte, error) {
	var out place.Output
	status, err := s.client.Exec(ctx, s.pod, []string{"cat", path}, &out)
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
