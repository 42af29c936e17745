package door

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"vaiven/internal/core/plan"
	"vaiven/internal/world/secret"
)

// A front is asked as users ask: by name, over TLS by its own authority, in HTTP/2 where it offers that, with a
// client's certificate and headers where the plan has them.
func TestAsUsersCome(t *testing.T) {
	t.Setenv("TENANT", "vessa")
	secrets, err := secret.Read(map[string]plan.Secret{"tenant": {Env: "TENANT"}})
	if err != nil {
		t.Fatal(err)
	}
	var seen *http.Request
	s := httptest.NewUnstartedServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { seen = r }))
	s.EnableHTTP2 = true
	s.TLS = &tls.Config{ClientAuth: tls.RequestClientCert}
	s.StartTLS()
	defer s.Close()
	dir := t.TempDir()
	write := func(name, kind string, data []byte) string {
		t.Helper()
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: data}), 0o600); err != nil {
			t.Fatal(err)
		}
		return file
	}
	key, err := x509.MarshalPKCS8PrivateKey(s.TLS.Certificates[0].PrivateKey)
	if err != nil {
		t.Fatal(err)
	}
	certificate := write("cert.pem", "CERTIFICATE", s.Certificate().Raw)
	p := plan.Entrance{
		Secure: true, Host: "example.com:8443", CA: certificate, Certificate: certificate,
		Key:     write("key.pem", "PRIVATE KEY", key),
		Headers: map[string]string{"X-Tenant": "{secret tenant}"},
	}
	ask := func(p plan.Entrance) error {
		d := New(p, secrets)
		r, err := d.Request(t.Context(), http.MethodGet, s.Listener.Addr().String(), "/sailings")
		if err != nil {
			return err
		}
		w, err := (&http.Client{Transport: d.Transport(false)}).Do(r)
		if err == nil {
			err = w.Body.Close()
		}
		return err
	}
	if err := ask(p); err != nil {
		t.Fatal(err)
	}
	if seen.Host != p.Host || seen.TLS.ServerName != "example.com" || seen.ProtoMajor != 2 ||
		len(seen.TLS.PeerCertificates) != 1 || seen.Header.Get("X-Tenant") != "vessa" || seen.URL.Path != "/sailings" {
		t.Errorf("it was asked for %s, by name %q, in %s, with %d certificates and %v", seen.Host, seen.TLS.ServerName,
			seen.Proto, len(seen.TLS.PeerCertificates), seen.Header)
	}
	p.HTTP1, p.Name = true, "localhost"
	if err := ask(p); err == nil || !strings.Contains(err.Error(), "certificate is valid for") {
		t.Errorf("by a name that the certificate is not for: %v", err)
	}
	p.Name = "example.com"
	if err := ask(p); err != nil || seen.ProtoMajor != 1 {
		t.Errorf("without HTTP/2 it is %s, %v", seen.Proto, err)
	}
	for says, wrong := range map[string]plan.Entrance{
		"authorities":          {Secure: true, CA: filepath.Join(dir, "none")},
		"holds no certificate": {Secure: true, CA: p.Key},
		"client certificate":   {Secure: true, Certificate: p.CA, Key: p.CA},
		"unknown authority":    {Secure: true, Host: "example.com"},
	} {
		if err := ask(wrong); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("want %q: %v", says, err)
		}
	}
}
