package crossing

import (
	"cmp"
	"slices"

	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/split"
)

// ground is what a decision stands on: the state, and what is known at the moment. It refuses what is not to be done
// now, and changes nothing.
type ground struct {
	State
	Moment
}

// nextLeg is the leg that would be next, -1 for none.
func (g ground) nextLeg() int {
	if n, ok := g.Next(); ok {
		return n
	}
	return -1
}

// steerable refuses what moves traffic, or decides about it, where nobody may.
func (g ground) steerable() error {
	switch {
	case g.Stage.Over():
		return Refuse(IsOver{g.Stage})
	case g.GoingBack:
		return Refuse(IsGoingBack{})
	case g.Task.ID != 0:
		return Refuse(IsBusy{g.Task})
	}
	return nil
}

// fit refuses what sends more to a target that is not proven any more by its last proof, or
// by its health, or that nobody watches.
func (g ground) fit() error {
	switch {
	case !g.Proven:
		return Refuse(NotProven{Side: g.Target, Under: g.Stage.UnderWay()})
	case g.There.Empty():
		return g.nobody(g.There)
	}
	return cmp.Or(g.watched(), g.free())
}

// free refuses to move traffic towards the target where that is forbidden.
func (g ground) free() error {
	if list := g.forbidden(); len(list) > 0 {
		return Refuse(IsForbidden{list})
	}
	return nil
}

// forbidden is by what traffic is to stay.
func (g ground) forbidden() []Lack { return without(g.Lacks, func(l Lack) bool { return !Forbids(l) }) }

// nobody refuses to send more to a side of which nobody serves, while the other one does.
func (g ground) nobody(of Serving) error {
	return Refuse(NobodyServes{of})
}

// gains reports whether a side would get more of some front's requests by a share.
func (g ground) gains(side split.Side, share split.Share) bool {
	return share.Of(side) > g.Least(side)
}

// neverMoved reports whether no traffic was ever sent to the target.
func (g ground) neverMoved() bool { return !g.Moved && g.Everyone(g.Home()) }

// spare reports whether the target is raised or proven for the first time, and gets no requests: somebody may have
// sent it some, and then nothing is called off under them.
func (g ground) spare() bool {
	return (g.Stage == Raising || g.Stage == Proving) && g.Sends(g.Target) == 0
}

// answerable refuses a yes that what is known now does not allow.
func (g ground) answerable(q QuestionKind) error {
	switch q.(type) {
	case AskSameBuild:
		if g.Sends(g.Target) > 0 {
			return Refuse(GetsRequests{Side: g.Target, Share: g.Sends(g.Target)})
		}
	case AskStart, AskLeg, AskLoad, AskUnsure:
		return cmp.Or(g.watched(), g.free())
	case AskTogether:
		if g.Then == plan.ThenLeave {
			return cmp.Or(g.fit(), g.rested())
		}
		return cmp.Or(g.fit(), g.rested(), g.stays())
	case AskRetire:
		return cmp.Or(g.fit(), g.rested(), g.stays())
	}
	return nil
}

// frozenBut reports whether anything freezes the route but what the question is about.
func (g ground) frozenBut(q Question) bool {
	return slices.ContainsFunc(g.Freezes, func(f Freezing) bool {
		found, is := f.Cause.Is.(ByProof)
		asks, accepts := q.Is.(AskFindings)
		return !(is && accepts && sameFindings(found.Findings, asks.Findings))
	})
}

// room refuses more than the target has room for, where the plan has more refused. Where it has a person asked,
// whoever asks for it was.
func (g ground) room(share split.Share) error {
	part := share.Of(g.Target)
	if !g.Load.Refused || !g.over(part) {
		return nil
	}
	return Refuse(TooMuch{g.Target, part, g.loadAt(part).Of(part)})
}

// loadAt is what a part of the traffic means for the target as it is with that part: it may have more instances then.
func (g ground) loadAt(part split.Share) Load {
	l, now := g.Load, raise.Main(g.Choices).Instances
	if grown, more := raise.Grown(g.Choices, part); more && now > 0 {
		l.Capacity *= float64(raise.Main(grown).Instances) / float64(now)
	}
	return l
}

// over reports whether a part of the traffic is more than the limit of what the target carries, and more than it has.
func (g ground) over(part split.Share) bool { return g.loadAt(part).Over(part) && part > g.Part() }

// watched refuses what is not to be done without being watched.
func (g ground) watched() error {
	list := g.unread()
	if len(list) == 0 {
		return nil
	}
	return Refuse(NotWatched{list})
}

// unread is what could not be read of what nobody goes on without: the front, and the side
// that is to get more or all. The other one may be in the dark, which is why one goes.
func (g ground) unread() []Lack {
	return without(g.Lacks, func(l Lack) bool {
		switch l := l.Is.(type) {
		case LackFront:
			return false
		case LackSide:
			return l.Side != g.Target
		case LackNoted:
			return l.Side != g.Target
		}
		return true // what a guard cannot judge, a person may
	})
}

// stays refuses to retire a side as long as it is not known that the other one serves. That nobody asks it
// a person's word replaces.
func (g ground) stays() error {
	list := without(g.Stays, oneof.IsA[LackAsked])
	if len(list) == 0 {
		return nil
	}
	return Refuse(NotWatched{list})
}

// rested refuses to retire anything so soon after a time in which nobody watched.
func (g ground) rested() error {
	if !g.At.Before(g.Again) {
		return nil
	}
	return Refuse(NotWatched{[]Lack{Lacking(LackTime{g.Again})}})
}
