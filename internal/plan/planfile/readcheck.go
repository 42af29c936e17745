package planfile

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/difference"
	"vaiven/internal/core/plan"
	"vaiven/internal/world/section"
)

// checkKind is a kind of check: the key that asks for it, and all keys that such a
// check can have. done puts together what was read.
type checkKind struct {
	name string
	keys func(r *reader, c *plan.Check) (keys []section.Key, done func())
}

var checkKinds = []checkKind{
	{plan.HTTP{}.Kind(), (*reader).httpKeys},
	{plan.TCP{}.Kind(), (*reader).tcpKeys},
	{plan.TLS{}.Kind(), (*reader).tlsKeys},
	{plan.GRPC{}.Kind(), (*reader).grpcKeys},
	{plan.DNS{}.Kind(), (*reader).dnsKeys},
	{plan.SQL{}.Kind(), (*reader).sqlKeys},
	{plan.Command{}.Kind(), (*reader).commandKeys},
	{plan.Runs{}.Kind(), (*reader).runsKeys},
	{plan.Printed{}.Kind(), (*reader).printedKeys},
	{plan.Told{}.Kind(), (*reader).toldKeys},
}

// The defaults of checks.
var (
	smokeCheck = plan.Check{Every: time.Second, Within: time.Second, Up: 1, Down: 1}
	needCheck  = plan.Check{Every: time.Second, Within: 3 * time.Second, Up: 1, Down: 2}
)

// checks reads a list of checks.
func (r *reader) checks(n ast.Node, what string, base plan.Check) []plan.Check {
	var list []plan.Check
	r.List(n, what, func(n ast.Node) {
		if c, ok := r.check(n, base); ok {
			list = append(list, c)
		}
	})
	return list
}

// check reads one check: the key that says what is asked decides which others it
// can have.
func (r *reader) check(n ast.Node, c plan.Check) (plan.Check, bool) {
	common := []section.Key{
		section.May("name", func(n ast.Node) { r.Text(n, "name", &c.Name) }),
		section.May("every", section.Parsed(r.Reader, "every", &c.Every, section.Duration)),
		section.May("within", section.Parsed(r.Reader, "within", &c.Within, section.Duration)),
		section.May("up", section.Parsed(r.Reader, "up", &c.Up, section.Between(1, 100))),
		section.May("down", section.Parsed(r.Reader, "down", &c.Down, section.Between(1, 100))),
		section.May("settle", section.Parsed(r.Reader, "settle", &c.Settle, section.TimeOrNone)),
	}
	if r.Discovering() {
		for _, k := range checkKinds {
			keys, _ := k.keys(r, &c)
			r.Mapping(n, "a "+k.name+" check", append(keys, common...)...)
		}
		return c, false
	}
	entries, ok := r.Entries(n, "a check")
	if !ok {
		return c, false
	}
	var names, asked []string
	at := -1
	for i, k := range checkKinds {
		names = append(names, k.name)
		for _, e := range entries {
			if section.Scalar(e.Key) == k.name {
				asked = append(asked, k.name)
				at = i
			}
		}
	}
	switch {
	case len(asked) == 0:
		try := "it needs one of: " + strings.Join(names, ", ")
		for _, e := range entries {
			if near := section.Nearest(section.Scalar(e.Key), names); near != "" {
				try = fmt.Sprintf("did you mean %q in place of %q?", near, section.Scalar(e.Key))
			}
		}
		r.Wrong(n, "this check does not say what to ask", try)
		return c, false
	case len(slices.Compact(asked)) > 1:
		r.Wrong(n, fmt.Sprintf("a check asks one thing, not %s at once", strings.Join(asked, " and ")),
			"make it two checks")
		return c, false
	}
	keys, done := checkKinds[at].keys(r, &c)
	r.Mapping(n, "a "+checkKinds[at].name+" check", append(keys, common...)...)
	done()
	return c, true
}

// nameCheck gives a check its name where the plan gives none.
func nameCheck(c *plan.Check, name string) {
	if c.Name == "" {
		c.Name = new(difference.Mask).URLs(name) // a password may stand in it
	}
}

