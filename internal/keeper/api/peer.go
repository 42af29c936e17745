package api

import (
	"fmt"
	"net"
	"os"

	"golang.org/x/sys/unix"
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
	u, ok := c.(*net.UnixConn)
	if !ok {
		return fmt.Errorf("%T is no Unix socket", c)
	}
	raw, err := u.SyscallConn()
	if err != nil {
		return err
	}
	var peer *unix.Ucred
	var errPeer error
	if err := raw.Control(func(fd uintptr) {
		peer, errPeer = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
	}); err != nil {
		return err
	}
	if errPeer != nil {
		return fmt.Errorf("whose connection it is cannot be told: %w", errPeer)
	}
	if uid := int(peer.Uid); uid != os.Geteuid() && uid != 0 {
		return fmt.Errorf("a connection of user %d, process %d is refused: this keeper belongs to user %d", uid,
			peer.Pid, os.Geteuid())
	}
	return nil
}
