package embedded

import (
	"cmp"
	"fmt"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/plan"
	"vaiven/internal/front"
	"vaiven/internal/world/place"
	"vaiven/internal/world/section"
)

// Kind is the embedded front.
var Kind = front.Kind{
	Name: "embedded", Read: readSettings, Examples: []front.Example{{}},
	Open: func(_ place.Machine, p *plan.Plan, _ plan.Front) front.Driver {
		return Dial(p.Socket(), p.HomeSocket())
	},
}

// Settings is what a plan says of the embedded front.
type Settings struct {
	Tell    bool // side, instance and version in every answer
	Shuffle bool // who goes first by the split key is another one in every crossing

	// What clients may use up.
	HeaderSize  int64         // largest request header, bytes
	HeaderTime  time.Duration // for the whole request header
	Idle        time.Duration // without a byte, in either direction, before a connection is closed
	BodyRate    int64         // least rate of a request's body, bytes a second
	FirstByte   time.Duration // until an answer has begun
	NextByte    time.Duration // until it goes on
	TunnelIdle  time.Duration // without a byte either way, where a connection has another protocol
	Connections int           // at the same time, as far as there are descriptors
	PerClient   int           // of them from one address; 0 for a quarter

	BodySize int64  // largest body of a request, bytes; 0 for no limit
	Paths    []Path // whose limits differ

	TrustedProxies []netip.Prefix // whose word on where requests come from is taken
	Announced      []netip.Prefix // whose connections begin with the PROXY protocol
	Certificates   []Certificate  // with which clients are spoken to over TLS; none: without
	// file with the authorities that clients' certificates have to be vouched for by; "": clients need none
	ClientCA string
	HTTP2    bool // instances speak HTTP/2 without TLS, as gRPC services do
}

// Path is a part of a service whose requests have limits of their own: those whose path begins so. Of
// several the longest counts. What is zero is as for all.
type Path struct {
	Begins              string
	FirstByte, NextByte time.Duration
	BodySize            int64
}

// limits are those of a request.
func (s *Settings) limits(r *http.Request) limits {
	l := limits{idle: s.Idle, grace: s.HeaderTime, rate: s.BodyRate, size: s.BodySize, firstByte: s.FirstByte,
		nextByte: s.NextByte, tunnel: s.TunnelIdle}
	longest := -1
	for _, p := range s.Paths {
		if len(p.Begins) <= longest || !strings.HasPrefix(r.URL.Path, p.Begins) {
			continue
		}
		longest = len(p.Begins)
		l.firstByte, l.nextByte, l.size = cmp.Or(p.FirstByte, s.FirstByte), cmp.Or(p.NextByte, s.NextByte),
			cmp.Or(p.BodySize, s.BodySize)
	}
	if r.ProtoMajor > 1 {
		l.idle = 0 // pings find out whether the client is there
		if s.HTTP2 && isGRPC(r.Header) {
			l.rate = 0 // a stream of calls has no rate
		}
	}
	return l
}

// Kind is the kind's name.
func (s *Settings) Kind() plan.FrontKind { return Kind.Name }

// Marks is not for a front that holds the order itself.
func (s *Settings) Marks() bool { return false }

// Compares is always: the front does so as a change takes effect.
func (s *Settings) Compares() bool { return true }

// Reached is by a socket in the state folder: its process runs beside the keeper.
func (s *Settings) Reached() (addresses []string, byFiles bool) { return nil, true }

// Splits is by every key.
func (s *Settings) Splits(plan.Key) error { return nil }

// Sticks is always.
func (s *Settings) Sticks() error { return nil }

// Controls is always.
func (s *Settings) Controls() error { return nil }

// Opens is every way.
func (s *Settings) Opens(plan.SpareDoor) error { return nil }

// Resolve makes files absolute.
func (s *Settings) Resolve(file, _ func(*string)) {
	for n := range s.Certificates {
		file(&s.Certificates[n].File)
		file(&s.Certificates[n].Key)
	}
	if s.ClientCA != "" {
		file(&s.ClientCA)
	}
}

// Defaults is what holds where a plan says nothing.
func Defaults() *Settings {
	return &Settings{
		HeaderSize: 64 << 10, HeaderTime: 10 * time.Second, Idle: 75 * time.Second, BodyRate: 256,
		FirstByte: time.Minute, NextByte: 5 * time.Minute,
		TunnelIdle: 10 * time.Minute, Connections: 10_000, Shuffle: true,
	}
}

