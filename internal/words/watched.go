package words

import (
	"fmt"
	"math"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/core/wayout"
)

// Guard is how a guard stands: "none found", "watching, 78 % certain, ~40s more".
func Guard(s guard.Status) string {
	switch s.State {
	case guard.Off:
		return "off"
	case guard.Idle:
		return "nothing to watch yet"
	case guard.Unknown:
		switch s.Gap {
		case guard.TooFew:
			if s.Watch.Figures() {
				return "too little to say yet"
			}
			return fmt.Sprintf("too few answers yet, %d of %d", s.Trial.Of, guard.Least(s.Watch))
		case guard.FewClients:
			return fmt.Sprintf("too few clients yet, %d of %d", s.Clients, guard.Least(s.Watch))
		case guard.NoBaseline:
			if s.Watch.Figures() && s.From != plan.FromPages {
				return "nothing to compare with: no figure of the live side" + reason(s.Said)
			}
			if s.Watch.Figures() {
				return "nothing to compare with: the live side does not tell it"
			}
			if s.Watch == plan.Slow && s.After == 0 {
				return "what is usual is not known yet: the live side has to answer more"
			}
			if s.Baseline.Of > 0 {
				return "nothing to compare with: the live side's own answers are bad"
			}
			return "nothing to compare with: the live side answers nothing"
		case guard.OnlySide:
			return "nothing to compare with: nobody else served before"
		case guard.NotCounted:
			return "cannot watch: this front counts no requests"
		case guard.NotTimed:
			return "cannot watch: this front does not measure times"
		case guard.NotTold:
			if s.From != plan.FromPages {
				return "no figure: " + string(s.From) + reason(s.Said)
			}
			if s.Watch == plan.Fewer { // which is a sum
				return "not known: not every instance tells it" + reason(s.Said)
			}
			return "not known: no instance tells it" + reason(s.Said)
		case guard.NoneYet:
			return "none counted on the new side yet; if it comes late, say after how long (after)"
		case guard.NoneBeside:
			return "nothing to compare with: all requests go to one side"
		case guard.OneClient:
			return "cannot watch: to this front the prober is one client, on one side"
		case guard.NotNamed:
			return "cannot watch: answers do not say which side gave them"
		}
		if s.Said != "" {
			return "not known: it could not be read lately" + reason(s.Said)
		}
		return "not known: it could not be read lately"
	}
	switch {
	case s.Watch == plan.Alert:
		return alerts(s)
	case s.Watch == plan.Rate:
		return rated(s)
	case s.Watch.Figures():
		return figured(s)
	case !s.Watch.Compares():
		return counted(s)
	}
	if s.NoPast && s.State == guard.Clear {
		return "no past to compare with in the keep: the live side's answers are too bad"
	}
	if s.Control && s.Watch == plan.Door && s.State == guard.Clear {
		return "only whether anybody is answered, beside control"
	}
	return compared(s) + asOf(s)
}

// reason puts what somebody said behind something, in brackets.
func reason(said string) string {
	if said == "" {
		return ""
	}
	return " (" + said + ")"
}

// figured is how a guard on a figure stands: "green-2 grows by 31 MB a minute more (28 MB to 34 MB), 99.2 % certain".
func figured(s guard.Status) string {
	text := Differs(s.Watch, s.Figure, s.Instance, s.Difference)
	if r := s.Range; r != (evidence.Interval{}) {
		text += fmt.Sprintf(" (%s to %s)", Measure(s.Watch, s.Figure, r.Low), Measure(s.Watch, s.Figure, r.High))
	}
	switch s.State {
	case guard.Tripped:
		return fmt.Sprintf("%s, %s certain", text, Sure(s.Sure))
	case guard.Watching:
		return fmt.Sprintf("watching, %s certain: %s", Sure(s.Sure), text)
	}
	return "none found: " + text
}

// rated is how a guard on a rate stands: "3.1 % of 412, live 0.4 %: worse, 99.2 % certain".
func rated(s guard.Status) string {
	text := fmt.Sprintf("%s of %d", Percent(s.Trial.Rate()), s.Trial.Of)
	if s.Baseline.Of > 0 {
		text += ", live " + Percent(s.Baseline.Rate())
	}
	switch s.State {
	case guard.Tripped:
		return text + fmt.Sprintf(": worse, %s certain", Sure(s.Sure))
	case guard.Watching:
		return fmt.Sprintf("watching, %s certain: %s", Sure(s.Sure), text)
	}
	return "none found: " + text
}

