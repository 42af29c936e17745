package planfile

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"vaiven/internal/plan"

	"github.com/goccy/go-yaml/ast"
)

// checkKind is a kind of check: the key that asks for it, and all keys that such a
// check can have. done puts together what was read.
type checkKind struct {
	name string
	keys func(r *reader, c *plan.Check) (keys []key, done func())
}

var checkKinds = []checkKind{
	{plan.HTTP{}.Kind(), (*reader).httpKeys},
	{plan.TCP{}.Kind(), (*reader).tcpKeys},
	{plan.TLS{}.Kind(), (*reader).tlsKeys},
	{plan.GRPC{}.Kind(), (*reader).grpcKeys},
	{plan.DNS{}.Kind(), (*reader).dnsKeys},
	{plan.SQL{}.Kind(), (*reader).sqlKeys},
	{plan.Command{}.Kind(), (*reader).commandKeys},
}

// The defaults of checks.
var (
	smokeCheck = plan.Check{Every: time.Second, Within: time.Second, Up: 1, Down: 1}
	needCheck  = plan.Check{Every: time.Second, Within: 3 * time.Second, Up: 1, Down: 2}
)

// checks reads a list of checks.
func (r *reader) checks(n ast.Node, what string, base plan.Check) []plan.Check {
	var list []plan.Check
	r.list(n, what, func(n ast.Node) {
		if c, ok := r.check(n, base); ok {
			list = append(list, c)
		}
	})
	return list
}

// check reads one check: the key that says what is asked decides which others it
// can have.
func (r *reader) check(n ast.Node, c plan.Check) (plan.Check, bool) {
	entries, ok := r.entries(n, "a check")
	if !ok {
		return c, false
	}
	var names, asked []string
	at := -1
	for i, k := range checkKinds {
		names = append(names, k.name)
		for _, e := range entries {
			if scalar(e.Key) == k.name {
				asked = append(asked, k.name)
				at = i
			}
		}
	}
	switch {
	case len(asked) == 0:
		try := "it needs one of: " + strings.Join(names, ", ")
		for _, e := range entries {
			if near := nearest(scalar(e.Key), names); near != "" {
				try = fmt.Sprintf("did you mean %q in place of %q?", near, scalar(e.Key))
			}
		}
		r.wrong(n, "this check does not say what to ask", try)
		return c, false
	case len(slices.Compact(asked)) > 1:
		r.wrong(n, fmt.Sprintf("a check asks one thing, not %s at once", strings.Join(asked, " and ")), "make it two checks")
		return c, false
	}
	common := []key{
		{"name", false, func(n ast.Node) { r.text(n, "name", &c.Name) }},
		{"every", false, parsed(r, "every", &c.Every, duration)},
		{"within", false, parsed(r, "within", &c.Within, duration)},
		{"up", false, parsed(r, "up", &c.Up, between(1, 100))},
		{"down", false, parsed(r, "down", &c.Down, between(1, 100))},
		{"settle", false, parsed(r, "settle", &c.Settle, timeOrNone)},
	}
	keys, done := checkKinds[at].keys(r, &c)
	r.mapping(n, "a "+checkKinds[at].name+" check", append(keys, common...)...)
	done()
	return c, true
}

// nameCheck gives a check its name where the plan gives none.
func nameCheck(c *plan.Check, name string) {
	if c.Name == "" {
		c.Name = name
	}
}

func (r *reader) httpKeys(c *plan.Check) ([]key, func()) {
	h := plan.HTTP{Status: 200}
	var req [2]string
	keys := append([]key{
		{"request", true, func(n ast.Node) {
			var text string
			r.template("request", &text)(n)
			if text != "" {
				parsed(r, "request", &req, request)(n)
			}
		}},
		{"headers", false, func(n ast.Node) { r.templates(n, "headers", &h.Headers) }},
		{"status", false, parsed(r, "status", &h.Status, between(100, 599))},
		{"contains", false, r.template("contains", &h.Contains)},
		{"json", false, func(n ast.Node) { r.jsonValues(n, &h.JSON) }},
		{"version", false, parsed(r, "version", &h.Version, field)},
		{"redirects", false, parsed(r, "redirects", &h.Redirects, yesNo)},
		{"caches", false, parsed(r, "caches", &h.Caches, yesNo)},
	}, r.trustKeys(&h.Trust)...)
	return keys, func() {
		h.Method, h.URL = req[0], req[1]
		nameCheck(c, h.Method+" "+h.URL)
		c.What = h
	}
}

func (r *reader) tcpKeys(c *plan.Check) ([]key, func()) {
	var t plan.TCP
	return []key{{"tcp", true, r.address("tcp", &t.Address)}}, func() {
		nameCheck(c, "tcp "+t.Address)
		c.What = t
	}
}

