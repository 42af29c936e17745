package planfile

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/calendar"
	"vaiven/internal/core/difference"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/world/section"
)

// defaults is a plan with every key left out.
func defaults() *plan.Plan {
	compare := func(w plan.Watch, margin float64) plan.Guard {
		return plan.Guard{Watch: w, Margin: margin, Then: plan.RollBack}
	}
	slow := compare(plan.Slow, 0.02)
	slow.After = 250 * time.Millisecond
	door := compare(plan.Door, 0.05)
	door.After = slow.After
	return &plan.Plan{
		Front: newFront(),
		Parts: []plan.Part{newPart("web")},
		Keep:  30 * time.Minute,
		Then:  plan.ThenRetire,

		KeepLog: 30 * 24 * time.Hour,
		Guards: []plan.Guard{
			compare(plan.Failing, 0.005), slow, {Watch: plan.Unhealthy, Part: 0.1, Then: plan.RollBack},
			{Watch: plan.Lost, Then: plan.RollBack}, door,
		},
		Find:        0.01,
		Sure:        0.99,
		Quiet:       plan.QuietAsk,
		Prober:      plan.Prober{Path: "/", Rate: 20, Within: 2 * time.Second, Status: 200},
		Differences: plan.Differences{Then: plan.Ask},
		Pairs:       plan.Pairs{Rate: 20, Repeat: 5, Within: 5 * time.Second, Then: plan.Ask},
		Secrets:     map[string]plan.Secret{},
		WayBack:     plan.WayBack{Every: time.Minute, Freezes: true},
	}
}

// largest is how many bytes a plan file may have.
const largest = 64 << 10

// tooDeep is the line at which brackets are nested beyond all sense, 0 if they are
// not. The YAML parser takes very long over such files.
func tooDeep(data []byte) int {
	const most = 100
	for n, line := range bytes.Split(data, []byte("\n")) {
		rest := bytes.TrimLeft(line, " ")
		within := len(line) - len(rest)
		for bytes.HasPrefix(rest, []byte("- ")) {
			within += 2
			rest = rest[2:]
		}
		if within > 2*most {
			return n + 1
		}
	}
	depth, line := 0, 1
	for _, c := range data {
		switch c {
		case '\n':
			line++
		case '[', '{':
			if depth++; depth > most {
				return line
			}
		case ']', '}':
			depth = max(depth-1, 0)
		}
	}
	return 0
}

// Parse reads a plan from memory; name is its file's, stands in front of its mistakes, and is where the name of its
// base begins. Paths stay as written.
func Parse(name string, data []byte) (*plan.Plan, error) {
	return parse(name, data, nil, (*reader).plan)
}

// parse reads a plan, or those of its keys that are wanted: blank, which may be nil, empties the others.
func parse(name string, data []byte, blank func([]byte) []byte, read func(*reader, ast.Node, *plan.Plan)) (*plan.Plan,
	error) {
	s, err := newFiles(name, data, blank)
	if err != nil {
		return nil, err
	}
	r := newReader(name, s.text())
	p := defaults()
	if len(s.text()) > largest {
		r.At(1, 1, fmt.Sprintf("%d bytes are too many for a plan", len(s.text())), "is this the right file?")
	} else if line := max(tooDeep(s.data), tooDeep(s.below())); line > 0 {
		r.At(line, 1, "keys are nested too deeply for a plan", "is this the right file?")
	} else if root := s.tree(r); root != nil {
		read(r, root, p)
	}
	if len(r.Problems.List) > 0 {
		r.Problems.Sort()
		for n := range r.Problems.List { // a plan may have a password where it should not
			mask := new(difference.Mask)
			q := &r.Problems.List[n]
			q.Source, q.What = mask.URLs(q.Source), mask.URLs(q.What)
			for _, text := range r.hide {
				q.Source = strings.ReplaceAll(q.Source, text, strings.Repeat("*", len(text)))
			}
			if file, line := s.place(q.Line); file != name {
				q.File, q.Line = file, line
			}
		}
		return nil, r.Problems
	}
	sum := sha256.Sum256(s.text())
	p.Digest = hex.EncodeToString(sum[:8])
	return p, nil
}

