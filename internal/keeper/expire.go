package keeper

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"vaiven/internal/core/engine"
	"vaiven/internal/world/place"
)

const (
	expireEvery = time.Hour
	expireLimit = 10 * time.Second
)

// watchExpiry looks until when certificates and tokens are valid that the service cannot do without, where somebody
// wants to be told.
func (w *watcher) watchExpiry(ctx context.Context) {
	if !w.Plan.Notices.On() {
		return
	}
	every(ctx, expireEvery, func() {
		limited, cancel := context.WithTimeout(ctx, expireLimit)
		list := w.expiring(limited)
		cancel()
		if len(list) > 0 {
			w.post(ctx, func(now time.Time) { w.happened(w.engine.Expire(now, list)) })
		}
	})
}

// expiring are the certificate at the front door, those that the plan names as files, and secrets that are tokens which
// say so themselves. What cannot be read is said elsewhere.
func (w *watcher) expiring(ctx context.Context) (list []engine.Expiring) {
	add := func(what string, until time.Time, err error) {
		if err == nil {
			list = append(list, engine.Expiring{What: what, Until: until})
		}
	}
	d := w.Plan.Door
	if d.Secure {
		name := d.Name
		if name == "" {
			name, _, _ = strings.Cut(d.Host, ":")
		}
		until, err := shown(ctx, w.Plan.Front.Listen, name)
		add("the certificate for "+name+" at the front door", until, err)
	}
	for _, file := range []string{d.Certificate, w.Plan.Notices.Answers.Certificate} {
		if file != "" {
			until, err := certified(ctx, file)
			add("the certificate in "+file, until, err)
		}
	}
	for name := range w.Plan.Secrets {
		until, err := tokenEnds(w.Secrets.Fill("{secret "+name+"}", nil, nil))
		add("the token in the secret "+name, until, err)
	}
	return list
}

// shown is until when the certificate is valid that somebody shows, whoever has signed it.
func shown(ctx context.Context, address, name string) (time.Time, error) {
	d := tls.Dialer{Config: &tls.Config{ServerName: name, InsecureSkipVerify: true}}
	c, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		return time.Time{}, err
	}
	defer func(c net.Conn) { _ = c.Close() }(c)
	certificates := c.(*tls.Conn).ConnectionState().PeerCertificates
	if len(certificates) == 0 {
		return time.Time{}, errors.New("no certificate is shown")
	}
	return certificates[0].NotAfter, nil
}

// certified is until when the first certificate in a file is valid.
func certified(ctx context.Context, file string) (time.Time, error) {
	text, err := place.Local{}.ReadFile(ctx, file)
	if err != nil {
		return time.Time{}, err
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return time.Time{}, fmt.Errorf("%s holds no certificate", file)
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return time.Time{}, err
	}
	return c.NotAfter, nil
}

// tokenEnds is until when a token is valid that says so (RFC 7519, "exp").
func tokenEnds(text string) (time.Time, error) {
	parts := strings.Split(strings.TrimSpace(text), ".")
	if len(parts) != 3 {
		return time.Time{}, errors.New("no token that says until when")
	}
	data, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil {
		return time.Time{}, err
	}
	var claims struct {
		Ends float64 `json:"exp"`
	}
	if err := json.Unmarshal(data, &claims); err != nil || claims.Ends <= 0 {
		return time.Time{}, errors.New("no token that says until when")
	}
	return time.Unix(int64(claims.Ends), 0), nil
}
