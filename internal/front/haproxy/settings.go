package haproxy

import (
	"fmt"
	"net"
	"strings"
	"text/template"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/logged"
	"vaiven/internal/world/place"
	"vaiven/internal/world/section"
)

// Kind is HAProxy as a front.
var Kind = front.Kind{
	Name: "haproxy", Read: read, Program: "haproxy", Config: config, Survey: survey,
	Examples: []front.Example{
		{Way: "weights", Text: `  haproxy:
    socket: proxy/admin.sock
    backend: sailings
    servers: {blue: blue, green: green}
    state-file: proxy/servers
`},
	},
	Open: func(on place.Machine, _ *plan.Plan, f plan.Front) front.Driver { return New(on, f) },
}

// Settings is what a plan says of an HAProxy that is steered through its run-time interface.
// The servers of both sides stand in one backend, and weights divide the requests; or there
// is one backend for each side, and a map holds the share by which the configuration chooses.
type Settings struct {
	Socket   string    // file of its run-time interface; "" with an address
	Address  string    // host:port of its run-time interface, "" with a file
	Backends [2]string // by side; the same twice with weights
	Servers  [2]string // what the names of a side's servers begin with
	Map      string    // file of the map, as HAProxy's configuration names it; "" with weights
	MapKey   string    // whose value is the share on green in basis points
	// file that its log is written to, or host:port that its log is sent to; "" if it has none for us
	Log       string
	StateFile string // where HAProxy looks for the servers' state when it starts; "" if nowhere
}

// Weighs reports whether weights divide the requests.
func (h *Settings) Weighs() bool { return h.Map == "" }

// where is its run-time interface as one dials it.
func (h *Settings) where() (network, address string) {
	if h.Address != "" {
		return "tcp", h.Address
	}
	return "unix", h.Socket
}

// Bound is its run-time interface as its configuration has it.
func (h *Settings) Bound() string {
	if h.Address != "" {
		return "ipv4@" + h.Address
	}
	return h.Socket
}

// Kind is the kind's name.
func (h *Settings) Kind() plan.FrontKind { return Kind.Name }

// Marks is for weights, which hold nothing but themselves.
func (h *Settings) Marks() bool { return h.Weighs() }

// Compares is for a map, of which a version that is older than the one in force is refused.
func (h *Settings) Compares() bool { return !h.Weighs() }

// Reached is at its run-time interface, and where it sends its log.
func (h *Settings) Reached() (addresses []string, byFiles bool) {
	if h.Address != "" {
		addresses = append(addresses, h.Address)
	}
	logs := h.Log != "" && !logged.Sent(h.Log)
	if h.Log != "" && !logs {
		addresses = append(addresses, h.Log)
	}
	return addresses, h.Socket != "" || h.StateFile != "" || logs
}

// Resolve makes files absolute.
func (h *Settings) Resolve(file, _ func(*string)) {
	file(&h.Socket)
	file(&h.StateFile)
	if h.Log != "" && !logged.Sent(h.Log) {
		file(&h.Log)
	}
}

// Splits is for maps only by keys: weights draw for each request.
func (h *Settings) Splits(k plan.Key) error {
	if h.Weighs() && k.From != plan.KeyRandom {
		return section.Mistake{
			What: fmt.Sprintf("weights choose a server for each request anew, not by %v", k),
			Try:  "split by random, or give each side a backend of its own and a map (docs/fronts.md)",
		}
	}
	return nil
}

// Sticks is for weights only.
func (h *Settings) Sticks() error {
	if h.Weighs() {
		return nil
	}
	return section.Mistake{
		What: "with a map the configuration chooses the side by the key alone, so no session stays",
		Try:  "split by a cookie: who has it keeps the side while the share grows",
	}
}

// Controls is for weights only: where a map chooses the side, the weights within it are the configuration's.
func (h *Settings) Controls() error {
	if h.Weighs() {
		return nil
	}
	return section.Mistake{
		What: "with a map the weights of a side's servers are left as HAProxy's configuration has them",
		Try:  "divide by weights (docs/fronts.md), or leave \"beside control\" out of the legs",
	}
}

// Opens is for maps only: with weights nothing but the weights chooses.
func (h *Settings) Opens(d plan.SpareDoor) error {
	if h.Weighs() {
		return section.Mistake{
			What: "with weights HAProxy has no door of its own to the spare side",
			Try:  "give each side a backend of its own and a map (docs/fronts.md), or leave spare-door out",
		}
	}
	return front.NoSpareAddress(d)
}

