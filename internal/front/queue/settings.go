package queue

import (
	"fmt"
	"time"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/world/broker"
	"vaiven/internal/world/place"
	"vaiven/internal/world/section"
)

// Kind is a broker's queues as a front.
var Kind = front.Kind{
	Name: "queue", Read: read,
	Examples: []front.Example{{Text: `  queue:
    management: http://ADDRESS
    exchange: bookings
    routing-key: booking.made
    queues: {blue: bookings-blue, green: bookings-green}
    dead-letters: {blue: bookings-blue.dead, green: bookings-green.dead}
    shares: yes
    lag: 1s
`}},
	Open:    func(on place.Machine, p *plan.Plan, f plan.Front) front.Driver { return New(on, p.Service, f) },
	Program: "sh",
	Config:  config,
}

// Settings is what a plan says of it. The broker itself is where the front listens.
type Settings struct {
	Host       string // virtual host
	Management string // URL of the management interface
	User       string
	Password   string // file
	TLS        broker.TLS
	Exchange   string // that publishers publish to
	Key        string // routing key of Vaiven's own questions
	Queues     [2]string
	Dead       [2]string // queues of dead letters, by side; "" if nobody counts them
	Shares     bool      // both sides can get parts: by an exchange that hashes
	Ordered    bool      // when one side takes over from the other, what comes is held until that has done what it has
	Backlog    Backlog
	Beyond     Beyond        // where green's queue is, if it is at another broker; zero if it is not
	Lag        time.Duration // by how much the management interface's numbers are late at most
}

// Beyond is another broker, as a front's own is named: how a broker itself is changed for another.
type Beyond struct {
	Listen, Management, Host, User, Password string

	TLS    broker.TLS
	Shovel bool // the broker itself carries over to it, in place of Vaiven
}

// On reports whether there is one.
func (b Beyond) On() bool { return b.Listen != "" }

// Backlog is what becomes of messages that wait on a side which gets no more of them.
type Backlog string

// What can become of them.
const (
	Drain Backlog = "drain" // its own consumers do them
	Carry Backlog = "carry" // they are carried over to the other side
)

// Kind is the kind's name.
func (s *Settings) Kind() plan.FrontKind { return Kind.Name }

// Queued is that instances take messages here.
func (s *Settings) Queued() {}

// Marks is never: the order of going home stands at the broker.
func (s *Settings) Marks() bool { return false }

// Compares is never: bindings are as whoever sets them last has them.
func (s *Settings) Compares() bool { return false }

// Reached is at the brokers and their management interfaces.
func (s *Settings) Reached() (addresses []string, byFiles bool) {
	addresses = []string{s.Management}
	if s.Beyond.On() {
		addresses = append(addresses, s.Beyond.Listen, s.Beyond.Management)
	}
	return addresses, false
}

// Resolve makes the passwords' files absolute.
func (s *Settings) Resolve(file, _ func(*string)) {
	file(&s.Password)
	s.TLS.Resolve(file)
	file(&s.Beyond.Password)
	s.Beyond.TLS.Resolve(file)
}

// Whole is why such a front sends everything to one side or the other; nil if it can do parts.
func (s *Settings) Whole() error {
	if s.Shares {
		return nil
	}
	return section.Mistake{
		What: "these queues take over from one another all at once",
		Try:  `write "route: [100 %]", or "shares: yes" where the broker has the exchange type x-consistent-hash`,
	}
}

// Splits is by a message's id or one of its headers.
func (s *Settings) Splits(k plan.Key) error {
	if k.From == plan.KeyRandom || k.From == plan.KeyHeader && s.Shares {
		return nil
	}
	return section.Mistake{What: fmt.Sprintf("messages cannot be split by %v", k),
		Try: `leave the key out: each message is placed by its message-id; or write "key: header NAME" for one of its headers, with "shares: yes"`}
}

// Sticks is never.
func (s *Settings) Sticks() error {
	return section.Mistake{What: "a queue knows no sessions", Try: `leave sticky out, or split by "key: header NAME"`}
}

// Controls is never.
func (s *Settings) Controls() error {
	return section.Mistake{What: "instances take messages from a side's queue as they can: none of them can be given a part of its own",
		Try: "leave \"beside control\" out of the legs"}
}

// Opens is never.
func (s *Settings) Opens(plan.SpareDoor) error {
	return section.Mistake{What: "a queue has no door of its own to the spare side",
		Try: "publish to the spare side's queue by its name, and leave spare-door out"}
}

// Messages are where questions are put as messages.
func (s *Settings) Messages(listen string) (c broker.Config, exchange, key string) {
	return s.config(listen), s.Exchange, s.Key
}

