package words

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayout"
)

// Situation is what has to be said first of a service. by is how a person answers a question: "a", "" on no screen,
// where no keys are named.
func Situation(s situation.Situation, v engine.View, by string, now time.Time) string {
	c := v.Crossing
	switch is := s.Is.(type) {
	case situation.RollingBack:
		return rollingBack(is, v)
	case situation.Hurting:
		switch {
		case is.Dead:
			return dead(v) + "; " + Pain(is.Pain, Carried(v))
		case is.Asks.ID != 0:
			return Whole(is.Asks, c) + " " + Pain(is.Pain, Carried(v))
		}
		return Pain(is.Pain, Carried(v)) + helps(is.Help, c)
	case situation.Unheard:
		return fmt.Sprintf("the keeper has not answered for %s: what is shown is old. b b rolls back without it",
			route.Short(is.For.Truncate(time.Second)))
	case situation.Troubled:
		return is.Said
	case situation.FrontUnread:
		return unreadFor("front", is.For, is.Said)
	case situation.SideUnread:
		return unreadFor(is.Side.String()+"'s instances", is.For, is.Said)
	case situation.Ailing:
		return Cause(is.Cause, c) + "; " + Ready(v)
	case situation.OtherBuild:
		return fmt.Sprintf("%s of %v: another build than was delivered (%s)", strings.Join(is.Names, ", "), is.Side,
			is.What)
	case situation.Unserved:
		return fmt.Sprintf("the front has just answered %d requests itself with an error: nobody was there for them",
			is.Requests)
	case situation.Strange:
		return fmt.Sprintf("%s: unknown server in %v's pool; Vaiven does not touch %[2]v there",
			strings.Join(is.Addresses, ", "), is.Side)
	case situation.FirstReading:
		return "reading the front and both sides for the first time"
	case situation.Asking:
		text := "◇ " + Question(is.Question, c)
		if by != "" {
			text += "  " + by + " answers"
		}
		if behind := Behind(is.Question); behind != "" {
			text += "  " + behind
		}
		return text + askedFor(is.For)
	case situation.Theirs:
		text := "frozen: " + Frozen(c)
		if by != "" {
			text += fmt.Sprintf(". space accepts %s, o puts %s back", On(c.Share, c.Target), On(c.Ours, c.Target))
		}
		return text
	case situation.Stopped:
		text := "frozen: " + Frozen(c)
		if trouble := Trouble(c.Trouble); trouble != "" && !strings.Contains(text, trouble) {
			text += "; " + trouble
		}
		if by != "" {
			text += ". space resumes"
		}
		return text
	case situation.Eased:
		return "route waits: " + Lacks(v.Lacks, now)
	case situation.Paused:
		return paused(c) + " paused: " + Lacks(v.Lacks, now)
	case situation.NotRetired:
		return fmt.Sprintf("%v not retired yet: %s", is.Side, Lacks(v.Held, now))
	case situation.NoWayBack:
		return "no way back: " + WayBack(v.WayBack, now)
	case situation.SplitWrong:
		return "the split is " + Split(v.Split, Carried(v))
	case situation.Trouble:
		return Trouble(c.Trouble)
	case situation.Noticed:
		return v.Front.Notice
	case situation.SlowRaise:
		return slow(is, v)
	case situation.MaybeWorse:
		return fmt.Sprintf("%v may be worse: %s %s", c.Target, is.Guard.Name, Guard(is.Guard))
	case situation.Unhealthy:
		return fmt.Sprintf("%v gets %v of %s, and %d of its %d instances are healthy", is.Side, is.Part, Carried(v), is.Healthy,
			is.All)
	case situation.Dead:
		return dead(v)
	case situation.NothingYet:
		return "nothing is released yet: s chooses a version for the first release"
	case situation.RolledBack:
		return beside(rolledBack(is, v), v, now)
	case situation.Hooked:
		return fmt.Sprintf("all right: hook %s (%s) runs, %s of %s; %s", v.Hook.Command, v.Hook.Moment,
			route.Short(is.For.Truncate(time.Second)), route.Short(v.Hook.Within), nowGets(v))
	case situation.Going:
		return "all right: " + beside(going(is, s.Then, v), v, now)
	case situation.Resting:
		return "all right: " + beside(resting(is, v), v, now)
	}
	return ""
}

// paused is what does not go on by itself.
func paused(c crossing.State) string {
	switch {
	case c.Stage == crossing.Keeping:
		return "keep"
	case c.Leg < 0:
		return "first leg"
	}
	return "leg"
}