// alerts is how a guard on alerts stands.
func alerts(s guard.Status) string {
	text := "no new alert"
	if s.Trial.Bad > 0 {
		text = s.Alerts.New + " fires" + reason(s.Alerts.Summary)
		if more := s.Trial.Bad - 1; more > 0 {
			text += fmt.Sprintf(", and %d more", more)
		}
	}
	if s.Alerts.Old > 0 {
		text += fmt.Sprintf("; %d fired before this leg", s.Alerts.Old)
	}
	return text
}

// Differs is by how much a figure differs on the new side, or on one of its instances.
func Differs(w plan.Watch, figure, instance string, by float64) string {
	if instance != "" {
		instance += " "
	}
	switch w {
	case plan.Grows:
		return instance + "grows by " + Measure(w, figure, by) + " a minute"
	case plan.Higher:
		return instance + "is higher by " + Measure(w, figure, by)
	case plan.Lower:
		return instance + "is lower by " + Measure(w, figure, by)
	case plan.Bound:
		if by <= 0 {
			return instance + "is within its bound by " + Measure(w, figure, -by)
		}
		return instance + "is beyond its bound by " + Measure(w, figure, by)
	case plan.Rate:
		return "differs by " + Measure(w, figure, by)
	}
	return "fewer by " + Measure(w, figure, by)
}

// Measure is an amount of a figure with its unit, as far as its name tells that, or a part of what is counted.
func Measure(w plan.Watch, figure string, v float64) string {
	if w == plan.Fewer || w == plan.Rate {
		return fmt.Sprintf("%.3g %%", 100*v)
	}
	name, _, _ := strings.Cut(figure, "{")
	_, unit, asked := strings.Cut(figure, " (") // of one that is asked for
	unit = strings.TrimSuffix(unit, ")")
	switch {
	case asked && unit == "bytes":
		return bytesOf(v)
	case asked && unit == "%":
		return fmt.Sprintf("%.3g %%", v)
	case asked:
		return fmt.Sprintf("%.4g %s", v, unit)
	case name == guard.MeanFigure:
		return Milliseconds(time.Duration(v * float64(time.Second)))
	case strings.HasSuffix(name, "_bytes"):
		return bytesOf(v)
	case strings.HasSuffix(name, "_seconds"):
		return fmt.Sprintf("%.3g s", v)
	case strings.HasSuffix(name, "_ratio"):
		return fmt.Sprintf("%.3g %%", 100*v)
	}
	return fmt.Sprintf("%.4g", v)
}

func bytesOf(v float64) string {
	for _, u := range []struct {
		name string
		of   float64
	}{{"GB", 1e9}, {"MB", 1e6}, {"kB", 1e3}} {
		if math.Abs(v) >= u.of {
			return fmt.Sprintf("%.3g %s", v/u.of, u.name)
		}
	}
	return fmt.Sprintf("%.0f B", v)
}

// asOf says that a guard compares with what was, "" if it compares with what is.
func asOf(s guard.Status) string {
	if s.AsOf.IsZero() {
		return ""
	}
	text := ", compared with " + s.AsOf.Local().Format("15:04")
	if s.State == guard.Tripped && s.Then == plan.Freeze {
		text += "; nothing runs beside it now, so the cause may lie elsewhere"
	}
	return text
}

func compared(s guard.Status) string {
	switch s.State {
	case guard.Tripped:
		if s.Sure < 0.5 && s.Clients < s.ClientsNeeded {
			return fmt.Sprintf("none of %d clients gets a good answer", s.Clients)
		}
		text := fmt.Sprintf("worse, %s certain", Sure(s.Sure))
		if r := s.Range; r.Low > 0 && r.High < 1 {
			text = fmt.Sprintf("worse by %s to %s points, %s certain", points(r.Low), points(r.High), Sure(s.Sure))
		}
		if s.Bursts {
			text += "; bad answers come in bursts on the live side too"
		}
		if s.Wanders {
			text += "; the live side by itself was as bad as this at least three times"
		}
		return text
	case guard.Watching:
		text := fmt.Sprintf("watching, %s certain", Sure(s.Sure))
		if s.More > 0 {
			text += fmt.Sprintf(", ~%s more", route.Short(max(s.More, time.Second).Round(time.Second)))
		}
		return text
	}
	if s.ClientsNeeded > 0 && s.Clients < s.ClientsNeeded {
		return fmt.Sprintf("%s; a fault of some clients is not seen by %d of them, by %d it is", excluded(s), s.Clients,
			s.ClientsNeeded)
	}
	if s.Unit == guard.Instances {
		return excluded(s) + "; bad answers come in bursts here: counted by instance"
	}
	return excluded(s)
}

