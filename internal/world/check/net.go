package check

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/miekg/dns"
	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/credentials"
	"google.golang.org/grpc/credentials/insecure"
	healthpb "google.golang.org/grpc/health/grpc_health_v1"
	"google.golang.org/grpc/status"

	"vaiven/internal/core/plan"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/trust"
)

// tcp connects.
func (t Target) tcp(ctx context.Context, w plan.TCP) Reading {
	address := t.expand(w.Address, nil)
	want := "a connection to " + address
	if err := place.Takes(ctx, t.From, address); err != nil {
		return failed(want, err)
	}
	return good(want, "connected")
}

// trust is how TLS is spoken: the system's authorities unless the plan has others, in a file of this machine.
func (t Target) trust(ctx context.Context, w plan.Trust) (*tls.Config, error) {
	return trust.Files{CA: t.expand(w.CA, nil)}.Config(ctx, place.Local{}, t.expand(w.Name, nil))
}

// tls shakes hands and looks at chain, name and days left.
func (t Target) tls(ctx context.Context, w plan.TLS) Reading {
	address := t.expand(w.Address, nil)
	config, err := t.trust(ctx, w.Trust)
	if err != nil {
		return failed("a certificate", err)
	}
	if config.ServerName == "" {
		config.ServerName, _, _ = net.SplitHostPort(address)
	}
	want := fmt.Sprintf("a trusted certificate for %s, valid for %d days", config.ServerName, w.Days)
	conn, err := t.From.Dial(ctx, "tcp", address)
	if err != nil {
		return failed(want, err)
	}
	defer conn.Close()
	c := tls.Client(conn, config)
	if err := c.HandshakeContext(ctx); err != nil {
		return failed(want, err)
	}
	leaf := c.ConnectionState().PeerCertificates[0]
	left := time.Until(leaf.NotAfter)
	got := fmt.Sprintf("one of %s, valid for %s until %s", leaf.Issuer.CommonName, days(left), day(leaf.NotAfter))
	if left < time.Duration(w.Days)*24*time.Hour {
		return bad(want, got, "")
	}
	return good(want, got)
}

// grpc asks by the health protocol, grpc.health.v1.
func (t Target) grpc(ctx context.Context, w plan.GRPC) Reading {
	const want = "status SERVING"
	address := t.expand(w.Address, nil)
	secure := insecure.NewCredentials()
	if w.Secure {
		config, err := t.trust(ctx, w.Trust)
		if err != nil {
			return failed(want, err)
		}
		if config.ServerName == "" {
			config.ServerName, _, _ = net.SplitHostPort(address)
		}
		secure = credentials.NewTLS(config)
	}
	var dialed error // gRPC tells it only in words
	conn, err := grpc.NewClient("passthrough:///"+address, grpc.WithTransportCredentials(secure),
		grpc.WithContextDialer(func(ctx context.Context, address string) (net.Conn, error) {
			c, err := t.From.Dial(ctx, "tcp", address)
			dialed = err
			return c, err
		}))
	if err != nil {
		return failed(want, err)
	}
	service := t.expand(w.Service, nil)
	a, err := healthpb.NewHealthClient(conn).Check(ctx, &healthpb.HealthCheckRequest{Service: service})
	closed := conn.Close() // ends the dialer, so that dialed is ours again
	switch code := status.Code(err); {
	case err != nil && dialed != nil:
		return failed(want, dialed)
	case code == codes.Unauthenticated || code == codes.PermissionDenied:
		return failed(want, fmt.Errorf("%w: %s", errDenied, status.Convert(err).Message()))
	case code == codes.NotFound:
		return bad(want, fmt.Sprintf("that it knows no service %q", service), err.Error())
	case code == codes.Unimplemented:
		return bad(want, "that it does not speak grpc.health.v1", err.Error())
	case code == codes.DeadlineExceeded:
		return failed(want, context.DeadlineExceeded)
	case err != nil:
		return bad(want, status.Convert(err).Message(), err.Error())
	case closed != nil:
		return failed(want, closed)
	case a.Status != healthpb.HealthCheckResponse_SERVING:
		return bad(want, "status "+a.Status.String(), a.String())
	}
	return good(want, "status SERVING")
}