// beside adds what is worth knowing beside what goes well.
func beside(text string, v engine.View, now time.Time) string {
	c := v.Crossing
	if blind := v.Front.Blind; blind != "" && !c.Timed() {
		text += "; " + blind
	} else if v.Traffic.Rate == 0 && c.Share.Of(v.Live) > 0 && len(v.Sides[v.Live].Instances) > 0 {
		text += "; no " + Carried(v) + " now"
	}
	if why := WayBack(v.WayBack, now); why != "" && c.Stage.UnderWay() {
		text += fmt.Sprintf("; way back %s: %s", v.WayBack.State, why)
	}
	return text
}

// rollingBack says since when, and that the front has not confirmed it.
func rollingBack(r situation.RollingBack, v engine.View) string {
	c := v.Crossing
	text := fmt.Sprintf("rolling back to %v", r.To)
	if r.For >= 0 && c.Trouble.Is == nil {
		text += fmt.Sprintf(": asked %s ago, the front has not confirmed", Age(r.For))
	}
	if r.Failed > 0 {
		text += fmt.Sprintf("; %d requests failed since", r.Failed)
	} else if len(r.Pain.Sides) > 0 || r.Pain.Lost > 0 {
		text += "; " + Pain(r.Pain, Carried(v))
	}
	if t := Trouble(c.Trouble); t != "" {
		text += ": " + t
	}
	if why := Cause(r.Why, c); why != "" && !oneof.IsA[crossing.ByHand](r.Why) {
		text += " (" + why + ")"
	}
	return text
}

// Pain is how many of what the front divides fail.
func Pain(p situation.Pain, carried string) string {
	var texts []string
	for _, a := range p.Sides {
		texts = append(texts, fmt.Sprintf("%v: %s of %.0f %s/s fail", a.Side, few(a.Failing), a.Rate, carried))
	}
	if p.Lost > 0 {
		text := fmt.Sprintf("no answer at the front to %d of the last checks", p.Lost)
		if p.Most {
			text = fmt.Sprintf("no answer at the front to the last %d checks", p.Lost)
		}
		texts = append(texts, fmt.Sprintf("%s (%s)", text, p.Why))
	}
	if len(texts) == 0 {
		return "a side that gets " + carried + " does not serve"
	}
	return strings.Join(texts, ", ")
}

// helps is what helps most, with the keys that do it.
func helps(h situation.Help, c crossing.State) string {
	switch {
	case h.Alike:
		return ". Both fail alike: see what they share, moving traffic helps nobody"
	case h.Best.Do != "":
		keys := map[wayout.Do]string{wayout.Forward: " (f)", wayout.Home: " (b b)"}[h.Best.Do]
		return ". Helps most: " + WayOut(h.Best, c.Target) + keys
	case h.Ways:
		return ". Nothing helps for certain yet"
	case h.Back:
		return ". b b rolls back"
	}
	return ""
}

// unreadFor is for how long something was not read, below zero if it never was.
func unreadFor(what string, long time.Duration, said string) string {
	const short = 2 * time.Second
	text := what + " not read for " + route.Short(long.Truncate(time.Second))
	switch {
	case long < 0:
		text = what + " not read since the start"
	case long < short:
		text = what + " cannot be read"
	}
	if said != "" {
		text += ": " + said
	}
	return text
}

// slow is which instance comes up more slowly than instances do.
func slow(s situation.SlowRaise, v engine.View) string {
	side := v.Sides[v.Crossing.Target]
	return fmt.Sprintf("%v is slow to come up, %d of %d healthy: %s waits for %s, usually %s", v.Crossing.Target,
		side.Healthy, side.Wanted, s.Instance.Name, route.Short(s.For.Truncate(time.Second)),
		route.Short(v.Typical.Round(time.Second)))
}

// askedFor is for how long a person is asked, where that is a while.
func askedFor(long time.Duration) string {
	const while = 20 * time.Second
	if long < while {
		return ""
	}
	return fmt.Sprintf("  (asked %s ago)", route.Short(long.Truncate(time.Second)))
}

