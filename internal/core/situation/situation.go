package situation

import (
	"slices"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
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

// Situation is what has to be said first, how bad it is, and what comes next by itself.
type Situation struct {
	Is      Is
	Gravity Gravity
	Then    Then
}

// Seen is what a screen knows beside the view itself.
type Seen struct {
	Trouble string    // what keeps the keeper from its work
	Heard   time.Time // when the keeper was heard last; zero if it never was
	Asked   time.Time // when this screen asked to roll back and was not answered yet; zero if it did not
}

// UnheardFor is for how long a keeper may say nothing: what it judged is old then.
const UnheardFor = 5 * time.Second

// The times and parts that a situation is judged by.
const (
	settlesFor = 5 * time.Second // for so long one that has just begun may not know how instances are
	lookAt     = time.Hour       // for so long a rollback is worth looking at
	notablePart,
	likely = 0.01, 0.5 // of a side's answers that fail; of a guard's certainty
)

// Of is the situation of a service at a time.
func Of(v engine.View, seen Seen, now time.Time) Situation {
	is, gravity := judge(v, seen, now)
	return Situation{Is: is, Gravity: gravity, Then: then(v)}
}

func judge(v engine.View, seen Seen, now time.Time) (Is, Gravity) {
	c := v.Crossing
	hurt, hurts := v.Hurt(now)
	if c.First && c.Part() == 0 && c.Stage.UnderWay() {
		hurts = false // nothing was live before, so nobody could be answered
	}
	pain := painOf(hurt)
	if why := v.Front.Error; why != "" && pain.Lost > 0 { // what the front's own side says of it helps more
		pain.Why = why
	}
	switch quiet := now.Sub(seen.Heard); {
	case c.GoingBack, !seen.Asked.IsZero():
		return rollingBack(v, seen, pain, hurts, now), Wrong
	case hurts:
		if len(v.WaysOut) > 0 && hurt.Total().Failing > 0 {
			pain.Lost = 0 // the sides say it, and what helps matters more
		}
		h := Hurting{Pain: pain, Dead: v.Dead}
		if c.AtOnce {
			h.Asks = c.Question
		}
		if !v.Dead && h.Asks.ID == 0 {
			h.Help = help(v, pain)
		}
		return h, Wrong
	case !seen.Heard.IsZero() && quiet > UnheardFor:
		return Unheard{quiet}, Wrong
	case seen.Trouble != "":
		return Troubled{seen.Trouble}, Wrong
	}
	for _, look := range []func(engine.View, time.Time) (Is, Gravity){unread, asItIs, waiting} {
		if is, gravity := look(v, now); is != nil {
			return is, gravity
		}
	}
	return well(v, now)
}

func rollingBack(v engine.View, seen Seen, pain Pain, hurts bool, now time.Time) RollingBack {
	c := v.Crossing
	at := seen.Asked
	if at.IsZero() || c.GoingBack && c.Task.Do == crossing.TaskHome && c.Task.At.Before(at) {
		at = c.Task.At
	}
	r := RollingBack{To: c.Target.Other(), For: -1, Why: c.Why}
	if !at.IsZero() {
		r.For, r.Failed = max(now.Sub(at), 0), v.FailedSince(at)
		if hurts && r.Failed == 0 {
			r.Pain = pain
		}
	}
	return r
}

// painOf keeps of what fails what is worth a word.
func painOf(h engine.Hurt) Pain {
	var p Pain
	for _, side := range split.Sides {
		if a := h.Sides[side]; a.Failing > 0 && a.Failing >= notablePart*a.Rate {
			p.Sides = append(p.Sides, Ache{side, a})
		}
	}
	if h.Lost >= engine.HurtLeast {
		p.Lost, p.Most, p.Why = h.Lost, h.Lost >= reading.BadMost, h.LastWhy
	}
	return p
}

// of reports whether a side is named.
func (p Pain) of(side split.Side) bool {
	return slices.ContainsFunc(p.Sides, func(a Ache) bool { return a.Side == side })
}

// help is what helps most. Where the ways were not weighed, rolling back does only where it is the new side that fails,
// and not the one to roll back to.
func help(v engine.View, p Pain) Help {
	c := v.Crossing
	switch {
	case v.Alike:
		return Help{Alike: true}
	case len(v.WaysOut) > 0:
		best, _ := wayout.Best(v.WaysOut)
		return Help{Best: best, Ways: true}
	}
	return Help{Back: c.Stage.UnderWay() && c.Share != c.Home() && p.of(c.Target) && !p.of(c.Target.Other())}
}

// unread is what cannot be read, nil if all can.
func unread(v engine.View, now time.Time) (Is, Gravity) {
	age := func(at time.Time) time.Duration {
		if at.IsZero() {
			return -1
		}
		return now.Sub(at)
	}
	if f := v.Front; f.Error != "" || !f.At.IsZero() && !f.Fresh(now) {
		return FrontUnread{age(f.At), f.Error}, Wrong
	}
	for _, side := range split.Sides {
		if s := v.Sides[side]; s.Error != "" || !s.At.IsZero() && !s.Fresh(now) {
			return SideUnread{side, age(s.At), s.Error}, Wrong
		}
	}
	return nil, AllRight
}

// asItIs is what is not as it should be whatever the crossing does, nil if all is.
func asItIs(v engine.View, _ time.Time) (Is, Gravity) {
	c := v.Crossing
	if n := len(c.Ails); v.Ails && !v.Dead {
		return Ailing{c.Ails[n-1].Cause}, Wrong
	}
	for _, side := range split.Sides {
		o := OtherBuild{Side: side}
		for _, i := range v.Sides[side].Instances {
			if i.Other != "" && v.Front.Split.Share.Of(side) > 0 {
				o.Names, o.What = append(o.Names, i.Name), i.Other
			}
		}
		if len(o.Names) > 0 {
			return o, Wrong
		}
	}
	// before a first release nobody could be there
	if n := v.Front.Own; n > 0 && c.Number > 0 && !(c.First && c.Part() == 0) {
		return Unserved{n}, Wrong
	}
	for _, side := range split.Sides {
		if list := v.Sides[side].Strange; len(list) > 0 {
			return Strange{side, list}, Waits
		}
	}
	if v.At.IsZero() || v.Front.At.IsZero() {
		return FirstReading{}, AllRight
	}
	return nil, AllRight
}

// waiting is what a person is waited for, or what is not as it should be, nil if nothing is.
func waiting(v engine.View, now time.Time) (Is, Gravity) {
	c := v.Crossing
	switch {
	case c.Question.ID != 0:
		asked := time.Duration(0)
		if !c.Question.At.IsZero() {
			asked = now.Sub(c.Question.At)
		}
		return Asking{c.Question, asked}, Waits
	case c.Foreign:
		return Theirs{}, Waits
	case c.Frozen():
		return Stopped{}, Waits
	case len(v.Lacks) > 0 && oneof.IsA[crossing.LackEased](v.Lacks[0]):
		return Eased{}, Waits
	case len(v.Lacks) > 0:
		return Paused{}, Waits
	case len(v.Held) > 0:
		return NotRetired{c.Task.Side}, Waits
	case v.WayBack.State == wayback.Closed && c.Stage.UnderWay():
		return NoWayBack{}, Waits
	case v.Split.Wrong:
		return SplitWrong{}, Waits
	case c.Trouble.Is != nil:
		return Trouble{}, Waits
	case v.Front.Notice != "":
		return Noticed{}, Waits
	}
	if slow, ok := Slow(v, now); ok && c.Stage == crossing.Raising {
		return slow, Waits
	}
	if c.Stage == crossing.Shifting || c.Stage == crossing.Keeping {
		for _, s := range v.Guards {
			if s.State == guard.Tripped || s.State == guard.Watching && s.Sure >= likely {
				return MaybeWorse{s}, Waits
			}
		}
	}
	if u, ok := unhealthy(v, now); ok {
		return u, Waits
	}
	return nil, AllRight
}

// unhealthy is which side that gets requests has instances that are not healthy.
func unhealthy(v engine.View, now time.Time) (Unhealthy, bool) {
	for _, side := range split.Sides {
		s := v.Sides[side]
		all := max(s.Wanted, len(s.Instances))
		if slices.ContainsFunc(s.Instances, func(c reading.Condition) bool {
			return (c.State == reading.Starting || c.State == reading.Answering) && now.Sub(c.Since) < settlesFor
		}) {
			continue
		}
		if part := v.Front.Split.Share.Of(side); part > 0 && !s.At.IsZero() && s.Healthy < all && all > 0 {
			return Unhealthy{side, part, s.Healthy, all}, true
		}
	}
	return Unhealthy{}, false
}

// Slow is which instance of the target comes up more slowly than instances do, whatever else is to be said.
func Slow(v engine.View, now time.Time) (SlowRaise, bool) {
	for _, i := range v.Sides[v.Crossing.Target].Instances {
		if i.Started.Before(v.Crossing.Begun) {
			continue // it stood before, and is not what comes up
		}
		waited := now.Sub(i.Started)
		if i.State != reading.Healthy && raise.Overdue(waited, v.Typical) {
			return SlowRaise{i, waited}, true
		}
	}
	return SlowRaise{}, false
}

// well is what goes on while nothing is wrong.
func well(v engine.View, now time.Time) (Is, Gravity) {
	c := v.Crossing
	since := func(at time.Time) time.Duration {
		if at.IsZero() {
			return -1
		}
		return max(now.Sub(at), 0)
	}
	switch {
	case v.Hook.Command != "":
		return Hooked{since(v.Hook.Since)}, AllRight
	case c.Stage.UnderWay():
		return Going{since(c.Since)}, AllRight
	case len(v.Sides[split.Blue].Instances)+len(v.Sides[split.Green].Instances) == 0:
		return NothingYet{}, AllRight
	case v.Dead:
		return Dead{}, Wrong
	case c.Stage == crossing.RolledBack:
		r := RolledBack{For: since(c.Since)}
		if r.Failed, r.All = cost(v); !oneof.IsA[crossing.ByHand](c.Why) && r.For < lookAt {
			return r, Waits
		}
		return r, AllRight
	}
	return Resting{since(c.Since)}, AllRight
}

// cost is how many requests failed on the side that was crossed to, of how many that it got, as the track has them.
func cost(v engine.View) (failed, all int64) {
	c := v.Crossing
	for _, p := range v.Track {
		if p.At.Before(c.Begun) || p.At.After(c.Since.Add(time.Second)) {
			continue
		}
		got, bad := p.Of(c.Target)
		all, failed = all+got, failed+bad
	}
	return failed, all
}

// then is what comes next by itself.
func then(v engine.View) Then {
	c := v.Crossing
	if !c.Timed() || c.Frozen() || len(v.Lacks) > 0 {
		return Then{}
	}
	t := Then{In: max(v.Left, 0)}
	if c.Stage == crossing.Keeping {
		switch {
		case c.First:
			return Then{}
		case c.With != "":
			t.Do = Await
		case c.Then == plan.ThenAsk:
			t.Do = AskRetire
		case c.Then == plan.ThenLeave:
			t.Do = Leave
		case v.Sides[c.Target.Other()].Stands:
			t.Do = TakeOut
		default:
			t.Do = Retire
		}
		return t
	}
	leg, ok := c.Next()
	if !ok {
		return Then{}
	}
	t.Do, t.Leg = NextLeg, leg
	if c.Route[leg].Ask {
		t.Do = AskLeg
	}
	if _, t.Until = c.UntilSure(); t.Until {
		t.Sure, t.Known = v.Ends()
	}
	return t
}
