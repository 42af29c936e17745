package words

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/core/wayout"
)

// Gravity is how bad it is.
type Gravity int

// The gravities.
const (
	AllRight Gravity = iota
	Waits            // a person is waited for, or something is not as it should be
	Wrong            // something is wrong now
)

// Sentence answers one question: is it all right?
type Sentence struct {
	Text    string
	Gravity Gravity
}

// Seen is what a screen knows beside the view itself.
type Seen struct {
	Trouble string    // what keeps the keeper from its work
	Heard   time.Time // when the keeper was heard last; zero if it never was
	Asked   time.Time // when this screen asked to roll back and was not answered yet; zero if it did not
	By      string    // how a person answers a question: "a", "" on no screen
}

// Unheard is for how long a keeper may say nothing.
const Unheard = 5 * time.Second

// Standing is whether it is all right, the gravest first: rolling back, users that are hurt,
// a keeper, a front or a side that cannot be read, a question, a freeze.
func Standing(v engine.View, seen Seen, now time.Time) Sentence {
	c := v.Crossing
	hurt, hurts := v.Hurt(now)
	if c.First && c.Part() == 0 && c.Stage.UnderWay() {
		hurts = false // nothing was live before, so nobody could be answered
	}
	quiet := ""
	if d := now.Sub(seen.Heard); !seen.Heard.IsZero() && d > Unheard {
		quiet = fmt.Sprintf("the keeper has not answered for %s: what is shown is old. b b rolls back without it",
			route.Short(d.Truncate(time.Second)))
	}
	switch {
	case c.GoingBack, !seen.Asked.IsZero():
		return Sentence{rollingBack(v, seen, hurt, hurts, now), Wrong}
	case hurts:
		if len(v.WaysOut) > 0 && hurt.Total().Failing > 0 {
			hurt.Lost = 0 // the sides say it, and what helps matters more
		}
		if v.Dead {
			return Sentence{dead(v) + "; " + Pain(hurt), Wrong}
		}
		if c.AtOnce && c.Question.ID != 0 {
			return Sentence{Whole(c.Question, c) + " " + Pain(hurt), Wrong}
		}
		return Sentence{Pain(hurt) + helps(v, hurt), Wrong}
	case quiet != "":
		return Sentence{quiet, Wrong}
	case seen.Trouble != "":
		return Sentence{seen.Trouble, Wrong}
	}
	if text := unreadable(v, now); text != "" {
		return Sentence{text, Wrong}
	}
	if text := ailing(v); text != "" && !v.Dead {
		return Sentence{text, Wrong}
	}
	if text := others(v); text != "" {
		return Sentence{text, Wrong}
	}
	// before a first release nobody could be there
	if n := v.Front.Own; n > 0 && c.Number > 0 && !(c.First && c.Part() == 0) {
		return Sentence{fmt.Sprintf("the front has just answered %d requests itself with an error: nobody was there "+
			"for them", n), Wrong}
	}
	if text := strangers(v); text != "" {
		return Sentence{text, Waits}
	}
	if v.At.IsZero() || v.Front.At.IsZero() {
		return Sentence{"reading the front and both sides for the first time", AllRight}
	}
	if text := waiting(v, seen, now); text != "" {
		return Sentence{text, Waits}
	}
	return well(v, now)
}

// others says which instances run another build than the one that was delivered, "" if none does.
func others(v engine.View) string {
	for _, side := range split.Sides {
		if v.Front.Split.Share.Of(side) == 0 {
			continue
		}
		var names []string
		what := ""
		for _, i := range v.Sides[side].Instances {
			if i.Other != "" {
				names, what = append(names, i.Name), i.Other
			}
		}
		if len(names) > 0 {
			return fmt.Sprintf("%s of %v: another build than was delivered (%s)", strings.Join(names, ", "), side, what)
		}
	}
	return ""
}

// strangers says whom the front sends requests to though the plan does not name them, "" if it does nobody.
func strangers(v engine.View) string {
	for _, side := range split.Sides {
		if list := v.Sides[side].Strange; len(list) > 0 {
			return fmt.Sprintf("%s gets requests of %v, and the plan does not name it: %[2]v is left as it is at the "+
				"front", strings.Join(list, ", "), side)
		}
	}
	return ""
}

