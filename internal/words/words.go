package words

import (
	"cmp"
	"fmt"
	"math"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayout"
)

// On is a share as the operator of a crossing thinks of it: the new side's part.
func On(share split.Share, target split.Side) string {
	return fmt.Sprintf("%v on %v", share.Of(target), target)
}

// Question is what a person is asked.
func Question(q crossing.Question, s crossing.State) string {
	switch is := q.Is.(type) {
	case crossing.AskSameBuild:
		return fmt.Sprintf("%s has the same build as %v now (%s): nothing has changed. Raise it all the same?",
			is.Version, q.Side.Other(), raise.Short(is.Build))
	case crossing.AskRaise:
		return "the raise failed. Try again?"
	case crossing.AskProof:
		return "the proof failed. Try again?"
	case crossing.AskFindings:
		if n := len(is.Findings); n > 1 {
			return fmt.Sprintf("accept these %d findings and go on?", n)
		}
		return "accept what the proof found and go on?"
	case crossing.AskStart:
		if s.AtOnce {
			return fmt.Sprintf("%v is proven, and the only side that serves. Send everything there at once?", q.Side)
		}
		return fmt.Sprintf("%v is proven. Start to shift?", q.Side)
	case crossing.AskLeg:
		if is.Load > 0 {
			return fmt.Sprintf("go on to %v on %v, %s of its capacity?", is.Part, q.Side, Percent(is.Load))
		}
		return fmt.Sprintf("go on to %v on %v?", is.Part, q.Side)
	case crossing.AskLoad:
		return fmt.Sprintf("%v on %v would take %s of its capacity, more than the plan's limit. Go on to it?",
			is.Part, q.Side, Percent(is.Load))
	case crossing.AskUnsure:
		return fmt.Sprintf("%s. Go on to %v on %v all the same?", Unsure(is.Unsure), is.Part, q.Side)
	case crossing.AskTogether:
		return fmt.Sprintf("%v was kept for its time, and stays until all that arrive together have: have all of %s?",
			q.Side.Other(), is.Fleet)
	case crossing.AskRetire:
		return fmt.Sprintf("%v was kept for its time. Retire it?", q.Side.Other())
	}
	return "go on?"
}

// Unsure is what could not be excluded, and what was: "failing: a fault of 1 % is not excluded, 5 %
// is".
func Unsure(list []crossing.Unsure) string {
	var texts []string
	for _, u := range list {
		if u.Guard == "" {
			texts = append(texts, "no guard compares what users are answered")
			continue
		}
		text := fmt.Sprintf("%s: a fault of %s is not excluded", u.Guard, Percent(u.Find))
		switch {
		case u.Excluded > 0 && u.Excluded < 1:
			text += fmt.Sprintf(", one of %s is", Percent(u.Excluded))
		case u.In > 0:
			text += fmt.Sprintf(", at this traffic it takes ~%s", route.Short(u.In.Round(time.Second)))
		}
		texts = append(texts, text)
	}
	return strings.Join(texts, "; ")
}

// Behind is what a question is asked because of, "" if nothing went wrong.
func Behind(q crossing.Question) string {
	switch is := q.Is.(type) {
	case crossing.AskFindings:
		return findings(is.Findings)
	case crossing.AskRaise:
		return Trouble(is.Trouble)
	case crossing.AskProof:
		return Trouble(is.Trouble)
	}
	return ""
}

// Whole is a question with what is behind it.
func Whole(q crossing.Question, s crossing.State) string {
	if behind := Behind(q); behind != "" {
		return Question(q, s) + " " + behind
	}
	return Question(q, s)
}

// Frozen is why the route stands still: the newest freeze, and how many there are.
func Frozen(s crossing.State) string {
	n := len(s.Freezes)
	if n == 0 {
		return ""
	}
	text := Cause(s.Freezes[n-1].Cause, s)
	if n > 1 { // first, so that it is not what is cut
		text = fmt.Sprintf("%d reasons, the last: %s", n, text)
	}
	return text
}