func (r *reader) httpKeys(c *plan.Check) ([]section.Key, func()) {
	h := plan.HTTP{Status: 200}
	var req [2]string
	keys := append([]section.Key{
		section.Need("request", func(n ast.Node) {
			var text string
			r.template("request", &text)(n)
			if text != "" {
				section.Parsed(r.Reader, "request", &req, request)(n)
			}
		}),
		section.May("headers", func(n ast.Node) { r.templates(n, "headers", &h.Headers) }),
		section.May("status", section.Parsed(r.Reader, "status", &h.Status, section.Between(100, 599))),
		section.May("contains", r.template("contains", &h.Contains)),
		section.May("json", func(n ast.Node) { r.jsonValues(n, &h.JSON, r.placeholders) }),
		section.May("version", section.Parsed(r.Reader, "version", &h.Version, field)),
		section.May("redirects", section.Parsed(r.Reader, "redirects", &h.Redirects, section.YesNo)),
		section.May("caches", section.Parsed(r.Reader, "caches", &h.Caches, section.YesNo)),
	}, r.trustKeys(&h.Trust)...)
	return keys, func() {
		h.Method, h.URL = req[0], req[1]
		nameCheck(c, h.Method+" "+h.URL)
		c.What = h
	}
}

func (r *reader) tcpKeys(c *plan.Check) ([]section.Key, func()) {
	var t plan.TCP
	return []section.Key{section.Need("tcp", r.address("tcp", &t.Address))}, func() {
		nameCheck(c, "tcp "+t.Address)
		c.What = t
	}
}

func (r *reader) tlsKeys(c *plan.Check) ([]section.Key, func()) {
	t := plan.TLS{Days: 7}
	keys := append([]section.Key{
		section.Need("tls", r.address("tls", &t.Address)),
		section.May("days", section.Parsed(r.Reader, "days", &t.Days, section.Between(0, 3650))),
	}, r.trustKeys(&t.Trust)...)
	return keys, func() {
		nameCheck(c, "tls "+t.Address)
		c.What = t
	}
}

func (r *reader) grpcKeys(c *plan.Check) ([]section.Key, func()) {
	var g plan.GRPC
	keys := append([]section.Key{
		section.Need("grpc", r.address("grpc", &g.Address)),
		section.May("service", r.template("service", &g.Service)),
		section.May("secure", section.Parsed(r.Reader, "secure", &g.Secure, section.YesNo)),
	}, r.trustKeys(&g.Trust)...)
	return keys, func() {
		nameCheck(c, strings.TrimSpace("grpc "+g.Service))
		c.What = g
	}
}

func (r *reader) dnsKeys(c *plan.Check) ([]section.Key, func()) {
	var d plan.DNS
	var question [2]string
	keys := []section.Key{
		section.Need("dns", func(n ast.Node) {
			var text string
			if r.open("dns", &text)(n); text != "" {
				section.Parsed(r.Reader, "dns", &question, dnsQuestion)(n)
			}
		}),
		section.May("answer", r.template("answer", &d.Answer)),
		section.May("server", r.address("server", &d.Server)),
	}
	return keys, func() {
		d.Name, d.Type = question[0], question[1]
		nameCheck(c, "dns "+d.Name)
		c.What = d
	}
}

func (r *reader) sqlKeys(c *plan.Check) ([]section.Key, func()) {
	s := plan.SQL{Query: "select 1"}
	keys := []section.Key{
		section.Need("sql", r.template("sql", &s.URL)),
		section.May("query", r.template("query", &s.Query)),
		section.May("answer", r.template("answer", &s.Answer)),
	}
	return keys, func() {
		nameCheck(c, "sql "+s.Query)
		c.What = s
	}
}

func (r *reader) commandKeys(c *plan.Check) ([]section.Key, func()) {
	var k plan.Command
	keys := []section.Key{
		section.Need("command", func(n ast.Node) { r.command(n, &k.Words) }),
		section.May("environment", func(n ast.Node) { r.environment(n, &k.Environment) }),
		section.May("status", section.Parsed(r.Reader, "status", &k.Status, section.Between(0, 255))),
		section.May("contains", r.template("contains", &k.Contains)),
	}
	return keys, func() {
		if len(k.Words) > 0 {
			nameCheck(c, k.Words[0])
		}
		c.What = k
	}
}

func (r *reader) runsKeys(c *plan.Check) ([]section.Key, func()) {
	var k plan.Runs
	return []section.Key{section.Need("runs", section.Parsed(r.Reader, "runs", &k.For, section.TimeOrNone))}, func() {
		nameCheck(c, "runs")
		c.What = k
	}
}

func (r *reader) printedKeys(c *plan.Check) ([]section.Key, func()) {
	var k plan.Printed
	return []section.Key{section.Need("printed", r.template("printed", &k.Text))}, func() {
		nameCheck(c, "printed "+k.Text)
		c.What = k
	}
}

