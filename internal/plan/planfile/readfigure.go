package planfile

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/plan"
	"vaiven/internal/world/section"
	"vaiven/internal/world/source"
)

// figures reads where a part's instances tell their figures: a path, or a path and a rhythm. That of the front's part
// says besides who else tells some.
func (r *reader) figures(n ast.Node, page *plan.Page) {
	page.Every = 5 * time.Second
	if !isMapping(n) || r.Discovering() {
		section.Parsed(r.Reader, "figures", &page.Path, pathOf)(n)
	}
	if !isMapping(n) && !r.Discovering() {
		return
	}
	keys := []section.Key{
		section.May("path", section.Parsed(r.Reader, "path", &page.Path, pathOf)),
		section.May("every", section.Parsed(r.Reader, "every", &page.Every, section.Duration)),
	}
	s := &r.sources
	if r.part > 0 { // another part's
		s = nil
	}
	if s != nil {
		keys = append(keys,
			section.May("prometheus", func(n ast.Node) { r.server(n, "prometheus", &s.Prometheus) }),
			section.May("alertmanager", func(n ast.Node) { r.server(n, "alertmanager", &s.Alertmanager) }),
			section.May("sql", func(n ast.Node) { r.server(n, "sql", &s.SQL) }),
			section.May("command", func(n ast.Node) { r.rhythm(n, &s.Command) }))
	}
	r.Mapping(n, "figures", keys...)
}

// newSources are those of a plan that says nothing of them.
func newSources() plan.Sources {
	s := plan.Server{Every: 10 * time.Second, Within: 5 * time.Second, Fresh: 90 * time.Second}
	return plan.Sources{Prometheus: s, Alertmanager: s, SQL: s, Command: s}
}

// server reads the address of one, or that and how it is asked.
func (r *reader) server(n ast.Node, name string, s *plan.Server) {
	address := func(n ast.Node) {
		if !r.Text(n, "url", &s.URL) {
			return
		}
		if name == "sql" {
			r.uses(n, s.URL)
			return
		}
		u, err := url.Parse(s.URL)
		switch {
		case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "":
			r.Wrong(n, fmt.Sprintf("%q is no address of a server", s.URL), "such as https://metrics.example:9090")
		case u.User != nil:
			r.Wrong(n, "a name and a password do not belong into an address", `write "user: NAME" and "password: '{secret NAME}'"`)
		}
	}
	if !isMapping(n) || r.Discovering() {
		address(n)
	}
	if !isMapping(n) && !r.Discovering() {
		return
	}
	keys := []section.Key{section.Need("url", address)}
	if name != "sql" {
		keys = append(keys, r.trustKeys(&s.Trust)...)
		keys = append(keys,
			section.May("user", func(n ast.Node) { r.Text(n, "user", &s.User) }),
			section.May("password", func(n ast.Node) { r.hidden(n, "password", &s.Password) }),
			section.May("token", func(n ast.Node) { r.hidden(n, "token", &s.Token) }))
	}
	if name == "prometheus" {
		keys = append(keys, section.May("fresh", section.Parsed(r.Reader, "fresh", &s.Fresh, section.Duration)))
	}
	r.Mapping(n, name, append(keys, r.rhythmKeys(s)...)...)
	r.login(n, s.User, s.Password)
	if s.User != "" && s.Token != "" {
		r.Wrong(n, "it is said twice who we are", "leave out either user and password, or token")
	}
}

func (r *reader) rhythm(n ast.Node, s *plan.Server) { r.Mapping(n, "command", r.rhythmKeys(s)...) }

func (r *reader) rhythmKeys(s *plan.Server) []section.Key {
	return []section.Key{
		section.May("every", section.Parsed(r.Reader, "every", &s.Every, func(text string) (time.Duration, error) {
			d, err := section.Duration(text)
			if err == nil && (d < time.Second || d > 5*time.Minute) {
				err = section.Mistake{What: fmt.Sprintf("%q is no rhythm to ask in", text), Try: "from 1s to 5m"}
			}
			return d, err
		})),
		section.May("within", section.Parsed(r.Reader, "within", &s.Within, section.Duration)),
	}
}

// login looks whether a user and a password are there together.
func (r *reader) login(n ast.Node, user, password string) {
	if (user == "") != (password == "") {
		r.Wrong(n, "a user has a password, and a password a user", `write "user: NAME" and "password: '{secret NAME}'"`)
	}
}

// hidden reads a text that is a secret.
func (r *reader) hidden(n ast.Node, what string, to *string) {
	if !r.Text(n, what, to) {
		return
	}
	if !secretPlaceholder.MatchString(*to) {
		r.hide = append(r.hide, *to)
		r.Wrong(n, what+" stands in the plan for all to read", `write "{secret NAME}", and declare it under "secrets"`)
	}
	r.uses(n, *to)
}

// uses notes the secrets of a text.
func (r *reader) uses(n ast.Node, text string) {
	for _, m := range secretPlaceholder.FindAllStringSubmatch(text, -1) {
		r.secretUses = append(r.secretUses, secretUse{n, m[1]})
	}
}

