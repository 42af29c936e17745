package plan

import (
	"fmt"
	"strings"
	"time"
)

// Front is one place that decides where a request goes. Which kind it is follows
// from which of the systems it has; with none it is the embedded one.
type Front struct {
	Listen string // host:port at which it takes requests
	Key    Key
	Sticky bool   // who has a session stays on its side until that is drained or goes home
	Order  string // file with the order of going home, of fronts that cannot hold it themselves

	// Of the embedded front.
	Tell        bool          // side, instance and version in every answer
	HeaderSize  int64         // largest request header, bytes
	HeaderTime  time.Duration // for the whole request header
	Idle        time.Duration // without a byte, in either direction, before a connection is closed
	Connections int           // at the same time

	HAProxy *HAProxy
	Nginx   *Included
	Httpd   *Httpd
}

// FrontKind is the kind of a front.
type FrontKind string

// The kinds.
const (
	FrontEmbedded FrontKind = "embedded"
	FrontHAProxy  FrontKind = "haproxy"
	FrontNginx    FrontKind = "nginx"
	FrontHttpd    FrontKind = "httpd"
)

// Kind is what the front is.
func (f Front) Kind() FrontKind {
	switch {
	case f.HAProxy != nil:
		return FrontHAProxy
	case f.Nginx != nil:
		return FrontNginx
	case f.Httpd != nil:
		return FrontHttpd
	}
	return FrontEmbedded
}

// Marks reports whether the order of going home of the front is kept in a file beside it,
// because the front cannot hold it itself.
func (f Front) Marks() bool {
	return f.HAProxy != nil && f.HAProxy.Weighs() || f.Httpd != nil && f.Httpd.Manager != ""
}

// Name is what a front is called where there are several.
func (f Front) Name() string { return fmt.Sprintf("%s at %s", f.Kind(), f.Listen) }

// Fronts are all fronts of the plan, in order.
func (p *Plan) Fronts() []Front { return append([]Front{p.Front}, p.Beside...) }

// HAProxy is an HAProxy that is steered through its run-time interface. The servers
// of both sides stand in one backend, and weights divide the requests; or there is one
// backend for each side, and a map holds the share by which the configuration chooses.
type HAProxy struct {
	Socket    string
	Backends  [2]string // by side; the same twice with weights
	Servers   [2]string // what the names of a side's servers begin with
	Map       string    // file of the map; "" with weights
	MapKey    string    // whose value is the share on green in basis points
	StateFile string    // where HAProxy looks for the servers' state when it starts; "" if nowhere
}

// Weighs reports whether weights divide the requests.
func (h HAProxy) Weighs() bool { return h.Map == "" }

// Included is a server that is steered by a file of ours that its configuration
// includes.
type Included struct {
	Config  string   // its main configuration
	File    string   // ours
	Program []string // the server's own command, to which arguments are added
	Log     string   // access log with the requests counted, "" if there is none
}

// Httpd is an Apache httpd: steered through its balancer manager if it has a URL, by a
// file of ours otherwise.
type Httpd struct {
	Included
	Manager  string // URL of the balancer manager
	Balancer string // name of the balancer
}

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