// Age is how long ago: tenths while it is short, then coarser.
func Age(d time.Duration) string {
	if d = max(d, 0); d < 10*time.Second {
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return route.Short(d.Round(time.Second))
}

// going is how a crossing goes that nothing is wrong with.
func going(g situation.Going, then situation.Then, v engine.View) string {
	c := v.Crossing
	old, side := c.Target.Other(), v.Sides[c.Target]
	switch {
	case c.Stage == crossing.Raising && c.Task.Control:
		return fmt.Sprintf("raising a control group beside %v, %s; %s", old, soFar(g.For, v), getsAll(v, old))
	case c.Stage == crossing.Raising:
		return fmt.Sprintf("raising %v, %d of %d healthy, %s; %s", c.Target, side.Healthy, side.Wanted, soFar(g.For, v),
			getsAll(v, old))
	case c.Stage == crossing.Proving && c.Proven:
		return fmt.Sprintf("%v is proven; %s", c.Target, getsAll(v, old))
	case c.Stage == crossing.Proving:
		return fmt.Sprintf("proving %v; %s", c.Target, getsAll(v, old))
	case c.Stage == crossing.Shifting && c.Task.More:
		return fmt.Sprintf("%v gets more instances, %d of %d healthy, before %s; %s", c.Target, side.Healthy,
			raise.Wanted(c.Task.Choices), onNew(c.Task.Share, c), nowGets(v))
	case c.Stage == crossing.Shifting:
		return judged(v)
	case c.First:
		return getsAll(v, c.Target)
	}
	left := route.Short(v.Left.Round(time.Second))
	after := map[situation.ThenDo]string{
		situation.AskRetire: ", then you are asked", situation.Leave: ", and stays",
		situation.TakeOut: ", then leaves the rotation", situation.Retire: ", then is retired",
		situation.Await: ", and until all of " + c.With + " have arrived",
	}[then.Do]
	return fmt.Sprintf("%s; %v is kept for %s more%s", getsAll(v, c.Target), old, left, after)
}

// Raise is what a raise has come to, and how long it may take: "0 of 4 healthy, at most 20s, usually 6s".
func Raise(v engine.View) string {
	c := v.Crossing
	side := v.Sides[c.Target]
	text := fmt.Sprintf("%d of %d healthy", side.Healthy, max(len(side.Instances), side.Wanted))
	if limit := v.Limits[c.Target]; limit > 0 {
		text += fmt.Sprintf(", at most %s", route.Short(limit))
	}
	if v.Typical > 0 {
		text += ", usually " + route.Short(v.Typical.Round(time.Second))
	}
	return text
}

// RaiseAgain is what trying a raise again does: what runs stays, and what has ended is started anew.
func RaiseAgain(v engine.View) string {
	side := v.Crossing.Target
	runs, ended := 0, 0
	for _, i := range v.Sides[side].Instances {
		if i.Running {
			runs++
		} else {
			ended++
		}
	}
	missing := max(v.Sides[side].Wanted-runs-ended, 0) + ended
	switch {
	case v.Sides[side].Stands:
		return fmt.Sprintf("look at %v's instances again; nothing is started", side)
	case missing == 0:
		return fmt.Sprintf("wait for the %d that run; none is started again", runs)
	case runs == 0:
		return fmt.Sprintf("start all %d again", missing)
	}
	return fmt.Sprintf("start %d again, and wait for the %d that run", missing, runs)
}

// Reasons is all that the route stands still for, or that is not retired yet for, one by one: what froze it, the newest
// first, with its time, then what is not known.
func Reasons(v engine.View, now time.Time) (list []string) {
	for _, f := range slices.Backward(v.Crossing.Freezes) {
		if known, is := f.Cause.Is.(crossing.NotKnown); is && len(known.Lacks) > 1 {
			for _, l := range known.Lacks {
				list = append(list, f.At.Local().Format("15:04:05")+"  not enough is known to go on: "+lack(l, now))
			}
			continue
		}
		list = append(list, f.At.Local().Format("15:04:05")+"  "+Cause(f.Cause, v.Crossing))
	}
	for _, l := range append(slices.Clone(v.Lacks), v.Held...) {
		list = append(list, lack(l, now))
	}
	return list
}

// soFar is how long the stage lasts by now, and how long a raise usually does: "41s, usually 55s".
func soFar(long time.Duration, v engine.View) string {
	text := route.Short(long.Truncate(time.Second))
	if v.Typical > 0 {
		text += ", usually " + route.Short(v.Typical.Round(time.Second))
	}
	return text
}

// getsAll is that a side gets all requests, or that nobody did.
func getsAll(v engine.View, side split.Side) string {
	if v.Crossing.First && side != v.Crossing.Target {
		return "nothing was live before"
	}
	return fmt.Sprintf("%v gets all %s", side, Carried(v))
}

// nowGets is who gets requests in the middle of a crossing.
func nowGets(v engine.View) string {
	if c := v.Crossing; c.Part() > 0 {
		return On(c.Share, c.Target)
	}
	return getsAll(v, v.Crossing.Target.Other())
}

// Carried is what the front divides: messages where sides have queues, requests else.
func Carried(v engine.View) string {
	for _, side := range v.Sides {
		if side.Queue != nil {
			return "messages"
		}
	}
	return "requests"
}

// liveGets is who gets all requests while nothing is crossing.
func liveGets(v engine.View) string {
	if version := v.Sides[v.Live].Version; version != "" {
		return fmt.Sprintf("%v (%s) gets all %s", v.Live, version, Carried(v))
	}
	return fmt.Sprintf("%v gets all %s", v.Live, Carried(v))
}

// resting is how things are while nothing is crossing.
func resting(r situation.Resting, v engine.View) string {
	c, text := v.Crossing, liveGets(v)
	ago := ""
	if r.For >= 0 {
		ago = " " + route.Short(r.For.Truncate(time.Second)) + " ago"
	}
	switch c.Stage {
	case crossing.Settled:
		text += fmt.Sprintf("; crossing %d settled%s", c.Number, ago)
	case crossing.CalledOff:
		text += fmt.Sprintf("; crossing %d was called off%s, no traffic had moved", c.Number, ago)
	}
	if why := Cause(c.Why, c); why != "" && c.Stage.Over() {
		text += ": " + why
	}
	if left := Remaining(v.Sides[v.Live.Other()], v.Live.Other()); left != "" {
		text += "; " + left
	}
	return text
}

// Remaining is what a side that has no share still has: "158 messages are still at green: 18 wait, and its consumers
// have taken 140 and are not done", or "12 sessions are still on blue: they end when it is retired"; "" if nothing.
func Remaining(s engine.SideView, side split.Side) string {
	if s.Kept > 0 {
		return fmt.Sprintf("%d sessions used in the last %s are still on %v, and end when it is retired", s.Kept,
			route.Short(reading.KeptFor), side)
	}
	if s.Queue == nil || s.Queue.There() == 0 {
		return ""
	}
	return fmt.Sprintf("%d messages are still at %v: %d wait, and its consumers have taken %d and are not done",
		s.Queue.There(), side, s.Queue.Ready, s.Queue.Unacked)
}

// rolledBack is that the last crossing was rolled back, why, and what it cost.
func rolledBack(r situation.RolledBack, v engine.View) string {
	c := v.Crossing
	text := "rolled back"
	if r.For >= 0 {
		text += " " + route.Short(r.For.Truncate(time.Second)) + " ago"
	}
	if why := Cause(c.Why, c); why != "" {
		text += ": " + why
	}
	if r.All > 0 {
		text += fmt.Sprintf("; %d of %d %s on %v failed", r.Failed, r.All, Carried(v), c.Target)
	}
	text += "; " + liveGets(v)
	if left := Remaining(v.Sides[v.Live.Other()], v.Live.Other()); left != "" {
		text += "; " + left
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
	return text + fmt.Sprintf(": vaiven shift PLAN --to %v sends everything there", other)
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

// judged is what the guards say of the target by now.
func judged(v engine.View) string {
	c := v.Crossing
	if c.Part() == 0 {
		return fmt.Sprintf("%v is proven and gets nothing yet; %s", c.Target, getsAll(v, c.Target.Other()))
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
	switch gets := fmt.Sprintf("%v gets %v of %s", c.Target, c.Part(), Carried(v)); {
	case all == 0:
		return gets + "; no guard watches"
	case known == all:
		return fmt.Sprintf("%s; all %d guards clear", gets, all)
	default:
		return fmt.Sprintf("%s; %d of %d guards clear", gets, known, all)
	}
}

// NextOf is what comes next by itself, for beside a situation: only where nothing is wrong and nobody is waited for.
func NextOf(s situation.Situation, c crossing.State) string {
	if s.Gravity != situation.AllRight {
		return ""
	}
	return Next(s.Then, c)
}

// Next is what comes next by itself, and when: "asks you: 50 %, in 0:48".
func Next(t situation.Then, c crossing.State) string {
	old, in := c.Target.Other(), ", in "+Clock(t.In)
	if t.In <= 0 {
		in = ""
	}
	switch t.Do {
	case situation.TakeOut:
		return fmt.Sprintf("next: %v leaves the rotation, and runs on%s", old, in)
	case situation.Retire:
		return fmt.Sprintf("next: %v is retired%s", old, in)
	case situation.AskRetire:
		return fmt.Sprintf("next asks you: retire %v%s", old, in)
	case situation.Await:
		return fmt.Sprintf("%v stays until all of %s have arrived", old, c.With)
	case situation.Leave:
		return fmt.Sprintf("next: settled, %v stays%s", old, in)
	case situation.NextLeg:
		return "next: " + On(c.LegShare(t.Leg), c.Target) + whenSure(t, in)
	case situation.AskLeg:
		return "next asks you: " + On(c.LegShare(t.Leg), c.Target) + whenSure(t, in)
	}
	return ""
}

// whenSure is when a leg ends: after a time, or as soon as one is sure.
func whenSure(t situation.Then, in string) string {
	if !t.Until {
		return in
	}
	text := " when sure"
	if t.Known {
		text += ", in ~" + Clock(t.Sure)
	}
	return text + ", at most " + Clock(t.In)
}

// Clock is a duration as minutes and seconds: "1:12", or with hours "1:02:03".
func Clock(d time.Duration) string {
	s := int(max(d, 0).Round(time.Second) / time.Second)
	if s >= 3600 {
		return fmt.Sprintf("%d:%02d:%02d", s/3600, s/60%60, s%60)
	}
	return fmt.Sprintf("%d:%02d", s/60, s%60)
}

// Role is a side's role with what it gets. Until a change is in force everywhere, it is the part that it is to get.
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
		return text + ", is to get all"
	case part == split.Whole:
		return text + ", gets all"
	case part > 0:
		return text + ", gets " + part.String()
	case r == crossing.RoleSpare:
		return text
	}
	return text + ", gets none"
}

// Progress is how a crossing stands while nothing happens, for a log that a person reads. kind
// is the same as long as only figures change.
func Progress(v engine.View, trouble string, usual time.Duration, now time.Time) (kind, text string) {
	c := v.Crossing
	side := v.Sides[c.Target]
	switch {
	case trouble != "":
		return trouble, trouble
	case c.Stage == crossing.Raising && c.Question.ID == 0:
		text = fmt.Sprintf("raising: %d of %d up, %s", side.Healthy, side.Wanted, soFar(now.Sub(c.Since), v))
		if late, ok := situation.Slow(v, now); ok {
			text += "; " + slow(late, v)
		}
		return fmt.Sprintf("raising %d", side.Healthy), text
	case c.Stage == crossing.Proving && !c.Proven && c.Question.ID == 0:
		text = "proving: " + route.Short(now.Sub(c.Since).Truncate(time.Second))
		if usual > 0 {
			text += ", usually " + route.Short(usual.Round(time.Second))
		}
		return "proving", text
	}
	if c.Frozen() || c.Question.ID != 0 {
		return "", "" // the event tells
	}
	s := situation.Of(v, situation.Seen{}, now)
	text = Situation(s, v, "", now)
	if next := NextOf(s, c); next != "" {
		text += "; " + next
	}
	return fmt.Sprintf("%T", s.Is), text
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

// CountServices is how many there are.
func CountServices(n int) string {
	if n == 1 {
		return "1 service"
	}
	return fmt.Sprintf("%d services", n)
}

// Fleet answers whether it is all right with several services: with which something is wrong, which wait for a person,
// and of the only one that is not all right, why.
func Fleet(all int, wrong, waits []string, why string) (situation.Gravity, string) {
	count := CountServices(all)
	for _, more := range []string{"; ", " ("} { // on its own line
		why, _, _ = strings.Cut(why, more)
	}
	var list []string
	gravity := situation.AllRight
	if len(waits) > 0 {
		gravity = situation.Waits
		text := someOf(waits) + " wait for a person"
		if len(waits) == 1 {
			text = waits[0] + " waits for a person"
		}
		list = append(list, text)
	}
	if len(wrong) > 0 {
		gravity = situation.Wrong
		list = append([]string{"something is wrong with " + someOf(wrong)}, list...)
	}
	switch {
	case len(list) == 0:
		return gravity, count + ": all right"
	case len(wrong)+len(waits) == 1 && why != "":
		list = []string{append(wrong, waits...)[0] + ": " + why}
	}
	if rest := all - len(wrong) - len(waits); rest > 0 {
		list = append(list, fmt.Sprintf("%d all right", rest))
	}
	return gravity, count + ": " + strings.ReplaceAll(strings.Join(list, "; "), "?; ", "? ")
}

// someOf names a few.
func someOf(names []string) string {
	const most = 3
	switch n := len(names); {
	case n == 1:
		return names[0]
	case n <= most:
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
	default:
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most-1], ", "), n-most+1)
	}
}