// excluded is what is known where nothing points to a fault: "no fault above 1 %", "excluded above
// 5 %; above 1 % in ~4m".
func excluded(s guard.Status) string {
	switch {
	case s.Excluded > 0 && s.Excluded <= s.Find:
		return "no fault above " + Percent(s.Excluded)
	case s.Excluded > 0 && s.Excluded < 1 && s.FindIn > 0:
		return fmt.Sprintf("excluded above %s; above %s in ~%s", Percent(s.Excluded), Percent(s.Find),
			route.Short(s.FindIn.Round(time.Second)))
	case s.Excluded > 0 && s.Excluded < 1:
		return "excluded above " + Percent(s.Excluded)
	case s.FindIn > 0:
		return fmt.Sprintf("not certain yet; above %s in ~%s", Percent(s.Find), route.Short(s.FindIn.Round(time.Second)))
	}
	return "no fault found"
}

// points is a difference of rates, in percentage points.
func points(d float64) string {
	if p := 100 * d; p < 10 {
		return fmt.Sprintf("%.1f", p)
	}
	return fmt.Sprintf("%.0f", 100*d)
}

func counted(s guard.Status) string {
	switch {
	case s.Watch == plan.Waits && s.Value < 1:
		return "the oldest waits under 1s"
	case s.Watch == plan.Waits:
		return "the oldest waits " + route.Short(time.Duration(s.Value*float64(time.Second)).Round(time.Second))
	case s.Trial.Bad == 0:
		return "none"
	case s.Watch == plan.Lost:
		return fmt.Sprintf("%d lost", s.Trial.Bad)
	case s.First.Name != "":
		return Stuck(s.First)
	}
	if s.Missing == 0 && s.Restarted > 0 {
		return fmt.Sprintf("%d had ended and were started again", s.Restarted)
	}
	return fmt.Sprintf("%d of %d instances are not there", s.Missing, s.Wanted)
}

// Limit is what a guard does, and when; "" if it never does anything.
func Limit(s guard.Status) string {
	then := map[plan.Action]string{plan.RollBack: "rolls back", plan.Freeze: "freezes"}[s.Then]
	switch {
	case s.State == guard.Off, then == "":
		return ""
	case s.Watch.Compares():
		return then + " if worse by " + Percent(s.Margin)
	case s.Watch == plan.Grows:
		return then + " above " + Measure(s.Watch, s.Figure, s.Margin) + "/min"
	case s.Watch == plan.Bound && s.Down:
		return then + " below " + Measure(s.Watch, s.Figure, s.Bound)
	case s.Watch == plan.Bound:
		return then + " above " + Measure(s.Watch, s.Figure, s.Bound)
	case s.Watch == plan.Rate:
		return then + " if worse by " + Percent(s.Margin)
	case s.Watch == plan.Lower:
		return then + " if lower by " + Measure(s.Watch, s.Figure, s.Margin)
	case s.Watch == plan.Alert:
		return then + " at a new alert"
	case s.Watch.Figures():
		return then + " above " + Measure(s.Watch, s.Figure, s.Margin)
	case s.Watch == plan.Waits && s.After == 0:
		return then + " above three times what is usual"
	case s.Watch == plan.Waits:
		return then + " above " + route.Short(s.After.Round(time.Second))
	case s.Most > 0:
		return fmt.Sprintf("%s after %d", then, s.Most)
	}
	return then + " at the first"
}