func read(r *section.Reader, n ast.Node) plan.FrontSettings {
	h := &Settings{Servers: [2]string{"blue", "green"}}
	var one string
	var sides, mapped, state, log ast.Node
	r.Mapping(n, "haproxy",
		section.May("socket", func(n ast.Node) { r.Text(n, "socket", &h.Socket) }),
		section.May("address", section.Parsed(r, "address", &h.Address, section.HostPort)),
		section.May("backend", section.Parsed(r, "backend", &one, section.ProxyName)),
		section.May("backends", func(n ast.Node) {
			sides = n
			bySide(r, n, "backends", &h.Backends)
		}),
		section.May("servers", func(n ast.Node) { bySide(r, n, "servers", &h.Servers) }),
		section.May("map", func(n ast.Node) {
			mapped = n
			var text string
			if r.Text(n, "map", &text) {
				words := strings.Fields(text)
				if len(words) != 2 {
					r.Wrong(n, fmt.Sprintf("%q does not name a map and a key in it", text),
						"write the file as HAProxy's configuration names it, and the key: \"/etc/haproxy/sailings.map "+
							"sailings\"")
					return
				}
				h.Map, h.MapKey = words[0], words[1]
			}
		}),
		section.May("log", func(n ast.Node) {
			log = n
			r.Text(n, "log", &h.Log)
		}),
		section.May("state-file", func(n ast.Node) {
			state = n
			r.Text(n, "state-file", &h.StateFile)
		}),
	)
	switch {
	case (h.Socket == "") == (h.Address == ""):
		r.Wrong(n, "haproxy needs the socket of its run-time interface, or the address",
			`write "socket: /run/haproxy/admin.sock", or "address: 10.1.0.5:9999" where only that is reached`)
	case h.Address != "" && state != nil && !loopback(h.Address):
		r.Wrong(state, "the state file would be written here, and HAProxy reads it where it runs",
			`steer it by its socket there: "at: USER@HOST" of the front and "socket: /run/haproxy/admin.sock"; or leave the state file out`)
	}
	if logged.Sent(h.Log) && !loopback(h.Log) {
		r.Wrong(log, "the log would be taken from whoever sends to that address",
			`write an address of this machine alone, "log: 127.0.0.1:5140", or the file that its log is written to`)
	}
	switch {
	case (one == "") == (sides == nil):
		r.Wrong(n, "haproxy needs either the backend with both sides' servers or a backend for each side",
			`add "backend: NAME", or "backends: {blue: NAME, green: NAME}" and a map`)
	case one != "":
		h.Backends = [2]string{one, one}
		if mapped != nil {
			r.Wrong(mapped, "a map chooses between backends, and there is one",
				`write "backends: {blue: NAME, green: NAME}", or leave the map out`)
		}
		if strings.HasPrefix(h.Servers[0], h.Servers[1]) || strings.HasPrefix(h.Servers[1], h.Servers[0]) {
			r.Wrong(n, fmt.Sprintf("servers that begin with %q and with %q cannot be told apart", h.Servers[0],
				h.Servers[1]), "")
		}
	case mapped == nil:
		r.Wrong(sides, "what chooses between the backends is not said",
			`add the map with the share: "map: /etc/haproxy/sailings.map sailings"`)
	case h.Backends[0] == h.Backends[1]:
		r.Wrong(sides, "both sides have the same backend", `write "backend: NAME" to divide by weights`)
	}
	return h
}

// loopback reports whether an address is on this machine alone.
func loopback(address string) bool {
	host, _, _ := net.SplitHostPort(address)
	return host == "localhost" || net.ParseIP(host).IsLoopback()
}

// bySide reads one name for each side.
func bySide(r *section.Reader, n ast.Node, what string, to *[2]string) {
	r.Mapping(n, what,
		section.Need("blue", section.Parsed(r, what, &to[split.Blue], section.ProxyName)),
		section.Need("green", section.Parsed(r, what, &to[split.Green], section.ProxyName)))
}

// places is how the configuration finds the place of a key among 10000: below the share on
// green it is green, so that green's part only grows with the share. Who has no such cookie
// or header goes by the address; no request is without a place, since it would be blue
// whatever the share.
func places(k plan.Key) []string {
	if k.From == plan.KeyRandom {
		return []string{"rand(10000)"}
	}
	address := "src"
	if k.Prefix > 0 {
		address += fmt.Sprintf(",ipmask(%d,%d)", k.Prefix, 2*k.Prefix)
	}
	list := []string{address + ",xxh32,mod(10000)"}
	if field := fieldOf(k); field != "" {
		list = append(list, fmt.Sprintf("%s,xxh32,mod(10000) if { %s -m found }", field, field))
	}
	return list
}

// fieldOf is the cookie or header that a key goes by, as the configuration has it; "" if it goes by neither.
func fieldOf(k plan.Key) string {
	of := map[plan.KeySource]string{plan.KeyCookie: "req.cook", plan.KeyHeader: "req.hdr"}[k.From]
	if of == "" {
		return ""
	}
	return of + "(" + k.Name + ")"
}