// rollingBack says since when, and that the front has not confirmed it.
func rollingBack(v engine.View, seen Seen, h engine.Hurt, hurts bool, now time.Time) string {
	c := v.Crossing
	at := seen.Asked
	if at.IsZero() || c.GoingBack && c.Task.Do == crossing.TaskHome && c.Task.At.Before(at) {
		at = c.Task.At
	}
	text := "rolling back to " + c.Target.Other().String()
	if !at.IsZero() && c.Trouble.Kind == "" {
		text += fmt.Sprintf(": asked %s ago, the front has not confirmed", Age(now.Sub(at)))
	}
	if !at.IsZero() {
		if n := v.FailedSince(at); n > 0 {
			text += fmt.Sprintf("; %d requests failed since", n)
		} else if hurts {
			text += "; " + Pain(h)
		}
	}
	if t := Trouble(c.Trouble); t != "" {
		text += ": " + t
	}
	if why := Cause(c.Why, c); why != "" && c.Why.Kind != crossing.ByHand {
		text += " (" + why + ")"
	}
	return text
}

// Pain is how many requests come to nothing.
func Pain(h engine.Hurt) string {
	var texts []string
	for _, side := range split.Sides {
		if a := h.Sides[side]; notable(a) {
			texts = append(texts, fmt.Sprintf("%v: %s of %.0f requests/s fail", side, few(a.Failing), a.Rate))
		}
	}
	if h.Lost >= engine.HurtLeast {
		text := fmt.Sprintf("no answer at the front to the last %d checks", h.Lost)
		if h.Lost < reading.BadMost {
			text = fmt.Sprintf("no answer at the front to %d of the last checks", h.Lost)
		}
		texts = append(texts, fmt.Sprintf("%s (%s)", text, h.LastWhy))
	}
	if len(texts) == 0 {
		return "a side that gets requests does not serve"
	}
	return strings.Join(texts, ", ")
}

// notable reports whether so much of a side fails that it is named where users are hurt.
func notable(a engine.Ache) bool {
	const part = 0.01
	return a.Failing > 0 && a.Failing >= part*a.Rate
}

// helps is what helps most, with the keys that do it. Where the ways were not weighed, rolling
// back is named only where it is the new side that fails, and not the one to roll back to.
func helps(v engine.View, h engine.Hurt) string {
	if v.Alike {
		return ". Both fail alike: see what they share, moving traffic helps nobody"
	}
	if len(v.WaysOut) == 0 {
		c := v.Crossing
		if c.Stage.UnderWay() && c.Share != c.Home() && notable(h.Sides[c.Target]) &&
			!notable(h.Sides[c.Target.Other()]) {
			return ". b b rolls back"
		}
		return ""
	}
	w := v.WaysOut[0]
	keys := map[wayout.Do]string{wayout.Forward: " (f)", wayout.Home: " (b b)"}[w.Do]
	return ". Helps most: " + WayOut(w, v.Crossing.Target) + keys
}

// unreadable is what cannot be read, and for how long, "" if all can.
func unreadable(v engine.View, now time.Time) string {
	unread := func(what, has string, at time.Time) string {
		const short = 2 * time.Second
		switch d := now.Sub(at); {
		case at.IsZero():
			return what + " " + has + " not been read since the start"
		case d < short:
			return what + " cannot be read"
		default:
			return what + " " + has + " not been read for " + route.Short(d.Truncate(time.Second))
		}
	}
	if f := v.Front; f.Error != "" || !f.At.IsZero() && !f.Fresh(now) {
		text := unread("the front", "has", f.At)
		if f.Error != "" {
			text += ": " + f.Error
		}
		return text
	}
	for _, side := range split.Sides {
		if s := v.Sides[side]; s.Error != "" || !s.At.IsZero() && !s.Fresh(now) {
			text := unread(side.String()+"'s instances", "have", s.At)
			if s.Error != "" {
				text += ": " + s.Error
			}
			return text
		}
	}
	return ""
}