// tabs reports tabs in the indentation: YAML has none there.
func (r *reader) tabs(data []byte, before int) bool {
	found := false
	block := -1 // the indentation of a key whose text follows in lines of their own, -1 for none
	for n, line := range strings.Split(string(data), "\n") {
		rest := strings.TrimLeft(line, " ")
		within := len(line) - len(rest)
		switch trimmed := strings.TrimSpace(rest); {
		case trimmed == "":
			continue
		case block >= 0 && within > block:
			continue
		case strings.HasPrefix(rest, "\t"):
			r.At(before+n+1, within+1, "a tab stands in the indentation", "indent with spaces: YAML knows no tabs there")
			found = true
		default:
			block = -1
			if key, _, _ := strings.Cut(trimmed, " #"); strings.HasSuffix(key, "|") || strings.HasSuffix(key, ">") ||
				strings.HasSuffix(key, "|-") || strings.HasSuffix(key, ">-") {
				block = within
			}
		}
	}
	return found
}

// Schema is the JSON Schema (draft 2020-12) of plan files: for editors that complete and check as
// one writes. What it takes is what Read takes, but for what values mean.
func Schema() section.Shape {
	r := newReader("", nil)
	s := r.Discover(func(n ast.Node) { r.plan(n, defaults()) })
	describe(s, "")
	s["$schema"], s["title"] = "https://json-schema.org/draft/2020-12/schema", "A plan of Vaiven"
	return s
}

func newReader(name string, data []byte) *reader {
	return &reader{Reader: section.New(name, data), portsAt: map[[2]int]ast.Node{}, commandAt: map[string]ast.Node{},
		secretAt: map[string]ast.Node{}, sources: newSources()}
}

