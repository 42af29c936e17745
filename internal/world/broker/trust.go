package broker

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"

	"vaiven/internal/world/place"
)

// TLS is how a broker is spoken to over TLS. The zero value is without.
type TLS struct {
	On          bool
	CA          string // file with the authorities' certificates; "" for this machine's
	Name        string // that the certificate is for; "" for the address's host
	Certificate string // file with one of our own; "" for none
	Key         string // file with its key
}

// files are what stands in files of a TLS.
func (t *TLS) files() []*string { return []*string{&t.CA, &t.Certificate, &t.Key} }

// Resolve has the files made absolute.
func (t *TLS) Resolve(file func(*string)) {
	for _, f := range t.files() {
		file(f)
	}
}

// config reads the files, where they are.
func (t TLS) config(ctx context.Context, on place.Place) (*tls.Config, error) {
	texts := map[string][]byte{}
	for _, f := range t.files() {
		if *f == "" {
			continue
		}
		text, err := on.ReadFile(ctx, *f)
		if err != nil {
			return nil, err
		}
		texts[*f] = text
	}
	c := &tls.Config{ServerName: t.Name, MinVersion: tls.VersionTLS12}
	if t.CA != "" {
		c.RootCAs = x509.NewCertPool()
		if !c.RootCAs.AppendCertsFromPEM(texts[t.CA]) {
			return nil, fmt.Errorf("%s holds no certificate", t.CA)
		}
	}
	if t.Certificate != "" {
		pair, err := tls.X509KeyPair(texts[t.Certificate], texts[t.Key])
		if err != nil {
			return nil, fmt.Errorf("%s with %s: %w", t.Certificate, t.Key, err)
		}
		c.Certificates = []tls.Certificate{pair}
	}
	return c, nil
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
	c, err := l.trust.get(ctx, func(ctx context.Context) (*tls.Config, error) { return l.config.TLS.config(ctx, l.on) })
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	return c.Clone(), nil
}
