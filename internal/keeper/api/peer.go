package api

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"slices"

	"vaiven/internal/core/crossing"
	"vaiven/internal/world/peer"
)

// guarded lets in who is of the keeper's own user, of the socket's group, or root. Everybody else is told so and sent
// away.
type guarded struct {
	net.Listener
	group   int // -1 for none
	refused func(error)
}

// Accept waits for somebody who may come in.
func (g guarded) Accept() (net.Conn, error) {
	for {
		c, err := g.Listener.Accept()
		if err != nil {
			return nil, err
		}
		who, err := g.admitted(c)
		if err != nil {
			g.refused(err)
			_ = c.Close()
			continue
		}
		return known{c, who}, nil
	}
}

// known is a connection of which is known who is at its other end.
type known struct {
	net.Conn
	who peer.Peer
}

// admitted is an error if the other end of a connection is somebody else's.
func (g guarded) admitted(c net.Conn) (peer.Peer, error) {
	p, err := peer.Of(c)
	if err != nil {
		return p, err
	}
	if p.UID != os.Geteuid() && p.UID != 0 && !slices.Contains(p.GIDs, g.group) {
		return p, fmt.Errorf("a connection of user %d, process %d is refused: this keeper belongs to user %d", p.UID,
			p.Process, os.Geteuid())
	}
	return p, nil
}

// atSocket is the key under which a request's context has who is at the other end of its connection.
type atSocket struct{}

// withPeer notes who is at the other end of a connection.
func withPeer(ctx context.Context, c net.Conn) context.Context {
	if k, ok := c.(known); ok {
		return context.WithValue(ctx, atSocket{}, k.who)
	}
	return ctx
}

// peerOf is who is at the other end of a request's connection, or came through the plan's gate there; nobody where that
// is not known.
func (s *Server) peerOf(r *http.Request) (is crossing.Peer, groups []string) {
	p, ok := r.Context().Value(atSocket{}).(peer.Peer)
	if !ok {
		return is, nil
	}
	is, groups = crossing.Peer{User: p.UID, Name: p.Name, Host: peer.Host()}, p.Groups
	if name := printable(r.Header.Get(AdmittedHeader)); name != "" && p.Name == s.rules.Gate {
		is.Name, is.Gate, groups = name, p.Name, nil // whose groups they are is not known
	}
	return is, groups
}
