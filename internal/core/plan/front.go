package plan

import (
	"errors"
	"fmt"
	"strings"
	"time"
)

// Front is one place that decides where a request goes.
type Front struct {
	Listen   string // host:port at which it takes requests
	Key      Key
	Sticky   bool        // who has a session stays on its side until that is drained or goes home
	Order    string      // file with the order of going home, of fronts that cannot hold it themselves
	At       Login       // the machine that it stands on; zero for this one
	Spare    SpareDoor   // zero for none
	Carry    [2]Capacity // by side: what instances carry
	Settings FrontSettings
}

// SpareDoor is a way to the side that is not live, whatever the share is, for whoever knows a secret: the value of a
// header or a cookie, or an address of its own. What comes by it counts for nothing. The zero value is none.
type SpareDoor struct {
	Listen, Header, Cookie string // "" if that is not a way
	File                   string // with the secret
}

// Asks reports whether a request shows by the secret that it is to come this way.
func (d SpareDoor) Asks() bool { return d.Header != "" || d.Cookie != "" }

// Login is a machine that is reached over SSH. The zero value is this one.
type Login struct {
	Host       string // as ssh has it: host or user@host, with :port where it is not 22
	Identity   string // file with the private key; "" for what ssh's own configuration says, or the agent
	KnownHosts string // file with the hosts' keys; "" for what ssh's own configuration says
}

// FrontSettings is what a plan says to one kind of front alone. The package that steers the
// kind has the type, and reads it from the plan.
type FrontSettings interface {
	Kind() FrontKind
	// Splits is why such a front does not split by a key, with what would do; nil if it does.
	Splits(Key) error
	// Sticks is why it has no sticky sessions, nil if it has.
	Sticks() error
	// Opens is why it has no such door to the spare side, with what would do; nil if it has.
	Opens(SpareDoor) error
	// Controls is why it cannot give some instances of a side as much as the other side gets, nil if it can.
	Controls() error
	// Marks reports whether the order of going home is kept in a file beside the front,
	// because it cannot hold it itself.
	Marks() bool
	// Compares reports whether the front itself refuses a change of an earlier term at the moment at which it would
	// come into force, wherever it was sent off.
	Compares() bool
	// Reached are the addresses at which such a front is steered, host:port or URL, and whether files and programs of
	// the machine that it stands on are needed for it. Other files are what its steerer needs wherever it is.
	Reached() (addresses []string, byFiles bool)
	// Resolve has files made absolute, and the programs that stand beside the plan.
	Resolve(file, program func(*string))
}

// Logs is a front that writes an access log of the requests it carries.
type Logs interface {
	AccessLog() string // its file, "" if none is named
}

// Remembers is a front whose changes are in force for the last of those who ask when they have forgotten what was
// before.
type Remembers interface {
	// Remembered is how long that takes before a crossing, and after each change of it.
	Remembered() (before, each time.Duration)
}

// Queued is a front whose instances are not asked, but take messages from queues.
type Queued interface{ Queued() }

// Whole is a front that may send everything to one side or the other, and nothing in between.
type Whole interface {
	// Whole is why, with what would do; nil if it can do parts.
	Whole() error
}

// Orchestrated is a front that an orchestrator is.
type Orchestrated interface{ Orchestrator() API }

// Resolves is a front that is found by a name which a server of its own is asked for.
type Resolves interface {
	Resolver() string // host:port
}

// FrontKind is the name of a kind of front, as plans write it.
type FrontKind string

// Kind is what the front is, "" if nothing says so.
func (f Front) Kind() FrontKind {
	if f.Settings == nil {
		return ""
	}
	return f.Settings.Kind()
}

// Name is what a front is called where there are several.
func (f Front) Name() string { return fmt.Sprintf("%s at %s", f.Kind(), f.Listen) }

// Places are where the plan's fronts stand, in order: what they are called, with their machines.
func (p *Plan) Places() []string {
	var places []string
	for _, f := range p.Fronts() {
		place := f.Name()
		if f.At.Host != "" {
			place += " on " + f.At.Host
		}
		places = append(places, place)
	}
	return places
}

// Fronts are all fronts of the plan, in order.
func (p *Plan) Fronts() []Front { return append([]Front{p.Front}, p.Beside...) }

// Key is where a front finds the key of a request.
type Key struct {
	From KeySource `json:"from"`
	Name string    `json:"name,omitempty"` // of the cookie or header
	// bits of the client's IPv4 address that count; 0 is all. Of IPv6 twice as many
	Prefix int `json:"prefix,omitempty"`
}

// KeySource is the kind of a split key.
type KeySource string

// The kinds.
const (
	KeyRandom KeySource = "random" // a new draw for each request
	KeyClient KeySource = "client" // the client's address
	KeyCookie KeySource = "cookie"
	KeyHeader KeySource = "header"
)

// String is the key as a plan writes it.
func (k Key) String() string {
	if k.Prefix > 0 {
		return fmt.Sprintf("%s /%d", k.From, k.Prefix)
	}
	return strings.TrimSpace(string(k.From) + " " + k.Name)
}

// Together reports whether the front keeps a client's requests on one side.
func (f Front) Together() bool { return f.Key.From != KeyRandom || f.Sticky }

// Controls is why no leg of the plan's route can be beside a control group, nil if one can.
func (p *Plan) Controls() error {
	for _, f := range p.Fronts() {
		switch err := f.Settings.Controls(); {
		case err != nil:
			return err
		case f.Key.From != KeyRandom:
			return fmt.Errorf("a control group would change its clients with every request: the key %v keeps them on a "+
				"side, and not on its instances", f.Key)
		case !counts(f.Settings):
			return errors.New("a control group is compared by what the front counts, and no access log is named that it counts by")
		case f.Sticky:
			return errors.New("a control group would change its clients with every request: sessions keep them on a " +
				"side, and not on its instances")
		}
	}
	for _, s := range p.Main().Stacks {
		switch s.Kind() {
		case Standing:
			return errors.New("a control group is of instances that Vaiven starts, and somebody else starts these")
		case Tool, Clustered:
			return errors.New("a control group is stopped instance by instance, and this stack chooses itself which it stops")
		}
	}
	return nil
}

// counts reports whether a front counts by itself, or by an access log that is named.
func counts(s FrontSettings) bool {
	l, by := s.(Logs)
	return !by || l.AccessLog() != ""
}