// waiting is what a person is waited for, or what is not as it should be, "" if nothing is.
func waiting(v engine.View, seen Seen, now time.Time) string {
	c := v.Crossing
	switch trouble := Trouble(c.Trouble); {
	case c.Question.ID != 0:
		text := "◇ " + Question(c.Question, c)
		if seen.By != "" {
			text += "  " + seen.By + " answers"
		}
		if behind := Behind(c.Question); behind != "" {
			text += "  " + behind
		}
		return text + asked(c.Question.At, now)
	case c.Foreign:
		return fmt.Sprintf("frozen: %s. space accepts %s, o puts %s back", Frozen(c), On(c.Share, c.Target),
			On(c.Ours, c.Target))
	case c.Frozen():
		text := "frozen: " + Frozen(c)
		if trouble != "" && !strings.Contains(text, trouble) {
			text += "; " + trouble
		}
		return text + ". space goes on"
	case len(v.Lacks) > 0 && v.Lacks[0].Kind == crossing.LackEased:
		return "the route waits: " + Lacks(v.Lacks, now)
	case len(v.Lacks) > 0:
		return "the time of this leg stands still: " + Lacks(v.Lacks, now)
	case len(v.Held) > 0:
		return fmt.Sprintf("%v is not retired yet: %s", c.Task.Side, Lacks(v.Held, now))
	case v.WayBack.State == wayback.Closed && c.Stage.UnderWay():
		return "no way back: " + WayBack(v.WayBack, now)
	case v.Split.Wrong:
		return "the split is " + Split(v.Split)
	case trouble != "":
		return trouble
	case v.Front.Notice != "":
		return v.Front.Notice
	}
	if late := overdue(v, now); late != "" && c.Stage == crossing.Raising {
		return late
	}
	if bad := worse(v); bad != "" && (c.Stage == crossing.Shifting || c.Stage == crossing.Keeping) {
		return bad
	}
	return sick(v, now)
}

// sick is which side answers requests with instances that are not healthy, "" if none does.
func sick(v engine.View, now time.Time) string {
	const settles = 5 * time.Second // for a keeper that has just begun to find out how they are
	for _, side := range split.Sides {
		s := v.Sides[side]
		all := max(s.Wanted, len(s.Instances))
		if slices.ContainsFunc(s.Instances, func(c reading.Condition) bool {
			return (c.State == reading.Starting || c.State == reading.Answering) && now.Sub(c.Since) < settles
		}) {
			continue
		}
		if part := v.Front.Split.Share.Of(side); part > 0 && !s.At.IsZero() && s.Healthy < all && all > 0 {
			return fmt.Sprintf("%v answers %v, and %d of its %d instances are healthy", side, part, s.Healthy, all)
		}
	}
	return ""
}

// overdue is which instance comes up more slowly than instances do, "" if none does.
func overdue(v engine.View, now time.Time) string {
	side := v.Sides[v.Crossing.Target]
	for _, i := range side.Instances {
		if waited := now.Sub(i.Started); i.State != reading.Healthy && raise.Overdue(waited, v.Typical) {
			return fmt.Sprintf("%v is slow to come up, %d of %d healthy: %s waits for %s, usually %s",
				v.Crossing.Target, side.Healthy, side.Wanted, i.Name,
				route.Short(waited.Truncate(time.Second)), route.Short(v.Typical.Round(time.Second)))
		}
	}
	return ""
}

// asked is since when a person is asked, where that is a while ago.
func asked(at, now time.Time) string {
	const while = 20 * time.Second
	if at.IsZero() || now.Sub(at) < while {
		return ""
	}
	return fmt.Sprintf("  (asked %s ago)", route.Short(now.Sub(at).Truncate(time.Second)))
}

