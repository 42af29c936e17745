package dns

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"regexp"
	"time"

	"github.com/miekg/dns"

	"vaiven/internal/front"
	"vaiven/internal/world/place"
)

// askLimit bounds a question and its answer.
const askLimit = 3 * time.Second

// fudge is how far clocks may be apart for a signature to be taken, in seconds (RFC 8945, section 5.2.3).
const fudge = 300

// line asks a server one thing after the other. One goroutine at a time.
type line struct {
	conn   net.Conn
	client *dns.Client
	server string
	signs  key          // of questions and updates; none where it has no name
	over   func() error // why no more is waited for, nil while it is
	let    func()
}

// dial connects to a server from a machine. The connection ends with the context, at the latest.
func dial(ctx context.Context, on place.Machine, server string, k key) (*line, error) {
	var keys map[string]string
	if k.name != "" {
		keys = k.secrets()
	}
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	conn, err := on.Dial(ctx, "tcp", server)
	if err != nil {
		cancel()
		return nil, fmt.Errorf("%w: %s: %w", front.ErrUnreachable, server, err)
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	return &line{conn: conn,
		client: &dns.Client{Net: "tcp", TsigSecret: keys, Timeout: askLimit}, server: server, signs: k,
		over: func() error { return context.Cause(ctx) }, let: func() {
			stop()
			cancel()
			conn.Close()
		}}, nil
}

// ask sends a message and reads what is answered.
func (l *line) ask(m *dns.Msg) (*dns.Msg, error) {
	// Each question has a signature of its own: one of its kind goes on from the one before.
	a, _, err := l.client.ExchangeWithConn(m, &dns.Conn{Conn: l.conn, TsigSecret: l.client.TsigSecret})
	switch {
	case l.signs.name != "" && (errors.Is(err, dns.ErrAuth) || errors.Is(err, dns.ErrSig)):
		return nil, fmt.Errorf("%w: %s does not take the key %s: the two are not the same (%w)", front.ErrRefused, l.server,
			l.signs.name, err)
	case errors.Is(err, dns.ErrAuth), errors.Is(err, dns.ErrSig), errors.Is(err, dns.ErrTime),
		errors.Is(err, dns.ErrKey), errors.Is(err, dns.ErrSecret):
		return nil, fmt.Errorf("%w: %s: its answer is not signed as it should be: %w", front.ErrRefused, l.server, err)
	case err != nil && (l.over() != nil || errors.Is(err, os.ErrDeadlineExceeded)):
		return nil, fmt.Errorf("%w: %s: no answer in time", front.ErrUnreachable, l.server)
	case err != nil:
		return nil, fmt.Errorf("%w: %s: %w", front.ErrUnreachable, l.server, err)
	case a.Truncated:
		return nil, fmt.Errorf("%w: %s answers in part, on a connection", front.ErrUnreachable, l.server)
	}
	return a, nil
}

// set is what a server has of a name and type; of nothing it is empty.
func (l *line) set(name string, of uint16, recursive bool) ([]dns.RR, error) {
	m := new(dns.Msg).SetQuestion(name, of)
	m.RecursionDesired = recursive
	l.sign(m) // what is answered may depend on who asks
	a, err := l.ask(m)
	if err != nil {
		return nil, err
	}
	switch {
	case a.Rcode == dns.RcodeNameError:
		return nil, nil
	case a.Rcode == dns.RcodeNotAuth && l.signs.name != "":
		return nil, fmt.Errorf("%w: %s does not take the key %s (NOTAUTH)", front.ErrRefused, l.server, l.signs.name)
	case a.Rcode != dns.RcodeSuccess:
		return nil, fmt.Errorf("%w: %s answers %s for %s", front.ErrUnreachable, l.server, dns.RcodeToString[a.Rcode],
			name)
	case !recursive && !a.Authoritative:
		return nil, fmt.Errorf("%w: %s does not have the zone of %s", front.ErrUnreachable, l.server, name)
	}
	return a.Answer, nil
}

// sign signs a message, where there is a key for it.
func (l *line) sign(m *dns.Msg) {
	if l.signs.name != "" {
		m.SetTsig(l.signs.name, l.signs.algorithm, fudge, time.Now().Unix())
	}
}

// update sends one, and says what the server made of it.
func (l *line) update(m *dns.Msg) error {
	k := l.signs
	l.sign(m)
	a, err := l.ask(m)
	if err != nil {
		return err
	}
	switch a.Rcode {
	case dns.RcodeSuccess:
		return nil
	case dns.RcodeYXDomain, dns.RcodeYXRrset, dns.RcodeNXRrset, dns.RcodeNameError:
		return fmt.Errorf("%w: %s found other records than were read (%s)", front.ErrChanged, l.server,
			dns.RcodeToString[a.Rcode])
	case dns.RcodeNotAuth:
		if t := a.IsTsig(); t != nil && t.Error == dns.RcodeBadTime {
			return fmt.Errorf("%w: the clocks of this machine and %s are more than %d s apart", front.ErrRefused,
				l.server, fudge)
		}
		return fmt.Errorf("%w: %s does not take the key %s (NOTAUTH)", front.ErrRefused, l.server, k.name)
	case dns.RcodeRefused:
		return fmt.Errorf("%w: %s does not let the key %s change these names (REFUSED): allow-update or update-policy",
			front.ErrRefused, l.server, k.name)
	case dns.RcodeNotZone:
		return fmt.Errorf("%w: %s: the names are not in the zone (NOTZONE)", front.ErrRefused, l.server)
	}
	return fmt.Errorf("%w: %s answers %s to an update", front.ErrRefused, l.server, dns.RcodeToString[a.Rcode])
}

// key signs updates.
type key struct{ name, algorithm, secret string }

func (k key) secrets() map[string]string { return map[string]string{k.name: k.secret} }

var (
	keyName      = regexp.MustCompile(`(?m)^\s*key\s+"?([^\s"{]+)"?\s*\{`)
	keyAlgorithm = regexp.MustCompile(`\balgorithm\s+"?([A-Za-z0-9.-]+)"?\s*;`)
	keySecret    = regexp.MustCompile(`\bsecret\s+"([A-Za-z0-9+/=]+)"\s*;`)
)

// readKey reads one as tsig-keygen(8) writes it.
func readKey(data []byte) (key, error) {
	name, algorithm, secret := keyName.FindSubmatch(data), keyAlgorithm.FindSubmatch(data), keySecret.FindSubmatch(data)
	if name == nil || algorithm == nil || secret == nil {
		return key{}, errors.New(`it holds no key: write it with "tsig-keygen vaiven"`)
	}
	return key{dns.CanonicalName(string(name[1])), dns.CanonicalName(string(algorithm[1])), string(secret[1])}, nil
}