func (r *reader) tlsKeys(c *plan.Check) ([]key, func()) {
	t := plan.TLS{Days: 7}
	keys := append([]key{
		{"tls", true, r.address("tls", &t.Address)},
		{"days", false, parsed(r, "days", &t.Days, between(0, 3650))},
	}, r.trustKeys(&t.Trust)...)
	return keys, func() {
		nameCheck(c, "tls "+t.Address)
		c.What = t
	}
}

func (r *reader) grpcKeys(c *plan.Check) ([]key, func()) {
	var g plan.GRPC
	keys := append([]key{
		{"grpc", true, r.address("grpc", &g.Address)},
		{"service", false, func(n ast.Node) { r.text(n, "service", &g.Service) }},
		{"secure", false, parsed(r, "secure", &g.Secure, yesNo)},
	}, r.trustKeys(&g.Trust)...)
	return keys, func() {
		nameCheck(c, strings.TrimSpace("grpc "+g.Service))
		c.What = g
	}
}

func (r *reader) dnsKeys(c *plan.Check) ([]key, func()) {
	var d plan.DNS
	var question [2]string
	keys := []key{
		{"dns", true, parsed(r, "dns", &question, dnsQuestion)},
		{"answer", false, r.template("answer", &d.Answer)},
		{"server", false, r.address("server", &d.Server)},
	}
	return keys, func() {
		d.Name, d.Type = question[0], question[1]
		nameCheck(c, "dns "+d.Name)
		c.What = d
	}
}

func (r *reader) sqlKeys(c *plan.Check) ([]key, func()) {
	s := plan.SQL{Query: "select 1"}
	keys := []key{
		{"sql", true, r.template("sql", &s.URL)},
		{"query", false, func(n ast.Node) { r.text(n, "query", &s.Query) }},
		{"answer", false, r.template("answer", &s.Answer)},
	}
	return keys, func() {
		nameCheck(c, "sql "+s.Query)
		c.What = s
	}
}

func (r *reader) commandKeys(c *plan.Check) ([]key, func()) {
	var k plan.Command
	keys := []key{
		{"command", true, func(n ast.Node) { r.command(n, &k.Words) }},
		{"status", false, parsed(r, "status", &k.Status, between(0, 255))},
		{"contains", false, r.template("contains", &k.Contains)},
	}
	return keys, func() {
		if len(k.Words) > 0 {
			nameCheck(c, k.Words[0])
		}
		c.What = k
	}
}

func (r *reader) trustKeys(t *plan.Trust) []key {
	return []key{
		{"ca", false, func(n ast.Node) { r.text(n, "ca", &t.CA) }},
		{"server-name", false, func(n ast.Node) { r.text(n, "server-name", &t.Name) }},
	}
}

// address reads host:port, either of which may be a placeholder.
func (r *reader) address(what string, to *string) func(ast.Node) {
	return func(n ast.Node) {
		r.template(what, to)(n)
		if text := *to; text != "" && !strings.Contains(text, "{address}") && !strings.Contains(text, ":") {
			r.wrong(n, fmt.Sprintf("%q is not an address", text), `want host:port, such as db.internal:5432, or "{address}" for the instance's own`)
		}
	}
}

// templates reads a mapping of free names to texts with placeholders.
func (r *reader) templates(n ast.Node, what string, to *map[string]string) {
	r.strings(n, what, to)
	for _, value := range *to {
		r.placeholders(n, value)
	}
}

func (r *reader) jsonValues(n ast.Node, to *[]plan.JSONValue) {
	entries, ok := r.entries(n, "json")
	if !ok {
		return
	}
	for _, e := range entries {
		v := plan.JSONValue{Path: scalar(e.Key)}
		if _, null := e.Value.(*ast.NullNode); null {
			v.Want = "null"
		} else if !r.text(e.Value, "a value of json", &v.Want) {
			continue
		}
		*to = append(*to, v)
	}
}

// health reads the check that every instance is watched by: a path, or what any
// other check asks.
func (r *reader) health(n ast.Node, h *plan.Check) {
	entries, ok := r.entries(n, "health")
	if !ok {
		return
	}
	asks := slices.ContainsFunc(entries, func(e *ast.MappingValueNode) bool {
		return slices.ContainsFunc(checkKinds, func(k checkKind) bool { return k.name == scalar(e.Key) })
	})
	if asks {
		*h, _ = r.check(n, *h)
		return
	}
	path := "/healthz"
	r.mapping(n, "health",
		key{"path", false, parsed(r, "path", &path, pathOf)},
		key{"every", false, parsed(r, "every", &h.Every, duration)},
		key{"within", false, parsed(r, "within", &h.Within, duration)},
		key{"up", false, parsed(r, "up", &h.Up, between(1, 100))},
		key{"down", false, parsed(r, "down", &h.Down, between(1, 100))},
	)
	h.What = plan.HTTP{Method: "GET", URL: path, Caches: true}
}
