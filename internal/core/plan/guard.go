package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Guard is one of the rules that are watched while the new side gets requests.
type Guard struct {
	Name  string // no two guards of a plan have the same
	Watch Watch
	Off   bool
	Then  Action // what happens when it trips

	// Of guards that compare the new side with the live one.
	Margin float64 // how much higher the rate may be, as a fraction; of guards on a figure see [Watch.Figures]
	Find   float64 // the fault that it must not miss, as a rate beyond the live side's; more than the margin
	// of [Slow] and [Door]: an answer that takes longer is slow. 0, of [Slow]: longer than is usual on the live side.
	// Of [Fewer]: so long after its request it is counted at most; [Unsaid] if that is not known
	After time.Duration

	Figure Figure        // of guards on one
	Every  time.Duration // of guards on a figure: how often it is read
	Down   bool          // of [Bound]: what is lower than the margin is worse
	Silent Silent        // of guards on a figure: what happens while it is not told
	Alerts []Matcher     // of [Alert]: all of them match
	// of [Grows] and [Higher]: readings count from so long after a change of the share; of [Slow] from so long after
	// the new side has got its first requests
	Settle time.Duration

	Most int     // of guards that count, [Unhealthy] and [Lost]: more than so many trip it
	Part float64 // of [Unhealthy]: so many are allowed at least, as a fraction of the side's instances

	// of [Waits]: a message that waits for longer trips it; 0: for much longer than is usual on the live side
	Longest time.Duration
}

// Unsaid is a time that a plan does not say.
const Unsaid time.Duration = -1

// Watch is what a guard watches.
type Watch string

// What guards watch.
const (
	Failing   Watch = "failing"   // the rate of failing answers
	Slow      Watch = "slow"      // the rate of answers that take longer than a time
	Unhealthy Watch = "unhealthy" // instances
	Lost      Watch = "lost"      // requests that got no instance's answer
	Waits     Watch = "waits"     // how long the oldest message of a queue waits
	Door      Watch = "door"      // the rate of the prober's requests that got no good answer in time

	// Of figures, which instances tell of themselves or a source tells.
	Grows  Watch = "grows"  // how fast one grows; the margin is in its unit, a minute
	Higher Watch = "higher" // how high one stands; the margin is in its unit
	Lower  Watch = "lower"  // how low one stands; the margin is in its unit
	Fewer  Watch = "fewer"  // how many of what one counts there are for each request; the margin is a fraction
	Rate   Watch = "rate"   // the rate of what is bad among all that is counted; the margin is a fraction
	Bound  Watch = "bound"  // whether one stands beyond a bound, which is the margin, whatever the live side's is

	Alert Watch = "alert" // alerts that others raise
)

// Compares reports whether such a guard compares rates of what the front or the prober count; others count.
func (w Watch) Compares() bool { return w == Failing || w == Slow || w == Door }

// Figures reports whether such a guard gathers evidence on a figure.
func (w Watch) Figures() bool {
	return w == Grows || w == Higher || w == Lower || w == Fewer || w == Rate || w == Bound
}

// Levels reports whether such a guard compares how a number stands.
func (w Watch) Levels() bool { return w == Higher || w == Lower }

// Beside reports whether such a guard holds the new side against the live one. What has a bound is held against that
// alone.
func (w Watch) Beside() bool { return w.Gathers() && w != Bound }

// Rates reports whether such a guard compares how many of how many are bad, whoever counts them.
func (w Watch) Rates() bool { return w.Compares() || w == Rate }

// Gathers reports whether such a guard gathers evidence: it compares rates or is on a figure.
func (w Watch) Gathers() bool { return w.Compares() || w.Figures() }

// Told are the figures of the plan's guards that instances tell on their pages.
func (p *Plan) Told() []Figure {
	var list []Figure
	for _, g := range p.Guards {
		if g.Watch.Figures() && !g.Off && !g.Asked() {
			list = append(list, g.Figure)
		}
	}
	return list
}

