package broker

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"

	"vaiven/internal/world/trust"
)

// TLS is how a broker is spoken to over TLS. The zero value is without.
type TLS struct {
	On          bool
	Name        string // that the certificate is for; "" for the address's host
	trust.Files        // where the broker's front stands
}

// Resolve has the files made absolute.
func (t *TLS) Resolve(file func(*string)) {
	for _, f := range t.Names() {
		file(f)
	}
}

// secure speaks TLS over a connection to an address, as the login says. One over which it does not come about is
// closed.
func (l *login) secure(ctx context.Context, conn net.Conn, address string) (net.Conn, error) {
	c, err := l.tls(ctx)
	if err != nil {
		_ = conn.Close()
		return nil, err
	}
	if c.ServerName == "" {
		c.ServerName, _, _ = net.SplitHostPort(address)
	}
	secured := tls.Client(conn, c)
	if err := secured.HandshakeContext(ctx); err != nil {
		_ = conn.Close()
		l.refused() // the files may say something else now
		return nil, err
	}
	return secured, nil
}

// tls is a configuration of one's own, by the files as they were when they were read last.
func (l *login) tls(ctx context.Context) (*tls.Config, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	c, err := l.trust.get(ctx, func(ctx context.Context) (*tls.Config, error) {
		return l.config.TLS.Config(ctx, l.on, l.config.TLS.Name)
	})
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	return c.Clone(), nil
}
