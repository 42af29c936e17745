package planfile

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
)

// defaults is a plan with every key left out.
func defaults() *plan.Plan {
	compare := func(w plan.Watch, margin float64) plan.Guard {
		return plan.Guard{
			Watch: w, Bound: evidence.Bound{Margin: margin, Sure: 0.99, AtLeast: 50}, Over: 2 * time.Minute, Then: plan.RollBack,
		}
	}
	slow := compare(plan.Slow, 0.02)
	slow.After = 250 * time.Millisecond
	door := compare(plan.Door, 0.05)
	door.Bound.AtLeast, door.After = 10, slow.After
	return &plan.Plan{
		Front: newFront(),
		Parts: []plan.Part{newPart("web")},
		Keep:  30 * time.Minute,
		Then:  plan.ThenRetire,
		Guards: []plan.Guard{
			compare(plan.Failing, 0.005), slow, {Watch: plan.Unhealthy, Then: plan.RollBack}, {Watch: plan.Lost, Then: plan.RollBack}, door,
		},
		Quiet:       plan.QuietAsk,
		Prober:      plan.Prober{Path: "/", Rate: 20, Within: 2 * time.Second, Status: 200},
		Differences: plan.Differences{Then: plan.Ask},
		Pairs:       plan.Pairs{Rate: 20, Repeat: 5, Within: 5 * time.Second, Then: plan.Ask},
		Secrets:     map[string]plan.Secret{},
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
func Parse(name string, data []byte) (*plan.Plan, error) { return parse(name, data, (*reader).plan) }

// parse reads a plan, or those of its keys that are wanted.
func parse(name string, data []byte, read func(*reader, ast.Node, *plan.Plan)) (*plan.Plan, error) {
	r := &reader{lines: strings.Split(strings.ReplaceAll(string(data), "\r\n", "\n"), "\n")}
	r.problems.File = name
	p := defaults()
	if len(data) > largest {
		r.at(1, 1, fmt.Sprintf("%d bytes are too many for a plan", len(data)), "is this the right file?")
	} else if line := tooDeep(data); line > 0 {
		r.at(line, 1, "brackets are nested too deeply for a plan", "is this the right file?")
	} else if root := r.tree(data); root != nil {
		read(r, root, p)
	}
	if len(r.problems.List) > 0 {
		r.problems.sort()
		return nil, r.problems
	}
	return p, nil
}

func (r *reader) plan(n ast.Node, p *plan.Plan) {
	var others ast.Node // read when the name of the first part is known
	keys := append(r.frontKeys(p),
		key{"secrets", false, func(n ast.Node) { r.secrets(n, p.Secrets) }},
		key{"part", false, parsed(r, "part", &p.Parts[0].Name, word)})
	keys = append(keys, r.partKeys(&p.Parts[0])...)
	keys = append(keys,
		key{"parts", false, func(n ast.Node) { others = n }},
		key{"differences", false, func(n ast.Node) { r.differences(n, &p.Differences) }},
		key{"same-request", false, func(n ast.Node) { r.pairs(n, &p.Pairs) }},
		key{"warm-up", false, parsed(r, "warm-up", &p.WarmUp, warmUp)},
		key{"route", true, func(n ast.Node) { r.route(n, p) }},
		key{"keep", false, func(n ast.Node) { r.keep(n, p) }},
		key{"guards", false, func(n ast.Node) { r.guards(n, &p.Guards) }},
		key{"quiet", false, parsed(r, "quiet", &p.Quiet, func(text string) (plan.Quiet, error) { return oneOf(text, plan.QuietAsk, plan.QuietGoOn) })},
		key{"prober", false, func(n ast.Node) { r.prober(n, &p.Prober) }},
	)
	r.mapping(n, "the plan", keys...)
	if others != nil {
		r.parts(others, p)
	}
	nameGuards(p.Guards)
	r.versionsWhole(n, p)
	r.secretsKnown(p.Secrets)
}

// frontKeys are the keys that say where the front is.
func (r *reader) frontKeys(p *plan.Plan) []key {
	return []key{
		{"service", true, parsed(r, "service", &p.Service, word)},
		{"state", false, func(n ast.Node) { r.text(n, "state", &p.State) }},
		{"front", false, func(n ast.Node) { r.fronts(n, p) }},
	}
}

// topKey is a line that begins one of the plan's own keys.
var topKey = regexp.MustCompile(`^["']?([^\s"'#:-][^\s"':]*)["']?\s*:`)

// parseFront reads what a plan says of its front, whatever stands elsewhere in it.
func parseFront(name string, data []byte) (*plan.Plan, error) {
	var wanted []string
	for _, k := range new(reader).frontKeys(defaults()) {
		wanted = append(wanted, k.name)
	}
	lines := strings.Split(string(data), "\n")
	within := false
	for n, line := range lines {
		if m := topKey.FindStringSubmatch(line); m != nil {
			within = slices.Contains(wanted, m[1])
		}
		if !within {
			lines[n] = "" // so that mistakes keep their lines
		}
	}
	if strings.TrimSpace(strings.Join(lines, "")) == "" {
		return nil, Problems{File: name, List: []Problem{{Line: 1, Column: 1, What: "it is not said whose front this is", Try: `a plan begins with "service: NAME"; docs/plan.md has an example`}}}
	}
	p, err := parse(name, []byte(strings.Join(lines, "\n")), func(r *reader, n ast.Node, p *plan.Plan) {
		r.mapping(n, "the plan", r.frontKeys(p)...)
	})
	if err != nil {
		return nil, err
	}
	p.Parts = nil
	return p, nil
}

// route reads the legs. The word ask belongs to the leg behind it.
func (r *reader) route(n ast.Node, p *plan.Plan) {
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
func (r *reader) keep(n ast.Node, p *plan.Plan) {
	var text string
	if !r.text(n, "keep", &text) {
		return
	}
	hold, then, more := strings.Cut(text, ", then ")
	var err error
	if p.Keep, err = timeOrNone(hold); err == nil && more {
		p.Then, err = oneOf(strings.TrimSpace(then), plan.ThenRetire, plan.ThenAsk, plan.ThenLeave)
	}
	if err != nil {
		what, try := explain(err)
		r.wrong(n, what, try+` ("30m, then retire", "2h, then ask" or "30m, then leave")`)
	}
}

// guards reads what the plan says of each kind of guard: one rule, several, or that it
// is off. What it does not mention stays as it is.
func (r *reader) guards(n ast.Node, guards *[]plan.Guard) {
	rules := map[plan.Watch][]plan.Guard{}
	var keys []key
	for _, g := range *guards {
		rules[g.Watch] = []plan.Guard{g}
		keys = append(keys, key{string(g.Watch), false, func(n ast.Node) { rules[g.Watch] = r.rules(n, g) }})
	}
	r.mapping(n, "guards", keys...)
	var list []plan.Guard
	for _, g := range *guards {
		list = append(list, rules[g.Watch]...)
	}
	*guards = list
}

// nameGuards gives every guard a name of its own, after what it watches.
func nameGuards(guards []plan.Guard) {
	taken := map[string]int{}
	for n := range guards {
		g := &guards[n]
		switch g.Watch {
		case plan.Slow:
			g.Name = "over " + route.Short(g.After)
		case plan.Lost:
			g.Name = "lost at front"
		default:
			g.Name = string(g.Watch)
		}
		if taken[g.Name]++; taken[g.Name] > 1 {
			g.Name += fmt.Sprintf(" (%d)", taken[g.Name])
		}
	}
}

// rules reads one guard or a list of them; what they leave out is as in the default.
func (r *reader) rules(n ast.Node, g plan.Guard) []plan.Guard {
	if _, several := n.(*ast.SequenceNode); !several {
		return []plan.Guard{r.rule(n, g)}
	}
	var list []plan.Guard
	r.list(n, string(g.Watch), func(n ast.Node) { list = append(list, r.rule(n, g)) })
	return list
}

func (r *reader) rule(n ast.Node, g plan.Guard) plan.Guard {
	switch n.(type) {
	case *ast.StringNode, *ast.BoolNode:
		if g.Off = scalar(n) == "off"; g.Off {
			return g
		}
	}
	keys := []key{{"then", false, parsed(r, "then", &g.Then, action)}}
	if g.Watch.Compares() {
		keys = append(keys,
			key{"worse-by", false, parsed(r, "worse-by", &g.Bound.Margin, fraction)},
			key{"sure", false, parsed(r, "sure", &g.Bound.Sure, certainty)},
			key{"at-least", false, func(n ast.Node) {
				least := int(g.Bound.AtLeast)
				parsed(r, "at-least", &least, between(1, 1_000_000))(n)
				g.Bound.AtLeast = int64(least)
			}},
			key{"over", false, parsed(r, "over", &g.Over, duration)})
	} else {
		keys = append(keys, key{"more-than", false, parsed(r, "more-than", &g.Most, between(0, 1_000_000))})
	}
	if g.Watch == plan.Slow || g.Watch == plan.Door {
		keys = append(keys, key{"after", false, parsed(r, "after", &g.After, duration)})
	}
	r.mapping(n, string(g.Watch), keys...)
	return g
}

func (r *reader) prober(n ast.Node, p *plan.Prober) {
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
		key{"contains", false, func(n ast.Node) { r.text(n, "contains", &p.Contains) }},
		key{"json", false, func(n ast.Node) { r.jsonValues(n, &p.JSON) }},
		key{"side", false, parsed(r, "side", &p.Side, field)},
		key{"version", false, parsed(r, "version", &p.Version, field)},
	)
}
