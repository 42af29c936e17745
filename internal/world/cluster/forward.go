package cluster

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/tools/portforward"
	"k8s.io/client-go/transport/spdy"
	"k8s.io/streaming/pkg/httpstream"

	"vaiven/internal/world/place"
)

// The times of a connection through the API.
const (
	unusedFor   = time.Minute            // how long the one to a pod is kept while nobody uses it
	partingFor  = time.Second            // how long is waited for what a pod's node says of an end
	refusalTime = 300 * time.Millisecond // within which a node says that nothing takes a connection
)

// ways are the connections that there are to pods, one to each, which carry those that are made to it.
type ways struct {
	mu sync.Mutex // protects to
	to map[string]*way
}

// way is a connection to one pod.
type way struct {
	ready chan struct{} // closed when what follows is known
	conn  httpstream.Connection
	err   error
	last  atomic.Int64 // number of a connection made through it
}

// over reports whether nothing can be made through it any more.
func (w *way) over() bool {
	select {
	case <-w.ready:
	default:
		return false
	}
	if w.err != nil {
		return true
	}
	select {
	case <-w.conn.CloseChan():
		return true
	default:
		return false
	}
}

// Dial connects to a pod through the API, from wherever that is reached: the address is the pod's own, host:port.
// That nothing takes connections there is known only after a while, so the connection that it returns is a
// [place.Unsure]. Errors wrap [ErrUnreachable], [ErrMissing] if there is no such pod, or [ErrRefused] if the right to
// do so is missing. Any number may be made at the same time.
func (c *Client) Dial(ctx context.Context, _, address string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	w := c.way(host)
	select {
	case <-w.ready:
	case <-ctx.Done():
		return nil, untold(ctx, ctx.Err())
	}
	if w.err != nil {
		return nil, w.err
	}
	conn, err := place.Within(ctx, func() (net.Conn, error) { return c.through(w, host, port) },
		func(conn net.Conn) { _ = conn.Close() })
	return conn, untold(ctx, err)
}

// untold is an error as that of an API that has not answered, if the context ended before it did.
func untold(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil && !errors.Is(err, ErrUnreachable) {
		return fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	return err
}

// way is the connection to the pod that has an address, which may still be under way.
func (c *Client) way(host string) *way {
	c.ways.mu.Lock()
	defer c.ways.mu.Unlock()
	if w := c.ways.to[host]; w != nil && !w.over() {
		return w
	}
	if c.ways.to == nil {
		c.ways.to = map[string]*way{}
	}
	w := &way{ready: make(chan struct{})}
	c.ways.to[host] = w
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), askLimit)
		w.conn, w.err = c.forward(ctx, host)
		cancel()
		close(w.ready)
		if w.err == nil {
			<-w.conn.CloseChan()
		}
		c.forget(host, w)
	}()
	return w
}

// forget has the next connection to a pod made anew. Those that are open stay.
func (c *Client) forget(host string, w *way) {
	c.ways.mu.Lock()
	defer c.ways.mu.Unlock()
	if c.ways.to[host] == w {
		delete(c.ways.to, host)
	}
}

// forward opens the connection to the pod that has an address.
func (c *Client) forward(ctx context.Context, host string) (httpstream.Connection, error) {
	list, err := c.api.Resource(Pods).Namespace(c.Namespace).List(ctx,
		metav1.ListOptions{FieldSelector: "status.podIP=" + host + ",status.phase=Running"})
	if err != nil {
		return nil, said(err)
	}
	if len(list.Items) == 0 {
		return nil, fmt.Errorf("%w: no pod runs at %s", ErrMissing, host)
	}
	at := c.base.JoinPath("api", "v1", "namespaces", c.Namespace, "pods", list.Items[0].GetName(), "portforward")
	// Newer servers carry it in a WebSocket, older ones know SPDY alone.
	newer, err := portforward.NewSPDYOverWebsocketDialerForStreaming(at, c.config)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	transport, upgrader, err := spdy.RoundTripperFor(c.config)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	older := spdy.NewDialerForStreaming(upgrader, &http.Client{Transport: transport}, http.MethodPost, at)
	conn, err := place.Within(ctx, func() (httpstream.Connection, error) {
		conn, _, err := newer.Dial(portforward.PortForwardProtocolV1Name)
		var failed *httpstream.UpgradeFailureError
		if !errors.As(err, &failed) {
			return conn, err
		}
		if conn, _, older := older.Dial(portforward.PortForwardProtocolV1Name); older == nil {
			return conn, nil
		}
		return nil, failed.Cause
	}, func(conn httpstream.Connection) { _ = conn.Close() })
	if err != nil {
		return nil, said(err)
	}
	conn.SetIdleTimeout(unusedFor)
	return conn, nil
}

// through makes a connection to a port of the pod: two streams, of which one tells in the end what went wrong.
func (c *Client) through(w *way, host, port string) (net.Conn, error) {
	headers := http.Header{}
	headers.Set(corev1.PortHeader, port)
	headers.Set(corev1.PortForwardRequestIDHeader, strconv.FormatInt(w.last.Add(1), 10))
	headers.Set(corev1.StreamType, corev1.StreamTypeError)
	tells, err := w.conn.CreateStream(headers)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	_ = tells.Close() // nothing is written to it
	headers.Set(corev1.StreamType, corev1.StreamTypeData)
	data, err := w.conn.CreateStream(headers)
	if err != nil {
		w.conn.RemoveStreams(tells)
		return nil, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	told := make(chan string, 1)
	go func() {
		text, _ := io.ReadAll(tells)
		told <- strings.TrimSpace(string(text))
	}()
	near, far := net.Pipe()
	s := &stream{Conn: near, over: make(chan struct{})}
	go func() {
		_, _ = io.Copy(data, far)
		_ = data.Reset() // whoever asked has gone
	}()
	go func() {
		_, _ = io.Copy(far, data)
		select {
		case text := <-told:
			s.failed = failure(net.JoinHostPort(host, port), text)
		case <-time.After(partingFor):
		}
		if s.failed != nil && place.CauseOf(s.failed) != place.Refused {
			c.forget(host, w) // it may lead to what is not there any more
		}
		close(s.over)
		_ = far.Close()
		_ = data.Reset()
		_ = tells.Reset()
		w.conn.RemoveStreams(data, tells)
	}()
	return s, nil
}

// failure is what a pod's node says of a connection, as an error; nil if it says nothing.
func failure(address, text string) error {
	switch {
	case text == "":
		return nil
	case strings.Contains(text, "connection refused"):
		return place.Failure(place.Refused, address, text)
	}
	return errors.New("through the cluster's API: " + text)
}

// stream is a connection that goes through the API. It is a [place.Unsure].
type stream struct {
	net.Conn
	over   chan struct{} // closed when failed is known
	failed error
}

// Read reads, and says in the end what the pod's node has said.
func (s *stream) Read(p []byte) (int, error) {
	n, err := s.Conn.Read(p)
	if errors.Is(err, io.EOF) {
		if <-s.over; s.failed != nil {
			err = s.failed
		}
	}
	return n, err
}

// Refused waits until the node would have said that nothing takes a connection there.
func (s *stream) Refused(ctx context.Context) error {
	select {
	case <-s.over:
		return s.failed
	case <-time.After(refusalTime):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
