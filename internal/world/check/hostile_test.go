package check

import (
	"compress/gzip"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"google.golang.org/grpc"
	"google.golang.org/grpc/health"
	healthpb "google.golang.org/grpc/health/grpc_health_v1"

	"vaiven/internal/core/plan"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
)

func withSecret(t *testing.T, value string) secret.Values {
	t.Helper()
	t.Setenv("FARES_PASSWORD", value)
	v, err := secret.Read(map[string]plan.Secret{"fares": {Env: "FARES_PASSWORD"}})
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// Answers come compressed, in pieces, drop by drop and without an end.
func TestAnswersOfEveryKind(t *testing.T) {
	i := instance(t, "green-1", func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/gzip":
			w.Header().Set("Content-Encoding", "gzip")
			z := gzip.NewWriter(w)
			io.WriteString(z, `{"company":"Linea Vessa"}`)
			z.Close()
		case "/bomb":
			w.Header().Set("Content-Encoding", "gzip")
			z := gzip.NewWriter(w)
			zeros := make([]byte, 1<<20)
			for range 20 {
				if _, err := z.Write(zeros); err != nil {
					return
				}
			}
			z.Close()
		case "/chunked":
			for _, piece := range []string{`{"company":`, `"Linea`, ` Vessa"}`} {
				io.WriteString(w, piece)
				w.(http.Flusher).Flush()
			}
		case "/large":
			io.WriteString(w, `{"company":"Linea Vessa","berths":"`)
			berths := []byte(strings.Repeat("berth ", 1<<16))
			for range 100 << 20 / len(berths) {
				if _, err := w.Write(berths); err != nil {
					return
				}
			}
		case "/drip":
			for r.Context().Err() == nil {
				io.WriteString(w, " ")
				w.(http.Flusher).Flush()
				select {
				case <-r.Context().Done():
				case <-time.After(10 * time.Millisecond):
				}
			}
		case "/cut":
			w.Header().Set("Content-Length", "1000")
			io.WriteString(w, "only this")
		}
	})
	company := []plan.JSONValue{{Path: "company", Want: "Linea Vessa"}}
	for _, c := range []struct {
		ask    plan.HTTP
		within time.Duration
		want   string
	}{
		{plan.HTTP{URL: "/gzip", JSON: company}, time.Minute, ""},
		{plan.HTTP{URL: "/chunked", JSON: company}, time.Minute, ""},
		{plan.HTTP{URL: "/large", Contains: "Linea Vessa"}, time.Minute, ""},
		{plan.HTTP{URL: "/large", JSON: company}, time.Minute, "not JSON in its first 1 MiB"},
		{plan.HTTP{URL: "/large", Contains: "no berth"}, time.Minute, "a body without in its first 1 MiB"},
		{plan.HTTP{URL: "/bomb", Contains: "x"}, time.Minute, "a body without in its first 1 MiB"},
		{plan.HTTP{URL: "/drip", Contains: "x"}, 200 * time.Millisecond, "no answer in time"},
		{plan.HTTP{URL: "/cut", Contains: "x"}, time.Minute, "connection closed without an answer"},
	} {
		c.ask.Method, c.ask.Status = "GET", 200
		r := on(i).Read(t.Context(), plan.Check{Within: c.within, What: c.ask})
		if r.Good != (c.want == "") || !strings.Contains(r.Got, c.want) || len(r.Answer) > answerLimit+len("…") {
			t.Errorf("%s: good %v, %s", c.ask.URL, r.Good, said(r))
		}
	}
}