// Age is how long ago: tenths while it is short, then coarser.
func Age(d time.Duration) string {
	if d = max(d, 0); d < 10*time.Second {
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return route.Short(d.Round(time.Second))
}

// well is what goes on while nothing is wrong.
func well(v engine.View, now time.Time) Sentence {
	c := v.Crossing
	other, target := c.Target.Other(), c.Target
	text := ""
	if h := v.Hook; h.Command != "" {
		return Sentence{fmt.Sprintf("all right: the hook %s (%s) is waited for, %s of %s; %s", h.Command, h.Moment,
			route.Short(now.Sub(h.Since).Truncate(time.Second)), route.Short(h.Within), nowAnswers(v)), AllRight}
	}
	switch c.Stage {
	case crossing.Raising:
		side := v.Sides[target]
		text = fmt.Sprintf("%v is being raised, %d of %d healthy, %s; %s", target, side.Healthy, side.Wanted,
			soFar(v, now), answers(v, other))
	case crossing.Proving:
		text = fmt.Sprintf("%v is being proven; %s", target, answers(v, other))
		if c.Proven {
			text = fmt.Sprintf("%v is proven; %s", target, answers(v, other))
		}
	case crossing.Shifting:
		if c.Task.More {
			side := v.Sides[target]
			text = fmt.Sprintf("%v gets more instances, %d of %d healthy, before %s; %s", target, side.Healthy,
				raise.Wanted(c.Task.Choices), onNew(c.Task.Share, c), nowAnswers(v))
			break
		}
		text = judged(v)
	case crossing.Keeping:
		text = fmt.Sprintf("%v answers everything; %v is kept for %s more", target, other,
			route.Short(v.Left.Round(time.Second)))
		if c.First {
			text = fmt.Sprintf("%v answers everything", target)
		}
	default:
		text = rest(v, now)
	}
	if blind := v.Front.Blind; blind != "" && !c.Timed() {
		text += "; " + blind
	} else if v.Traffic.Rate == 0 && c.Share.Of(v.Live) > 0 && len(v.Sides[v.Live].Instances) > 0 {
		text += "; nobody sends requests now"
	}
	if why := WayBack(v.WayBack, now); why != "" && c.Stage.UnderWay() {
		text += fmt.Sprintf("; way back %s: %s", v.WayBack.State, why)
	}
	if v.Dead {
		return Sentence{text, Wrong}
	}
	if strings.HasPrefix(text, "nothing ") {
		return Sentence{text, AllRight}
	}
	return Sentence{"all right: " + text, AllRight}
}

// soFar is how long the stage lasts by now, and how long a raise usually does: "41s, usually 55s".
func soFar(v engine.View, now time.Time) string {
	text := route.Short(now.Sub(v.Crossing.Since).Truncate(time.Second))
	if v.Typical > 0 {
		text += ", usually " + route.Short(v.Typical.Round(time.Second))
	}
	return text
}

// answers is that a side answers everything, or nobody does.
func answers(v engine.View, side split.Side) string {
	if v.Crossing.First {
		return "nothing was live before"
	}
	return fmt.Sprintf("%v answers everything", side)
}

// nowAnswers is who answers in the middle of a crossing.
func nowAnswers(v engine.View) string {
	if c := v.Crossing; c.Part() > 0 {
		return On(c.Share, c.Target)
	}
	return answers(v, v.Crossing.Target.Other())
}

// rest is how things are while nothing is crossing.
func rest(v engine.View, now time.Time) string {
	c, live := v.Crossing, v.Live
	if len(v.Sides[split.Blue].Instances)+len(v.Sides[split.Green].Instances) == 0 {
		return "nothing is released yet: s chooses a version for the first release"
	}
	if v.Dead {
		return dead(v)
	}
	text := fmt.Sprintf("%v answers everything", live)
	if version := v.Sides[live].Version; version != "" {
		text = fmt.Sprintf("%v (%s) answers everything", live, version)
	}
	ago := ""
	if !c.Since.IsZero() {
		ago = " " + route.Short(max(now.Sub(c.Since), 0).Truncate(time.Second)) + " ago"
	}
	switch c.Stage {
	case crossing.Settled:
		text += fmt.Sprintf("; crossing %d settled%s", c.Number, ago)
	case crossing.RolledBack:
		text += fmt.Sprintf("; crossing %d was rolled back%s", c.Number, ago)
	case crossing.CalledOff:
		text += fmt.Sprintf("; crossing %d was called off%s, no traffic had moved", c.Number, ago)
	}
	if why := Cause(c.Why, c); why != "" && c.Stage.Over() {
		text += ": " + why
	}
	return text
}

// dead is that nobody of the live side serves, and what helps.
func dead(v engine.View) string {
	other := v.Live.Other()
	if v.Spare.Healthy == 0 {
		return fmt.Sprintf("nobody of %v serves: s raises and proves %v at a version, and then sends everything "+
			"there at once", v.Live, other)
	}
	text := fmt.Sprintf("nobody of %v serves, and %s", v.Live, Ready(v))
	if v.Crossing.Stage == crossing.Settled {
		return text + ": b b sends everything there"
	}
	return text + fmt.Sprintf(": vaiven shift PLAN --to %d sends everything there",
		split.Toward(other, split.Whole)/split.Percent)
}

// Ready is what stands ready where the live side does not serve: "3 healthy instances of green (1.1) stand ready".
func Ready(v engine.View) string {
	other := v.Live.Other()
	name := other.String()
	if v.Spare.Version != "" {
		name += " (" + v.Spare.Version + ")"
	}
	if v.Spare.Healthy == 0 {
		return "nobody of " + name + " stands ready"
	}
	return fmt.Sprintf("%d healthy instances of %s stand ready", v.Spare.Healthy, name)
}

// Unwatched is what nobody sees to where no keeper runs, "" if there is nothing to see to.
func Unwatched(v engine.View) string {
	if len(v.Sides[v.Live].Instances) == 0 {
		return ""
	}
	text := fmt.Sprintf("nobody watches %v", v.Live)
	if len(v.Keeps) > 0 {
		text += ", and what ends of it is not started again"
	}
	return text
}

// Ailing is what is wrong with a side that gets requests while nothing is crossing, and what stands ready; "" if
// nothing is.
func Ailing(v engine.View) string {
	if v.Dead {
		return dead(v)
	}
	return ailing(v)
}

// ailing is what is wrong with a side that gets requests while nothing is crossing, "" if nothing is.
func ailing(v engine.View) string {
	n := len(v.Crossing.Ails)
	if !v.Ails {
		return ""
	}
	return Cause(v.Crossing.Ails[n-1].Cause, v.Crossing) + "; " + Ready(v)
}

// judged is what the guards say of the target by now.
func judged(v engine.View) string {
	c := v.Crossing
	if c.Part() == 0 {
		return fmt.Sprintf("%v is proven and gets nothing yet; %s", c.Target, answers(v, c.Target.Other()))
	}
	known, all := 0, 0
	for _, s := range v.Guards {
		switch s.State {
		case guard.Clear:
			known++
			all++
		case guard.Watching, guard.Unknown, guard.Tripped:
			all++
		}
	}
	if all == 0 {
		return fmt.Sprintf("%v answers %v; no guard watches", c.Target, c.Part())
	}
	return fmt.Sprintf("%v answers %v, not worse so far; %d of %d guards can tell", c.Target, c.Part(), known, all)
}

// worse is the first guard that begins to see something, "" if none does.
func worse(v engine.View) string {
	const likely = 0.5
	for _, s := range v.Guards {
		if s.State == guard.Tripped || s.State == guard.Watching && s.Sure >= likely {
			return fmt.Sprintf("%v may be worse: %s %s", v.Crossing.Target, s.Name, Guard(s))
		}
	}
	return ""
}

// Next is what comes next by itself, and when: "asks you: 50 %, in 0:48".
func Next(v engine.View) string {
	c := v.Crossing
	if !c.Timed() || c.Frozen() || len(v.Lacks) > 0 {
		return ""
	}
	in := ", in " + Clock(v.Left)
	if v.Left <= 0 {
		in = ""
	}
	if c.Stage == crossing.Keeping {
		if c.First {
			return ""
		}
		if v.Sides[c.Target.Other()].Stands {
			return fmt.Sprintf("next: %v leaves the rotation, and runs on%s", c.Target.Other(), in)
		}
		return fmt.Sprintf("next: %v is retired%s", c.Target.Other(), in)
	}
	leg, ok := c.Next()
	if !ok {
		return ""
	}
	next := "next: "
	if c.Route[leg].Ask {
		next = "next asks you: "
	}
	return next + On(c.LegShare(leg), c.Target) + whenSure(v, in)
}

// whenSure is when a leg ends: after a time, or as soon as one is sure.
func whenSure(v engine.View, in string) string {
	if _, until := v.Crossing.UntilSure(); !until {
		return in
	}
	text := " when sure"
	if ends, known := v.Ends(); known {
		text += ", in ~" + Clock(ends)
	}
	return text + ", at most " + Clock(v.Left)
}

// Clock is a duration as minutes and seconds: "1:12", or with hours "1:02:03".
func Clock(d time.Duration) string {
	s := int(max(d, 0).Round(time.Second) / time.Second)
	if s >= 3600 {
		return fmt.Sprintf("%d:%02d:%02d", s/3600, s/60%60, s%60)
	}
	return fmt.Sprintf("%d:%02d", s/60, s%60)
}

// Role is a side's role with what it answers. Until a change is in force everywhere, it is the part that it is to
// answer.
func Role(r crossing.Role, part split.Share, known, everywhere bool) string {
	text := map[crossing.Role]string{
		crossing.RoleLive: "live", crossing.RoleNew: "new side", crossing.RoleKept: "kept", crossing.RoleSpare: "spare",
		crossing.RoleEmpty: "empty",
	}[r]
	switch {
	case r == crossing.RoleEmpty || !known:
		return text
	case !everywhere && part == 0 && r != crossing.RoleSpare:
		return text + ", some still come"
	case !everywhere && part == split.Whole:
		return text + ", is to answer all"
	case part == split.Whole:
		return text + ", answers all"
	case part > 0:
		return text + ", answers " + part.String()
	case r == crossing.RoleSpare:
		return text
	}
	return text + ", answers none"
}

// Progress is how a crossing stands while nothing happens, for a log that a person reads. kind
// is the same as long as only figures change.
func Progress(v engine.View, trouble string, now time.Time) (kind, text string) {
	c := v.Crossing
	side := v.Sides[c.Target]
	switch {
	case trouble != "":
		return trouble, trouble
	case c.Stage == crossing.Raising && c.Question.ID == 0:
		text = fmt.Sprintf("raising: %d of %d up, %s", side.Healthy, side.Wanted, soFar(v, now))
		if late := overdue(v, now); late != "" {
			text += "; " + late
		}
		return fmt.Sprintf("raising %d", side.Healthy), text
	case c.Stage == crossing.Proving && !c.Proven && c.Question.ID == 0:
		return "proving", fmt.Sprintf("proving: %s", route.Short(now.Sub(c.Since).Truncate(time.Second)))
	}
	if c.Frozen() || c.Question.ID != 0 {
		return "", "" // the event tells
	}
	s := Standing(v, Seen{}, now)
	if s.Gravity == AllRight {
		text = s.Text
		if next := Next(v); next != "" {
			text += "; " + next
		}
		return "all right", text
	}
	kind, _, _ = strings.Cut(s.Text, ":")
	return kind, s.Text
}

// Unchosen says why a side that gets requests is not given more instances: one of it would be stopped for that.
func Unchosen(o raise.Odd, side split.Side) string {
	if o.Wanted > 0 {
		return fmt.Sprintf("%d of part %s are to run, and more do, of a side that gets requests: they are left alone",
			o.Wanted, o.Instance.Part)
	}
	return fmt.Sprintf("%s runs version %s, build %s, and %v gets requests: it is left alone", o.Instance.Name,
		o.Instance.Version, raise.Short(o.Instance.Build), side)
}

// Untaken says that messages wait at a side that is to be retired, and that nobody takes them.
func Untaken(side split.Side, waiting int64, patience time.Duration) string {
	return fmt.Sprintf("%d messages wait at %v or are being done there, and none fewer for %v: see to its consumers, or "+
		"take the messages away at the broker, and retire it again", waiting, side, patience)
}
