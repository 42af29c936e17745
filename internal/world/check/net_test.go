package check

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/credentials"
	"google.golang.org/grpc/health"
	healthpb "google.golang.org/grpc/health/grpc_health_v1"
	"google.golang.org/grpc/status"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
	"vaiven/lab/stacktest"
	"vaiven/lab/testkit"
)

// harbour is an authority that certifies servers.
type harbour struct {
	key  *ecdsa.PrivateKey
	cert *x509.Certificate
	file string // with its certificate
}

func newHarbour(t *testing.T) *harbour {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Vessa Harbour"}, IsCA: true,
		BasicConstraintsValid: true,
		NotBefore:             time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0),
		KeyUsage: x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	h := &harbour{key: key, file: filepath.Join(t.TempDir(), "ca.pem")}
	if h.cert, err = x509.ParseCertificate(der); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(h.file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600); err != nil {
		t.Fatal(err)
	}
	return h
}

// certify makes a certificate for a name that is valid for a time from now.
func (h *harbour) certify(t *testing.T, name string, from, until time.Duration) tls.Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{
		SerialNumber: big.NewInt(2), DNSNames: []string{name}, NotBefore: time.Now().Add(from),
		NotAfter: time.Now().Add(until),
	}, h.cert, &key.PublicKey, h.key)
	if err != nil {
		t.Fatal(err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// serveTLS answers requests with a certificate.
func serveTLS(t *testing.T, c tls.Certificate) reading.Instance {
	t.Helper()
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{c}})
	if err != nil {
		t.Fatal(err)
	}
	srv := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter,
		_ *http.Request) {
		fmt.Fprint(w, "well")
	})}
	go srv.Serve(l)
	t.Cleanup(func() { srv.Close() })
	return reading.Instance{Name: "green-1", Address: l.Addr().String()}
}

const day1 = 24 * time.Hour

func TestTLS(t *testing.T) {
	h, stranger := newHarbour(t), newHarbour(t)
	for _, c := range []struct {
		name        string
		by          *harbour
		is          string
		from, until time.Duration
		want        string // "" for good
	}{
		{"as it should be", h, "fares.vessa", -day1, 90 * day1, ""},
		{"soon over", h, "fares.vessa", -day1, 5*day1 + time.Hour, "valid for 5 days until"},
		{"over", h, "fares.vessa", -9 * day1, -day1, "expired on " + day(time.Now().Add(-day1).UTC())},
		{"not yet", h, "fares.vessa", day1, 90 * day1, "valid only from"},
		{"of somebody else", h, "berths.vessa", -day1, 90 * day1, "a certificate for berths.vessa"},
		{"by a stranger", stranger, "fares.vessa", -day1, 90 * day1, "unknown authority"},
	} {
		i := serveTLS(t, c.by.certify(t, c.is, c.from, c.until))
		trust := plan.Trust{CA: h.file, Name: "fares.vessa"}
		r := read(t, on(i), plan.TLS{Address: "{address}", Days: 14, Trust: trust})
		if r.Good != (c.want == "") || !strings.Contains(r.Got, c.want) {
			t.Errorf("%s: good %v, %s", c.name, r.Good, said(r))
		}
		if c.name == "soon over" {
			continue // still good for requests
		}
		https := read(t, on(i), plan.HTTP{Method: "GET", URL: "https://{address}/", Status: 200, Contains: "well",
			Trust: trust})
		if https.Good != (c.want == "") || !strings.Contains(https.Got, c.want) {
			t.Errorf("HTTPS, %s: good %v, %s", c.name, https.Good, said(https))
		}
	}
	if r := read(t, on(nobody(t)), plan.TLS{Address: "{address}"}); r.Good ||
		!strings.Contains(r.Got, "connection refused") {
		t.Errorf("nobody there: %s", said(r))
	}
	plain := instance(t, "green-1", func(http.ResponseWriter, *http.Request) {})
	if r := read(t, on(plain), plan.TLS{Address: "{address}"}); r.Good {
		t.Errorf("a server without TLS: %s", said(r))
	}
	if r := read(t, on(plain), plan.TLS{Address: "{address}", Trust: plan.Trust{CA: "/nowhere/ca.pem"}}); r.Good ||
		!strings.Contains(r.Got, "no such file") {
		t.Errorf("no authority: %s", said(r))
	}
}

