package plan

import (
	"fmt"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/split"
)

// defaults is a plan with every key left out.
func defaults() *Plan {
	compare := func(margin float64) Comparing {
		return Comparing{
			Bound: evidence.Bound{Margin: margin, Sure: 0.99, AtLeast: 50},
			Over:  2 * time.Minute,
			Then:  crossing.RollBack,
		}
	}
	return &Plan{
		Front: newFront(),
		Parts: []Part{newPart("web")},
		Keep:  30 * time.Minute,
		Then:  crossing.ThenRetire,
		Guards: Guards{
			Failing:   compare(0.005),
			Slow:      compare(0.02),
			SlowAfter: 250 * time.Millisecond,
			Unhealthy: Counting{Then: crossing.RollBack},
			Lost:      Counting{Then: crossing.RollBack},
		},
		Prober:      Prober{Path: "/", Rate: 20, Within: 2 * time.Second, Status: 200},
		Differences: Differences{Then: Ask},
		Pairs:       Pairs{Rate: 20, Repeat: 5, Within: 5 * time.Second, Then: Ask},
		Secrets:     map[string]Secret{},
	}
}

// largest is how many bytes a plan file may have.
const largest = 64 << 10

// tooDeep is the line at which brackets are nested beyond all sense, 0 if they are
// not. The YAML parser takes very long over such files.
func tooDeep(data []byte) int {
	depth, line := 0, 1
	for _, c := range data {
		switch c {
		case '\n':
			line++
		case '[', '{':
			if depth++; depth > 100 {
				return line
			}
		case ']', '}':
			depth = max(depth-1, 0)
		}
	}
	return 0
}

// Parse reads a plan from memory; name stands in front of its mistakes. Paths
// stay as written.
func Parse(name string, data []byte) (*Plan, error) {
	r := &reader{lines: strings.Split(strings.ReplaceAll(string(data), "\r\n", "\n"), "\n")}
	r.problems.File = name
	p := defaults()
	if len(data) > largest {
		r.at(1, 1, fmt.Sprintf("%d bytes are too many for a plan", len(data)), "is this the right file?")
	} else if line := tooDeep(data); line > 0 {
		r.at(line, 1, "brackets are nested too deeply for a plan", "is this the right file?")
	} else if root := r.tree(data); root != nil {
		r.plan(root, p)
	}
	if len(r.problems.List) > 0 {
		r.problems.sort()
		return nil, r.problems
	}
	return p, nil
}

func (r *reader) plan(n ast.Node, p *Plan) {
	var others ast.Node // read when the name of the first part is known
	keys := []key{
		{"service", true, parsed(r, "service", &p.Service, word)},
		{"state", false, func(n ast.Node) { r.text(n, "state", &p.State) }},
		{"secrets", false, func(n ast.Node) { r.secrets(n, p.Secrets) }},
		{"front", false, func(n ast.Node) { r.fronts(n, p) }},
		{"part", false, parsed(r, "part", &p.Parts[0].Name, word)},
	}
	keys = append(keys, r.partKeys(&p.Parts[0])...)
	keys = append(keys,
		key{"parts", false, func(n ast.Node) { others = n }},
		key{"differences", false, func(n ast.Node) { r.differences(n, &p.Differences) }},
		key{"same-request", false, func(n ast.Node) { r.pairs(n, &p.Pairs) }},
		key{"warm-up", false, parsed(r, "warm-up", &p.WarmUp, warmUp)},
		key{"route", true, func(n ast.Node) { r.route(n, p) }},
		key{"keep", false, func(n ast.Node) { r.keep(n, p) }},
		key{"guards", false, func(n ast.Node) { r.guards(n, &p.Guards) }},
		key{"prober", false, func(n ast.Node) { r.prober(n, &p.Prober) }},
	)
	r.mapping(n, "the plan", keys...)
	if others != nil {
		r.parts(others, p)
	}
	r.versionsWhole(n, p)
	r.secretsKnown(p.Secrets)
}