func (r *reader) toldKeys(c *plan.Check) ([]section.Key, func()) {
	k := plan.Told{Path: "/metrics"}
	bound := func(what string, to **float64) section.Key {
		return section.May(what, func(n ast.Node) {
			var value float64
			section.Parsed(r.Reader, what, &value,
				func(text string) (float64, error) { return strconv.ParseFloat(text, 64) })(n)
			*to = &value
		})
	}
	var at ast.Node
	keys := []section.Key{
		section.Need("figure", func(n ast.Node) {
			at = n
			section.Parsed(r.Reader, "figure", &k.Figure, figure)(n)
		}),
		section.May("path", section.Parsed(r.Reader, "path", &k.Path, pathOf)),
		bound("at-least", &k.Least), bound("at-most", &k.Most),
	}
	return keys, func() {
		if k.Least == nil && k.Most == nil {
			r.Wrong(at, "it is not said what the figure is to be", `add "at-least: 1", or "at-most: 0"`)
		}
		nameCheck(c, k.Figure.String())
		c.What = k
	}
}

func (r *reader) trustKeys(t *plan.Trust) []section.Key {
	return []section.Key{
		section.May("ca", r.open("ca", &t.CA)),
		section.May("server-name", r.template("server-name", &t.Name)),
	}
}

// address reads host:port, either of which may be a placeholder.
func (r *reader) address(what string, to *string) func(ast.Node) {
	return func(n ast.Node) {
		r.template(what, to)(n)
		if text := *to; text != "" && !strings.Contains(text, "{address}") && !strings.Contains(text, ":") {
			r.Wrong(n, fmt.Sprintf("%q is not an address", text),
				`want host:port, such as db.internal:5432, or "{address}" for the instance's own`)
		}
	}
}

var variable = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// environment reads variables, whose values are texts with placeholders.
func (r *reader) environment(n ast.Node, to *map[string]string) {
	r.templates(n, "environment", to)
	for name := range *to {
		if !variable.MatchString(name) {
			r.Wrong(n, fmt.Sprintf("%q is no name of a variable", name),
				"letters, digits and _, and no digit at the beginning")
		}
	}
}

// templates reads a mapping of free names to texts with placeholders.
func (r *reader) templates(n ast.Node, what string, to *map[string]string) {
	r.Strings(n, what, to)
	for _, value := range *to {
		r.placeholders(n, value)
	}
}

// jsonValues reads paths and the values wanted there; look looks at what is in their texts.
func (r *reader) jsonValues(n ast.Node, to *[]plan.JSONValue, look func(ast.Node, string)) {
	if r.Discovering() {
		r.Names(n, func(n ast.Node) {
			r.Takes(n,
				section.Shape{"type": []string{"string", "number", "boolean", "null"}})
		})
		return
	}
	entries, ok := r.Entries(n, "json")
	if !ok {
		return
	}
	for _, e := range entries {
		v := plan.JSONValue{Path: section.Scalar(e.Key)}
		if _, null := e.Value.(*ast.NullNode); null {
			v.Want = "null"
		} else if !r.Text(e.Value, "a value of json", &v.Want) {
			continue
		}
		look(e.Value, v.Want)
		look(e.Key, v.Path)
		*to = append(*to, v)
	}
}

// health reads the check that every instance is watched by: a path, or what any
// other check asks.
func (r *reader) health(n ast.Node, h *plan.Check) {
	entries, ok := r.Entries(n, "health")
	if !ok {
		return
	}
	asks := slices.ContainsFunc(entries, func(e *ast.MappingValueNode) bool {
		return slices.ContainsFunc(checkKinds, func(k checkKind) bool { return k.name == section.Scalar(e.Key) })
	})
	if asks || r.Discovering() {
		*h, _ = r.check(n, *h)
	}
	if asks {
		return
	}
	path := "/healthz"
	r.Mapping(n, "health",
		section.May("path", section.Parsed(r.Reader, "path", &path, pathOf)),
		section.May("every", section.Parsed(r.Reader, "every", &h.Every, section.Duration)),
		section.May("within", section.Parsed(r.Reader, "within", &h.Within, section.Duration)),
		section.May("up", section.Parsed(r.Reader, "up", &h.Up, section.Between(1, 100))),
		section.May("down", section.Parsed(r.Reader, "down", &h.Down, section.Between(1, 100))),
	)
	h.What = plan.HTTP{Method: "GET", URL: path, Caches: true}
}

// wayBack reads what is asked of the side to go back to.
func (r *reader) wayBack(n ast.Node, w *plan.WayBack) {
	closes := "freeze"
	r.Mapping(n, "way-back",
		section.May("every", section.Parsed(r.Reader, "every", &w.Every, section.Duration)),
		section.May("closed", section.Parsed(r.Reader, "closed", &closes,
			func(text string) (string, error) { return section.OneOf(text, "freeze", "go on") })),
		section.May("checks", func(n ast.Node) { w.Checks = r.checks(n, "checks", needCheck) }),
	)
	w.Freezes = closes == "freeze"
}