func (r *reader) plan(n ast.Node, p *plan.Plan) {
	var others ast.Node // read when the name of the first part is known
	keys := append(r.frontKeys(p),
		section.May("secrets", func(n ast.Node) { r.secrets(n, p.Secrets) }),
		section.May("part", section.Parsed(r.Reader, "part", &p.Parts[0].Name, section.Word)))
	keys = append(keys, r.partKeys(&p.Parts[0])...)
	keys = append(keys,
		section.May("parts", func(n ast.Node) {
			if others = n; r.Discovering() {
				r.parts(n, p)
			}
		}),
		section.May("differences", func(n ast.Node) { r.differences(n, &p.Differences) }),
		section.May("same-request", func(n ast.Node) { r.pairs(n, &p.Pairs) }),
		section.May("warm-up", section.Parsed(r.Reader, "warm-up", &p.WarmUp, warmUp)),
		section.Need("route", func(n ast.Node) {
			r.legs = n
			r.route(n, p)
		}),
		section.May("limit", section.Parsed(r.Reader, "limit", &p.Limit, limit)),
		section.May("harm", section.Parsed(r.Reader, "harm", &p.Harm, section.Positive)),
		section.May("hours", func(n ast.Node) { r.hours(n, p) }),
		section.May("embargo", func(n ast.Node) { r.Text(n, "embargo", &p.Embargo) }),
		section.May("start", func(n ast.Node) { r.start(n, p) }),
		section.May("build", func(n ast.Node) { r.build(n, &p.Build) }),
		section.May("notices", func(n ast.Node) { r.notices(n, &p.Notices) }),
		section.May("metrics", section.Parsed(r.Reader, "metrics", &p.Metrics, section.HostPort)),
		section.May("people", func(n ast.Node) { r.people(n, &p.People) }),
		section.May("keep", func(n ast.Node) { r.keep(n, p) }),
		section.May("keep-log", func(n ast.Node) { r.keepLog(n, &p.KeepLog) }),
		section.May("way-back", func(n ast.Node) { r.wayBack(n, &p.WayBack) }),
		section.May("guards", func(n ast.Node) { r.guards(n, p) }),
		section.May("hooks", func(n ast.Node) { r.hooks(n, &p.Hooks) }),
		section.May("quiet", section.Parsed(r.Reader, "quiet", &p.Quiet,
			func(text string) (plan.Quiet, error) { return section.OneOf(text, plan.QuietAsk, plan.QuietGoOn) })),
		section.May("door", func(n ast.Node) { r.door(n, &p.Door) }),
		section.May("prober", func(n ast.Node) { r.prober(n, &p.Prober) }),
	)
	r.Mapping(n, "the plan", keys...)
	if others != nil && !r.Discovering() {
		r.parts(others, p)
	}
	r.doorless(p)
	if p.Prober.Off { // what nobody asks for is no evidence
		for n := range p.Guards {
			p.Guards[n].Off = p.Guards[n].Off || p.Guards[n].Watch == plan.Door
		}
	}
	if _, queued := p.Front.Settings.(plan.Queued); queued && !slices.ContainsFunc(p.Guards,
		func(g plan.Guard) bool { return g.Watch == plan.Waits }) {
		p.Guards = append(p.Guards, plan.Guard{Watch: plan.Waits, Then: plan.Freeze})
	}
	finishGuards(p.Guards, p.Find)
	r.sourcesThere(p)
	if wanted := p.Told(); len(wanted) > 0 && !p.Main().Figures.On() && !r.Discovering() {
		r.Wrong(n, fmt.Sprintf("the guard on %s has no page to read it from", wanted[0]),
			`say where instances tell their figures: "figures: /metrics"`)
	}
	for _, side := range split.Sides {
		if p.Limit.Part > 0 && !p.Main().Stacks[side].Capacity.Known() && !r.Discovering() &&
			len(r.Problems.List) == 0 {
			r.Wrong(n, fmt.Sprintf("limit is a part of a capacity, and that of %v is not said", side),
				`add "capacity: 120 /s" to the stack: the requests a second that one instance carries`)
			break
		}
	}
	for side, stack := range p.Main().Stacks {
		p.Front.Carry[side] = stack.Capacity
		for n := range p.Beside {
			p.Beside[n].Carry[side] = stack.Capacity
		}
	}
	for _, f := range p.Fronts() {
		if w, ok := f.Settings.(plan.Whole); ok &&
			slices.ContainsFunc(p.Route, func(l route.Leg) bool { return l.Part != split.Whole }) {
			if err := w.Whole(); err != nil {
				r.Refuse(either(r.legs, n), err)
			}
		}
		if d, ok := f.Settings.(plan.Resolves); ok && p.Door.Resolver == "" {
			p.Door.Resolver = d.Resolver()
		}
	}
	if p.Route.Controls() && len(r.Problems.List) == 0 && !r.Discovering() {
		if err := p.Controls(); err != nil {
			what, try := section.Explain(err)
			r.Wrong(either(r.legs, n), what, cmp.Or(try, `leave "beside control" out of the legs`))
		}
	}
	r.started(n, p)
	r.portsEnough(p)
	r.versionsWhole(n, p)
	r.secretsKnown(p.Secrets)
}

// frontKeys are the keys that say where the front is.
func (r *reader) frontKeys(p *plan.Plan) []section.Key {
	return []section.Key{
		section.May("base", func(n ast.Node) { r.Text(n, "base", &p.Base) }),
		section.Need("service", section.Parsed(r.Reader, "service", &p.Service, section.Word)),
		section.May("state", func(n ast.Node) { r.Text(n, "state", &p.State) }),
		section.May("front", func(n ast.Node) { r.fronts(n, p) }),
	}
}

// topKey is a line that begins one of the plan's own keys.
var topKey = regexp.MustCompile(`^["']?([^\s"'#:-][^\s"':]*)["']?\s*:`)

