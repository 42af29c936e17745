package plan

import (
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/calendar"
	"vaiven/internal/core/people"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

// Plan is a plan file, read and complete: what the file leaves out has its
// default. Paths are absolute.
type Plan struct {
	File    string // the file it was read from
	Base    string // the file that it shares with others; "" for none
	Digest  string // names the content of both
	Service string
	State   string // folder for socket, logbook and the notes on instances
	Secrets map[string]Secret
	WayBack WayBack
	Front   Front   // the first, or the only one
	Beside  []Front // further ones in front of the same service
	Parts   []Part  // the first is the one that the front sends requests to
	Route   route.Route
	Limit   Limit
	Harm    float64        // requests that a bad release may cost on the route; 0 if the plan says nothing
	Hours   calendar.Hours // when traffic may move towards the new side
	Closed  string         // file or URL with the days on which it may not; "" for none
	Embargo string         // file or URL that forbids it for several services, as long as it is there; "" for none
	People  people.Rules
	Notices Notices // who is told what
	Metrics string  // host:port of a page of figures about the keeper; "" for none
	Start   Start   // when a version begins by itself
	Build   Build   // what makes one
	Keep    time.Duration
	Then    Then
	KeepLog time.Duration // for so long recordings of crossings are kept in full; 0 for ever
	Guards  []Guard
	Sources Sources // where figures come from that no instance tells
	Find    float64 // the fault that guards are to find which do not say one
	Sure    float64 // how sure the guards that compare have to be, all together, over a whole crossing
	Hooks   []Hook
	Quiet   Quiet
	Door    Entrance
	Prober  Prober

	Differences Differences
	Pairs       Pairs
	WarmUp      WarmUp
}

// Main is the part that the front sends requests to.
func (p *Plan) Main() *Part { return &p.Parts[0] }

// Wanted is how many instances a side is to have at first, of all parts, as far as the plan says it.
func (p *Plan) Wanted(side split.Side) int {
	n := 0
	for _, part := range p.Parts {
		n += part.Stacks[side].Planned()
	}
	return n
}

// Stands reports whether a side's instances of the part that the front sends requests to are not
// Vaiven's to stop.
func (p *Plan) Stands(side split.Side) bool { return p.Main().Stacks[side].Kind() == Standing }

// RaiseLimit is how long all parts of a side may take to become healthy.
func (p *Plan) RaiseLimit(side split.Side) time.Duration {
	limit := time.Duration(0)
	for _, part := range p.Parts {
		limit = max(limit, part.Stacks[side].Raise)
	}
	return limit
}

// HealthEvery is how often the part that is read most often is read.
func (p *Plan) HealthEvery() time.Duration {
	most := p.Main().Health.Every
	for _, part := range p.Parts {
		most = min(most, part.Health.Every)
	}
	return most
}

// Remembered is how long those who ask go by what was, before a crossing and after each change of it; 0 where nobody
// does.
func (p *Plan) Remembered() (before, each time.Duration) {
	for _, f := range p.Fronts() {
		if r, ok := f.Settings.(Remembers); ok {
			b, e := r.Remembered()
			before, each = max(before, b), max(each, e)
		}
	}
	return before, each
}

// AccessLog is the log of requests that the plan has, a front's before the one that requests are taken from; "" if it
// has none.
func (p *Plan) AccessLog() string {
	for _, f := range p.Fronts() {
		if l, ok := f.Settings.(Logs); ok && l.AccessLog() != "" {
			return l.AccessLog()
		}
	}
	return p.Pairs.Log
}

// Quiet is what happens when there is too little traffic for a guard to say anything.
type Quiet string

// The choices.
const (
	QuietAsk  Quiet = "ask"   // the route stands still until a person goes on
	QuietGoOn Quiet = "go on" // the route goes on without that guard's judgement
)

// Action is what a tripped guard does.
type Action string

// The actions.
const (
	Freeze   Action = "freeze"
	RollBack Action = "roll back"
)

// Limit is how much of the new side's capacity a leg may take. The zero value is no limit.
type Limit struct {
	Part    float64 // of the capacity, above 0
	Refuses bool    // more is refused; else a person is asked
}

// Then is what happens when the old side has been kept for its time.
type Then string

// The choices.
const (
	ThenRetire Then = "retire" // drain it and remove it
	ThenAsk    Then = "ask"    // wait for a person, then retire it
	ThenLeave  Then = "leave"  // settle and leave it standing
)

// Guard is the first guard that watches something, and false if there is none.
func (p *Plan) Guard(w Watch) (Guard, bool) {
	n := slices.IndexFunc(p.Guards, func(g Guard) bool { return g.Watch == w })
	if n < 0 {
		return Guard{}, false
	}
	return p.Guards[n], true
}

// Entrance is how users come to the fronts. The zero value is without TLS, by the address that a front listens at.
type Entrance struct {
	Secure      bool   // over TLS
	Host        string // that is asked for; "" for the front's address
	Name        string // for TLS, where it is another than the host
	CA          string // file with the authorities' certificates; "" for the system's
	Certificate string // file with the client's; "" for none
	Key         string // file with its key
	Headers     map[string]string
	HTTP1       bool   // no HTTP/2, even where it is offered
	Resolver    string // host:port that is asked for the front's name; "" for the system's
}

// Prober is the steady stream of Vaiven's own requests.
type Prober struct {
	Off    bool // nobody is asked: there is no door, or nobody who answers there
	Path   string
	Rate   float64 // requests a second
	Within time.Duration
	Status int
	// What a good answer has in its body.
	Contains string
	JSON     []JSONValue
	Side     Field // where an answer names its side, if the front does not
	Version  Field
}

// Content is what answers to the prober may have to hold though the plan does not say so: what the first smoke check
// of its path wants, and what that is called. It is false where the prober wants something of its own, or no check
// does.
func (p *Plan) Content() (want HTTP, check string, ok bool) {
	if p.Prober.Off || p.Prober.Contains != "" || len(p.Prober.JSON) > 0 {
		return HTTP{}, "", false
	}
	for _, c := range p.Main().Smoke {
		h, http := c.What.(HTTP)
		if http && (h.Method == "" || h.Method == "GET") && h.URL == p.Prober.Path &&
			(h.Contains != "" || len(h.JSON) > 0) {
			return h, c.Name, true
		}
	}
	return HTTP{}, "", false
}

// Socket is the path of the front's admin socket.
func (p *Plan) Socket() string { return filepath.Join(p.State, "front.sock") }

// HomeSocket is the path of the embedded front's socket at which the members of the plan's group can go home, and do
// nothing else.
func (p *Plan) HomeSocket() string { return filepath.Join(p.State, "home.sock") }

// KeeperSocket is the socket at which the plan's keeper listens.
func (p *Plan) KeeperSocket() string { return filepath.Join(p.State, KeeperSocketIn) }

// KeeperSocketIn is its name in the state folder.
const KeeperSocketIn = "keeper.sock"

// FrontState is the file in which the front keeps its split.
func (p *Plan) FrontState() string { return filepath.Join(p.State, "front.json") }

// Secret is the file with the prober's secret.
func (p *Plan) Secret() string { return filepath.Join(p.State, "probe.secret") }

// SpareSecret is the file with the secret of the spare side's own door.
func (p *Plan) SpareSecret() string { return filepath.Join(p.State, "spare.secret") }

// Logbook is the database of all crossings.
func (p *Plan) Logbook() string { return filepath.Join(p.State, "logbook.db") }

// Alone is the plan with the front's part and no other.
func (p *Plan) Alone() *Plan {
	alone := *p
	alone.Parts = p.Parts[:1:1]
	return &alone
}

// InstancesIn is the folder with the notes on instances, in the state folder.
const InstancesIn = "instances"

// Instances is that folder as an absolute name.
func (p *Plan) Instances() string { return filepath.Join(p.State, InstancesIn) }

// LockIn is the file in the state folder whose lock the one that steers holds.
const LockIn = "keeper.lock"

// Placeholders are the names that a command, folder, build, environment or check
// may use in braces. Beside them stands {secret NAME}.
var Placeholders = []string{"version", "build", "side", "part", "instance", "host", "port", "address", "service"}

// Expand replaces each {name} by its value. Braces around anything that is not a
// placeholder stay as they are.
func Expand(text string, values map[string]string) string {
	pairs := make([]string, 0, 2*len(values))
	for name, value := range values {
		pairs = append(pairs, "{"+name+"}", value)
	}
	return strings.NewReplacer(pairs...).Replace(text)
}
