package dns

import (
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"
	"github.com/miekg/dns"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/asked"
	"vaiven/internal/world/place"
	"vaiven/internal/world/section"
)

// Kind is a DNS name as a front.
var Kind = front.Kind{
	Name: "dns", Read: read, Program: "named", Config: config,
	Examples: []front.Example{{Text: `  dns:
    server: ADDRESS
    zone: lineavessa.example
    name: sailings
    spare: next
    key: proxy/vaiven.key
    ttl: 10s
    crossing-ttl: 4s
    counts: {path: /metrics, requests: sailings_requests_total, open: sailings_requests_open}
`}},
	Open:   func(on place.Machine, _ *plan.Plan, f plan.Front) front.Driver { return New(on, f) },
	Survey: survey,
}

// Settings is what a plan says of a name.
type Settings struct {
	Server      string   // host:port of the zone's primary, which takes updates
	Secondaries []string // host:port of the other servers that have the zone
	Resolvers   []string // host:port of those that users ask, to see what they remember
	Zone        string   // fully qualified, as all names here
	Name        string   // that users go by
	Spare       string   // points to the side that does not get requests; "" for none
	Type        Type
	Targets     [2]string // of an alias, by side
	Key         string    // file with the key of updates, as tsig-keygen(8) writes it
	TTL         time.Duration
	Crossing    time.Duration // the TTL while both sides stand
	Shares      bool          // parts of a set are a share
	Counts      asked.Counts
}

// Type is what a name holds.
type Type string

// The types.
const (
	A     Type = "A"     // addresses, of both sides where a share is wanted
	AAAA  Type = "AAAA"  // the same
	Alias Type = "CNAME" // the name of a side, which has that side's addresses
)

// Kind is the kind's name.
func (s *Settings) Kind() plan.FrontKind { return Kind.Name }

// Marks is never: the order of going home stands beside the name.
func (s *Settings) Marks() bool { return false }

// Compares is always: an update names the note that it goes by, and the server refuses it where that is another one.
func (s *Settings) Compares() bool { return true }

// Reached is at the servers.
func (s *Settings) Reached() (addresses []string, byFiles bool) {
	return append([]string{s.Server}, s.Secondaries...), false
}

// Resolve makes the key's file absolute.
func (s *Settings) Resolve(file, _ func(*string)) { file(&s.Key) }

// Resolver is whom users ask for the name.
func (s *Settings) Resolver() string {
	if len(s.Resolvers) > 0 {
		return s.Resolvers[0]
	}
	return s.Server
}

// Whole is why such a front sends everything to one side or the other; nil if it can do parts.
func (s *Settings) Whole() error {
	if s.Shares {
		return nil
	}
	if s.Type == Alias {
		return section.Mistake{What: "an alias (CNAME) leads all requests to one side",
			Try: `write "route: [100 %]", or make the name an address set with "shares: yes"`}
	}
	return section.Mistake{
		What: "this name moves all at once",
		Try:  `write "route: [100 %]", or "shares: yes" if parts of its address set are to be a share: resolvers and clients choose among the addresses`,
	}
}

// Splits is by nothing: who asks chooses.
func (s *Settings) Splits(k plan.Key) error {
	if k.From == plan.KeyRandom {
		return nil
	}
	return section.Mistake{What: fmt.Sprintf("a DNS name cannot split by %v: resolvers and clients choose among its "+
		"addresses", k), Try: "leave the key out"}
}

// Sticks is never.
func (s *Settings) Sticks() error {
	return section.Mistake{What: "a DNS name keeps nobody on a side", Try: "leave sticky out"}
}

// Controls is never.
func (s *Settings) Controls() error {
	return section.Mistake{What: "a name leads to all instances of a side alike",
		Try: "leave \"beside control\" out of the legs"}
}

// Opens is never: the spare side has a name of its own.
func (s *Settings) Opens(plan.SpareDoor) error {
	return section.Mistake{What: "a DNS name has no door by header or cookie",
		Try: `name one that points to the spare side: "dns: {spare: next}"`}
}

const (
	usualTTL    = 5 * time.Minute
	crossingTTL = 5 * time.Second
	mostTTL     = 24 * time.Hour
)