// Cause is why something stands still, goes back or has ended, "" if nothing is known.
func Cause(cause crossing.Cause, s crossing.State) string {
	switch c := cause.Is.(type) {
	case nil:
		return ""
	case crossing.ByHand:
		return cmp.Or(c.Why, "by hand")
	case crossing.Steered:
		return "the share was changed by hand"
	case crossing.ByGuard:
		return Alarm(c.Alarm)
	case crossing.NobodyHome:
		if c.Alarm.Guard == "" {
			return "not rolled back: " + Serving(c.Home)
		}
		return fmt.Sprintf("%s. Not rolled back: %s", Alarm(c.Alarm), Serving(c.Home))
	case crossing.NobodyLeft:
		return fmt.Sprintf("nothing more goes to %v: %s", s.Target, Serving(c.Target))
	case crossing.HomeIll:
		return Ill(c.Home)
	case crossing.WayClosed:
		at := time.Time{}
		if l, looked := c.Way.Looked(); looked {
			at = l.At
		}
		name, text := Condition(c.Way, at)
		return "there is no way back any more: " + name + ": " + text
	case crossing.NotKnown:
		return "not enough is known to go on: " + Lacks(c.Lacks, time.Time{})
	case crossing.ByProof:
		if len(c.Findings) == 0 {
			return "the proof failed: " + strings.TrimPrefix(Trouble(c.Trouble), "proof: ")
		}
		return "the proof found: " + findings(c.Findings)
	case crossing.ByFront:
		if hook, is := c.Trouble.Is.(crossing.TroubleHook); is {
			return "a hook held the leg up: " + hook.Said
		}
		return "the front did not take the new share: " + strings.TrimPrefix(Trouble(c.Trouble), "front: ")
	case crossing.ByRaise:
		return fmt.Sprintf("%v did not get the instances that the next share wants: %s", s.Target, Trouble(c.Trouble))
	case crossing.Foreign:
		if len(c.Apart) > 0 {
			return fmt.Sprintf("the fronts differ: %s, the others %s", Apart(c.Apart, s), On(c.To, s.Target))
		}
		return fmt.Sprintf("somebody changed the front from %s to %s", On(c.From, s.Target), On(c.To, s.Target))
	case crossing.ByOrder:
		text := fmt.Sprintf("%s sent all traffic to %v", somebody(c.Order.By), c.Order.Side)
		if c.Order.Side == s.Target.Other() {
			text = fmt.Sprintf("%s sent all traffic back to %v", somebody(c.Order.By), c.Order.Side)
		}
		if c.Order.Closed {
			text += fmt.Sprintf(", and closed %v", c.Order.Side.Other())
		}
		if c.Order.Why != "" {
			text += ": " + c.Order.Why
		}
		return text
	case crossing.FoundAgain:
		return "Vaiven was restarted: " + Found(c.Found, s)
	case crossing.Unwatched:
		return fmt.Sprintf("nobody watched for %s: the keeper or its machine stood still",
			route.Short(c.Missed.Round(time.Second)))
	case crossing.FoundHome:
		return "somebody sent all traffic back at the front"
	case crossing.NotRaised:
		return cmp.Or(Trouble(c.Trouble), "the raise failed")
	case crossing.Overload:
		return fmt.Sprintf("%s would take %s of what %v carries, more than the plan's limit: with less traffic or "+
			"more instances it goes on", On(c.To, s.Target), Percent(c.Load), s.Target)
	case crossing.Declined:
		return "no: " + Whole(c.Question, s)
	}
	return newer(cause.Kind())
}

// newer is something that a newer Vaiven wrote, of which no more is known than its name.
func newer(name string) string { return fmt.Sprintf("%q, which a newer Vaiven knows", name) }

// Apart is which fronts have another share than the first: "pier: 25 % on green".
func Apart(list []reading.Apart, s crossing.State) string {
	var texts []string
	for _, a := range list {
		texts = append(texts, a.Front+": "+On(a.Share, s.Target))
	}
	return strings.Join(texts, ", ")
}

