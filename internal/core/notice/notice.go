package notice

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/wayback"
)

// ExpiresBefore is how long before something expires people are told.
const ExpiresBefore = 14 * 24 * time.Hour

// Of is what an event is about, "" for what nobody is told.
func Of(e crossing.Event) plan.About {
	switch f := e.What.(type) {
	case crossing.Asked:
		return plan.AboutAsks
	case crossing.Frozen:
		switch f.Cause.Is.(type) {
		case crossing.ByGuard, crossing.NobodyHome:
			return plan.AboutTrips
		case crossing.Unwatched:
			return plan.AboutHole
		case crossing.ByHand:
			return "" // who did it knows
		}
		return plan.AboutFreezes
	case crossing.RollsBack:
		if _, guard := f.Cause.Is.(crossing.ByGuard); guard {
			return plan.AboutTrips
		}
	case crossing.NotReturned:
		return plan.AboutFreezes
	case crossing.Returned, crossing.SentBack: // of a crossing its end says so
		if e.Crossing == 0 {
			return plan.AboutRolledBack
		}
	case crossing.Ended:
		switch f.Stage {
		case crossing.Settled:
			return plan.AboutSettled
		case crossing.RolledBack:
			return plan.AboutRolledBack
		case crossing.CalledOff:
			return plan.AboutCalledOff
		}
	case crossing.WayBackIs:
		return plan.AboutWayBack
	case crossing.Ailed, crossing.Recovers:
		return plan.AboutIll
	case crossing.Begun:
		return plan.AboutBegins
	case crossing.TookEffect:
		return plan.AboutMoves
	case crossing.RetireDue:
		return plan.AboutRetirement
	case crossing.Expires:
		return plan.AboutExpires
	}
	return ""
}

// Grave reports whether users are hurt, or there is no way back: such a notice is not held back for others.
func Grave(e crossing.Event) bool {
	switch f := e.What.(type) {
	case crossing.Ailed, crossing.NotReturned:
		return true
	case crossing.WayBackIs:
		return f.State == wayback.Closed
	}
	return false
}

// Letter is what one receiver is to be told.
type Letter struct {
	crossing.Letter
	Receiver plan.Receiver
	Events   []crossing.Event // that it tells of, the newest last
}

// Desk decides which letters there are to be. It is not safe for concurrent use. Make it with [NewDesk].
type Desk struct {
	service string
	rules   []plan.Notice
	limits  map[string]*limit // by receiver and what it is about
	waits   []waiting         // questions
}

// limit is what is held back for one receiver of one kind.
type limit struct {
	rule     plan.Notice
	receiver plan.Receiver
	about    plan.About
	sent     []time.Time
	held     []crossing.Event
}

// waiting is a question that nobody has answered.
type waiting struct {
	event crossing.Event
	late  []bool // by rule: the others were told
}

// NewDesk makes a desk for a service's rules.
func NewDesk(service string, rules []plan.Notice) *Desk {
	return &Desk{service: service, rules: rules, limits: map[string]*limit{}}
}

// Happened takes an event in, and returns the letters that are due at once.
func (d *Desk) Happened(e crossing.Event) (letters []Letter) {
	switch e.What.(type) {
	case crossing.Asked:
		d.waits = append(d.waits, waiting{e, make([]bool, len(d.rules))})
	case crossing.Answered, crossing.Ended, crossing.RollsBack, crossing.Begun, crossing.Returned:
		d.waits = nil // there is one question at a time, and whatever ends a crossing ends it
	}
	about := Of(e)
	if about == "" {
		return nil
	}
	told := map[string]bool{}
	for _, rule := range d.rules {
		if !rule.Hears(about) {
			continue
		}
		for _, to := range rule.To {
			if !told[to.Who()] { // nobody is told twice
				told[to.Who()] = true
				letters = append(letters, d.to(rule, to, about, e)...)
			}
		}
	}
	return letters
}

// to tells one receiver of an event, or holds it back.
func (d *Desk) to(rule plan.Notice, to plan.Receiver, about plan.About, e crossing.Event) []Letter {
	if rule.Most == 0 || Grave(e) {
		return []Letter{d.letter(to, about, false, e)}
	}
	key := to.Who() + " " + string(about)
	l := d.limits[key]
	if l == nil {
		l = &limit{rule: rule, receiver: to, about: about}
		d.limits[key] = l
	}
	l.pass(e.At)
	if len(l.sent) >= rule.Most || len(l.held) > 0 {
		l.held = append(l.held, e)
		return nil
	}
	l.sent = append(l.sent, e.At)
	return []Letter{d.letter(to, about, false, e)}
}

// pass forgets what was sent too long ago to count.
func (l *limit) pass(at time.Time) {
	l.sent = slices.DeleteFunc(l.sent, func(t time.Time) bool { return at.Sub(t) >= l.rule.In })
}

// Due are the letters that time has made due: what was held back, and what is told where a question waits.
func (d *Desk) Due(at time.Time) (letters []Letter) {
	for _, l := range d.limits {
		if l.pass(at); len(l.held) > 0 && len(l.sent) < l.rule.Most {
			letters = append(letters, d.letter(l.receiver, l.about, false, l.held...))
			l.sent, l.held = append(l.sent, at), nil
		}
	}
	for _, w := range d.waits {
		for n, rule := range d.rules {
			if rule.After == 0 || w.late[n] || !rule.Hears(plan.AboutAsks) || at.Sub(w.event.At) < rule.After {
				continue
			}
			w.late[n] = true
			for _, to := range rule.Also {
				letters = append(letters, d.letter(to, plan.AboutAsks, true, w.event))
			}
		}
	}
	slices.SortFunc(letters, func(a, b Letter) int { return strings.Compare(a.ID, b.ID) })
	return letters
}

// Take has the desk go on for another, which took in what happened before it: with that one's question, if nobody has
// answered it. It returns the letters that the other one holds back.
func (d *Desk) Take(before *Desk, question uint64) (letters []Letter) {
	for _, l := range before.limits {
		if len(l.held) > 0 {
			letters = append(letters, d.letter(l.receiver, l.about, false, l.held...))
		}
	}
	slices.SortFunc(letters, func(a, b Letter) int { return strings.Compare(a.ID, b.ID) })
	for _, w := range before.waits {
		if w.event.Seq == question {
			d.waits = append(d.waits, w)
		}
	}
	return letters
}

// letter is one to a receiver. Its name follows from what it is about, so that it is the same for a keeper that comes
// after.
func (d *Desk) letter(to plan.Receiver, about plan.About, late bool, of ...crossing.Event) Letter {
	l := Letter{Letter: crossing.Letter{About: string(about), To: to.String(), Late: late}, Receiver: to, Events: of}
	for _, e := range of {
		l.Of = append(l.Of, e.Seq)
	}
	l.ID = fmt.Sprintf("%s-%d-%s-%s", d.service, of[len(of)-1].Seq, to.Way, digest(to.String()))
	if late {
		l.ID += "-late"
	}
	return l
}