func readSettings(r *section.Reader, n ast.Node) plan.FrontSettings {
	s := Defaults()
	if n == nil {
		return s
	}
	r.Mapping(n, "embedded",
		section.May("tell", section.Parsed(r, "tell", &s.Tell, section.YesNo)),
		section.May("header-size", section.Parsed(r, "header-size", &s.HeaderSize, section.Size)),
		section.May("header-time", section.Parsed(r, "header-time", &s.HeaderTime, section.Duration)),
		section.May("idle", section.Parsed(r, "idle", &s.Idle, section.Duration)),
		section.May("body-rate", section.Parsed(r, "body-rate", &s.BodyRate, bytesPerSecond)),
		section.May("first-byte", section.Parsed(r, "first-byte", &s.FirstByte, section.Duration)),
		section.May("next-byte", section.Parsed(r, "next-byte", &s.NextByte, section.Duration)),
		section.May("tunnel-idle", section.Parsed(r, "tunnel-idle", &s.TunnelIdle, section.Duration)),
		section.May("connections", section.Parsed(r, "connections", &s.Connections, section.Between(1, 1_000_000))),
		section.May("per-client", section.Parsed(r, "per-client", &s.PerClient, section.Between(1, 1_000_000))),
		section.May("shuffle", section.Parsed(r, "shuffle", &s.Shuffle, section.YesNo)),
		section.May("body-size", section.Parsed(r, "body-size", &s.BodySize, section.Size)),
		section.May("paths", func(n ast.Node) { readPaths(r, n, s) }),
		section.May("instances", section.Parsed(r, "instances", &s.HTTP2, func(text string) (bool, error) {
			of, err := section.OneOf[protocol](text, speaksHTTP1, speaksHTTP2)
			return of == speaksHTTP2, err
		})),
		section.May("trusted-proxies", networks(r, "trusted-proxies", &s.TrustedProxies)),
		section.May("proxy-protocol", networks(r, "proxy-protocol", &s.Announced)),
		section.May("tls", func(n ast.Node) {
			r.List(n, "tls", func(n ast.Node) {
				var c Certificate
				r.Mapping(n, "tls",
					section.Need("certificate", func(n ast.Node) { r.Text(n, "certificate", &c.File) }),
					section.Need("key", func(n ast.Node) { r.Text(n, "key", &c.Key) }))
				s.Certificates = append(s.Certificates, c)
			})
		}),
		section.May("client-ca", func(n ast.Node) {
			if r.Text(n, "client-ca", &s.ClientCA) && len(s.Certificates) == 0 && !r.Discovering() {
				r.Wrong(n, "client-ca without tls", "clients have certificates over TLS only: add `tls` with the "+
					"front's own certificate")
			}
		}),
	)
	return s
}

// protocol is what instances speak.
type protocol string

const (
	speaksHTTP1 protocol = "http1"
	speaksHTTP2 protocol = "http2"
)

func readPaths(r *section.Reader, n ast.Node, s *Settings) {
	r.List(n, "paths", func(n ast.Node) {
		var p Path
		r.Mapping(n, "paths",
			section.Need("path", section.Parsed(r, "path", &p.Begins, func(text string) (string, error) {
				if !strings.HasPrefix(text, "/") {
					return "", fmt.Errorf("%q is no beginning of a path: it has to begin with /", text)
				}
				return text, nil
			})),
			section.May("first-byte", section.Parsed(r, "first-byte", &p.FirstByte, section.Duration)),
			section.May("next-byte", section.Parsed(r, "next-byte", &p.NextByte, section.Duration)),
			section.May("body-size", section.Parsed(r, "body-size", &p.BodySize, section.Size)),
		)
		s.Paths = append(s.Paths, p)
	})
}

// networks reads a list of addresses and networks.
func networks(r *section.Reader, what string, to *[]netip.Prefix) func(ast.Node) {
	return func(n ast.Node) {
		r.List(n, what, func(n ast.Node) {
			var p netip.Prefix
			section.Parsed(r, what, &p, func(text string) (netip.Prefix, error) {
				p, err := parseNetwork(text)
				if err != nil {
					err = fmt.Errorf("%q is neither an address nor a network: want such as 10.1.0.7, 10.1.0.0/16 or "+
						"fd00::/8", text)
				}
				return p, err
			})(n)
			*to = append(*to, p)
		})
	}
}

// bytesPerSecond parses a rate such as "256 B/s".
func bytesPerSecond(text string) (int64, error) {
	number, ok := strings.CutSuffix(text, "B/s")
	n, err := strconv.ParseInt(strings.TrimSpace(number), 10, 32)
	if !ok || err != nil || n < 1 {
		return 0, fmt.Errorf("%q is not a rate: want bytes a second, such as \"256 B/s\"", text)
	}
	return n, nil
}
