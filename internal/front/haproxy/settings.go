package haproxy

import (
	"fmt"
	"strings"
	"text/template"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/place"
	"vaiven/internal/plan"
	"vaiven/internal/section"
)

// Kind is HAProxy as a front.
var Kind = front.Kind{
	Name: "haproxy", Read: read, Program: "haproxy", Config: config,
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
	Socket    string
	Backends  [2]string // by side; the same twice with weights
	Servers   [2]string // what the names of a side's servers begin with
	Map       string    // file of the map, as HAProxy's configuration names it; "" with weights
	MapKey    string    // whose value is the share on green in basis points
	StateFile string    // where HAProxy looks for the servers' state when it starts; "" if nowhere
}

// Weighs reports whether weights divide the requests.
func (h *Settings) Weighs() bool { return h.Map == "" }

// Kind is the kind's name.
func (h *Settings) Kind() plan.FrontKind { return Kind.Name }

// Marks is for weights, which hold nothing but themselves.
func (h *Settings) Marks() bool { return h.Weighs() }

// Resolve makes files absolute.
func (h *Settings) Resolve(file, _ func(*string)) {
	file(&h.Socket)
	file(&h.StateFile)
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

func read(r *section.Reader, n ast.Node) plan.FrontSettings {
	h := &Settings{Servers: [2]string{"blue", "green"}}
	var one string
	var sides, mapped ast.Node
	r.Mapping(n, "haproxy",
		section.Need("socket", func(n ast.Node) { r.Text(n, "socket", &h.Socket) }),
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
					r.Wrong(n, fmt.Sprintf("%q does not name a map and a key in it", text), "write the file as HAProxy's configuration names it, and the key: \"/etc/haproxy/split.map sailings\"")
					return
				}
				h.Map, h.MapKey = words[0], words[1]
			}
		}),
		section.May("state-file", func(n ast.Node) { r.Text(n, "state-file", &h.StateFile) }),
	)
	switch {
	case (one == "") == (sides == nil):
		r.Wrong(n, "haproxy needs either the backend with both sides' servers or a backend for each side", `add "backend: NAME", or "backends: {blue: NAME, green: NAME}" and a map`)
	case one != "":
		h.Backends = [2]string{one, one}
		if mapped != nil {
			r.Wrong(mapped, "a map chooses between backends, and there is one", `write "backends: {blue: NAME, green: NAME}", or leave the map out`)
		}
		if strings.HasPrefix(h.Servers[0], h.Servers[1]) || strings.HasPrefix(h.Servers[1], h.Servers[0]) {
			r.Wrong(n, fmt.Sprintf("servers that begin with %q and with %q cannot be told apart", h.Servers[0], h.Servers[1]), "")
		}
	case mapped == nil:
		r.Wrong(sides, "what chooses between the backends is not said", `add the map with the share: "map: /etc/haproxy/split.map sailings"`)
	case h.Backends[0] == h.Backends[1]:
		r.Wrong(sides, "both sides have the same backend", `write "backend: NAME" to divide by weights`)
	}
	return h
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
	field := map[plan.KeySource]string{plan.KeyCookie: "req.cook", plan.KeyHeader: "req.hdr"}[k.From]
	if field != "" {
		field += "(" + k.Name + ")"
		list = append(list, fmt.Sprintf("%s,xxh32,mod(10000) if { %s -m found }", field, field))
	}
	return list
}

var configText = template.Must(template.New("").Parse(`global
    stats socket {{.Socket}} level admin{{if .Folder}} mode 600 expose-fd listeners{{end}}
    server-state-file {{or .StateFile "STATE-FILE"}}
defaults
    mode http
    timeout connect 2s
    timeout client 75s
    timeout server 75s
    retries 2
    option redispatch
    option idle-close-on-response
    load-server-state-from-file global
frontend {{.Service}}
    bind {{.Listen}}
{{- if .Weighs}}
    default_backend {{index .Backends 0}}
backend {{index .Backends 0}}
    balance roundrobin
{{- if .Sticky}}
    dynamic-cookie-key {{.Service}}
    cookie {{.Service}}-session insert indirect nocache dynamic
{{- end}}
{{- range .Servers}}
    server-template {{.}} {{$.Slots}} 127.0.0.1:1 disabled
{{- end}}
{{- else}}
    http-request set-var(txn.share) str({{.MapKey}}),map({{.Map}},0)
{{- range .Places}}
    http-request set-var(txn.place) {{.}}
{{- end}}
    acl on_green var(txn.place),sub(txn.share) -m int lt 0
    use_backend {{index .Backends 1}} if on_green
    default_backend {{index .Backends 0}}
{{- range .Backends}}
backend {{.}}
    server-template s {{$.Slots}} 127.0.0.1:1 disabled
{{- end}}
{{- end}}
`))

func config(service string, f plan.Front, s front.Site) front.Config {
	slots := s.Slots
	if slots == 0 {
		slots = 10
	}
	return s.Config(configText, struct {
		*Settings
		Service, Listen, Folder string
		Sticky                  bool
		Places                  []string
		Slots                   int
	}{f.Settings.(*Settings), service, f.Listen, s.Folder, f.Sticky, places(f.Key), slots}, "haproxy.cfg", "-W", "-db", "-f")
}