// Condition is a line of the judgement on the way back: what it is about, and how it is.
func Condition(c wayback.Condition, now time.Time) (name, text string) {
	if l, looked := c.Looked(); looked {
		return c.Side.String() + " " + lookedAt[c.Kind()], look(l, now)
	}
	switch is := c.Is.(type) {
	case wayback.Healthy:
		name = c.Side.String() + " healthy"
		switch {
		case is.Retired:
			text = "retired"
		case is.Instances == 0:
			text = "no instances"
		case is.Healthy > 0 && is.Stale > 0:
			text = "not read for " + route.Short(is.Stale)
		default:
			text = fmt.Sprintf("%d of %d", is.Healthy, is.Instances)
		}
	case wayback.Carries:
		name, text = c.Side.String()+" carries all", "capacity not in the plan"
		if is.Capacity > 0 {
			text = fmt.Sprintf("up to %.0f/s", is.Capacity)
		}
		if is.Capacity > 0 && is.Rate > 0 {
			text = fmt.Sprintf("%.0f %% spare capacity", 100*is.Headroom)
			switch {
			case is.Headroom < 0:
				text = fmt.Sprintf("%.0f %% too small", -100*is.Headroom)
			case is.Peak > is.Rate:
				text = fmt.Sprintf("%.0f %% free, peak %.0f %%", 100*is.Headroom, 100*(is.Capacity/is.Peak-1))
			}
		}
	case wayback.Front:
		name, text = "rollback", Takes(is.Takes)
		switch {
		case !is.Read:
			name, text = "front", "does not answer"
		case is.Rehearsal.Failed != "":
			name, text = "front", is.Rehearsal.Failed
		case is.Elsewhere:
			name, text = "front", "users get another share than it says"
		case is.Rehearsal.Alone != "":
			name, text = "without the keeper", "the group cannot roll back: "+is.Rehearsal.Alone
		case !is.Rehearsal.At.IsZero():
			name, text = "last rehearsal", text+", "+ago(is.Rehearsal.At, now)
		}
	case wayback.Answers:
		name, text = c.Side.String()+"'s answers", Percent(is.Bad)+" of them fail now"
	}
	return name, text
}

// lookedAt is what a look at a side is about, by the kind of condition.
var lookedAt = map[string]string{wayback.Conditions.Name(wayback.Same{}): "unchanged",
	wayback.Conditions.Name(wayback.Smoke{}): "smoke checks", wayback.Conditions.Name(wayback.Data{}): "data checks"}

// Takes is how long home takes: in the middle, and from the least to the most.
func Takes(s wayback.Spread) string {
	switch s.Of {
	case 0:
		return "never rehearsed"
	case 1:
		return Milliseconds(s.Most)
	}
	if s.Most >= time.Second {
		return fmt.Sprintf("%s (%s–%s)", Milliseconds(s.Middle), Milliseconds(s.Least), Milliseconds(s.Most))
	}
	// Of a unit, and short: it stands beside its age.
	number := func(d time.Duration) string {
		if d < time.Millisecond {
			return fmt.Sprintf("%.1f", d.Seconds()*1000)
		}
		return fmt.Sprintf("%.0f", d.Seconds()*1000)
	}
	return fmt.Sprintf("%s ms (%s–%s)", number(s.Middle), number(s.Least), number(s.Most))
}

// look is what a look has found, with its age.
func look(l wayback.Look, now time.Time) string {
	text := fmt.Sprintf("%d of %[1]d", l.Of)
	switch n := len(l.Failed); {
	case n > 0:
		f := l.Failed[0]
		text = strings.TrimSpace(f.Where+" "+f.What) + ": " + f.Said
		if n > 1 {
			text += fmt.Sprintf(" (and %d more)", n-1)
		}
	case l.At.IsZero():
		text = "not known"
	}
	if !l.At.IsZero() {
		text += ", " + ago(l.At, now)
	}
	if l.Error != "" {
		text += "; could not be looked at: " + l.Error
	}
	return text
}

// ago is how long something is past: "now", "12 s ago".
func ago(at, now time.Time) string {
	d := now.Sub(at).Truncate(time.Second)
	if d < time.Second {
		return "now"
	}
	return route.Short(d) + " ago"
}

// Steps are those of a rehearsal, on one line.
func Steps(list []wayback.Step) string {
	var texts []string
	for _, s := range list {
		text := s.What + " " + Milliseconds(s.Took)
		if s.Front != "" {
			text = s.Front + ": " + text
		}
		texts = append(texts, text)
	}
	return strings.Join(texts, ", ")
}