func read(r *section.Reader, n ast.Node) plan.FrontSettings {
	s := &Settings{Type: A, TTL: usualTTL, Crossing: crossingTTL}
	var name, spare string
	var sides, shares, crossing ast.Node
	address := func(n ast.Node, what string, to *string) {
		section.Parsed(r, what, to, server)(n)
	}
	list := func(what string, to *[]string) func(ast.Node) {
		return func(n ast.Node) {
			r.List(n, what, func(n ast.Node) {
				var one string
				address(n, what, &one)
				*to = append(*to, one)
			})
		}
	}
	r.Mapping(n, "dns",
		section.Need("server", func(n ast.Node) { address(n, "server", &s.Server) }),
		section.Need("zone", section.Parsed(r, "zone", &s.Zone, qualified)),
		section.Need("name", section.Parsed(r, "name", &name, label)),
		section.Need("key", func(n ast.Node) { r.Text(n, "key", &s.Key) }),
		section.May("type", section.Parsed(r, "type", &s.Type,
			func(text string) (Type, error) { return section.OneOf(text, A, AAAA, Alias) })),
		section.May("targets", func(n ast.Node) {
			sides = n
			targets := [2]string{}
			r.Mapping(n, "targets",
				section.Need("blue", section.Parsed(r, "blue", &targets[split.Blue], label)),
				section.Need("green", section.Parsed(r, "green", &targets[split.Green], label)))
			s.Targets = targets
		}),
		section.May("spare", section.Parsed(r, "spare", &spare, label)),
		section.May("secondaries", list("secondaries", &s.Secondaries)),
		section.May("resolvers", list("resolvers", &s.Resolvers)),
		section.May("ttl", section.Parsed(r, "ttl", &s.TTL, ttl)),
		section.May("crossing-ttl", func(n ast.Node) {
			crossing = n
			section.Parsed(r, "crossing-ttl", &s.Crossing, ttl)(n)
		}),
		section.May("shares", func(n ast.Node) {
			shares = n
			section.Parsed(r, "shares", &s.Shares, section.YesNo)(n)
		}),
		section.May("counts", func(n ast.Node) { s.Counts = asked.Read(r, n) }))
	if r.Discovering() || s.Zone == "" || name == "" {
		return s
	}
	s.Name = s.within(name)
	if spare != "" {
		s.Spare = s.within(spare)
	}
	for side := range s.Targets {
		if s.Targets[side] != "" {
			s.Targets[side] = s.within(s.Targets[side])
		}
	}
	switch {
	case s.Type == Alias && s.Targets == [2]string{}:
		r.Wrong(n, "an alias (CNAME) leads to one of two names, and they are not named",
			`add "targets: {blue: NAME, green: NAME}"`)
	case s.Type != Alias && sides != nil:
		r.Wrong(sides, "only an alias has targets", `leave them out, or write "type: CNAME"`)
	case s.Type == Alias && s.Name == s.Zone:
		r.Wrong(n, fmt.Sprintf("%s is the zone itself, which cannot be an alias (RFC 1034, section 3.6.2)", s.Name),
			`write "type: A"`)
	case s.Type == Alias && s.Shares:
		r.Wrong(shares, "an alias (CNAME) leads all requests to one side", `leave shares out, or write "type: A"`)
	}
	for what, other := range map[string]string{"spare": s.Spare, "blue's target": s.Targets[split.Blue],
		"green's target": s.Targets[split.Green]} {
		if other == s.Name {
			r.Wrong(n, fmt.Sprintf("the %s is the name itself", what), "give it a name of its own")
		}
	}
	if s.Targets[split.Blue] != "" && s.Targets[split.Blue] == s.Targets[split.Green] {
		r.Wrong(sides, "both sides have the same target", "give each a name of its own")
	}
	if s.Crossing > s.TTL {
		r.Wrong(crossing, fmt.Sprintf("the TTL is lowered for a crossing, and %v is more than %v", s.Crossing, s.TTL),
			"give crossing-ttl no more than ttl")
	}
	return s
}

// within is a name of the zone in full.
func (s *Settings) within(name string) string {
	if strings.HasSuffix(name, ".") {
		return name
	}
	if full := dns.Fqdn(name); dns.IsSubDomain(s.Zone, full) {
		return full
	}
	if name == "@" {
		return s.Zone
	}
	return name + "." + s.Zone
}

// server is host:port; port 53 where none is given.
func server(text string) (string, error) {
	if _, _, err := net.SplitHostPort(text); err != nil {
		text = net.JoinHostPort(text, "53")
	}
	return section.HostPort(text)
}

func qualified(text string) (string, error) {
	name, err := label(text)
	return dns.CanonicalName(name), err
}

func label(text string) (string, error) {
	if text == "@" {
		return text, nil
	}
	if _, ok := dns.IsDomainName(text); !ok || text == "" || strings.ContainsAny(text, " \t*\"\\;()/") {
		return "", section.Mistake{What: fmt.Sprintf("%q is no name that DNS has", text),
			Try: `write it as in "sailings", or in full: "sailings.lineavessa.example"`}
	}
	return strings.ToLower(text), nil
}

// Remembered is how long resolvers may go by what was: before a crossing has lowered the TTL, and after it has.
func (s *Settings) Remembered() (before, each time.Duration) { return s.TTL, s.Crossing }

func ttl(text string) (time.Duration, error) {
	d, err := section.Duration(text)
	if err == nil && (d%time.Second != 0 || d < 0 || d > mostTTL) {
		return 0, section.Mistake{What: fmt.Sprintf("a TTL of %v", d), Try: "write whole seconds, up to 24h"}
	}
	return d, err
}