var configText = template.Must(template.New("").Parse(`global
{{- if .Address}}
    # Whoever reaches this address steers everything: it asks nobody who they are. Let nobody
    # but the machine that Vaiven runs on through to it.
    stats socket {{.Bound}} level admin
{{- else}}
    stats socket {{.Bound}} level admin{{if .Folder}} mode 600 expose-fd listeners{{end}}
{{- end}}
    server-state-file {{or .StateFile "STATE-FILE"}}
defaults
    mode http
    timeout connect 2s
    timeout client 75s
    timeout server 75s
    option forwardfor
    retries 2
    option redispatch
    option idle-close-on-response
    load-server-state-from-file global
frontend {{.Service}}
    bind {{.Listen}}
{{- if .Log}}
    # Times and clients for Vaiven's guards.
    log {{.LogTo}}
    log-format '{{.LogFormat}}'
{{- with .LogKey}}
    http-request set-var(txn.client) {{.}},xxh64
{{- end}}
{{- end}}
    http-request set-header X-Forwarded-Proto https if { ssl_fc }
{{- if .Weighs}}
    default_backend {{index .Backends 0}}
backend {{index .Backends 0}}
    balance roundrobin
{{- if .Sticky}}
    dynamic-cookie-key {{.Service}}
    cookie {{.Service}}-session insert indirect nocache dynamic
{{- end}}
{{- range $side, $prefix := .Servers}}
{{- range index $.Standing $side}}
    server {{.Name}} {{.Address}}
{{- else}}
    server-template {{$prefix}} {{$.Slots}} 127.0.0.1:1 disabled
{{- end}}
{{- end}}
{{- else}}
    http-request set-var(txn.share) str({{.MapKey}}),map({{.Map}},0)
{{- range .Places}}
    http-request set-var(txn.place) {{.}}
{{- end}}
{{- with .Spare.Header}}
    # The spare side's own door, for those who know the secret.
    http-request set-var(txn.knows) req.hdr({{.}})
    http-request set-var(txn.door) str({{$.MapKey}}-door.),concat(,txn.knows),map({{$.Map}}) if { req.hdr({{.}}) -m found }
    http-request del-header {{.}}
{{- end}}
{{- with .Spare.Cookie}}
    # The spare side's own door, for those who know the secret.
    http-request set-var(txn.knows) req.cook({{.}})
    http-request set-var(txn.door) str({{$.MapKey}}-door.),concat(,txn.knows),map({{$.Map}}) if { req.cook({{.}}) -m found }
{{- end}}
{{- if .Spare.Asks}}
    use_backend {{index .Backends 0}}-door if { var(txn.door) -m str blue }
    use_backend {{index .Backends 1}}-door if { var(txn.door) -m str green }
{{- end}}
    acl on_green var(txn.place),sub(txn.share) -m int lt 0
    use_backend {{index .Backends 1}} if on_green
    default_backend {{index .Backends 0}}
{{- range $suffix := .Suffixes}}
{{- range $side, $backend := $.Backends}}
backend {{$backend}}{{$suffix}}
{{- range index $.Standing $side}}
    server {{.Name}} {{.Address}}
{{- else}}
    server-template s {{$.Slots}} 127.0.0.1:1 disabled
{{- end}}
{{- end}}
{{- end}}
{{- end}}
`))

// logFormat is what a line of its log has to be. Texts of clients are not in it but as digests.
const logFormat = `{"at":"%Ts.%ms","client":"%ci","server":"%b/%s","upstream":"%si:%sp","status":%ST,"statuses":"%ST","ms":"%Ta","head":"%TR","key":"%[var(txn.client)]"}`

// logTo is where its configuration sends the log to.
func (h *Settings) logTo() string {
	if logged.Sent(h.Log) {
		return h.Log + " len 2048 format raw local0"
	}
	return "/dev/log len 2048 local0"
}

// named gives instances names by which their side is known among the servers, unless they have such.
func named(h *Settings, sides [2][]reading.Server) (list [2][]reading.Server) {
	for _, side := range split.Sides {
		for n, i := range sides[side] {
			prefix := "s"
			if h.Weighs() {
				prefix = h.Servers[side]
			}
			if !strings.HasPrefix(i.Name, prefix) {
				i.Name = fmt.Sprintf("%s%d", prefix, n+1)
			}
			list[side] = append(list[side], i)
		}
	}
	return list
}

func config(service string, f plan.Front, s front.Site) front.Config {
	slots := s.Slots
	if slots == 0 {
		slots = 10
	}
	suffixes := []string{""}
	if f.Spare.Asks() {
		suffixes = append(suffixes, doorSuffix)
	}
	h := f.Settings.(*Settings)
	return s.Config(configText, struct {
		*Settings
		LogTo, LogFormat, LogKey string
		Service, Listen, Folder  string
		Sticky                   bool
		Places                   []string
		Slots                    int
		Standing                 [2][]reading.Server
		Spare                    plan.SpareDoor
		Suffixes                 []string
	}{h, h.logTo(), logFormat, fieldOf(f.Key), service, f.Listen, s.Folder, f.Sticky, places(f.Key), slots,
		named(h, s.Standing), f.Spare, suffixes}, "haproxy.cfg", "-W", "-db", "-f")
}