// A redirect to somebody else takes nothing along that was meant for the first.
func TestARedirectTakesNoHeaderAlong(t *testing.T) {
	var mu sync.Mutex // protects heard
	var heard http.Header
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		heard = r.Header.Clone()
	}))
	t.Cleanup(other.Close)
	i := instance(t, "green-1", func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == "/away":
			http.Redirect(w, r, other.URL, http.StatusFound)
		case r.URL.Path == "/here":
			http.Redirect(w, r, "/there", http.StatusFound)
		case r.Header.Get("X-Key") != "sea salt":
			w.WriteHeader(http.StatusForbidden)
		}
	})
	target := on(i)
	target.Secrets = withSecret(t, "sea salt")
	ask := plan.HTTP{Method: "GET", Status: 200, Redirects: true,
		Headers: map[string]string{"X-Key": "{secret fares}", "Authorization": "Bearer {secret fares}"}}
	ask.URL = "/here"
	if r := read(t, target, ask); !r.Good {
		t.Errorf("on the same host: %s", said(r))
	}
	ask.URL = "/away?key={secret fares}"
	if r := read(t, target, ask); !r.Good {
		t.Errorf("to another host: %s", said(r))
	}
	mu.Lock()
	defer mu.Unlock()
	if text := fmt.Sprint(heard); strings.Contains(text, "salt") || heard.Get("User-Agent") != "vaiven-check" {
		t.Errorf("somebody else was sent %s", text)
	}
}

// A check's result shows a secret in no form in which an answer gives it back, and no cookie.
func TestAnAnswerGivesNoSecretBack(t *testing.T) {
	const password = `S3a "salt"/7@x`
	secrets := withSecret(t, password)
	code := base64.StdEncoding.EncodeToString([]byte("fares:" + password))
	i := instance(t, "green-1", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Set-Cookie", "ship=nordlys; Path=/")
		w.Header().Set("X-Was", r.Header.Get("Authorization"))
		// In the middle of what is shown, and across its end.
		fmt.Fprintf(w, "%s %q %s %s", strings.Repeat("x", 110), password, strings.Repeat("y", answerLimit), password)
	})
	target := on(i)
	target.Secrets = secrets
	for _, c := range []plan.Asking{
		plan.HTTP{Method: "GET", URL: "/", Status: 200, Contains: "well",
			Headers: map[string]string{"Authorization": "Basic " + code}},
		plan.HTTP{Method: "GET", URL: "/{secret fares}", Status: 404},
		plan.HTTP{Method: "GET", URL: "/", Status: 200, JSON: []plan.JSONValue{{Path: "a", Want: "{secret fares}"}}},
		plan.HTTP{Method: "GET", URL: "http://fares:{secret fares}@{address}/", Status: 500},
		plan.Command{Words: []string{"/bin/sh", "-c", `echo "x$PASSWORD"; exit 3`},
			Environment: map[string]string{"PASSWORD": "{secret fares}"}},
		plan.Command{Words: []string{"/bin/sh", "-c", `echo "$PASSWORD"`}, Contains: "well {secret fares}",
			Environment: map[string]string{"PASSWORD": "{secret fares}"}},
		plan.TCP{Address: "{secret fares}:1"},
		plan.SQL{URL: "postgres://fares:{secret fares}@{address}/x?sslmode=disable&connect_timeout=1",
			Query: "select '{secret fares}'"},
	} {
		r := target.Read(t.Context(), plan.Check{Within: 5 * time.Second, What: c})
		text := fmt.Sprintf("%+v", r)
		for _, part := range []string{"S3a", "salt", code[:12], "nordlys"} {
			if strings.Contains(text, part) {
				t.Errorf("%+v shows %q: %s", c, part, text)
			}
		}
		if r.Good {
			t.Errorf("%+v is good", c)
		}
	}
}

// A chain by way of an authority in between has to come whole.
func TestAChainOfOnesOwn(t *testing.T) {
	h := newHarbour(t)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(3), Subject: pkix.Name{CommonName: "Vessa Quay"}, IsCA: true,
		BasicConstraintsValid: true,
		NotBefore:             time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0),
		KeyUsage: x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, h.cert, &key.PublicKey, h.key)
	if err != nil {
		t.Fatal(err)
	}
	quay := &harbour{key: key}
	if quay.cert, err = x509.ParseCertificate(der); err != nil {
		t.Fatal(err)
	}
	leaf := quay.certify(t, "fares.vessa", -day1, 90*day1)
	whole := tls.Certificate{Certificate: [][]byte{leaf.Certificate[0], der}, PrivateKey: leaf.PrivateKey}
	ask := plan.TLS{Address: "{address}", Days: 14, Trust: plan.Trust{CA: h.file, Name: "fares.vessa"}}
	if r := read(t, on(serveTLS(t, whole)), ask); !r.Good || !strings.Contains(r.Got, "Vessa Quay") {
		t.Errorf("a whole chain: %s", said(r))
	}
	if r := read(t, on(serveTLS(t, leaf)), ask); r.Good || !strings.Contains(r.Got, "unknown authority") {
		t.Errorf("a chain without its middle: %s", said(r))
	}
}

