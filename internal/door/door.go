package door

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"net/http"
	"os"

	"vaiven/internal/plan"
	"vaiven/internal/secret"
)

// Door is a front as users meet it. It is safe for concurrent use.
type Door struct {
	plan    plan.Entrance
	secrets secret.Values
	tls     *tls.Config
	wrong   error // why nothing can be asked
}

// New makes a door. A file that cannot be read is said by every request.
func New(p plan.Entrance, secrets secret.Values) *Door {
	d := &Door{plan: p, secrets: secrets}
	if p.Secure {
		d.tls, d.wrong = config(p)
	}
	return d
}

// config is how TLS is spoken: with the name that users ask for.
func config(p plan.Entrance) (*tls.Config, error) {
	c := &tls.Config{ServerName: p.Name}
	if c.ServerName == "" {
		c.ServerName = nameOf(p.Host)
	}
	if p.CA != "" {
		pem, err := os.ReadFile(p.CA)
		if err != nil {
			return nil, fmt.Errorf("the door's authorities: %w", err)
		}
		c.RootCAs = x509.NewCertPool()
		if !c.RootCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("the door's authorities: %s holds no certificate", p.CA)
		}
	}
	if p.Certificate != "" {
		pair, err := tls.LoadX509KeyPair(p.Certificate, p.Key)
		if err != nil {
			return nil, fmt.Errorf("the door's client certificate: %w", err)
		}
		c.Certificates = []tls.Certificate{pair}
	}
	return c, nil
}

// nameOf is a host without its port.
func nameOf(host string) string {
	if name, _, err := net.SplitHostPort(host); err == nil {
		return name
	}
	return host
}

// Transport makes one for requests at the door, which its caller may adapt. Connections are kept, as browsers do, or each
// request has one of its own.
func (d *Door) Transport(kept bool) *http.Transport {
	t := &http.Transport{DisableKeepAlives: !kept, DisableCompression: true, TLSClientConfig: d.tls, Protocols: new(http.Protocols)}
	if d.plan.Resolver != "" {
		asks := net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return new(net.Dialer).DialContext(ctx, network, d.plan.Resolver)
		}}
		t.DialContext = (&net.Dialer{Resolver: &asks}).DialContext
	}
	t.Protocols.SetHTTP1(true)
	t.Protocols.SetHTTP2(d.plan.Secure && !d.plan.HTTP1)
	return t
}

// Request makes a request at the address of a front.
func (d *Door) Request(ctx context.Context, method, address, path string) (*http.Request, error) {
	if d.wrong != nil {
		return nil, d.wrong
	}
	scheme := "http"
	if d.plan.Secure {
		scheme = "https"
	}
	r, err := http.NewRequestWithContext(ctx, method, scheme+"://"+address+path, nil)
	if err != nil {
		return nil, err
	}
	if d.plan.Host != "" {
		r.Host = d.plan.Host
	}
	for name, value := range d.plan.Headers {
		r.Header.Set(name, d.secrets.Fill(value, nil, nil))
	}
	return r, nil
}
