package embedded

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
)

// Certificate is a certificate's file, with those that vouch for it, and its key's.
type Certificate struct{ File, Key string }

// certificates are those of a front, and those that clients' are vouched for by. They are read anew when
// their files change.
type certificates struct {
	config *tls.Config // that asks for the one of now
	files  []Certificate
	ca     string // "" if clients need none

	mu     sync.Mutex  // protects what follows
	read   *tls.Config // with the certificates; the same for all who resume what they began
	stamps []time.Time
	looked time.Time
	warned map[string]time.Time // by file, when it was said that the certificate expires
}

// lookEvery is how often the files are looked at, at most.
const lookEvery = time.Second

// expiring is how long before its end a certificate is warned of, once a day.
const expiring = 30 * 24 * time.Hour

func newCertificates(files []Certificate, ca string) (*certificates, error) {
	if len(files) == 0 {
		return nil, nil
	}
	c := &certificates{files: files, ca: ca, warned: map[string]time.Time{}}
	if err := c.load(); err != nil {
		return nil, err
	}
	c.config = &tls.Config{GetConfigForClient: func(*tls.ClientHelloInfo) (*tls.Config, error) { return c.now(), nil }}
	return c, nil
}

// now are the certificates as their files have them. What cannot be read stays as it was.
func (c *certificates) now() *tls.Config {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); now.Sub(c.looked) >= lookEvery {
		c.looked = now
		if c.changed() {
			if err := c.load(); err != nil {
				slog.Error("changed certificate cannot be loaded; the previous one stays in use", "err", err)
			}
		}
	}
	return c.read
}

// names are all files.
func (c *certificates) names() []string {
	var list []string
	for _, f := range c.files {
		list = append(list, f.File, f.Key)
	}
	if c.ca != "" {
		list = append(list, c.ca)
	}
	return list
}

func (c *certificates) stamp() []time.Time {
	var list []time.Time
	for _, name := range c.names() {
		var at time.Time
		if info, err := os.Stat(name); err == nil {
			at = info.ModTime()
		}
		list = append(list, at)
	}
	return list
}

func (c *certificates) changed() bool {
	for n, at := range c.stamp() {
		if !at.Equal(c.stamps[n]) {
			return true
		}
	}
	return false
}

// load reads the files. One that has changed and cannot be read is said once.
func (c *certificates) load() error {
	c.stamps = c.stamp()
	read := &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}}
	for _, f := range c.files { // the library chooses among them by the name that is asked for
		pair, err := tls.LoadX509KeyPair(f.File, f.Key)
		if err != nil {
			return fmt.Errorf("certificate %s with key %s: %w", f.File, f.Key, err)
		}
		read.Certificates = append(read.Certificates, pair)
	}
	if c.ca != "" {
		data, err := os.ReadFile(c.ca)
		if err != nil {
			return fmt.Errorf("client-ca: %w", err)
		}
		read.ClientCAs, read.ClientAuth = x509.NewCertPool(), tls.RequireAndVerifyClientCert
		if !read.ClientCAs.AppendCertsFromPEM(data) {
			return fmt.Errorf("client-ca: %w",
				&os.PathError{Op: "read", Path: c.ca, Err: errors.New("no certificate in it")})
		}
	}
	c.read = read
	return nil
}

// warn says of each certificate that ends soon, once a day.
func (c *certificates) warn(now time.Time) {
	if c == nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for n, pair := range c.read.Certificates {
		file := c.files[n].File
		left := pair.Leaf.NotAfter.Sub(now)
		if left > expiring || now.Sub(c.warned[file]) < 24*time.Hour {
			continue
		}
		c.warned[file] = now
		if left <= 0 {
			slog.Error("certificate has expired", "file", file, "not_after", pair.Leaf.NotAfter)
			continue
		}
		slog.Warn("certificate expires soon", "file", file, "not_after", pair.Leaf.NotAfter, "days",
			int(left.Hours()/24))
	}
}
