package plan

import (
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

// Plan is a plan file, read and complete: what the file leaves out has its
// default. Paths are absolute.
type Plan struct {
	File    string // the file it was read from
	Digest  string // names the content of the file
	Service string
	State   string // folder for socket, logbook and the notes on instances
	Secrets map[string]Secret
	WayBack WayBack
	Front   Front   // the first, or the only one
	Beside  []Front // further ones in front of the same service
	Parts   []Part  // the first is the one that the front sends requests to
	Route   route.Route
	Keep    time.Duration
	Then    Then
	Guards  []Guard
	Quiet   Quiet
	Prober  Prober

	Differences Differences
	Pairs       Pairs
	WarmUp      WarmUp
}

// Main is the part that the front sends requests to.
func (p *Plan) Main() *Part { return &p.Parts[0] }

// Wanted is how many instances a side is to have, of all parts.
func (p *Plan) Wanted(side split.Side) int {
	n := 0
	for _, part := range p.Parts {
		n += part.Stacks[side].Instances
	}
	return n
}

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

// Guard is one of the rules that are watched while the new side gets requests.
type Guard struct {
	Name  string // no two guards of a plan have the same
	Watch Watch
	Off   bool
	Then  Action // what happens when it trips

	// Of guards that compare the new side with the live one: [Failing], [Slow] and [Door].
	Bound evidence.Bound
	Over  time.Duration // how far back answers count
	After time.Duration // of [Slow] and [Door]: an answer that takes longer is slow

	Most int // of guards that count, [Unhealthy] and [Lost]: more than so many trip it
}

// Watch is what a guard watches.
type Watch string

// What guards watch.
const (
	Failing   Watch = "failing"   // the rate of failing answers
	Slow      Watch = "slow"      // the rate of answers that take longer than a time
	Unhealthy Watch = "unhealthy" // instances
	Lost      Watch = "lost"      // requests that got no instance's answer
	Door      Watch = "door"      // the rate of the prober's requests that got no good answer in time
)

// Compares reports whether such a guard compares rates; others count.
func (w Watch) Compares() bool { return w == Failing || w == Slow || w == Door }

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

// Prober is the steady stream of Vaiven's own requests.
type Prober struct {
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

// Socket is the path of the front's admin socket.
func (p *Plan) Socket() string { return filepath.Join(p.State, "front.sock") }

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
