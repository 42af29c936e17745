package words

import (
	"fmt"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

// Event is what matters of an event, given the state after it, what a person said to it, and who that was where it is
// not who they say.
func Event(e crossing.Event, s crossing.State) string {
	text := event(e, s)
	if e.Peer != (crossing.Peer{}) && (e.Peer.Name != e.By || e.Peer.Mail != "") {
		text = strings.TrimPrefix(text+", by "+e.Peer.String(), ", ")
	}
	switch {
	case e.Said == "":
		return text
	case text == "":
		return e.Said
	}
	return text + " (" + e.Said + ")"
}

// times is how often: "for the first time", "for the 3rd time".
func times(n int) string {
	switch n {
	case 1:
		return "for the first time"
	case 2:
		return "for the 2nd time"
	case 3:
		return "for the 3rd time"
	}
	return fmt.Sprintf("for the %dth time", n)
}

// Wheel says who has it.
func Wheel(w crossing.Wheel) string {
	if w.Vacant() {
		return "nobody has the wheel"
	}
	return fmt.Sprintf("%s has the wheel since %s", Person(w.By, w.From), w.Since.Local().Format("15:04"))
}

// Person is who somebody is, and from where.
func Person(by, from string) string {
	if from == "" {
		return by
	}
	return by + " (" + from + ")"
}

func event(e crossing.Event, s crossing.State) string {
	switch f := e.What.(type) {
	case crossing.Begun:
		main := raise.Main(f.Choices)
		if f.After > 0 {
			return fmt.Sprintf("back from crossing %d, which had settled: %s leaves for %s", f.After, main.Version,
				f.LiveVersion)
		}
		from := "from a version that is not known"
		switch {
		case f.First:
			from = "the first release"
		case f.LiveVersion != "":
			from = "from " + f.LiveVersion
		}
		if f.With != "" {
			from += ", and stays if all of " + f.With + " do"
		}
		return fmt.Sprintf("%s to %v, build %s, %s", main.Version, f.Target, raise.Short(main.Build), from)
	case crossing.Asked:
		return Whole(f.Question, s)
	case crossing.Answered:
		return Question(f.Question, s)
	case crossing.Ordered:
		return ordered(f.Task, s)
	case crossing.Raised:
		if len(f.Instances) == 0 {
			return "the control group is stopped"
		}
		return strings.Join(f.Instances, ", ")
	case crossing.Proved:
		text := fmt.Sprintf("%d of %d passing", f.Proof.Passing(), len(f.Proof.Results))
		if r, failed := f.Proof.Failed(); failed {
			text += ": " + Finding(r.Finding())
		}
		return text
	case crossing.Accepted:
		if len(f.Findings) > 0 {
			return findings(f.Findings)
		}
	case crossing.TookEffect:
		text := fmt.Sprintf("%s, in %s", onNew(f.Share, s), Milliseconds(f.Took))
		if !f.Everywhere.IsZero() {
			text += ", everywhere from " + f.Everywhere.Local().Format("15:04:05")
		}
		return text
	case crossing.Failed:
		return Trouble(f.Trouble)
	case crossing.Frozen:
		return Cause(f.Cause, s)
	case crossing.Resumed:
		var names []string
		for _, o := range f.Overruled {
			names = append(names, o.Guard)
		}
		var list []string
		if len(names) > 0 {
			list = append(list, "in spite of "+strings.Join(names, ", "))
		}
		if len(f.Waived) > 0 {
			list = append(list, "without the judgement of "+strings.Join(f.Waived, ", "))
		}
		return strings.Join(list, ", ")
	case crossing.Compared:
		var list []string
		for n, b := range f.Baselines {
			if n > 0 && f.Baselines[n-1].Guard == b.Guard {
				continue // the same by another bound
			}
			list = append(list, fmt.Sprintf("%s %s of %d", b.Guard, Percent(b.Count.Rate()), b.Count.Of))
		}
		return fmt.Sprintf("%v answered until now, to compare with: %s", s.Target.Other(), strings.Join(list, ", "))
	case crossing.Rerouted:
		return "the route is " + Legs(f.Route) + " now"
	case crossing.Changed:
		switch {
		case len(f.Apart) > 0 && f.Share == f.From:
			return fmt.Sprintf("by somebody else: %s, and no longer %s", Apart(f.Apart, s), onNew(f.From, s))
		case len(f.Apart) > 0:
			return fmt.Sprintf("by somebody else, from %s to %s (%s)", onNew(f.From, s), onNew(f.Share, s),
				Apart(f.Apart, s))
		}
		return fmt.Sprintf("by somebody else, from %s to %s", onNew(f.From, s), onNew(f.Share, s))
	case crossing.Ailed:
		return Cause(f.Cause, s)
	case crossing.AcceptedTheirs:
		return fmt.Sprintf("what somebody else set is ours: %s", onNew(s.Share, s))
	case crossing.NotReturned:
		return fmt.Sprintf("%v cannot serve, so nothing was sent there", f.Home.Side)
	case crossing.Recovers:
		return "the sides that get requests serve again"
	case crossing.RollsBack:
		return Cause(f.Cause, s)
	case crossing.SentBack:
		return Cause(crossing.Because(crossing.ByOrder{Order: f.Order}), s)
	case crossing.Returned:
		return fmt.Sprintf("all requests go to %v, in %s", homeOf(f.Share, s), Milliseconds(f.Took))
	case crossing.Noted:
		return fmt.Sprintf("what %v is: %d instances, %d values", f.Record.Side, len(f.Record.Instances),
			len(f.Record.Facts))
	case crossing.Restarted:
		text := fmt.Sprintf("%s, %s", f.Instance, f.Exit)
		if f.Output != "" {
			text += fmt.Sprintf(", last output: %q", f.Output)
		}
		text += fmt.Sprintf("; started again, %s", times(f.Count))
		if f.Failed != "" {
			text = fmt.Sprintf("%s, %s, cannot be started again: %s", f.Instance, f.Exit, f.Failed)
		}
		if f.Changed {
			text += "; its environment is not what it was"
		}
		switch {
		case f.Copy && f.Failed == "":
			text += "; it runs the kept copy of its build: " + f.Build
		case f.Build != "" && f.Failed == "":
			text += "; it runs another build than was delivered: " + f.Build
		}
		return text
	case crossing.TermBegins:
		return "the keeper before has not handed over: what it sent off is to count no more"
	case crossing.TermBegan:
		if f.From != "" {
			return fmt.Sprintf("taken over from the keeper of %s; the front refuses what that one sends", f.From)
		}
		return fmt.Sprintf("term %d: the front refuses changes of an earlier one", f.Number)
	case crossing.Followed:
		return "by a standby at " + f.From
	case crossing.TakenOver:
		return "another keeper has taken over, and this one has ended"
	case crossing.BegunAnew:
		return fmt.Sprintf("the one before was put aside as %s: %s", f.Aside, f.Wrong)
	case crossing.TookWheel:
		text := Person(f.Wheel.By, f.Wheel.From)
		if !f.Before.Vacant() {
			text += ", from " + Person(f.Before.By, f.Before.From)
		}
		return text
	case crossing.LeftWheel:
		text := Person(f.Wheel.By, f.Wheel.From)
		if f.Gone {
			text += " is gone"
		}
		return text
	case crossing.Ended:
		text := string(f.Stage)
		if why := Cause(f.Cause, s); why != "" {
			text += ": " + why
		}
		return text
	case crossing.Hooked:
		text := fmt.Sprintf("%s, %s: %s", f.Moment, f.Command, Milliseconds(f.Took))
		if f.Failed != "" {
			text += ", failed: " + f.Failed
		}
		return text
	case crossing.VersionArrived:
		if f.Commit != "" {
			return f.Version + " (commit " + raise.Short(f.Commit) + ")"
		}
		return f.Version
	case crossing.Dropped:
		if f.For != "" {
			return f.Version + ": " + f.For + " takes its place"
		}
		return f.Version + ": " + f.Why
	case crossing.Built:
		text := fmt.Sprintf("%s in %s", f.Version, Milliseconds(f.Took))
		if f.Build != "" {
			text += ", build " + raise.Short(f.Build)
		}
		if f.Failed != "" {
			text = fmt.Sprintf("%s, failed after %s: %s", f.Version, Milliseconds(f.Took), f.Failed)
		}
		return text + ", see " + f.Output
	case crossing.WayBackIs:
		return wayBackIs(f)
	case crossing.RetireDue:
		return fmt.Sprintf("%v is retired in %s, and with it the way back", f.Side, route.Short(f.In.Round(time.Second)))
	case crossing.Expires:
		return fmt.Sprintf("%s is valid until %s", f.What, f.Until.Local().Format("Mon 2 Jan 2006 15:04"))
	case crossing.NoticesBegin:
		return "people are told what happens from now on, as the plan says"
	case crossing.NoticeSent:
		text := fmt.Sprintf("%s: to %s, in %s", f.Letter.About, f.Letter.To, Milliseconds(f.Took))
		if f.Tries > 1 {
			text += fmt.Sprintf(", at try %d", f.Tries)
		}
		return text
	case crossing.NoticeFailed:
		return fmt.Sprintf("%s: to %s, given up after %d tries: %s", f.Letter.About, f.Letter.To, f.Tries, f.Failed)
	case crossing.Stopping:
		if f.Cut > 0 {
			return fmt.Sprintf("with %d requests open", f.Cut)
		}
	case crossing.Retired:
		if f.Stands {
			return fmt.Sprintf("%v: out of rotation, %s", f.Side, Stays(f.Stays))
		}
		return f.Side.String()
	case crossing.TakenUp:
		return Found(f.Found, s)
	case crossing.Unknown:
		return "written by a newer Vaiven: kept, and passed over"
	}
	return ""
}

// onNew is a share as the operator of the crossing thinks of it; outside of one it is told of
// green.
func onNew(share split.Share, s crossing.State) string {
	if s.Number == 0 {
		return fmt.Sprintf("%v on green", share)
	}
	return On(share, s.Target) + " (new)"
}

// homeOf is the side that gets everything at a share, else the one crossed from.
func homeOf(share split.Share, s crossing.State) split.Side {
	if side, ok := share.Alone(); ok {
		return side
	}
	return s.Target.Other()
}

// Homing is a going home, as somebody asked for it.
func Homing(o reading.Order) string {
	text := fmt.Sprintf("all traffic to %v", o.Side)
	if o.Why != "" {
		text += ": " + o.Why
	}
	return text
}

// ordered is what was asked for.
func ordered(t crossing.Task, s crossing.State) string {
	switch t.Do {
	case crossing.TaskRaise:
		switch {
		case t.Control && t.Act:
			return fmt.Sprintf("stop the control group of %v", t.Side)
		case t.Control:
			return fmt.Sprintf("raise a control group: %v gets %d instances at %s in all", t.Side,
				raise.Main(t.Choices).Instances, raise.Main(t.Choices).Version)
		case t.More:
			return fmt.Sprintf("raise %v with %d instances, before %s", t.Side, raise.Wanted(t.Choices),
				onNew(t.Share, s))
		}
		return fmt.Sprintf("raise %v at %s", t.Side, raise.Main(t.Choices).Version)
	case crossing.TaskProve:
		return fmt.Sprintf("prove %v", t.Side)
	case crossing.TaskMove:
		if t.Unproven != "" {
			return fmt.Sprintf("shift to %v on green, though nobody has proven it: %s", t.Share, t.Unproven)
		}
		if t.Act {
			return fmt.Sprintf("shift to %v on green", t.Share)
		}
		return "shift to " + onNew(t.Share, s)
	case crossing.TaskHome:
		return fmt.Sprintf("all requests back to %v", t.Side)
	case crossing.TaskRetire:
		return fmt.Sprintf("retire %v", t.Side)
	}
	return string(t.Do)
}