// WayBack is why the way back is not open, "" if it is.
func WayBack(r wayback.Readiness, now time.Time) string {
	if r.Worst.Is == nil {
		return ""
	}
	name, text := Condition(r.Worst, now)
	return name + ": " + text
}

// WayOut is what can be done where a side does not serve as it should, and what comes of it.
func WayOut(w wayout.Way, target split.Side) string {
	do, fail := Way(w, target)
	return do + ", " + fail
}

// Way is what can be done, and what comes of it: measured where it is so now, and else foreseen ("~").
func Way(w wayout.Way, target split.Side) (do, fail string) {
	do = "hold"
	switch w.Do {
	case wayout.Forward:
		do = fmt.Sprintf("all to %v", target)
	case wayout.Home:
		do = fmt.Sprintf("all to %v", target.Other())
	}
	if w.Seen {
		return do, fmt.Sprintf("%s of %.0f /s fail", few(w.Lost), w.Rate)
	}
	return do, fmt.Sprintf("~%s of %.0f /s fail", few(w.Lost), w.Rate)
}

// few is a number of which it matters whether it is none.
func few(n float64) string {
	if 0 < n && n < 1 {
		return "under 1"
	}
	return fmt.Sprintf("%.0f", n)
}

// WaysOut is what can be done, what helps most first, "" if nothing has to be.
func WaysOut(list []wayout.Way, target split.Side) string {
	var texts []string
	for _, w := range list {
		texts = append(texts, WayOut(w, target))
	}
	return strings.Join(texts, "; ")
}

// Split is whether what is carried, requests or messages, is split as asked.
func Split(v engine.SplitView, carried string) string {
	var text string
	switch {
	case v.Front.Verdict == evidence.Wrong:
		text = fmt.Sprintf("%s where %v is asked: %s", offBy(v.Front), v.Asked,
			seen(v.Front, v.Counts, "the front's counts"))
	case v.Prober.Verdict == evidence.Wrong:
		text = fmt.Sprintf("%s where %v is asked: %s", offBy(v.Prober), v.Asked,
			seen(v.Prober, v.Door, "answers at the front door"))
	case v.Front.Verdict == evidence.AsAsked:
		return "as asked: " + seen(v.Front, v.Counts, map[bool]string{false: carried, true: "clients"}[v.Clients])
	case v.Prober.Verdict == evidence.AsAsked && v.Counts.Of == 0:
		return "as asked: " + seen(v.Prober, v.Door, "answers at the front door")
	case v.Prober.Verdict == evidence.AsAsked && v.Front.Verdict == evidence.NotTold:
		return "as asked: " + seen(v.Prober, v.Door, "answers at the front door")
	case v.Front.Verdict == "":
		return ""
	case v.Front.Verdict == evidence.NotTold:
		return "not told: clients stay on their sides, and the front does not count them"
	case v.Clients && v.Counts.Of > 0:
		return fmt.Sprintf("%.0f %% of %d clients; by chance %.0f to %.0f %%", 100*v.Front.Share, v.Counts.Of,
			100*v.Front.Chance.Low, 100*v.Front.Chance.High)
	case v.Clients:
		return "not known: no new clients were counted in so short a time"
	default:
		return fmt.Sprintf("not confirmed yet, ~%d %s to go", v.Front.More, carried)
	}
	if !v.Since.IsZero() {
		text += ", since " + v.Since.Local().Format("15:04:05")
	}
	return text
}

// offBy is how far a split is off: "off by +12.3 points".
func offBy(s evidence.Seen) string { return fmt.Sprintf("off by %+.1f points", 100*s.Off) }

func seen(s evidence.Seen, c evidence.Count, of string) string {
	return fmt.Sprintf("%.1f %% ±%.1f of %d %s", 100*s.Share, 50*(s.Range.High-s.Range.Low), c.Of, of)
}

// Lacks is what is missing for the route to go on, and for how long, or since when if now is
// zero; "" if nothing is.
func Lacks(list []crossing.Lack, now time.Time) string {
	if len(list) == 0 {
		return ""
	}
	text := lack(list[0], now)
	if n := len(list); n > 1 {
		text += fmt.Sprintf(" (and %d more)", n-1)
	}
	return text
}