func TestTCP(t *testing.T) {
	i := instance(t, "green-1", func(http.ResponseWriter, *http.Request) {})
	if r := read(t, on(i), plan.TCP{Address: "{host}:{port}"}); !r.Good {
		t.Errorf("somebody there: %s", said(r))
	}
	for _, c := range []struct{ address, want string }{
		{nobody(t).Address, "connection refused after "},
		{"no-such-host.invalid:80", "no such name: no-such-host.invalid"},
	} {
		if r := read(t, on(i), plan.TCP{Address: c.address}); r.Good || r.Reached || !strings.Contains(r.Got, c.want) {
			t.Errorf("%s: %s", c.address, said(r))
		}
	}
}

func TestGRPC(t *testing.T) {
	h := newHarbour(t)
	serve := func(options ...grpc.ServerOption) (reading.Instance, *health.Server) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		srv, state := grpc.NewServer(options...), health.NewServer()
		healthpb.RegisterHealthServer(srv, state)
		go srv.Serve(l)
		t.Cleanup(srv.Stop)
		return reading.Instance{Name: "green-1", Address: l.Addr().String()}, state
	}
	i, state := serve()
	state.SetServingStatus("vessa.Search", healthpb.HealthCheckResponse_SERVING)
	state.SetServingStatus("vessa.Berths", healthpb.HealthCheckResponse_NOT_SERVING)
	ask := func(i reading.Instance, g plan.GRPC) Reading {
		g.Address = "{address}"
		return read(t, on(i), g)
	}
	locked, _ := serve(grpc.UnaryInterceptor(func(context.Context, any, *grpc.UnaryServerInfo, grpc.UnaryHandler) (any,
		error) {
		return nil, status.Error(codes.Unauthenticated, "who is there?")
	}))
	certificate := h.certify(t, "fares.vessa", -day1, day1)
	secure, _ := serve(grpc.Creds(credentials.NewServerTLSFromCert(&certificate)))
	plain := instance(t, "green-1", func(http.ResponseWriter, *http.Request) {})
	trust := plan.Trust{CA: h.file, Name: "fares.vessa"}
	for _, c := range []struct {
		name string
		r    Reading
		want string
	}{
		{"the server", ask(i, plan.GRPC{}), ""},
		{"a service", ask(i, plan.GRPC{Service: "vessa.Search"}), ""},
		{"one that is not well", ask(i, plan.GRPC{Service: "vessa.Berths"}), "status NOT_SERVING"},
		{"one that it does not know", ask(i, plan.GRPC{Service: "vessa.Fares"}), `knows no service "vessa.Fares"`},
		{"over TLS", ask(secure, plan.GRPC{Secure: true, Trust: trust}), ""},
		{"by another name", ask(secure, plan.GRPC{Secure: true, Trust: plan.Trust{CA: h.file, Name: "x.vessa"}}),
			"fares.vessa"},
		{"without a credential", ask(locked, plan.GRPC{}), "credential not accepted: who is there?"},
		{"nobody there", ask(nobody(t), plan.GRPC{}), "connection refused after "},
		{"not gRPC", ask(plain, plan.GRPC{}), "after "},
	} {
		if c.r.Good != (c.want == "") || !strings.Contains(c.r.Got, c.want) {
			t.Errorf("%s: good %v, %s", c.name, c.r.Good, said(c.r))
		}
	}
}