// dns asks a name server over TCP (RFC 7766), because that passes through every
// place.
func (t Target) dns(ctx context.Context, w plan.DNS) Reading {
	name := t.expand(w.Name, nil)
	want := fmt.Sprintf("an answer for %s %s", name, w.Type)
	if w.Answer != "" {
		want = fmt.Sprintf("%s %s to be %s", name, w.Type, t.expand(w.Answer, nil))
	}
	server := t.expand(w.Server, nil)
	if server == "" {
		resolv, err := t.From.ReadFile(ctx, "/etc/resolv.conf")
		if err != nil {
			return failed(want, fmt.Errorf("which name server is asked there: %w", err))
		}
		c, err := dns.ClientConfigFromReader(bytes.NewReader(resolv))
		if err != nil || len(c.Servers) == 0 {
			return bad(want, "no name server in /etc/resolv.conf", string(resolv))
		}
		server = net.JoinHostPort(c.Servers[0], c.Port)
	}
	conn, err := t.From.Dial(ctx, "tcp", server)
	if err != nil {
		return failed(want, fmt.Errorf("name server %s: %w", server, err))
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	q := new(dns.Msg).SetQuestion(dns.Fqdn(name), dns.StringToType[w.Type])
	a, _, err := new(dns.Client).ExchangeWithConn(q, &dns.Conn{Conn: conn})
	switch {
	case ctx.Err() != nil:
		return failed(want, ctx.Err())
	case err != nil:
		return failed(want, err)
	case a.Rcode == dns.RcodeNameError:
		return bad(want, "no such name: "+name, a.String())
	case a.Rcode != dns.RcodeSuccess:
		return bad(want, "the answer "+dns.RcodeToString[a.Rcode], a.String())
	}
	var values []string
	for _, rr := range a.Answer {
		value := strings.TrimPrefix(rr.String(), rr.Header().String())
		values = append(values, strings.TrimSuffix(strings.Trim(value, `"`), "."))
	}
	got := strings.Join(values, ", ")
	wanted := strings.TrimSuffix(t.expand(w.Answer, nil), ".")
	switch {
	case len(values) == 0:
		return bad(want, "no record", a.String())
	case wanted != "" && !strings.Contains(", "+got+", ", ", "+wanted+", "):
		return bad(want, got, a.String())
	}
	return good(want, got)
}

// sql runs a statement on PostgreSQL and looks at the first column of the first
// row.
func (t Target) sql(ctx context.Context, w plan.SQL) Reading {
	want := "a row"
	if w.Answer != "" {
		want = t.expand(w.Answer, nil)
	}
	query := t.expand(w.Query, nil)
	want += " from " + query
	config, err := pgx.ParseConfig(t.expand(w.URL, secret.InDSN(w.URL)))
	if err != nil {
		return bad(want, "an address of a database that cannot be read", "")
	}
	config.DialFunc = t.From.Dial
	// resolved there
	config.LookupFunc = func(_ context.Context, host string) ([]string, error) { return []string{host}, nil }
	c, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return failed(want, denied(err))
	}
	defer func() { // a database that hangs by now is not waited for
		last, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		_ = c.Close(last)
	}()
	rows, err := c.Query(ctx, query, pgx.QueryExecModeSimpleProtocol)
	if err != nil {
		return failed(want, denied(err))
	}
	defer rows.Close()
	var got string
	found := rows.Next()
	if found && len(rows.RawValues()) > 0 {
		got = string(rows.RawValues()[0])
	}
	rows.Close()
	switch err := rows.Err(); {
	case err != nil:
		return failed(want, denied(err))
	case !found:
		return bad(want, "no row", "")
	case w.Answer != "" && got != t.expand(w.Answer, nil):
		return bad(want, got, "")
	}
	return good(want, got)
}

// denied tells a database that did not take the credential, or does not let it do
// something, from one that was not reached (SQLSTATE classes 28, 42501 and 3D).
func denied(err error) error {
	var pg *pgconn.PgError
	if !errors.As(err, &pg) {
		return err
	}
	if strings.HasPrefix(pg.Code, "28") || pg.Code == "42501" {
		return fmt.Errorf("%w: %s (SQLSTATE %s)", errDenied, pg.Message, pg.Code)
	}
	return fmt.Errorf("%s (SQLSTATE %s)", pg.Message, pg.Code)
}

// command runs a command where the instance stands.
func (t Target) command(ctx context.Context, w plan.Command) Reading {
	want := fmt.Sprintf("exit status %d", w.Status)
	words := make([]string, len(w.Words))
	for i, word := range w.Words {
		words[i] = t.expand(word, nil)
	}
	environment := map[string]string{}
	for name, value := range w.Environment {
		environment[name] = t.expand(value, nil)
	}
	out, err := t.From.Run(ctx, place.Command{Words: words, Environment: environment})
	if err != nil {
		return failed(want, err)
	}
	got := fmt.Sprintf("exit status %d", out.Status)
	text := strings.TrimSpace(string(out.Output))
	hide := t.Secrets.HideCut
	switch contains := t.expand(w.Contains, nil); {
	case out.Status != w.Status:
		if hidden := strings.TrimSpace(hide(text)); hidden != "" {
			lines := strings.Split(hidden, "\n")
			got += ", last output: " + excerpt([]byte(lines[len(lines)-1]), hide)
		}
		return bad(want, got, hide(text))
	case contains != "" && !strings.Contains(text, contains):
		return bad(fmt.Sprintf("output with %q", contains), "output without: "+excerpt(out.Output, hide), hide(text))
	}
	return good(want, got)
}