// notes is a place that writes down what is asked of it, and leads to a server.
type notes struct {
	to string

	mu      sync.Mutex // protects the rest
	dialed  []string
	command place.Command
}

func (n *notes) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	n.mu.Lock()
	n.dialed = append(n.dialed, address)
	n.mu.Unlock()
	return place.Local{}.Dial(ctx, network, n.to)
}

func (n *notes) Run(_ context.Context, c place.Command) (place.Outcome, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.command = c
	return place.Outcome{}, nil
}

func (n *notes) ReadFile(context.Context, string) ([]byte, error) { return nil, os.ErrNotExist }
func (n *notes) Close() error                                     { return nil }

// Every key of a check that docs/plan.md says takes placeholders takes them, and it says so
// of every one.
func TestEveryPlaceholderIsFilledIn(t *testing.T) {
	const runs = "4.3.0 of green-1, sea salt"
	var mu sync.Mutex // protects asked
	var asked *http.Request
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		asked = r.Clone(context.Background())
		mu.Unlock()
		fmt.Fprintf(w, `{"said": %q, "4.3.0": "green-1"}`, runs)
	}))
	t.Cleanup(web.Close)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	rpc, state := grpc.NewServer(), health.NewServer()
	healthpb.RegisterHealthServer(rpc, state)
	state.SetServingStatus("v4.3.0", healthpb.HealthCheckResponse_SERVING)
	go rpc.Serve(l)
	t.Cleanup(rpc.Stop)
	names, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	zone := &dns.Server{Listener: names, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		a := new(dns.Msg)
		a.SetReply(q)
		if q.Question[0].Name == "green-1.vessa." {
			rr, err := dns.NewRR(`green-1.vessa. 60 IN TXT "4.3.0 sea salt"`)
			if err != nil {
				t.Error(err)
			}
			a.Answer = append(a.Answer, rr)
		}
		w.WriteMsg(a)
	})}
	go zone.ActivateAndServe()
	t.Cleanup(func() { zone.Shutdown() })
	secrets := withSecret(t, "sea salt")
	do := func(to string, what plan.Asking) (Reading, *notes) {
		n := &notes{to: to}
		target := Target{From: n, Secrets: secrets, Values: map[string]string{
			"version": "4.3.0", "instance": "green-1", "address": "10.1.0.5:80", "host": "10.1.0.5", "port": "80",
		}}
		return target.Read(t.Context(), plan.Check{Within: 10 * time.Second, What: what}), n
	}
	httpDo := func(h plan.HTTP) Reading {
		h.Method, h.Status = "GET", 200
		if h.URL == "" {
			h.URL = "/"
		}
		r, _ := do(web.Listener.Addr().String(), h)
		return r
	}
	is := func(got, want string) {
		t.Helper()
		if !strings.Contains(got, want) {
			t.Errorf("it is %q, want %q in it", got, want)
		}
	}
	good := func(r Reading) {
		t.Helper()
		if !r.Good {
			t.Error(said(r))
		}
	}
	cases := map[string]func(){
		"request": func() {
			good(httpDo(plan.HTTP{URL: "http://{host}:{port}/{version}/{instance}?k={secret fares}"}))
			is(asked.URL.Path+" "+asked.URL.Query().Get("k"), "/4.3.0/green-1 sea salt")
		},
		"headers": func() {
			good(httpDo(plan.HTTP{Headers: map[string]string{"X-Said": "{version} {secret fares}"}}))
			is(asked.Header.Get("X-Said"), "4.3.0 sea salt")
		},
		"contains": func() { good(httpDo(plan.HTTP{Contains: "{version} of {instance}, {secret fares}"})) },
		"json": func() {
			good(httpDo(plan.HTTP{JSON: []plan.JSONValue{{Path: "said",
				Want: "{version} of {instance}, {secret fares}"}}}))
		},
		"tcp": func() {
			_, n := do(web.Listener.Addr().String(), plan.TCP{Address: "{version}.vessa:{port}"})
			is(fmt.Sprint(n.dialed), "4.3.0.vessa:80")
		},
		"tls": func() {
			_, n := do(web.Listener.Addr().String(), plan.TLS{Address: "{version}.vessa:{port}"})
			is(fmt.Sprint(n.dialed), "4.3.0.vessa:80")
		},
		"ca": func() {
			r, _ := do(web.Listener.Addr().String(),
				plan.TLS{Address: "{address}", Trust: plan.Trust{CA: "/nowhere/{version}.pem"}})
			is(r.Got, "/nowhere/4.3.0.pem")
		},
		"server-name": func() {
			r, _ := do(web.Listener.Addr().String(),
				plan.TLS{Address: "{address}", Trust: plan.Trust{Name: "{version}.vessa"}})
			is(r.Want, "for 4.3.0.vessa")
		},
		"grpc": func() {
			r, n := do(l.Addr().String(), plan.GRPC{Address: "{version}.vessa:{port}"})
			good(r)
			is(fmt.Sprint(n.dialed), "4.3.0.vessa:80")
		},
		"service": func() {
			r, _ := do(l.Addr().String(), plan.GRPC{Address: "{address}", Service: "v{version}"})
			good(r)
		},
		"dns": func() {
			r, _ := do(names.Addr().String(), plan.DNS{Name: "{instance}.vessa", Type: "TXT", Server: "{address}"})
			good(r)
		},
		"server": func() {
			_, n := do(names.Addr().String(),
				plan.DNS{Name: "green-1.vessa", Type: "TXT", Server: "{version}.vessa:{port}"})
			is(fmt.Sprint(n.dialed), "4.3.0.vessa:80")
		},
		"answer": func() {
			r, _ := do(names.Addr().String(),
				plan.DNS{Name: "green-1.vessa", Type: "TXT", Server: "{address}", Answer: "{version} {secret fares}"})
			good(r)
		},
		"sql": func() {
			_, n := do(nobody(t).Address, plan.SQL{URL: "postgres://x:{secret " +
				"fares}@{version}.vessa:54/x?sslmode=disable"})
			is(fmt.Sprint(n.dialed), "4.3.0.vessa:54")
		},
		"query": func() {
			r, _ := do(nobody(t).Address,
				plan.SQL{URL: "postgres://{address}/x?sslmode=disable", Query: "select '{version} of {instance}'"})
			is(r.Want, "select '4.3.0 of green-1'")
		},
		"command": func() {
			_, n := do("", plan.Command{Words: []string{"look", "--at={address}"}, Contains: "{version}"})
			is(fmt.Sprint(n.command.Words), "--at=10.1.0.5:80")
		},
		"environment": func() {
			_, n := do("", plan.Command{Words: []string{"look"},
				Environment: map[string]string{"WHAT": "{version} {secret fares}"}})
			is(n.command.Environment["WHAT"], "4.3.0 sea salt")
		},
	}
	docs, err := os.ReadFile("../../../docs/plan.md")
	if err != nil {
		t.Fatal(err)
	}
	var documented []string
	for line := range strings.Lines(string(docs)) {
		if rest, ok := strings.CutPrefix(line, "| a check | `"); ok {
			key, columns, _ := strings.Cut(rest, "`")
			if !strings.HasPrefix(columns, " | yes") {
				t.Errorf("docs/plan.md says that %s takes no placeholders", key)
			}
			documented = append(documented, key)
		}
	}
	for key, check := range cases {
		if !slices.Contains(documented, key) {
			t.Errorf("docs/plan.md does not say that %s takes placeholders", key)
		}
		mu.Lock()
		asked = nil
		mu.Unlock()
		t.Run(key, func(*testing.T) { check() })
	}
	if len(documented) != len(cases) {
		t.Errorf("docs/plan.md says it of %d keys, and %d are tried: %v", len(documented), len(cases), documented)
	}
}
