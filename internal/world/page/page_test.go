package page

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"io"
	"net"
	"net/http"
	"os"
	"testing"

	"vaiven/lab/testkit"
)

// A page is served once its address is free, with TLS where there is a certificate, and until the context ends.
func TestServe(t *testing.T) {
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	_, port, _ := net.SplitHostPort(taken.Addr().String())
	c := testkit.Certify(t, t.TempDir(), "localhost", 1, nil)
	signed, err := os.ReadFile(c.File)
	if err != nil {
		t.Fatal(err)
	}
	trusted := x509.NewCertPool()
	trusted.AppendCertsFromPEM(signed)
	client := http.Client{Transport: &http.Transport{DisableKeepAlives: true,
		TLSClientConfig: &tls.Config{RootCAs: trusted}}}
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		Serve(ctx, Place{Address: taken.Addr().String(), Certificate: c.File, Key: c.Key}, "a page",
			http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "here") }))
	}()
	if err := taken.Close(); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "it is served", func() bool {
		w, err := client.Get("https://localhost:" + port + "/")
		if err != nil {
			return false
		}
		defer w.Body.Close()
		text, _ := io.ReadAll(w.Body)
		return string(text) == "here"
	})
	stop()
	<-ended
	if w, err := client.Get("https://localhost:" + port + "/"); err == nil {
		w.Body.Close()
		t.Error("it is served after its end")
	}
	Serve(t.Context(), Place{}, "nothing", nil) // ends at once
}
