package standin

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"

	"github.com/gorilla/websocket"
	corev1 "k8s.io/api/core/v1"
	"k8s.io/client-go/tools/portforward"
	"k8s.io/streaming/pkg/httpstream"
	"k8s.io/streaming/pkg/httpstream/spdy"
)

// tunnelled is the protocol of a forward that a WebSocket carries.
const tunnelled = "SPDY/3.1+" + portforward.PortForwardProtocolV1Name

// streams takes the streams of a connection that speaks SPDY, by itself or in a WebSocket where that has the
// protocol. It is nil if there is none, which has been said to whoever asked.
func (c call) streams(w http.ResponseWriter, protocol, tunnel string) (httpstream.Connection,
	<-chan httpstream.Stream) {
	come := make(chan httpstream.Stream, 16)
	take := func(s httpstream.Stream, _ <-chan struct{}) error {
		select {
		case come <- s:
		case <-c.q.Context().Done():
		}
		return nil
	}
	if !websocket.IsWebSocketUpgrade(c.q) {
		if _, err := httpstream.Handshake(c.q, w, []string{protocol}); err != nil {
			return nil, nil // it has been said
		}
		return spdy.NewResponseUpgrader().UpgradeResponse(w, c.q, take), come
	}
	ws, err := c.upgraded(w, tunnel)
	if err != nil {
		return nil, nil // it has been said
	}
	conn, err := spdy.NewServerConnection(portforward.NewTunnelingConnection("standin", ws), take)
	if err != nil {
		_ = ws.Close()
		return nil, nil
	}
	return conn, come
}

// forward carries connections to a pod's ports, each in two streams: what goes to and fro, and what went wrong.
func (c call) forward(w http.ResponseWriter) {
	c.s.mu.Lock()
	pod, there := c.s.objects[c.r][c.key()]
	c.s.forwards++
	c.s.mu.Unlock()
	ip := text(pod, "status", "podIP")
	switch {
	case !there:
		p := notFound(c.r, c.name)
		say(w, p.code, p.status())
		return
	case ip == "":
		p := badRequest("pod %s does not have a host assigned", c.name)
		say(w, p.code, p.status())
		return
	}
	conn, come := c.streams(w, portforward.PortForwardProtocolV1Name, tunnelled)
	if conn == nil {
		return
	}
	defer conn.Close()
	ctx, cancel := context.WithCancel(c.q.Context())
	defer cancel()
	var wait sync.WaitGroup
	defer wait.Wait()
	half := map[string]httpstream.Stream{} // by the connection's number, the stream that came first
	for {
		select {
		case s := <-come:
			number := s.Headers().Get(corev1.PortForwardRequestIDHeader)
			first, both := half[number]
			if !both {
				half[number] = s
				continue
			}
			delete(half, number)
			data, tells := first, s
			if s.Headers().Get(corev1.StreamType) == corev1.StreamTypeData {
				data, tells = s, first
			}
			wait.Go(func() {
				if err := carry(ctx, data, net.JoinHostPort(ip, s.Headers().Get(corev1.PortHeader))); err != nil {
					_, _ = fmt.Fprintf(tells, "error forwarding port %s to pod %s: %v",
						s.Headers().Get(corev1.PortHeader), c.name, err)
				}
				_ = data.Close()
				_ = tells.Close()
				conn.RemoveStreams(data, tells)
			})
		case <-conn.CloseChan():
			cancel()
			return
		case <-ctx.Done():
			return
		}
	}
}

// carry connects to an address and carries both ways until one has ended.
func carry(ctx context.Context, data httpstream.Stream, address string) error {
	var d net.Dialer
	to, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		return err
	}
	defer to.Close()
	defer context.AfterFunc(ctx, func() { _ = to.Close() })()
	go func() {
		_, _ = io.Copy(to, data)
		_ = to.(*net.TCPConn).CloseWrite()
	}()
	_, _ = io.Copy(data, to)
	return nil
}