func somebody(by string) string {
	if by == "" {
		return "somebody"
	}
	return by
}

// Found is what was found in the middle of a crossing.
func Found(f crossing.Found, s crossing.State) string {
	text := fmt.Sprintf("the front has %s", On(f.Share, s.Target))
	if len(f.Apart) > 0 {
		text += " (" + Apart(f.Apart, s) + ")"
	}
	if f.Share != f.Noted {
		text += fmt.Sprintf(", the logbook says %s", On(f.Noted, s.Target))
	}
	for _, side := range split.Sides {
		if f.Wanted[side] > 0 {
			text += fmt.Sprintf(", %v runs %d of %d", side, f.Running[side], f.Wanted[side])
		}
	}
	return text
}

// Alarm is what a guard saw.
func Alarm(a crossing.Alarm) string {
	text := a.Guard + ": "
	switch {
	case a.Watch == plan.Alert:
		return text + a.Alert + " fires" + reason(a.Summary)
	case a.Watch == plan.Rate:
		return text + fmt.Sprintf("%s against %s, worse, %s certain", Percent(a.Level), Percent(a.Baseline), Sure(a.Sure))
	case a.Watch == plan.Bound:
		order := map[bool]string{false: "above", true: "below"}[a.Down]
		return text + fmt.Sprintf("%s %s by %s, %s certain", order, Measure(a.Watch, a.Figure, a.Bound),
			Measure(a.Watch, a.Figure, a.Level), Sure(a.Sure))
	case a.Watch.Figures():
		return text + fmt.Sprintf("%s, %s certain", Differs(a.Watch, a.Figure, a.Instance, a.Level), Sure(a.Sure))
	case a.Watch == plan.Door && a.Level <= a.Baseline: // what got no answer names no side
		return text + fmt.Sprintf("%v answers fewer of the prober's requests than its share, and others get no good "+
			"answer, %s certain", a.Side, Sure(a.Sure))
	case a.Watch.Compares():
		if a.Sure < 0.5 { // it is for too few clients
			return text + fmt.Sprintf("no client of %v gets a good answer", a.Side)
		}
		text += fmt.Sprintf("%s against %s, worse, %s certain", Percent(a.Level), Percent(a.Baseline), Sure(a.Sure))
		if a.Cut > 0 {
			text += fmt.Sprintf(", %d answers cut short", a.Cut)
		}
		if !a.AsOf.IsZero() {
			text += fmt.Sprintf(" than at %s; nothing runs beside it now, so it may not be the release",
				a.AsOf.Local().Format("15:04"))
		}
		return text
	case a.Watch == plan.Waits:
		return text + fmt.Sprintf("the oldest message of %v waits for %s", a.Side,
			route.Short(time.Duration(a.Level*float64(time.Second)).Round(time.Second)))
	case a.Watch == plan.Lost:
		return text + fmt.Sprintf("%.0f lost on %v", a.Level, a.Side)
	case a.First.Name != "":
		return text + Stuck(a.First)
	case a.Restarted > 0 && a.Missing == 0:
		return text + fmt.Sprintf("%d instances of %v had ended and were started again", a.Restarted, a.Side)
	case a.Missing > 0:
		return text + fmt.Sprintf("%d instances of %v are not there", a.Missing, a.Side)
	}
	return text + fmt.Sprintf("%.0f", a.Level)
}

// Serving is how well a side could serve.
func Serving(b crossing.Serving) string {
	if b.Failing >= wayout.Half {
		return fmt.Sprintf("%s of %v's answers fail", Percent(b.Failing), b.Side)
	}
	if !b.Known {
		return fmt.Sprintf("the front has nobody on %v", b.Side)
	}
	if b.Instances == 0 {
		return fmt.Sprintf("%v has no instances, and %v has %d healthy ones", b.Side, b.Side.Other(), b.Other)
	}
	return fmt.Sprintf("none of the %d instances of %v is healthy, and %d of %v are", b.Instances, b.Side, b.Other,
		b.Side.Other())
}

