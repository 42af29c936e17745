package words

import (
	"fmt"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/forecast"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/route"
	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/core/wayout"
)

// To is a share with what it means for requests: "50 % on green (new side), 170 of 340
// requests/s".
func To(share split.Share, v engine.View) string {
	side := v.Live.Other()
	if v.Crossing.Stage.UnderWay() {
		side = v.Crossing.Target
	}
	text := On(share, side)
	if v.Crossing.Stage.UnderWay() {
		text += " (new side)"
	}
	if rate := v.Traffic.Rate; rate > 0 {
		text += fmt.Sprintf(", %.0f of %.0f %s/s", rate*share.Of(side).Fraction(), rate, Carried(v))
	}
	if r := v.Front.Remembers; r > 0 {
		text += fmt.Sprintf(", and up to %s until all who ask know", route.Short(r))
	}
	return text
}

// Outlook is what a share on green would mean if the new side were bad, "" if it cannot be told.
func Outlook(share split.Share, v engine.View) string {
	found := v.Traffic.Rough().Find(share, v.Crossing.Target, v.Guarding)
	if found.After <= 0 {
		return ""
	}
	return fmt.Sprintf("a fault in %v of %v's answers is found after ~%s and has cost ~%.0f %s by then",
		split.Share(forecast.Fault*float64(split.Whole)), v.Crossing.Target, found.After.Round(time.Second), found.Cost,
		Carried(v))
}

// Yes is what a yes to the open question does.
func Yes(v engine.View) string {
	c := v.Crossing
	if step, of := c.Question.Step(); of {
		return To(split.Toward(c.Target, step.Part), v)
	}
	switch is := c.Question.Is.(type) {
	case crossing.AskSameBuild:
		return fmt.Sprintf("raise %s although its build is the live one", is.Version)
	case crossing.AskRaise:
		return fmt.Sprintf("raise %v again: %s", c.Target, RaiseAgain(v))
	case crossing.AskProof:
		return fmt.Sprintf("prove %v again", c.Target)
	case crossing.AskFindings:
		return fmt.Sprintf("accept these %d findings and go on", len(is.Findings))
	case crossing.AskStart:
		if leg, ok := c.Next(); ok {
			return To(c.LegShare(leg), v)
		}
		return "start to shift"
	case crossing.AskTogether:
		return fmt.Sprintf("end the keep of %v: all of %s have arrived", c.Target.Other(), is.Fleet)
	case crossing.AskRetire:
		old := c.Target.Other()
		if v.Sides[old].Stands {
			return fmt.Sprintf("retire %v: it is taken out of rotation, and %s; going back to it is a crossing then",
				old, Stays(len(v.Sides[old].Instances)))
		}
		return fmt.Sprintf("retire %v: its %d instances are stopped, and nobody can roll back to it any more", old,
			len(v.Sides[old].Instances))
	}
	return "go on"
}

// YesKey names in few words what a yes does: "yes: 50 %".
func YesKey(c crossing.State) string {
	if step, of := c.Question.Step(); of {
		return "yes: " + step.Part.String()
	}
	switch c.Question.Is.(type) {
	case crossing.AskStart:
		if leg, ok := c.Next(); ok {
			return "yes: " + c.Route[leg].Part.String()
		}
	case crossing.AskFindings:
		return "see and accept"
	case crossing.AskTogether:
		return "yes: all have arrived"
	case crossing.AskRetire:
		return "yes: retire " + c.Target.Other().String()
	}
	return "yes"
}

// Resume is what going on in spite of the freezes does.
func Resume(v engine.View) string {
	c := v.Crossing
	text := "resume"
	if c.Foreign {
		text = "accept " + On(c.Share, c.Target) + ", set by somebody else"
	}
	var over []string
	for _, f := range c.Freezes {
		if c, is := f.Cause.Is.(crossing.ByGuard); is {
			over = append(over, c.Alarm.Guard)
		}
	}
	if len(over) > 0 {
		text += " in spite of " + strings.Join(over, ", ")
	}
	if next := Next(situation.Of(thawed(v), situation.Seen{}, v.At).Then, c); next != "" {
		text += "; " + next
	}
	return text
}

// thawed is the view without its freezes.
func thawed(v engine.View) engine.View {
	v.Crossing.Freezes = nil
	return v
}

// Stays says of instances that stand what becomes of them when their side is retired: "its 2 instances go on running".
func Stays(n int) string {
	switch n {
	case 0:
		return "none of its instances runs"
	case 1:
		return "its instance goes on running"
	}
	return fmt.Sprintf("its %d instances go on running", n)
}

// Back is what rolling back does now.
func Back(v engine.View) string {
	c := v.Crossing
	if !c.Moved && c.Share == c.Home() {
		if v.Sides[c.Target].Stands {
			return fmt.Sprintf("call off: no traffic has moved; %v stays out of rotation, and its instances run on",
				c.Target)
		}
		return fmt.Sprintf("call off: no traffic has moved, %v is removed", c.Target)
	}
	text := fmt.Sprintf("all %s to %v at once: %v has %v now", Carried(v), c.Target.Other(), c.Target,
		v.Front.Split.Share.Of(c.Target))
	if r := v.Front.Remembers; r > 0 {
		text += fmt.Sprintf(", and up to %s until all who ask know", route.Short(r))
	}
	switch best, ok := wayout.Best(v.WaysOut); {
	case v.WayBack.State == wayback.Closed:
		text += ". It may not work: " + WayBack(v.WayBack, v.At)
	case ok && best.Do != wayout.Home:
		for _, w := range v.WaysOut {
			if w.Do == wayout.Home {
				text += fmt.Sprintf(". That is worse: %s", WayOut(w, c.Target))
			}
		}
	case oneof.IsA[wayback.Answers](v.WayBack.Worst):
		text += ". " + WayBack(v.WayBack, v.At)
	}
	return text
}