// askedKeys are the keys by which a guard's figure is asked for at a source, and done looks at what was read.
func (r *reader) askedKeys(g *plan.Guard) (keys []section.Key, done func(n ast.Node)) {
	var figureAt ast.Node
	var asked []string // which of them are there
	q := &g.Figure.Query
	query := func(key string, from plan.From, to *string) section.Key {
		return section.May(key, func(n ast.Node) {
			asked, g.Figure.From = append(asked, key), from
			if !r.Text(n, key, to) {
				return
			}
			r.askedWith(n, *to)
			if from == plan.FromPrometheus {
				r.promQL(n, *to, g.Watch == plan.Rate || g.Watch == plan.Fewer)
			}
		})
	}
	unit := ""
	if g.Watch == plan.Rate {
		keys = append(keys, query("bad", plan.FromPrometheus, &q.Bad), query("of", plan.FromPrometheus, &q.Of))
	} else {
		keys = append(keys, query("query", plan.FromPrometheus, &q.Text),
			section.May("figure", func(n ast.Node) {
				figureAt = n
				asked = append(asked, "figure")
				section.Parsed(r.Reader, "figure", &g.Figure, figure)(n)
			}))
	}
	keys = append(keys, query("sql", plan.FromSQL, &q.Text),
		section.May("run", func(n ast.Node) {
			asked, g.Figure.From = append(asked, "run"), plan.FromCommand
			r.askingWords(n, &q.Words)
		}),
		section.May("unit", section.Parsed(r.Reader, "unit", &unit, section.Word)),
		r.silent(g))
	r.bounded = false
	return keys, func(n ast.Node) {
		if r.Discovering() {
			return
		}
		if g.Watch == plan.Bound && !r.bounded {
			r.Wrong(n, "it is not said what the figure is to be", `add "at-most: 800", or "at-least: 1"`)
		}
		want := []string{"figure", "query", "sql", "run"}
		if g.Watch == plan.Rate {
			want = []string{"bad and of", "sql", "run"}
		}
		switch {
		case len(asked) == 0:
			r.Wrong(n, "it is not said what is watched", "say one of: "+strings.Join(want, ", "))
			return
		case g.Watch == plan.Rate && slices.Contains(asked, "bad") != slices.Contains(asked, "of"):
			r.Wrong(n, "a rate is of two counters: what is bad, and of what", `write both "bad" and "of"`)
			return
		case len(asked) > 1 && !(g.Watch == plan.Rate && len(asked) == 2 && slices.Contains(asked, "bad")):
			r.Wrong(n, "a guard watches one thing, not "+strings.Join(asked, " and "), "make it two guards")
			return
		case figureAt != nil && unit != "":
			r.Wrong(figureAt, "the unit of a figure on a page follows from its name", `leave "unit" out`)
			return
		case figureAt != nil:
			return
		case g.Name == "":
			r.Wrong(n, "what is asked for has no name", `give it one that people know, such as "name: bookings"`)
		case !q.Sided() && g.Watch.Beside():
			r.Wrong(n, "it asks the same of both sides", "let the query tell them apart: {side}, {version}, or {instances}")
		}
		g.Figure.Name, g.Figure.Unit = g.Name, unit
		r.wanted = append(r.wanted, wantedSource{n, *g})
	}
}

// figureKeys are the keys that say when a guard on a figure trips.
func (r *reader) figureKeys(g *plan.Guard) []section.Key {
	settle := section.May("settle", section.Parsed(r.Reader, "settle", &g.Settle, section.TimeOrNone))
	name := section.May("name", section.Parsed(r.Reader, "name", &g.Name, section.Word))
	limit := func(key string, down bool) section.Key {
		return section.May(key, func(n ast.Node) {
			if r.bounded {
				r.Wrong(n, "a guard has one bound", "make it two guards")
			}
			r.bounded, g.Down = true, down
			section.Parsed(r.Reader, key, &g.Margin, bound)(n)
		})
	}
	switch g.Watch {
	case plan.Fewer:
		g.Settle, g.After = 0, plan.Unsaid
		return []section.Key{name,
			section.May("after", section.Parsed(r.Reader, "after", &g.After, section.TimeOrNone)),
			section.Need("by", section.Parsed(r.Reader, "by", &g.Margin, section.Fault))}
	case plan.Rate:
		g.Settle, g.Margin = 0, 0.005
		return []section.Key{name, settle,
			section.May("worse-by", section.Parsed(r.Reader, "worse-by", &g.Margin, section.Fraction))}
	case plan.Bound:
		return []section.Key{name, settle, limit("at-most", false), limit("at-least", true)}
	}
	return []section.Key{name, settle, section.Need("by", section.Parsed(r.Reader, "by", &g.Margin, section.Amount))}
}