// Ill is how ill the side is that a crossing is to leave.
func Ill(home crossing.Serving) string {
	switch {
	case home.Known && home.Instances == 0:
		return fmt.Sprintf("the live side is dead: %v has no instances", home.Side)
	case home.Known && home.Healthy == 0:
		return fmt.Sprintf("the live side is dead: none of the %d instances of %v is healthy", home.Instances,
			home.Side)
	case home.Failing >= wayout.Half:
		return fmt.Sprintf("the live side is ill: %s of %v's answers fail", Percent(home.Failing), home.Side)
	}
	return fmt.Sprintf("the live side is ill: %d of the %d instances of %v are healthy", home.Healthy, home.Instances,
		home.Side)
}

// Finding is what a check found.
func Finding(f proof.Finding) string {
	return fmt.Sprintf("%s on %s: want %s, got %s", f.Check, f.Instance, f.Want, f.Got)
}

func findings(list []proof.Finding) string {
	if len(list) == 0 {
		return ""
	}
	text := Finding(list[0])
	if len(list) > 1 {
		text += fmt.Sprintf(" (and %d more)", len(list)-1)
	}
	return text
}

// Trouble is what went wrong.
func Trouble(t crossing.Trouble) string {
	switch t := t.Is.(type) {
	case nil:
		return ""
	case crossing.TroubleRaise:
		switch {
		case t.Said != "":
			return "raise: " + t.Said
		case t.Limit > 0:
			return fmt.Sprintf("raise: not healthy within %s: %s", route.Short(t.Limit), Verdict(t.Raise))
		}
		return "raise: " + cmp.Or(Verdict(t.Raise), "failed")
	case crossing.TroubleProof:
		switch {
		case t.Said != "":
			return "proof: " + t.Said
		case t.First.Check == "":
			return "proof: nothing was checked"
		}
		return "proof: " + Finding(t.First)
	case crossing.TroubleFront:
		return "front: " + cmp.Or(t.Said, "failed")
	case crossing.TroubleRetire:
		return "retire: " + cmp.Or(t.Said, "failed")
	case crossing.TroubleHook:
		return "hook: " + cmp.Or(t.Said, "failed")
	case crossing.TroubleOpen:
		return fmt.Sprintf("retire: %d requests are still open after the grace time", t.Open)
	case crossing.TroubleCut:
		return "Vaiven ended in the middle of it"
	case crossing.TroubleLogbook:
		return "the logbook cannot be written, so nothing was done: " + t.Said
	case crossing.TroubleOther:
		return fmt.Sprintf("somebody else changed the front to %v on green when %v was to be in force", t.To, t.From)
	case crossing.TroubleHalted:
		return "stopped by hand"
	case crossing.TroubleOutsider:
		if len(t.Apart) > 0 {
			return fmt.Sprintf("somebody changed a front after the end: %s has %v on green, and the first one %v",
				t.Apart[0].Front, t.Apart[0].Share, t.To)
		}
		return fmt.Sprintf("somebody changed the front from %v to %v on green after the end", t.From, t.To)
	}
	return newer(t.Kind())
}

// Verdict names what is not up.
func Verdict(v raise.Verdict) string {
	var list []string
	for _, s := range v.Stuck {
		list = append(list, Stuck(s))
	}
	for _, m := range v.Missing {
		list = append(list, fmt.Sprintf("%d of %d instances of %s were found", m.Have, m.Wanted, m.Part))
	}
	return strings.Join(list, "; ")
}

// Stuck names an instance that is not up, with what it last said.
func Stuck(s raise.Stuck) string {
	text := fmt.Sprintf("%s is %s", s.Name, Health(s.Health))
	if s.Health == reading.Exited {
		text = s.Name + " has ended"
	}
	if s.Said != "" {
		text += " (" + s.Said + ")"
	}
	if s.Output != "" {
		text += fmt.Sprintf(", last output: %q", s.Output)
	}
	return text
}

// Health is how an instance is.
func Health(h reading.Health) string {
	if h == reading.Answering {
		return "up, not healthy"
	}
	return string(h)
}