func TestDNS(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	srv := &dns.Server{Listener: l, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		a := new(dns.Msg)
		a.SetReply(q)
		records := map[string]string{
			"fares.vessa. A":      "fares.vessa. 60 IN A 10.1.0.7",
			"fares.vessa. TXT":    `fares.vessa. 60 IN TXT "of Linea Vessa"`,
			"berths.vessa. CNAME": "berths.vessa. 60 IN CNAME fares.vessa.",
		}
		question := q.Question[0].Name + " " + dns.TypeToString[q.Question[0].Qtype]
		switch record, ok := records[question]; {
		case ok:
			rr, err := dns.NewRR(record)
			if err != nil {
				t.Error(err)
			}
			a.Answer = append(a.Answer, rr)
		case strings.HasPrefix(question, "closed."):
			a.Rcode = dns.RcodeRefused
		case !strings.HasPrefix(question, "fares.vessa."):
			a.Rcode = dns.RcodeNameError
		}
		w.WriteMsg(a)
	})}
	go srv.ActivateAndServe()
	t.Cleanup(func() { srv.Shutdown() })
	target := on(reading.Instance{Name: "green-1", Address: "127.0.0.1:1"})
	for _, c := range []struct {
		d    plan.DNS
		want string
	}{
		{plan.DNS{Name: "fares.vessa", Type: "A"}, ""},
		{plan.DNS{Name: "fares.vessa", Type: "A", Answer: "10.1.0.7"}, ""},
		{plan.DNS{Name: "fares.vessa", Type: "TXT", Answer: "of Linea Vessa"}, ""},
		{plan.DNS{Name: "berths.vessa", Type: "CNAME", Answer: "fares.vessa"}, ""},
		{plan.DNS{Name: "fares.vessa", Type: "A", Answer: "10.1.0.8"}, "10.1.0.7 after "},
		{plan.DNS{Name: "fares.vessa", Type: "AAAA"}, "no record"},
		{plan.DNS{Name: "ghost.vessa", Type: "A"}, "no such name: ghost.vessa"},
		{plan.DNS{Name: "closed.vessa", Type: "A"}, "the answer REFUSED"},
	} {
		c.d.Server = l.Addr().String()
		if r := read(t, target, c.d); r.Good != (c.want == "") || !strings.Contains(r.Got, c.want) {
			t.Errorf("%+v: good %v, %s", c.d, r.Good, said(r))
		}
	}
	if r := read(t, target, plan.DNS{Name: "fares.vessa", Type: "A", Server: nobody(t).Address}); r.Good ||
		!strings.Contains(r.Got, "connection refused") {
		t.Errorf("no name server: %s", said(r))
	}
	here := target
	here.From = elsewhere{resolv: "nameserver " + strings.TrimSuffix(l.Addr().String(), ":"+portOf(l)) + "\n"}
	if r := read(t, here, plan.DNS{Name: "fares.vessa", Type: "A"}); r.Good ||
		!strings.Contains(r.Got, "connection refused") {
		t.Errorf("by the place's own file, port 53: %s", said(r))
	}
	here.From = elsewhere{}
	if r := read(t, here, plan.DNS{Name: "fares.vessa", Type: "A"}); r.Good ||
		!strings.Contains(r.Got, "no name server") {
		t.Errorf("a place without name server: %s", said(r))
	}
}

func portOf(l net.Listener) string {
	_, port, _ := net.SplitHostPort(l.Addr().String())
	return port
}

// elsewhere is a place with a resolv.conf of its own.
type elsewhere struct {
	place.Local
	resolv string
}

func (e elsewhere) ReadFile(context.Context, string) ([]byte, error) { return []byte(e.resolv), nil }

