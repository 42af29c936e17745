package words

import (
	"fmt"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/notice"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
)

// Notice is a letter in words: what happened, what it means for users, where it stands, and what to type. The state is
// that after the newest event, the view one of now.
func Notice(l notice.Letter, s crossing.State, v engine.View, p *plan.Plan, host string, now time.Time) notice.Message {
	last := l.Events[len(l.Events)-1]
	m := notice.Message{ID: l.ID, About: plan.About(l.About), Service: p.Service, Crossing: last.Crossing, At: last.At,
		Late: l.Late, Host: host, Plan: p.File, Events: l.Events}
	for _, e := range l.Events {
		m.Happened = append(m.Happened, e.At.Local().Format("15:04:05 ")+told(e, s))
	}
	m.Subject = p.Service + ": " + told(last, s)
	if n := len(l.Events); n > 1 {
		m.Subject = fmt.Sprintf("%s: %d times %s, the last: %s", p.Service, n, l.About, told(last, s))
	}
	if l.Late {
		waits := Age(now.Sub(last.At).Truncate(time.Minute))
		m.Subject = fmt.Sprintf("%s: nobody has answered for %s: %s", p.Service, waits, told(last, s))
	}
	m.Users = Users(v)
	m.Stands = Situation(situation.Of(v, situation.Seen{}, now), v, "", now)
	if a, asked := last.What.(crossing.Asked); asked {
		m.Question = last.Seq
		m.Do = []string{
			fmt.Sprintf("yes:  vaiven say %s yes --question %d", p.File, last.Seq),
			fmt.Sprintf("no:   vaiven say %s no --question %d", p.File, last.Seq)}
		if a.Question.Side == s.Target && s.Part() > 0 {
			m.Do = append(m.Do, fmt.Sprintf("back: vaiven back %s", p.File))
		}
		return m
	}
	m.Do = commands(m.About, s, p)
	return m
}

// commands are what to type where something is not asked.
func commands(about plan.About, s crossing.State, p *plan.Plan) []string {
	look := "look: vaiven open " + p.File
	switch about {
	case plan.AboutFreezes, plan.AboutTrips, plan.AboutHole, plan.AboutWayBack:
		list := []string{look}
		if s.Stage.UnderWay() && s.Frozen() && !s.GoingBack {
			list = append(list, fmt.Sprintf("go on: vaiven say %s resume", p.File))
		}
		if s.Stage.UnderWay() && s.Part() > 0 && !s.GoingBack {
			list = append(list, "roll back: vaiven back "+p.File)
		}
		return list
	case plan.AboutIll:
		return []string{look, "the other side: vaiven back " + p.File + " --to SIDE"}
	case plan.AboutRetirement:
		return []string{look, "roll back: vaiven back " + p.File}
	case plan.AboutExpires:
		return nil
	}
	return []string{fmt.Sprintf("what happened: vaiven log %s", p.File)}
}

// told is an event in a line of its own, for somebody who sees nothing else.
func told(e crossing.Event, s crossing.State) string {
	text := Event(e, s)
	release := ""
	if s.Version != "" {
		release = fmt.Sprintf("%s on %v", s.Version, s.Target)
	}
	switch e.What.(type) {
	case crossing.Asked:
		return fmt.Sprintf("%s asks: %s", release, text)
	case crossing.Frozen:
		return fmt.Sprintf("%s is frozen at %s: %s", release, On(s.Share, s.Target), text)
	case crossing.RollsBack:
		return fmt.Sprintf("%s is being rolled back: %s", release, text)
	case crossing.Returned, crossing.SentBack:
		return "rolled back: " + text
	case crossing.Begun:
		return "a crossing begins: " + text
	case crossing.TookEffect:
		return fmt.Sprintf("%s: %s", release, text)
	case crossing.NotReturned:
		return fmt.Sprintf("%s was not rolled back: %s", release, text)
	case crossing.Ended:
		return fmt.Sprintf("%s: %s", release, text)
	case crossing.Ailed:
		return "users are hurt, and nothing is being released: " + text
	case crossing.WayBackIs:
		return fmt.Sprintf("%s: the way back %s", release, text)
	}
	return text
}

// Users is who gets requests, and how many of them fail now.
func Users(v engine.View) string {
	side := func(side split.Side) string {
		text := side.String()
		if version := v.Sides[side].Version; version != "" {
			text += " (" + version + ")"
		}
		return text
	}
	if v.Front.At.IsZero() {
		return "It is not known who gets requests: the front has not been read."
	}
	var list []string
	share := v.Front.Split.Share
	if all, alone := share.Alone(); alone {
		list = append(list, fmt.Sprintf("All requests go to %s.", side(all)))
	} else {
		target := v.Crossing.Target
		list = append(list, fmt.Sprintf("%v of requests go to %s, the others to %s.", share.Of(target), side(target),
			side(target.Other())))
	}
	for _, of := range split.Sides {
		f := v.Sides[of].Figures
		if f.Requests == 0 {
			continue
		}
		count := f.FailingCount()
		list = append(list, fmt.Sprintf("%s of %v's answers failed in the last %s (%d of %d).", Percent(count.Rate()), of,
			route.Short(f.Span.Round(time.Second)), count.Bad, count.Of))
	}
	return strings.Join(list, " ")
}

// wayBackIs is what became of the way back.
func wayBackIs(f crossing.WayBackIs) string {
	why := ""
	if f.Worst.Is != nil {
		name, text := Condition(f.Worst, time.Time{})
		why = ": " + name + ": " + text
	}
	switch f.State {
	case wayback.Closed:
		return "is closed" + why
	case wayback.Narrow:
		return "has narrowed" + why
	}
	return "is open again"
}
