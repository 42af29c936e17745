package plan

import (
	"fmt"
	"strings"
)

// Front is one place that decides where a request goes.
type Front struct {
	Listen   string // host:port at which it takes requests
	Key      Key
	Sticky   bool   // who has a session stays on its side until that is drained or goes home
	Order    string // file with the order of going home, of fronts that cannot hold it themselves
	Settings FrontSettings
}

// FrontSettings is what a plan says to one kind of front alone. The package that steers the
// kind has the type, and reads it from the plan.
type FrontSettings interface {
	Kind() FrontKind
	// Splits is why such a front does not split by a key, with what would do; nil if it does.
	Splits(Key) error
	// Sticks is why it has no sticky sessions, nil if it has.
	Sticks() error
	// Marks reports whether the order of going home is kept in a file beside the front,
	// because it cannot hold it itself.
	Marks() bool
	// Resolve has files made absolute, and the programs that stand beside the plan.
	Resolve(file, program func(*string))
}

// Logs is a front that writes an access log of the requests it carries.
type Logs interface {
	AccessLog() string // its file, "" if none is named
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

// Fronts are all fronts of the plan, in order.
func (p *Plan) Fronts() []Front { return append([]Front{p.Front}, p.Beside...) }

// Key is where a front finds the key of a request.
type Key struct {
	From   KeySource `json:"from"`
	Name   string    `json:"name,omitempty"`   // of the cookie or header
	Prefix int       `json:"prefix,omitempty"` // bits of the client's IPv4 address that count; 0 is all. Of IPv6 twice as many
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
