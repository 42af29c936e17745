package trust

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"

	"vaiven/internal/world/place"
)

// Files are what stands in files. The zero value trusts whom the machine trusts, and shows no certificate.
type Files struct {
	CA          string // with the authorities' certificates; "" for this machine's
	Certificate string // of one's own; "" for none
	Key         string // of that one
}

// Names are the files' names, to be changed.
func (f *Files) Names() []*string { return []*string{&f.CA, &f.Certificate, &f.Key} }

// Reader reads files, as a [place.Place] does.
type Reader interface {
	ReadFile(ctx context.Context, path string) ([]byte, error)
}

var _ Reader = place.Local{}

// Config reads the files where they are, for connections to a name. Errors name the file.
func (f Files) Config(ctx context.Context, on Reader, name string) (*tls.Config, error) {
	c := &tls.Config{ServerName: name, MinVersion: tls.VersionTLS12}
	if f.CA != "" {
		text, err := on.ReadFile(ctx, f.CA)
		if err != nil {
			return nil, fmt.Errorf("authorities: %w", err)
		}
		c.RootCAs = x509.NewCertPool()
		if !c.RootCAs.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("authorities: %s holds no certificate", f.CA)
		}
	}
	if f.Certificate == "" {
		return c, nil
	}
	certificate, err := on.ReadFile(ctx, f.Certificate)
	if err != nil {
		return nil, fmt.Errorf("client certificate: %w", err)
	}
	key, err := on.ReadFile(ctx, f.Key)
	if err != nil {
		return nil, fmt.Errorf("client certificate's key: %w", err)
	}
	pair, err := tls.X509KeyPair(certificate, key)
	if err != nil {
		return nil, fmt.Errorf("client certificate: %s with %s: %w", f.Certificate, f.Key, err)
	}
	c.Certificates = []tls.Certificate{pair}
	return c, nil
}