// Task is what is being done.
func Task(t crossing.Task) string {
	switch t.Do {
	case crossing.TaskRaise:
		switch {
		case t.Control && t.Act:
			return "the control group is still being stopped; wait"
		case t.Control:
			return "the control group is still being raised; wait"
		case t.More:
			return fmt.Sprintf("%v is still getting more instances; wait", t.Side)
		}
		return fmt.Sprintf("%v is still being raised; wait", t.Side)
	case crossing.TaskProve:
		return fmt.Sprintf("%v is still being proven; wait", t.Side)
	case crossing.TaskMove:
		return fmt.Sprintf("still changing to %v on green; wait", t.Share)
	case crossing.TaskHome:
		return fmt.Sprintf("all traffic is being sent back to %v", t.Side)
	case crossing.TaskRetire:
		return fmt.Sprintf("%v is still being retired; wait", t.Side)
	}
	return "nothing is being done"
}

// Refusal says why something is not done, and the way out where there is one.
func Refusal(refusal *crossing.Refusal) string {
	switch r := refusal.Because.(type) {
	case crossing.NothingBegun:
		return "no crossing has begun"
	case crossing.StillUnderWay:
		text := fmt.Sprintf("crossing %d is still at %q, and both sides are part of it", r.Number, r.Stage)
		if r.By != "" {
			text = fmt.Sprintf("crossing %d to %s, begun by %s at %s, is still at %q, and both sides are part of it", r.Number,
				r.Version, r.By, r.Begun.Local().Format("15:04"), r.Stage)
		}
		switch {
		case r.Stage == crossing.Keeping:
			return text + ": vaiven retire PLAN --yes ends that, and the way back with it, as cross --supersede does; or vaiven " +
				"back PLAN rolls back"
		case r.Moved:
			return text + ": wait for its end, or vaiven back PLAN rolls back"
		}
		return text + ": no traffic has moved, so vaiven back PLAN calls it off, as cross --supersede does; or wait for its end"
	case crossing.IsForbidden:
		return Lacks(r.Lacks, time.Time{}) + ". Rolling back is free at all times"
	case crossing.NotAllowed:
		return notAllowed(r)
	case crossing.NotWaiting:
		if r.Waits == "" {
			return r.Version + " does not wait, and nothing does: it may have begun, see vaiven where PLAN"
		}
		return fmt.Sprintf("%s does not wait, %s does", r.Version, r.Waits)
	case crossing.NoStart:
		return "the plan has nothing begin by itself: add \"start: {when: told}\" to it, or begin it with vaiven cross PLAN"
	case crossing.NotFourEyes:
		if r.Who == (crossing.Peer{}) {
			return "the plan wants two people (four-eyes), and who you are is not known here"
		}
		return fmt.Sprintf("the plan wants two people (four-eyes), and %s began this crossing: somebody else has to say yes",
			r.Who.Name) + asked(r.Ask)
	case crossing.IsOver:
		return fmt.Sprintf("the crossing is over (%s)", r.Stage)
	case crossing.IsGoingBack:
		return "it is rolling back"
	case crossing.IsBusy:
		return Task(r.Task)
	case crossing.IsFrozen:
		return "it is frozen: resume first (space)"
	case crossing.NotFrozen:
		return "nothing is frozen"
	case crossing.OpenQuestion:
		return "answer the question first: " + Question(r.Question, crossing.State{Target: r.Target})
	case crossing.OtherQuestion:
		if r.Question.ID == 0 {
			return "nothing is asked any more"
		}
		return "something else is asked now: " + Question(r.Question, crossing.State{Target: r.Target})
	case crossing.NotNext:
		if r.Leg < 0 {
			return "there is no further leg"
		}
		return fmt.Sprintf("the route has gone on: leg %d is next now", r.Leg+1)
	case crossing.NotProven:
		if !r.Under {
			return fmt.Sprintf("%v is not proven: vaiven prove does that for what stands there", r.Side)
		}
		return fmt.Sprintf("%v is not proven", r.Side)
	case crossing.NotSpare:
		return fmt.Sprintf("%v of the requests go to %v already: it is not the spare side", r.Share, r.Side)
	case crossing.GetsRequests:
		if r.Front != "" {
			return fmt.Sprintf("%s sends %v of its requests to %v: take them to the other side first (vaiven back "+
				"PLAN --to %v)", r.Front, r.Share, r.Side, r.Side.Other())
		}
		return fmt.Sprintf("%v of the requests go to %v: roll back first", r.Share, r.Side)
	case crossing.ThereAlready:
		return fmt.Sprintf("%v of the requests go to green already", r.Share)
	case crossing.NoShare:
		return fmt.Sprintf("%v is not between 0 %% and 100 %%", r.Share)
	case crossing.NotChanged:
		return "nobody else has changed the front"
	case crossing.NothingToDo:
		if r.Stage == crossing.Keeping {
			return fmt.Sprintf("all traffic is on %v; %v is kept", r.Target, r.Target.Other())
		}
		return fmt.Sprintf("there is nothing to do that for at %q", r.Stage)
	case crossing.NobodyThere:
		return Serving(r.Serving) + ". --force sends everything there all the same"
	case crossing.NobodyServes:
		return fmt.Sprintf("%s: nothing more goes to %v", Serving(r.Serving), r.Serving.Side)
	case crossing.NotWatched:
		return "nothing goes on without being watched: " + Lacks(r.Lacks, time.Time{})
	case crossing.NothingIsNew:
		return fmt.Sprintf("%s has the same build as %v now (%s): nothing has changed (--same-build raises it all "+
			"the same)", r.Version, r.Side, raise.Short(r.Build))
	case crossing.NoRoute:
		return fmt.Sprintf("leg %d of the route: %s", r.Leg+1, r.Said)
	case crossing.Gone:
		if r.Stands {
			return fmt.Sprintf("%v has been taken out of rotation, and its instances run: a crossing to it puts them "+
				"back (vaiven cross)", r.Side)
		}
		return fmt.Sprintf("%v has been retired: there is nobody to go back to", r.Side)
	case crossing.SideClosed:
		return Closed(r.Order) + ": vaiven reopen opens it again"
	case crossing.LiveServes:
		return fmt.Sprintf("%d of %d instances of %v serve: at once is for a live side that is dead. Leave --at-once "+
			"out, and go by the plan's route", r.Serving.Healthy, r.Serving.Instances, r.Serving.Side)
	case crossing.TooMuch:
		return fmt.Sprintf("%v would take %s of the capacity of %v, more than the plan's limit: raise "+
			"more instances, or wait for less traffic", r.Share, Percent(r.Load), r.Side)
	case crossing.NoReason:
		return fmt.Sprintf("%v is not proven: say why requests are to go there (--why)", r.Side)
	case crossing.NotRead:
		if r.Said == "" {
			return "the front has not been read yet"
		}
		return "the front has not been read yet (" + r.Said + ")"
	case crossing.NotRecorded:
		return "the logbook cannot be written, so nothing was done: " + r.Said
	case crossing.Overtaken:
		return "meanwhile " + Cause(crossing.Because(crossing.ByOrder{Order: r.Order}),
			crossing.State{Target: r.Order.Side.Other()})
	case crossing.NotAtWheel:
		return Wheel(r.Wheel) + ": take it first (g g on a screen, --take-wheel on a command). Rolling back needs no " +
			"wheel"
	case crossing.AtWheel:
		return "you have the wheel already"
	case crossing.NotTyped:
		return fmt.Sprintf("to retire a side, the service's name %q has to be typed", r.Service)
	case crossing.NoneToMatch:
		return fmt.Sprintf("%v is to have as many instances of %s as the live side, and none is live: say the number "+
			"in the plan (instances: 2), for this time", r.Side, r.Part)
	case crossing.NoPart:
		return fmt.Sprintf("the plan has no part %q", r.Part)
	case crossing.NoVersion:
		return "a crossing needs a version to go to"
	case crossing.NotItsOwn:
		return fmt.Sprintf("part %s has no versions of its own: it takes those of %s", r.Part, r.From)
	case crossing.VersionWrong:
		return fmt.Sprintf("version %s cannot be raised: %s. The others can (vaiven versions PLAN)", r.Version, r.Said)
	case crossing.NoSuchVersion:
		text := fmt.Sprintf("part %s: no such version: %s; %s", r.Part, r.Version, offers(r.Offers))
		if !r.First {
			text += fmt.Sprintf(" (choose one of them: --version %s=VERSION)", r.Part)
		}
		return text
	case crossing.IsSplit:
		return fmt.Sprintf("the front sends %v of the requests to green and the rest to blue: take them all to one "+
			"side first (vaiven back PLAN --to blue, or --to green)", r.Share)
	case crossing.NotThere:
		return fmt.Sprintf("%v has no instances: raise it first", r.Side)
	case crossing.IsProving:
		return "the proof is being made"
	}
	return refusal.Because.Name()
}