func TestSQL(t *testing.T) {
	address := stacktest.Postgres(t)
	t.Setenv("FARES_PASSWORD", "sea salt")
	secrets, err := secret.Read(map[string]plan.Secret{"fares": {Env: "FARES_PASSWORD"}})
	if err != nil {
		t.Fatal(err)
	}
	target := Target{From: place.Local{}, Secrets: secrets}
	right := "postgres://fares:{secret fares}@" + address + "/postgres?sslmode=disable"
	ask := func(url, query, answer string) Reading {
		return read(t, target, plan.SQL{URL: url, Query: query, Answer: answer})
	}
	testkit.Eventually(t, "the database answers", func() bool { return ask(right, "select 1", "1").Good })
	for _, c := range []struct{ name, url, query, answer, want string }{
		{"any row", right, "select 'Aurelia', 2", "", ""},
		{"the row", right, "select 'Aurelia', 2", "Aurelia", ""},
		{"another row", right, "select 12", "13", "12 after "},
		{"no row", right, "select 1 where false", "", "no row"},
		{"no such table", right, "select * from berths", "", `relation "berths" does not exist (SQLSTATE 42P01)`},
		{"a wrong password", strings.Replace(right, "{secret fares}", "pepper", 1), "select 1", "",
			"credential not accepted: password authentication failed"},
		{"no such database", strings.Replace(right, "/postgres", "/ghosts", 1), "select 1", "",
			`database "ghosts" does not exist`},
		{"nobody there", strings.Replace(right, address, nobody(t).Address, 1), "select 1", "", "connection refused"},
		{"no such host", strings.Replace(right, address, "no-such-host.invalid:5432", 1), "select 1", "",
			"no such name: no-such-host.invalid"},
	} {
		if r := ask(c.url, c.query, c.answer); r.Good != (c.want == "") || !strings.Contains(r.Got, c.want) {
			t.Errorf("%s: good %v, %s", c.name, r.Good, said(r))
		}
	}
	// A password with any character arrives whole, in every way of writing an address.
	admin := target
	for n, password := range []string{"p@ss:w/rd?#%", `a b'c\d"e`, "{version}", "ø=&+", "host=elsewhere"} {
		role := fmt.Sprint("clerk", n)
		create := plan.SQL{URL: right,
			Query: fmt.Sprintf("create role %s login password '%s'", role, strings.ReplaceAll(password, "'", "''"))}
		if r := read(t, admin, create); !strings.Contains(r.Got, "no row") {
			t.Fatalf("make the role: %s", said(r))
		}
		t.Setenv("CLERKS_PASSWORD", password)
		t.Setenv("CLERKS_URL", "postgres://"+role+":"+secret.InURL(password)+"@"+address+"/postgres?sslmode=disable")
		named := map[string]plan.Secret{"pw": {Env: "CLERKS_PASSWORD"}, "url": {Env: "CLERKS_URL"}}
		if target.Secrets, err = secret.Read(named); err != nil {
			t.Fatal(err)
		}
		for _, url := range []string{
			"postgres://" + role + ":{secret pw}@" + address + "/postgres?sslmode=disable", "{secret url}",
			fmt.Sprintf("user=%s password={secret pw} host=127.0.0.1 port=%s dbname=postgres sslmode=disable", role,
				strings.Split(address, ":")[1]),
			fmt.Sprintf("user=%s password='{secret pw}' host=127.0.0.1 port=%s dbname=postgres sslmode=disable", role,
				strings.Split(address, ":")[1]),
		} {
			if r := ask(url, "select current_user", role); !r.Good {
				t.Errorf("%q as %s: %s", password, url, said(r))
			}
		}
	}
}

func TestCommand(t *testing.T) {
	target := on(reading.Instance{Name: "green-1", Address: "127.0.0.1:1"})
	sh := func(script string) plan.Command { return plan.Command{Words: []string{"/bin/sh", "-c", script}} }
	contains := func(c plan.Command, text string) plan.Command {
		c.Contains = text
		return c
	}
	for _, c := range []struct {
		k    plan.Command
		want string
	}{
		{sh("exit 0"), ""},
		{plan.Command{Words: []string{"/bin/sh", "-c", "exit 3"}, Status: 3}, ""},
		{contains(sh("echo asked of {address}"), "of 127.0.0.1:1"), ""},
		{contains(sh("echo nobody"), "somebody"), `output without: "nobody"`},
		{sh("echo first; echo no berth is free; exit 2"), `exit status 2, last output: "no berth is free" after `},
		{plan.Command{Words: []string{"/nowhere/look"}}, "no such file"},
	} {
		if r := read(t, target, c.k); r.Good != (c.want == "") || !strings.Contains(r.Got, c.want) {
			t.Errorf("%v: good %v, %s", c.k.Words, r.Good, said(r))
		}
	}
}