// parseFront reads what a plan says of its front, whatever stands elsewhere in it.
func parseFront(name string, data []byte) (*plan.Plan, error) {
	var wanted []string
	for _, k := range new(reader).frontKeys(defaults()) {
		wanted = append(wanted, k.Name())
	}
	blank := func(data []byte) []byte {
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
		return []byte(strings.Join(lines, "\n"))
	}
	if len(bytes.TrimSpace(blank(data))) == 0 {
		return nil, section.Problems{File: name,
			List: []section.Problem{{Line: 1, Column: 1, What: "it is not said whose front this is",
				Try: `a plan begins with "service: NAME"; docs/plan.md has an example`}}}
	}
	p, err := parse(name, data, blank, func(r *reader, n ast.Node, p *plan.Plan) {
		r.Mapping(n, "the plan", r.frontKeys(p)...)
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
	r.List(n, "route", func(n ast.Node) {
		var text string
		if !r.Like(n, "a leg", legForm, &text) {
			return
		}
		last = n
		if text == "ask" {
			if ask != nil {
				r.Wrong(n, "a person is asked twice in a row", "keep one ask")
			}
			ask = n
			return
		}
		l, err := leg(text)
		l.Ask, ask = ask != nil, nil
		switch {
		case err != nil:
			r.Refuse(n, err)
			return
		case l.Part <= before:
			r.Wrong(n, fmt.Sprintf("%v does not go further than the %v before it", l.Part, before),
				"shares grow from leg to leg")
		case l.Part == split.Whole && (l.Dwell != 0 || l.Sure):
			r.Wrong(n, "the last leg cannot have an end", `write "100 %", and how long the old side stays in "keep"`)
		case l.Control && l.Part > split.Whole/2:
			r.Wrong(n, fmt.Sprintf("%v %v", l.Part, route.ErrControlHalf), `a control group ends above 50 %`)
		case l.Control && len(p.Route) > 0 && !p.Route[len(p.Route)-1].Control:
			r.Wrong(n, route.ErrControlFirst.Error(), `write "beside control" in the legs before too, or in none`)
		}
		before = max(before, l.Part)
		p.Route = append(p.Route, l)
	})
	switch {
	case ask != nil:
		r.Wrong(ask, "nothing follows this ask", "ask stands before the leg that needs a person's word")
	case last == nil:
		r.Wrong(n, "a route needs at least one leg", `the last one is "100 %"`)
	}
	if last != nil && before != split.Whole {
		r.Wrong(last, "the route does not end at 100 %", `let the last leg be "100 %"`)
	}
}

// hours reads when traffic may move towards the new side.
func (r *reader) hours(n ast.Node, p *plan.Plan) {
	r.Mapping(n, "hours",
		section.Need("zone", section.Parsed(r.Reader, "zone", &p.Hours.Zone, zone)),
		section.May("open", func(n ast.Node) {
			r.List(n, "open", func(one ast.Node) {
				var s calendar.Span
				section.Parsed(r.Reader, "open", &s, calendar.ParseSpan)(one)
				p.Hours.Spans = append(p.Hours.Spans, s)
			})
		}),
		section.May("closed", func(n ast.Node) { r.Text(n, "closed", &p.Closed) }))
	if len(p.Hours.Spans) == 0 && p.Closed == "" {
		r.Wrong(n, "these hours leave nothing out", "say \"open: [Mon-Fri 09:00-16:30]\", or which days are \"closed\"")
	}
}

// keep reads "30m" or "30m, then ask".
func (r *reader) keep(n ast.Node, p *plan.Plan) {
	var text string
	if !r.Like(n, "keep", "(0|"+section.TimeForm+")(, then *(retire|ask|leave))?", &text) {
		return
	}
	hold, then, more := strings.Cut(text, ", then ")
	var err error
	if p.Keep, err = section.TimeOrNone(hold); err == nil && more {
		p.Then, err = section.OneOf(strings.TrimSpace(then), plan.ThenRetire, plan.ThenAsk, plan.ThenLeave)
	}
	if err != nil {
		what, try := section.Explain(err)
		r.Wrong(n, what, try+` ("30m, then retire", "2h, then ask" or "30m, then leave")`)
	}
}

// keepLog reads "30 days".
func (r *reader) keepLog(n ast.Node, to *time.Duration) {
	var text string
	if !r.Like(n, "keep-log", "[0-9]{1,4} days?", &text) {
		return
	}
	number, unit, _ := strings.Cut(strings.TrimSpace(text), " ")
	days, err := strconv.Atoi(number)
	if err != nil || len(number) > 4 || days < 0 || unit != "days" && unit != "day" {
		r.Wrong(n, fmt.Sprintf("%q is no number of days", text), `write "30 days"; "0 days" keeps all in full`)
		return
	}
	*to = time.Duration(days) * 24 * time.Hour
}

// guards reads what the plan says of each kind of guard: one rule, several, or that it
// is off. What it does not mention stays as it is.
func (r *reader) guards(n ast.Node, p *plan.Plan) {
	rules := map[plan.Watch][]plan.Guard{}
	keys := []section.Key{
		section.May("sure", section.Parsed(r.Reader, "sure", &p.Sure, section.Certainty)),
		section.May("find", section.Parsed(r.Reader, "find", &p.Find, section.Fault)),
	}
	kinds := slices.Clone(p.Guards)
	for _, g := range p.Guards {
		rules[g.Watch] = []plan.Guard{g}
	}
	// There is none of these unless the plan has one.
	for _, w := range []plan.Watch{plan.Grows, plan.Higher, plan.Lower, plan.Fewer, plan.Rate, plan.Bound} {
		kinds = append(kinds, plan.Guard{Watch: w, Then: plan.Freeze, Settle: 30 * time.Second})
	}
	for _, w := range []plan.Watch{plan.Alert, plan.Waits} {
		kinds = append(kinds, plan.Guard{Watch: w, Then: plan.Freeze})
	}
	for _, g := range kinds {
		keys = append(keys, section.May(string(g.Watch), func(n ast.Node) { rules[g.Watch] = r.rules(n, g) }))
	}
	r.Mapping(n, "guards", keys...)
	p.Guards = nil
	for _, g := range kinds {
		p.Guards = append(p.Guards, rules[g.Watch]...)
	}
}

// finishGuards gives every guard a name, and those that compare the fault that they are to find.
func finishGuards(guards []plan.Guard, find float64) {
	nameGuards(guards)
	for n := range guards {
		if g := &guards[n]; g.Watch.Compares() && g.Find == 0 {
			g.Find = max(find, 2*g.Margin)
		}
	}
}

// nameGuards gives every guard a name of its own, after what it watches.
func nameGuards(guards []plan.Guard) {
	taken := map[string]int{}
	for n := range guards {
		g := &guards[n]
		switch g.Watch {
		case plan.Slow:
			if g.Name = "over " + route.Short(g.After); g.After == 0 {
				g.Name = "slower than usual"
			}
		case plan.Lost:
			g.Name = "no answer at the front"
		case plan.Waits:
			if g.Name = "waits over " + route.Short(g.Longest); g.Longest == 0 {
				g.Name = "waits longer than usual"
			}
		case plan.Grows, plan.Higher, plan.Lower:
			g.Name = cmp.Or(g.Name, g.Figure.Name) + " " + string(g.Watch)
		case plan.Fewer:
			g.Name = "fewer " + cmp.Or(g.Name, g.Figure.Name)
		case plan.Rate, plan.Bound, plan.Alert:
			g.Name = cmp.Or(g.Name, g.Figure.Name)
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
	r.List(n, string(g.Watch), func(n ast.Node) { list = append(list, r.rule(n, g)) })
	return list
}

// off reports whether the word off stands where there could be a mapping.
func (r *reader) off(n ast.Node) bool {
	r.Takes(n, section.Shape{"enum": []any{"off", false}})
	switch n.(type) {
	case *ast.StringNode, *ast.BoolNode:
		return section.Scalar(n) == "off"
	}
	return false
}

func (r *reader) rule(n ast.Node, g plan.Guard) plan.Guard {
	if g.Off = r.off(n); g.Off {
		return g
	}
	var find ast.Node // where the fault to find is said
	done := func(ast.Node) {}
	keys := []section.Key{section.May("then", section.Parsed(r.Reader, "then", &g.Then, action))}
	if g.Watch.Compares() {
		keys = append(keys,
			section.May("worse-by", section.Parsed(r.Reader, "worse-by", &g.Margin, section.Fraction)),
			section.May("find", func(n ast.Node) {
				find = n
				section.Parsed(r.Reader, "find", &g.Find,
					section.Fault)(n)
			}))
	} else if g.Watch.Figures() {
		asked, complete := r.askedKeys(&g)
		done = complete
		keys = append(append(keys, asked...), r.figureKeys(&g)...)
	} else if g.Watch == plan.Alert {
		asked, complete := r.alertKeys(&g)
		done = complete
		keys = append(keys, asked...)
	} else if g.Watch == plan.Waits {
		keys = append(keys, section.May("longer-than",
			section.Parsed(r.Reader, "longer-than", &g.Longest, section.Duration)))
	} else {
		most := section.Parsed(r.Reader, "more-than", &g.Most, section.Between(0, 1_000_000))
		keys = append(keys, section.May("more-than", func(n ast.Node) {
			g.Part = 0 // a number is meant as it is
			most(n)
		}))
	}
	switch g.Watch {
	case plan.Slow:
		keys = append(keys, section.May("after", section.Parsed(r.Reader, "after", &g.After, after)),
			section.May("settle", section.Parsed(r.Reader, "settle", &g.Settle, section.TimeOrNone)))
	case plan.Door:
		keys = append(keys, section.May("after", section.Parsed(r.Reader, "after", &g.After, section.Duration)))
	}
	r.Mapping(n, string(g.Watch), keys...)
	done(n)
	if g.Find != 0 && g.Find <= g.Margin && find != nil {
		r.Wrong(find, fmt.Sprintf("a fault of %g %% is not to be found where %g %% are allowed (worse-by)", 100*g.Find,
			100*g.Margin), "make find larger than worse-by, at best twice as large")
	}
	return g
}

// hooks reads the commands that run at moments: for each moment one, or several in their order.
func (r *reader) hooks(n ast.Node, to *[]plan.Hook) {
	one := func(m plan.HookMoment, n ast.Node) {
		h := plan.Hook{Moment: m, Within: 30 * time.Second}
		if isMapping(n) || r.Discovering() {
			r.Mapping(n, string(m),
				section.Need("run", func(n ast.Node) { r.hookWords(n, &h.Words) }),
				section.May("within", section.Parsed(r.Reader, "within", &h.Within, section.Duration)),
				section.May("on", section.Parsed(r.Reader, "on", &h.There, func(text string) (bool, error) {
					where, err := section.OneOf(text, "this machine", "instances")
					return where == "instances", err
				})),
				section.May("environment", func(n ast.Node) { r.secretStrings(n, "environment", &h.Environment) }))
		}
		if !isMapping(n) || r.Discovering() {
			r.hookWords(n, &h.Words)
		}
		*to = append(*to, h)
	}
	var keys []section.Key
	for _, m := range plan.HookMoments {
		keys = append(keys, section.May(string(m), func(n ast.Node) {
			if list, ok := n.(*ast.SequenceNode); ok &&
				(r.Discovering() || len(list.Values) > 0 && isMapping(list.Values[0])) {
				r.List(n, string(m), func(n ast.Node) { one(m, n) })
				return
			}
			one(m, n)
		}))
	}
	r.Mapping(n, "hooks", keys...)
}

func isMapping(n ast.Node) bool {
	_, is := n.(ast.MapNode)
	return is
}

// hookWords are a command's words. What it is about stands in its environment, and no secret in its words.
func (r *reader) hookWords(n ast.Node, to *[]string) {
	r.Words(n, "run", to)
	text := strings.Join(*to, " ")
	if known := placeholder.FindStringSubmatch(text); secretPlaceholder.MatchString(text) ||
		known != nil && slices.Contains(plan.Placeholders, known[1]) {
		r.Wrong(n, fmt.Sprintf("%q has a placeholder", text),
			"what a hook is about is in its environment (VAIVEN_VERSION, VAIVEN_SIDE ...), and secrets go into "+
				"\"environment\"")
	}
}

func (r *reader) door(n ast.Node, d *plan.Entrance) {
	scheme, http2 := "", true
	var of ast.Node // something that only TLS has
	file := func(what string, to *string) func(ast.Node) {
		return func(n ast.Node) {
			of = n
			r.Text(n, what, to)
		}
	}
	r.Mapping(n, "door",
		section.May("scheme", section.Parsed(r.Reader, "scheme", &scheme,
			func(text string) (string, error) { return section.OneOf(text, "http", "https") })),
		section.May("host", section.Parsed(r.Reader, "host", &d.Host, hostName)),
		section.May("name", section.Parsed(r.Reader, "name", &d.Name, hostName)),
		section.May("ca", file("ca", &d.CA)),
		section.May("certificate", file("certificate", &d.Certificate)),
		section.May("key", file("key", &d.Key)),
		section.May("headers", func(n ast.Node) { r.secretStrings(n, "headers", &d.Headers) }),
		section.May("resolver", section.Parsed(r.Reader, "resolver", &d.Resolver, section.HostPort)),
		section.May("http2", section.Parsed(r.Reader, "http2", &http2, section.YesNo)),
	)
	d.HTTP1 = !http2
	d.Secure = scheme == "https" || scheme == "" && of != nil
	switch {
	case !d.Secure && of != nil:
		r.Wrong(of, "the door is http, and this is for TLS", `write "scheme: https", or leave it out`)
	case (d.Certificate == "") != (d.Key == ""):
		r.Wrong(n, "a client's certificate needs its key, and a key its certificate",
			`add "certificate: FILE" and "key: FILE"`)
	case d.Secure && d.Host == "" && d.Name == "":
		r.Wrong(n, "it is not said which name the front's certificate is for",
			`add "host: NAME", the one that users ask for`)
	}
}

func (r *reader) prober(n ast.Node, p *plan.Prober) {
	if p.Off = r.off(n); p.Off {
		return
	}
	r.Mapping(n, "prober",
		section.May("path", section.Parsed(r.Reader, "path", &p.Path, pathOf)),
		section.May("rate", section.Parsed(r.Reader, "rate", &p.Rate, func(text string) (float64, error) {
			rate, err := section.PerSecond(text)
			if err == nil && rate > 1000 {
				err = fmt.Errorf("%q is more than the prober sends: want at most \"1000 /s\"", text)
			}
			return rate, err
		})),
		section.May("within", section.Parsed(r.Reader, "within", &p.Within, section.Duration)),
		section.May("status", section.Parsed(r.Reader, "status", &p.Status, section.Between(100, 599))),
		section.May("contains", func(n ast.Node) {
			r.Text(n, "contains", &p.Contains)
			r.noPlaceholder(n, p.Contains)
		}),
		section.May("json", func(n ast.Node) { r.jsonValues(n, &p.JSON, r.noPlaceholder) }),
		section.May("side", section.Parsed(r.Reader, "side", &p.Side, field)),
		section.May("version", section.Parsed(r.Reader, "version", &p.Version, field)),
	)
}