func offers(names []string) string {
	const most = 8
	switch n := len(names); {
	case n == 0:
		return "there are none at all"
	case n > most:
		return "there are " + strings.Join(names[:most], ", ") + fmt.Sprintf(", and %d older", n-most)
	}
	return "there are " + strings.Join(names, ", ")
}

// Percent is a rate: "0.5 %", "12 %".
func Percent(rate float64) string {
	switch p := 100 * rate; {
	case p >= 10:
		return fmt.Sprintf("%.0f %%", p)
	case p == float64(int(p)):
		return fmt.Sprintf("%d %%", int(p))
	case p >= 1:
		return fmt.Sprintf("%.1f %%", p)
	default:
		return fmt.Sprintf("%.2g %%", p)
	}
}

// Sure is a certainty.
func Sure(p float64) string {
	if p > 0.9999 {
		return "over 99.99 %"
	}
	if p > 0.99 {
		return fmt.Sprintf("%.2f %%", 100*p)
	}
	return fmt.Sprintf("%.0f %%", 100*p)
}

// Odds is a power of ten as odds: "694:1".
func Odds(power float64) string {
	switch v := math.Pow(10, power); {
	case v >= 1e6:
		return fmt.Sprintf("10^%.0f:1", power)
	case v >= 10:
		return fmt.Sprintf("%.0f:1", v)
	case v >= 0.01:
		return fmt.Sprintf("%.2g:1", v)
	}
	return "under 0.01:1"
}