// Asked reports whether a guard's figure, or its alerts, are asked for at a source, and told by no instance.
func (g Guard) Asked() bool {
	return g.Watch == Alert || g.Watch.Figures() && g.Figure.From != FromPages
}

// Figure is a number of the service: what an instance tells on its page, all samples of a name with the labels
// added up; or what a source is asked for.
type Figure struct {
	Name   string            // of a page: as it stands there; else what it is called
	Labels map[string]string // of a page: that a sample has to have, among others
	From   From
	Unit   string // of one that is asked for, "" for none
	Query  Query  // of one that is asked for
}

// String is the figure as a plan has it that takes it from a page, or what it is called, with its unit in brackets.
func (f Figure) String() string {
	switch {
	case f.Unit != "":
		return f.Name + " (" + f.Unit + ")"
	case len(f.Labels) == 0:
		return f.Name
	}
	var labels []string
	for _, name := range slices.Sorted(maps.Keys(f.Labels)) {
		labels = append(labels, fmt.Sprintf("%s=%q", name, f.Labels[name]))
	}
	return f.Name + "{" + strings.Join(labels, ",") + "}"
}

// From is who tells a figure.
type From string

// The sources of figures.
const (
	FromPages      From = "" // each instance, on its page
	FromPrometheus From = "Prometheus"
	FromSQL        From = "SQL"
	FromCommand    From = "command"
)

// Query is what a source is asked, in its language and with the placeholders of [Asked]. Where it has none of those
// that differ by side, it is about the service as a whole.
type Query struct {
	Text    string   // one number; of [Rate] in SQL two, bad and of
	Bad, Of string   // of [Rate] at Prometheus: two counters as they are, without rate()
	Words   []string // of a command, which prints a number; of [Rate] two
}

// texts are all texts of a query.
func (q Query) texts() []string { return append([]string{q.Text, q.Bad, q.Of}, q.Words...) }

// Sided reports whether a query is about one side: it has a placeholder that differs by side.
func (q Query) Sided() bool {
	return slices.ContainsFunc(q.texts(), func(text string) bool {
		return slices.ContainsFunc([]string{"side", "version", "instances", "control"},
			func(name string) bool { return strings.Contains(text, "{"+name+"}") })
	})
}

// Apart reports whether a query tells the control group from the rest of the live side.
func (q Query) Apart() bool {
	return slices.ContainsFunc(q.texts(), func(text string) bool {
		return strings.Contains(text, "{instances}") || strings.Contains(text, "{control}")
	})
}

// AskedWith are the placeholders of a query: the side's name and version; a regular expression of its instances'
// addresses, of the live side those of the control group where there is one; "yes" where it is about that group, else
// "no"; the service.
var AskedWith = []string{"side", "version", "instances", "control", "service"}

// Silent is what happens while a figure is not told.
type Silent string

// The choices.
const (
	SilentFreeze Silent = "freeze" // the leg is paused, and after a while the crossing freezes
	SilentGoOn   Silent = "go on"  // the route goes on without that guard's judgement
)

// Matcher is what an alert has to have, as Alertmanager writes it: severity="page".
type Matcher string

// Sources is where figures come from that no instance tells.
type Sources struct {
	Prometheus   Server
	Alertmanager Server
	SQL          Server // its URL is that of a database
	Command      Server // has no URL
}

// Server is one that is asked for figures. One without a URL is none.
type Server struct {
	URL                   string // with placeholders for secrets
	Every                 time.Duration
	Within                time.Duration // for one question
	Fresh                 time.Duration // of Prometheus: a newest sample that is older is no figure
	Trust                 Trust
	User, Password, Token string // the last two with placeholders for secrets
}

// Of is the source that a guard's figure is asked for at.
func (s Sources) Of(g Guard) Server {
	switch {
	case g.Watch == Alert:
		return s.Alertmanager
	case g.Figure.From == FromPrometheus:
		return s.Prometheus
	case g.Figure.From == FromSQL:
		return s.SQL
	}
	return s.Command
}