// silent is the key that says what happens while nothing is told.
func (r *reader) silent(g *plan.Guard) section.Key {
	return section.May("silent", section.Parsed(r.Reader, "silent", &g.Silent, func(text string) (plan.Silent, error) {
		return section.OneOf(text, plan.SilentFreeze, plan.SilentGoOn)
	}))
}

// wantedSource is a guard whose source has to be in the plan.
type wantedSource struct {
	at    ast.Node
	guard plan.Guard
}

// alertKeys are the keys of a guard on alerts.
func (r *reader) alertKeys(g *plan.Guard) (keys []section.Key, done func(n ast.Node)) {
	return []section.Key{
			section.Need("name", section.Parsed(r.Reader, "name", &g.Name, section.Word)),
			section.Need("match", func(n ast.Node) {
				r.List(n, "match", func(n ast.Node) {
					var m plan.Matcher
					section.Parsed(r.Reader, "a matcher", &m, matcher)(n)
					r.askedWith(n, string(m))
					g.Alerts = append(g.Alerts, m)
				})
			}),
			r.silent(g),
		}, func(n ast.Node) {
			if !r.Discovering() {
				r.wanted = append(r.wanted, wantedSource{n, *g})
			}
		}
}

// matcherForm is a matcher of alerts as Alertmanager has them.
var matcherForm = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*(=|!=|=~|!~)"(.*)"$`)

func matcher(text string) (plan.Matcher, error) {
	m := matcherForm.FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return "", section.Mistake{What: fmt.Sprintf("%q matches no alert", text),
			Try: `write a label, an operator (=, !=, =~, !~) and a value in quotes: severity="page"`}
	}
	if strings.HasSuffix(m[1], "~") {
		if _, err := regexp.Compile(m[2]); err != nil {
			return "", section.Mistake{What: fmt.Sprintf("%q is no regular expression: %v", m[2], err), Try: "mend it"}
		}
	}
	return plan.Matcher(strings.TrimSpace(text)), nil
}

// askedWith looks at the placeholders of a query.
func (r *reader) askedWith(n ast.Node, text string) {
	if m := secretPlaceholder.FindString(text); m != "" {
		r.Wrong(n, fmt.Sprintf("%s cannot stand in a query", m), "who we are is said of the source: user and password, or token")
	}
	for _, m := range placeholder.FindAllStringSubmatch(text, -1) {
		if slices.Contains(plan.Placeholders, m[1]) && !slices.Contains(plan.AskedWith, m[1]) {
			r.Wrong(n, fmt.Sprintf("a query is about a side, and {%s} is one instance's", m[1]),
				"there are: {"+strings.Join(plan.AskedWith, "}, {")+"}")
		}
	}
}

// promQL looks whether a query can be asked.
func (r *reader) promQL(n ast.Node, text string, counters bool) {
	filled := text
	for _, name := range plan.AskedWith {
		filled = strings.ReplaceAll(filled, "{"+name+"}", name)
	}
	if _, err := source.ParseQuestion(filled, counters); err != nil {
		r.Wrong(n, err.Error(), "try it in Prometheus, with a side's name in place of {side}")
	}
}

// askingWords reads a command's words, in which placeholders may stand.
func (r *reader) askingWords(n ast.Node, to *[]string) {
	if _, list := n.(*ast.SequenceNode); !list {
		var line string
		if r.Text(n, "run", &line) {
			*to = strings.Fields(line)
		}
	} else {
		r.List(n, "run", func(n ast.Node) {
			var word string
			if r.Text(n, "a word of the command", &word) {
				*to = append(*to, word)
			}
		})
	}
	if r.Discovering() {
		return
	}
	if len(*to) == 0 {
		r.Wrong(n, "there is no command", "write the program and its words")
		return
	}
	r.commandAt[(*to)[0]] = n
	r.askedWith(n, strings.Join(*to, " "))
}

// sourcesThere looks whether the plan has the sources that its guards ask, and completes the guards.
func (r *reader) sourcesThere(p *plan.Plan) {
	p.Sources = r.sources
	for _, w := range r.wanted {
		key := map[plan.From]string{plan.FromPrometheus: "prometheus", plan.FromSQL: "sql"}[w.guard.Figure.From]
		if w.guard.Watch == plan.Alert {
			key = "alertmanager"
		}
		if key != "" && p.Sources.Of(w.guard).URL == "" {
			r.Wrong(w.at, fmt.Sprintf("the guard on %s has nobody to ask", w.guard.Name),
				fmt.Sprintf(`say where: "figures: {%s: ...}"`, key))
		}
	}
	for n := range p.Guards {
		switch g := &p.Guards[n]; {
		case g.Asked():
			g.Every = p.Sources.Of(*g).Every
		case g.Watch.Figures():
			g.Every = p.Main().Figures.Every
		}
	}
}

// bound reads the bound of a figure.
func bound(text string) (float64, error) {
	v, err := strconv.ParseFloat(strings.TrimSpace(text), 64)
	if err != nil || v != v || v > 1e15 || v < -1e15 {
		if v, err = section.Amount(text); err != nil {
			return 0, err
		}
	}
	return v, nil
}
