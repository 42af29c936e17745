package embedded

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/front"
	"vaiven/internal/place"
	"vaiven/internal/plan"
	"vaiven/internal/section"
)

// Kind is the embedded front.
var Kind = front.Kind{
	Name: "embedded", Read: readSettings, Examples: []front.Example{{}},
	Open: func(_ place.Machine, p *plan.Plan, _ plan.Front) front.Driver { return Dial(p.Socket()) },
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

	TrustedProxies []netip.Prefix // whose word on where requests come from is taken
	Announced      []netip.Prefix // whose connections begin with the PROXY protocol
	Certificates   []Certificate  // with which clients are spoken to over TLS; none: without
}

// Kind is the kind's name.
func (s *Settings) Kind() plan.FrontKind { return Kind.Name }

// Marks is not for a front that holds the order itself.
func (s *Settings) Marks() bool { return false }

// Splits is by every key.
func (s *Settings) Splits(plan.Key) error { return nil }

// Sticks is always.
func (s *Settings) Sticks() error { return nil }

// Opens is every way.
func (s *Settings) Opens(plan.SpareDoor) error { return nil }

// Resolve makes files absolute.
func (s *Settings) Resolve(file, _ func(*string)) {
	for n := range s.Certificates {
		file(&s.Certificates[n].File)
		file(&s.Certificates[n].Key)
	}
}

// Defaults is what holds where a plan says nothing.
func Defaults() *Settings {
	return &Settings{
		HeaderSize: 64 << 10, HeaderTime: 10 * time.Second, Idle: 75 * time.Second, BodyRate: 256, FirstByte: time.Minute, NextByte: 5 * time.Minute,
		TunnelIdle: 10 * time.Minute, Connections: 10_000,
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
	)
	return s
}

// networks reads a list of addresses and networks.
func networks(r *section.Reader, what string, to *[]netip.Prefix) func(ast.Node) {
	return func(n ast.Node) {
		r.List(n, what, func(n ast.Node) {
			var p netip.Prefix
			section.Parsed(r, what, &p, func(text string) (netip.Prefix, error) {
				p, err := parseNetwork(text)
				if err != nil {
					err = fmt.Errorf("%q is neither an address nor a network: want such as 10.1.0.7, 10.1.0.0/16 or fd00::/8", text)
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