func lack(l crossing.Lack, now time.Time) string {
	lasting := func(since time.Time) string {
		switch {
		case since.IsZero():
			return ""
		case now.IsZero():
			return " since " + since.Local().Format("15:04:05")
		}
		return " for " + route.Short(max(now.Sub(since), 0).Round(time.Second))
	}
	because := func(text, said string) string {
		if said != "" {
			text += " (" + said + ")"
		}
		return text
	}
	switch l := l.Is.(type) {
	case crossing.LackFront:
		return because(unread("the front was", lasting(l.Since)), l.Said)
	case crossing.LackSide:
		return because(unread(l.Side.String()+"'s instances were", lasting(l.Since)), l.Said)
	case crossing.LackCounts:
		return because("the front's requests have not been counted"+lasting(l.Since), l.Said)
	case crossing.LackFigures:
		if l.Since.IsZero() {
			return because("no figure yet for "+l.Guard, l.Said)
		}
		return because("no figure for "+l.Guard+lasting(l.Since), l.Said)
	case crossing.LackDoor:
		return because("the prober has had no answer at the front door"+lasting(l.Since), l.Said)
	case crossing.LackAnswers:
		text := fmt.Sprintf("%s has %d of %d %s", l.Guard, l.Have, l.Need,
			map[bool]string{false: "answers", true: "clients"}[l.Clients])
		if since := lasting(l.Since); since != "" {
			text += ", waiting" + since
		}
		return text
	case crossing.LackBaseline:
		return fmt.Sprintf("%s has had nothing to compare with%s", l.Guard, lasting(l.Since))
	case crossing.LackTime:
		return "nobody watched a while ago, so nothing is retired before " + l.Until.Local().Format("15:04:05")
	case crossing.LackEverywhere:
		return because("some clients still use the old DNS answer, "+left(l.Until, now), l.Said)
	case crossing.LackHours:
		text := "traffic moves towards the new side in the plan's hours"
		switch {
		case l.Said != "":
			return "which days are closed cannot be read: " + l.Said
		case l.Closed != "":
			text = l.Closed + ": traffic stays"
		}
		if l.Until.IsZero() {
			return text + ", and when that is next is not known"
		}
		return text + ", from " + l.Until.Local().Format("Mon 2 Jan 15:04") + " on"
	case crossing.LackEmbargo:
		if l.Said != "" {
			return "whether there is an embargo cannot be read: " + l.Said
		}
		text := "embargo"
		if l.By != "" {
			text += " by " + l.By
		}
		if !l.Until.IsZero() {
			text += " until " + l.Until.Local().Format("Mon 2 Jan 15:04")
		}
		return because(text+": nothing leaves home", l.Why)
	case crossing.LackControl:
		return fmt.Sprintf("the front has none of %v's control group, of which %d of %d are healthy", l.Side, l.Healthy, l.Of)
	case crossing.LackEased:
		return "resolvers may still hold the name with its longer TTL, " + left(l.Until, now)
	case crossing.LackApart:
		return fmt.Sprintf("%s has %v on green, and the other fronts have another share", l.Front, l.Share)
	case crossing.LackNoted:
		return fmt.Sprintf("%s answers requests of %v, and there is no note on it: its state folder may be another one",
			l.Where, l.Side)
	case crossing.LackServes:
		return fmt.Sprintf("%v does not serve: none of its instances is healthy, or half of its answers fail", l.Side)
	case crossing.LackAsked:
		return fmt.Sprintf("neither users nor the prober have asked %v for 10 s, so nobody knows whether it answers",
			l.Side)
	case crossing.LackAstray:
		if l.Have == 0 {
			return fmt.Sprintf("%v gets none of %d requests, and the front says %v: they go elsewhere than it says",
				l.Side, l.Need, l.Share)
		}
		return fmt.Sprintf("%v gets %d of %d requests, and the front says %v: they go elsewhere than it says", l.Side,
			l.Have, l.Need, l.Share)
	case crossing.LackSpare:
		return fmt.Sprintf("%v gets requests", l.Side)
	}
	return newer(l.Kind())
}

// left is until when something lasts, and how long that is.
func left(until, now time.Time) string {
	text := "until " + until.Local().Format("15:04:05")
	if !now.IsZero() {
		text += " (" + route.Short(max(until.Sub(now), 0).Round(time.Second)) + " more)"
	}
	return text
}

func unread(what, since string) string {
	if since == "" {
		since = " since the start"
	}
	return what + " not read" + since
}