func (s *Settings) config(listen string) broker.Config {
	return broker.Config{Address: listen, Management: s.Management, Host: s.Host, User: s.User, Password: s.Password,
		TLS: s.TLS}
}

func (b Beyond) config() broker.Config {
	return broker.Config{Address: b.Listen, Management: b.Management, Host: b.Host, User: b.User, Password: b.Password,
		TLS: b.TLS}
}

// usualLag is as long as RabbitMQ gathers its numbers where nobody says otherwise.
const usualLag = 5 * time.Second

// secured reads how a broker is spoken to over TLS.
func secured(r *section.Reader, t *broker.TLS) func(ast.Node) {
	return func(n ast.Node) {
		t.On = true
		r.Mapping(n, "tls",
			section.May("ca", func(n ast.Node) { r.Text(n, "ca", &t.CA) }),
			section.May("server-name", func(n ast.Node) { r.Text(n, "server-name", &t.Name) }),
			section.May("certificate", func(n ast.Node) { r.Text(n, "certificate", &t.Certificate) }),
			section.May("key", func(n ast.Node) { r.Text(n, "key", &t.Key) }))
		if (t.Certificate == "") != (t.Key == "") && !r.Discovering() {
			r.Wrong(n, "a certificate and its key come together", "name both files, or neither")
		}
	}
}

func read(r *section.Reader, n ast.Node) plan.FrontSettings {
	s := &Settings{Host: "/", Lag: usualLag, Backlog: Drain}
	var ordered ast.Node
	pair := func(what string, to *[2]string) func(ast.Node) {
		return func(n ast.Node) {
			r.Mapping(n, what,
				section.Need("blue", func(n ast.Node) { r.Text(n, "blue", &to[split.Blue]) }),
				section.Need("green", func(n ast.Node) { r.Text(n, "green", &to[split.Green]) }))
			if to[split.Blue] == to[split.Green] && to[split.Blue] != "" {
				r.Wrong(n, fmt.Sprintf("both sides have the same %s", what), "give each side one of its own")
			}
		}
	}
	r.Mapping(n, "queue",
		section.Need("management", func(n ast.Node) { r.Text(n, "management", &s.Management) }),
		section.May("host", func(n ast.Node) { r.Text(n, "host", &s.Host) }),
		section.May("user", func(n ast.Node) { r.Text(n, "user", &s.User) }),
		section.May("password", func(n ast.Node) { r.Text(n, "password", &s.Password) }),
		section.May("tls", secured(r, &s.TLS)),
		section.Need("exchange", func(n ast.Node) { r.Text(n, "exchange", &s.Exchange) }),
		section.May("routing-key", func(n ast.Node) { r.Text(n, "routing-key", &s.Key) }),
		section.Need("queues", pair("queues", &s.Queues)),
		section.May("dead-letters", pair("dead-letters", &s.Dead)),
		section.May("shares", section.Parsed(r, "shares", &s.Shares, section.YesNo)),
		section.May("order", func(n ast.Node) {
			word := "free"
			section.Parsed(r, "order", &word,
				func(text string) (string, error) { return section.OneOf(text, "held", "free") })(n)
			if s.Ordered = word == "held"; s.Ordered {
				ordered = n
			}
		}),
		section.May("backlog", section.Parsed(r, "backlog", &s.Backlog,
			func(text string) (Backlog, error) { return section.OneOf(text, Drain, Carry) })),
		section.May("green-at", func(n ast.Node) {
			b := Beyond{Host: "/"}
			r.Mapping(n, "green-at",
				section.Need("listen", section.Parsed(r, "listen", &b.Listen, section.HostPort)),
				section.Need("management", func(n ast.Node) { r.Text(n, "management", &b.Management) }),
				section.May("host", func(n ast.Node) { r.Text(n, "host", &b.Host) }),
				section.May("user", func(n ast.Node) { r.Text(n, "user", &b.User) }),
				section.May("password", func(n ast.Node) { r.Text(n, "password", &b.Password) }),
				section.May("tls", secured(r, &b.TLS)),
				section.May("link", func(n ast.Node) {
					word := "vaiven"
					section.Parsed(r, "link", &word,
						func(text string) (string, error) { return section.OneOf(text, "vaiven", "shovel") })(n)
					b.Shovel = word == "shovel"
				}))
			s.Beyond = b
		}),
		section.May("lag", section.Parsed(r, "lag", &s.Lag, section.Duration)))
	if s.Ordered && s.Shares {
		r.Wrong(ordered, "where both sides get messages at the same time there is no order between them",
			"leave shares out, or order")
	}
	return s
}
