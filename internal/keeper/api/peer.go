package api

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/user"
	"strconv"

	"golang.org/x/sys/unix"

	"vaiven/internal/core/crossing"
)

// guarded lets in who is of the keeper's own user, or root: whoever comes over SSH is one of
// them. Everybody else is told so and sent away.
type guarded struct {
	net.Listener
	refused func(error)
}

// Accept waits for somebody who may come in.
func (g guarded) Accept() (net.Conn, error) {
	for {
		c, err := g.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if err := admitted(c); err != nil {
			g.refused(err)
			_ = c.Close()
			continue
		}
		return c, nil
	}
}

// admitted is an error if the other end of a connection is somebody else's.
func admitted(c net.Conn) error {
	peer, err := credentials(c)
	if err != nil {
		return err
	}
	if uid := int(peer.Uid); uid != os.Geteuid() && uid != 0 {
		return fmt.Errorf("a connection of user %d, process %d is refused: this keeper belongs to user %d", uid,
			peer.Pid, os.Geteuid())
	}
	return nil
}

// credentials are those of the process at the other end of a connection, as of when it was made.
func credentials(c net.Conn) (peer *unix.Ucred, err error) {
	u, ok := c.(*net.UnixConn)
	if !ok {
		return nil, fmt.Errorf("%T is no Unix socket", c)
	}
	raw, err := u.SyscallConn()
	if err != nil {
		return nil, err
	}
	var errPeer error
	if err := raw.Control(func(fd uintptr) {
		peer, errPeer = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
	}); err != nil {
		return nil, err
	}
	if errPeer != nil {
		return nil, fmt.Errorf("whose connection it is cannot be told: %w", errPeer)
	}
	return peer, nil
}

// atSocket is the key under which a request's context has who is at the other end of its connection.
type atSocket struct{}

// withPeer notes who is at the other end of a connection.
func withPeer(ctx context.Context, c net.Conn) context.Context {
	peer, err := credentials(c)
	if err != nil {
		return ctx // nobody is known
	}
	number := strconv.Itoa(int(peer.Uid))
	is := crossing.Peer{User: int(peer.Uid), Name: number}
	if u, err := user.LookupId(number); err == nil {
		is.Name = u.Username
	}
	if is.Host, err = os.Hostname(); err != nil {
		is.Host = "this machine"
	}
	return context.WithValue(ctx, atSocket{}, is)
}

// peerOf is who is at the other end of a request's connection; nobody where that is not known.
func peerOf(ctx context.Context) crossing.Peer {
	is, _ := ctx.Value(atSocket{}).(crossing.Peer)
	return is
}
