package door

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/front"
	"vaiven/internal/world/broker"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/trust"
)

// Door is a front as users meet it. It is safe for concurrent use.
type Door struct {
	plan    plan.Entrance
	secrets secret.Values
	tls     *tls.Config
	asks    http.RoundTripper // another way than over HTTP; nil for that
	wrong   error             // why nothing can be asked
}

// New makes a door. A file that cannot be read is said by every request.
func New(p plan.Entrance, secrets secret.Values) *Door {
	d := &Door{plan: p, secrets: secrets}
	if p.Secure {
		d.tls, d.wrong = config(p)
	}
	return d
}

// Of makes the door of a plan. Where its front takes messages, requests go as such, to whoever consumes them.
func Of(p *plan.Plan, secrets secret.Values) *Door {
	d := New(p.Door, secrets)
	if f, ok := p.Front.Settings.(messages); ok {
		config, exchange, key := f.Messages(p.Front.Listen)
		d.asks = broker.New(place.Local{}, config).Asker(exchange, key, front.InstanceHeader)
	}
	return d
}

// messages is a front that takes messages.
type messages interface {
	Messages(listen string) (c broker.Config, exchange, key string)
}

// Way is how requests go to the front: over HTTP, on connections that are kept or on one of their own each, or as
// messages.
func (d *Door) Way(kept bool) http.RoundTripper {
	if d.asks != nil {
		return d.asks
	}
	t := d.Transport(kept)
	t.MaxIdleConnsPerHost = 16
	return t
}

// Numbers are what was found of the messages that requests went as; false if they did not.
func (d *Door) Numbers() (broker.Numbers, bool) {
	if a, ok := d.asks.(*broker.Asker); ok {
		return a.Numbers(), true
	}
	return broker.Numbers{}, false
}

// readLimit is how long the door's files have to be read.
const readLimit = 5 * time.Second

// config is how TLS is spoken: with the name that users ask for.
func config(p plan.Entrance) (*tls.Config, error) {
	ctx, cancel := context.WithTimeout(context.Background(), readLimit)
	defer cancel()
	name := p.Name
	if name == "" {
		name = nameOf(p.Host)
	}
	c, err := trust.Files{CA: p.CA, Certificate: p.Certificate, Key: p.Key}.Config(ctx, place.Local{}, name)
	if err != nil {
		return nil, fmt.Errorf("the door over TLS: %w", err)
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

// Transport makes one for requests at the door, which its caller may adapt. Connections are kept, as browsers do, or
// each request has one of its own.
func (d *Door) Transport(kept bool) *http.Transport {
	t := &http.Transport{DisableKeepAlives: !kept, DisableCompression: true, TLSClientConfig: d.tls,
		Protocols: new(http.Protocols)}
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