// route reads the legs. The word ask belongs to the leg behind it.
func (r *reader) route(n ast.Node, p *Plan) {
	var ask, last ast.Node
	before := split.Share(0)
	r.list(n, "route", func(n ast.Node) {
		var text string
		if !r.text(n, "a leg", &text) {
			return
		}
		last = n
		if text == "ask" {
			if ask != nil {
				r.wrong(n, "a person is asked twice in a row", "keep one ask")
			}
			ask = n
			return
		}
		l, err := leg(text)
		l.Ask, ask = ask != nil, nil
		switch {
		case err != nil:
			what, try := explain(err)
			r.wrong(n, what, try)
			return
		case l.Part <= before:
			r.wrong(n, fmt.Sprintf("%v does not go further than the %v before it", l.Part, before), "shares grow from leg to leg")
		case l.Part == split.Whole && l.Dwell != 0:
			r.wrong(n, "the last leg cannot have an end", `write "100 %", and how long the old side stays in "keep"`)
		}
		before = max(before, l.Part)
		p.Route = append(p.Route, l)
	})
	switch {
	case ask != nil:
		r.wrong(ask, "nothing follows this ask", "ask stands before the leg that needs a person's word")
	case last == nil:
		r.wrong(n, "a route needs at least one leg", `the last one is "100 %"`)
	}
	if last != nil && before != split.Whole {
		r.wrong(last, "the route does not end at 100 %", `let the last leg be "100 %"`)
	}
}

// keep reads "30m" or "30m, then ask".
func (r *reader) keep(n ast.Node, p *Plan) {
	var text string
	if !r.text(n, "keep", &text) {
		return
	}
	hold, then, more := strings.Cut(text, ", then ")
	var err error
	if p.Keep, err = timeOrNone(hold); err == nil && more {
		p.Then, err = oneOf(strings.TrimSpace(then), crossing.ThenRetire, crossing.ThenAsk, crossing.ThenLeave)
	}
	if err != nil {
		what, try := explain(err)
		r.wrong(n, what, try+` ("30m, then retire", "2h, then ask" or "30m, then leave")`)
	}
}

func (r *reader) guards(n ast.Node, g *Guards) {
	r.mapping(n, "guards",
		key{"failing", false, func(n ast.Node) { r.comparing(n, "failing", &g.Failing, nil) }},
		key{"slow", false, func(n ast.Node) { r.comparing(n, "slow", &g.Slow, &g.SlowAfter) }},
		key{"unhealthy", false, func(n ast.Node) { r.counting(n, "unhealthy", &g.Unhealthy) }},
		key{"lost", false, func(n ast.Node) { r.counting(n, "lost", &g.Lost) }},
	)
}

// off reports whether a guard is switched off by the word, and marks it.
func off(n ast.Node, to *bool) bool {
	switch n.(type) {
	case *ast.StringNode, *ast.BoolNode:
		*to = scalar(n) == "off"
	}
	return *to
}

func (r *reader) comparing(n ast.Node, what string, c *Comparing, after *time.Duration) {
	if off(n, &c.Off) {
		return
	}
	keys := []key{
		{"worse-by", false, parsed(r, "worse-by", &c.Bound.Margin, fraction)},
		{"sure", false, parsed(r, "sure", &c.Bound.Sure, certainty)},
		{"at-least", false, func(n ast.Node) {
			var least int
			parsed(r, "at-least", &least, between(1, 1_000_000))(n)
			c.Bound.AtLeast = int64(least)
		}},
		{"over", false, parsed(r, "over", &c.Over, duration)},
		{"then", false, parsed(r, "then", &c.Then, action)},
	}
	if after != nil {
		keys = append(keys, key{"after", false, parsed(r, "after", after, duration)})
	}
	r.mapping(n, what, keys...)
}

func (r *reader) counting(n ast.Node, what string, c *Counting) {
	if off(n, &c.Off) {
		return
	}
	r.mapping(n, what,
		key{"more-than", false, parsed(r, "more-than", &c.Most, between(0, 1_000_000))},
		key{"then", false, parsed(r, "then", &c.Then, action)},
	)
}

func (r *reader) prober(n ast.Node, p *Prober) {
	r.mapping(n, "prober",
		key{"path", false, parsed(r, "path", &p.Path, pathOf)},
		key{"rate", false, parsed(r, "rate", &p.Rate, func(text string) (float64, error) {
			rate, err := perSecond(text)
			if err == nil && rate > 1000 {
				err = fmt.Errorf("%q is more than the prober sends: want at most \"1000 /s\"", text)
			}
			return rate, err
		})},
		key{"within", false, parsed(r, "within", &p.Within, duration)},
		key{"status", false, parsed(r, "status", &p.Status, between(100, 599))},
		key{"side", false, parsed(r, "side", &p.Side, field)},
		key{"version", false, parsed(r, "version", &p.Version, field)},
	)
}
