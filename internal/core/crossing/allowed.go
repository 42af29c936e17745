package crossing

import (
	"slices"

	"vaiven/internal/core/people"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

// need is what a person has to have to do something.
type need struct {
	right people.Right
	ask   string // the kind of question that it says yes to, or goes past; "" for none
	other bool   // where the plan wants four eyes: of somebody else than began the crossing
}

// Allowed is why a person may not do something, by the plan's rules about people; nil if they may. Who it is, is taken
// from what the keeper's socket knows, never from what they say. Rolling back needs no right, and neither does a no,
// which rolls back.
func Allowed(p *plan.Plan, s State, m Moment, a Act) error {
	if !p.People.On() && !p.People.FourEyes || m.Planned {
		return nil
	}
	for _, n := range needs(p, s, a) {
		if !p.People.Has(m.Peer.Name, m.Groups, n.right, n.ask) {
			to, _ := p.People.Of(n.right, n.ask)
			return Refuse(NotAllowed{Right: n.right, Ask: n.ask, Who: m.Peer, To: to})
		}
		begins := s.BegunPeer
		if _, first := a.(Begin); first {
			begins = m.Peer
		}
		if n.other && p.People.FourEyes && (m.Peer == (Peer{}) || m.Peer.Same(begins)) {
			return Refuse(NotFourEyes{Ask: n.ask, Who: m.Peer})
		}
	}
	return nil
}

// needs are what an act asks for.
func needs(p *plan.Plan, s State, a Act) (list []need) {
	add := func(right people.Right) { list = append(list, need{right: right}) }
	force := func(forced bool) {
		if forced {
			add(people.Force)
		}
	}
	passes := func(asks ...string) {
		for _, ask := range asks {
			list = append(list, need{people.Approve, ask, true})
		}
	}
	switch a := a.(type) {
	case Begin:
		add(people.Begin)
		force(a.SameBuild || a.AtOnce)
		if len(a.Route) > 0 {
			passes(dropped(p.Route, a.Route, 0)...)
		}
	case Arrive:
		add(people.Begin)
	case Raise:
		add(people.Begin)
		force(a.SameBuild)
	case Yes:
		return []need{answers(s.Question)}
	case Next:
		add(people.Steer)
		if a.Leg >= 0 && a.Leg < len(s.Route) {
			passes(s.asksUpTo(s.Route[a.Leg].Part)...)
		}
	case Steer:
		add(people.Steer)
		passes(s.asksUpTo(a.Share.Of(s.Target))...)
	case Reroute:
		add(people.Steer)
		passes(dropped(s.Route, a.Route, s.Leg+1)...)
	case Shift:
		if s.Stage.UnderWay() {
			return needs(p, s, Steer{Share: a.Share})
		}
		add(people.Force) // it goes past the route, and all that is asked on it
	case Retire:
		add(people.Retire)
	case Back, No, LeaveWheel:
	default:
		add(people.Steer)
	}
	return list
}

// answers is what a yes to a question needs. One that tries once more is no approval, and says so of nobody's work.
func answers(q Question) need {
	switch q.Is.(type) {
	case AskSameBuild:
		return need{people.Force, q.Name(), true}
	case AskFindings:
		return need{people.Accept, q.Name(), true}
	case AskRetire:
		return need{people.Retire, q.Name(), true}
	case AskRaise, AskProof:
		return need{people.Approve, q.Name(), false}
	case AskTogether: // it says what has happened, and approves of nothing
		return need{right: people.Begin}
	}
	return need{people.Approve, q.Name(), true}
}

// asksUpTo are the questions that the route has from here to a part of the traffic on the target, the open one among
// them: who goes there by hand goes past them.
func (s State) asksUpTo(part split.Share) (names []string) {
	if part <= s.Part() {
		return nil
	}
	if s.Question.ID != 0 {
		names = append(names, s.Question.Name())
	}
	for n, l := range s.Route {
		if n > s.Leg && l.Ask && l.Part > s.Part() && l.Part <= part {
			names = append(names, legName(n))
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// dropped are the questions of a route, from a leg on, that another one in its place does not ask: the first of its
// legs that comes as far has to ask.
func dropped(was, now route.Route, from int) (names []string) {
	for n, l := range was {
		if n < from || !l.Ask {
			continue
		}
		at := slices.IndexFunc(now, func(o route.Leg) bool { return o.Part >= l.Part })
		if at < 0 || !now[at].Ask {
			names = append(names, legName(n))
		}
	}
	return names
}