// Milliseconds is a time that is usually short.
func Milliseconds(d time.Duration) string {
	if d < 10*time.Millisecond {
		return fmt.Sprintf("%.1f ms", d.Seconds()*1000)
	}
	return fmt.Sprintf("%.0f ms", d.Seconds()*1000)
}

// State is where a service stands, in one line.
func State(s crossing.State) string {
	text := string(s.Stage)
	if s.Stage == crossing.None {
		text = "nothing begun"
	}
	if s.Stage == crossing.Shifting || s.Stage == crossing.Keeping {
		text += ", " + On(s.Share, s.Target)
	}
	if s.Task.ID != 0 {
		text += ", " + Task(s.Task)
	}
	if s.Frozen() {
		text += ", frozen: " + Frozen(s)
	}
	if s.Question.ID != 0 {
		text += ", asked: " + Question(s.Question, s)
	}
	if why := Cause(s.Why, s); why != "" {
		text += ": " + why
	}
	return text
}

// Closed says which side an order has closed, by whom and since when; "" if none.
func Closed(o reading.Order) string {
	if !o.Closed {
		return ""
	}
	return fmt.Sprintf("%v is closed since %s (%s)", o.Side.Other(), o.At.Local().Format("15:04:05 on 2 January"),
		somebody(o.By))
}

// ClosedAt is [Closed], and what opens it again.
func ClosedAt(o reading.Order, file string) string {
	if !o.Closed {
		return ""
	}
	return Closed(o) + ": vaiven reopen " + file + " opens it again"
}
