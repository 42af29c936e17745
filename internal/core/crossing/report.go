package crossing

import (
	"slices"

	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/split"
)

// report takes in what the present task has come to.
func (d *decision) report(f Fact) {
	t := d.Task
	switch f := f.(type) {
	case Raised:
		if f.Task != t.ID || t.Do != TaskRaise {
			return
		}
		if d.then(f); t.Act {
			return
		}
		d.besides()
	case Proved:
		if f.Task == t.ID && t.Do == TaskProve {
			d.then(f)
			d.proved(f)
		}
	case TookEffect:
		if f.Task == t.ID && t.Do == TaskMove {
			d.moved(f, t)
		} else if d.Late.ID != 0 && f.Task == d.Late.ID {
			d.moved(f, d.Late)
		}
	case Returned:
		if f.Task != t.ID || t.Do != TaskHome || f.Share != split.Toward(t.Side, split.Whole) {
			return
		}
		d.then(f)
		if d.GoingBack {
			d.then(Ended{Stage: RolledBack, Cause: d.Why})
		}
	case NotReturned:
		if f.Task == t.ID && t.Do == TaskHome {
			why := d.Why
			if t.Act {
				why = t.Why
			}
			d.then(f)
			d.stuck(NobodyHome{Alarm: alarmOf(why), Why: oneof.As[ByHand](why).Why, Home: f.Home})
		}
	case Hooked, Built:
		d.then(f)
	case Stopping:
		if f.Task == t.ID && t.Do == TaskRetire && !t.Final {
			d.then(f)
		}
	case Retired:
		if f.Task == t.ID && t.Do == TaskRetire {
			d.then(f)
		}
	case Failed:
		if f.Task == t.ID && t.ID != 0 {
			d.notDone(f, t)
		} else if d.Late.ID != 0 && f.Task == d.Late.ID {
			d.then(f)
		}
	}
}

// moved takes in which share is in force. One that is not what the front can do of what
// was asked is somebody else's.
func (d *decision) moved(f TookEffect, t Task) {
	switch {
	case f.Share == f.Nearest && f.Nearest.Near(t.Share):
	case t.Act:
		d.then(Failed{Task: t.ID, Trouble: Went(TroubleOther{t.Share, f.Share})})
		d.then(Changed{From: d.Share, Share: f.Share, Revision: f.Revision})
		return
	default:
		d.foreign(t.Share, FrontSeen{Share: f.Share, Revision: f.Revision})
		return
	}
	d.then(f)
}

// proved goes on from a proof.
func (d *decision) proved(f Proved) {
	open := f.Proof.Open(d.Accepted)
	switch {
	case d.Proven && d.Due.On && !d.Frozen():
		d.due()
		return
	case d.Proven && d.Stage == Proving && !d.Frozen():
		d.start()
		return
	case d.Proven:
		return
	}
	var findings []proof.Finding
	asks := len(open) > 0
	for _, r := range open {
		findings = append(findings, r.Finding())
		asks = asks && r.Ask
	}
	if !asks {
		// What a person cannot accept comes first: that is why it failed.
		slices.SortStableFunc(open, func(a, b proof.Result) int {
			switch {
			case a.Ask == b.Ask:
				return 0
			case b.Ask:
				return -1
			}
			return 1
		})
		var found TroubleProof
		if len(open) > 0 {
			found.First = open[0].Finding()
		}
		trouble := Went(found)
		if !d.spare() {
			d.freeze(ByProof{Trouble: trouble})
			return
		}
		d.failed(AskProof{trouble}, trouble)
		return
	}
	if !d.spare() {
		d.freeze(ByProof{Findings: findings})
	}
	d.ask(AskFindings{findings})
}

// failed ends a raise or a proof that came to nothing, or asks a person where the
// crossing has one.
func (d *decision) failed(again QuestionKind, t Trouble) {
	if d.Hold {
		d.ask(again)
		return
	}
	d.callOff(NotRaised{t})
}

// notDone takes in that a task came to nothing.
func (d *decision) notDone(f Failed, t Task) {
	if t.Do == TaskHome {
		if d.Trouble.Is == nil { // whoever performs it tries until it works; once is said
			d.then(f)
		}
		return
	}
	d.then(f)
	switch {
	case t.Act:
	case t.More && !t.Control:
		d.freeze(ByRaise{f.Trouble})
	case t.Do == TaskRaise && d.spare():
		d.failed(AskRaise{f.Trouble}, f.Trouble)
	case t.Do == TaskRaise:
		d.freeze(ByRaise{f.Trouble})
	case t.Do == TaskProve && d.spare():
		d.failed(AskProof{f.Trouble}, f.Trouble)
	case t.Do == TaskProve:
		d.freeze(ByProof{Trouble: f.Trouble})
	case t.Do == TaskMove:
		d.freeze(ByFront{f.Trouble})
	}
}

// frontSeen holds the front as read against what is remembered.
func (d *decision) frontSeen(i FrontSeen) {
	if i.Order.Generation > d.Generation {
		d.metOrder(i)
		return
	}
	foundHome := i.Share == d.Home() && len(i.Apart) == 0 && d.Moved
	switch {
	case i.Share == d.Share && slices.Equal(i.Apart, d.Apart):
		return
	case d.Late.ID != 0 && len(i.Apart) == 0 && i.Share.Near(d.Late.Share):
		d.then(TookEffect{Task: d.Late.ID, Nearest: i.Share, Share: i.Share, Revision: i.Revision})
		return
	case d.Stage.UnderWay() && !d.Task.Act && !d.GoingBack && !foundHome:
		d.foreign(d.Share, i)
		return
	}
	was := d.Share
	d.then(Changed{From: was, Share: i.Share, Apart: i.Apart, Revision: i.Revision})
	switch {
	case (d.Task.Act && d.Task.Do == TaskRaise || d.Task.Do == TaskRetire) && d.Sends(d.Task.Side) > 0:
		// to go on would stop what answers them
		d.then(Failed{Task: d.Task.ID, Trouble: Went(TroubleOutsider{was, i.Share, i.Apart})})
	case d.Task.Act:
	case d.Stage == RolledBack && i.Holding:
		d.goHome(d.Why.Is, false) // a change that was begun before the going home came through after it
	case !d.Stage.UnderWay():
	case d.GoingBack:
		d.goOnHome()
	default:
		d.then(Ended{Stage: RolledBack, Cause: Because(FoundHome{})})
	}
}

// goOnHome takes up a going back that something else got in the way of.
func (d *decision) goOnHome() {
	if d.Task.Do != TaskHome {
		d.order(Task{Do: TaskHome, Side: d.Target.Other()})
	}
}

// foreign takes in that somebody else changed the share, and stands still until a person
// says what to do of it.
func (d *decision) foreign(from split.Share, i FrontSeen) {
	d.then(Changed{From: from, Share: i.Share, Apart: i.Apart, Foreign: true, Revision: i.Revision})
	d.freeze(Foreign{from, i.Share, i.Apart})
}

// metOrder takes a going home past this keeper as one of its own, whatever the share is.
func (d *decision) metOrder(i FrontSeen) {
	cause := ByOrder{i.Order}
	home, from := d.neverMoved(), d.Share
	d.then(SentBack{Order: i.Order, Share: i.Share, Apart: i.Apart})
	d.givesUp(from)
	if t := d.Task; t.Do == TaskHome && i.Order.Closes(t.Side) {
		d.then(NotReturned{Task: t.ID, Home: Serving{Side: t.Side}})
	}
	switch {
	case d.Stage == RolledBack && i.Holding && i.Order.Side != d.Target && !d.Everyone(d.Home()):
		d.goHome(d.Why.Is, false) // what was begun before came through after it
	case !d.Stage.UnderWay():
	case d.GoingBack:
		d.goOnHome()
	case i.Order.Side == d.Target && i.Share == from && len(i.Apart) == 0: // it was all there
	case i.Order.Side == d.Target:
		d.foreign(from, i) // somebody sent everything forward
	case home && d.Everyone(d.Home()):
		d.callOff(cause)
	case d.Everyone(d.Home()):
		d.then(RollsBack{Cause: Because(cause)})
		d.then(Ended{Stage: RolledBack, Cause: Because(cause)})
	default:
		d.goHome(cause, false)
	}
}

// givesUp ends a retirement of a side that was found to get requests, since the share was another one: to go on would
// stop what answers them.
func (d *decision) givesUp(from split.Share) {
	if t := d.Task; t.Do == TaskRetire && d.Sends(t.Side) > 0 {
		d.then(Failed{Task: t.ID,
			Trouble: Went(TroubleOutsider{from, d.Share, d.State.Apart})})
	}
}

// alarmed heeds a guard, in every stage, and outside of a crossing as well. A home that is dead is none.
func (d *decision) alarmed(i Alarmed) {
	if d.GoingBack || d.Task.Do == TaskHome {
		return
	}
	switch {
	case i.Alarm.Then != plan.RollBack:
		d.stuck(ByGuard{i.Alarm, i.Home})
	case i.Home.Healthy > 0 || !i.Home.Known:
		d.homeFor(ByGuard{Alarm: i.Alarm}, i.Home.Side)
	default:
		d.stuck(NobodyHome{Alarm: i.Alarm, Home: i.Home})
	}
}

// homeFor takes everything home because a guard says so.
func (d *decision) homeFor(c CauseKind, side split.Side) {
	if d.Stage.UnderWay() {
		d.goBack(c)
		return
	}
	if d.Sends(side.Other()) == 0 {
		return
	}
	d.stuck(c)
	d.order(Task{Do: TaskHome, Side: side, Act: true, Why: Because(c)})
}

// stuck says that something is wrong that only a person can mend: the route stands still for it where there is one.
// It is said once.
func (d *decision) stuck(c CauseKind) {
	cause := Because(c)
	same := func(o Cause) bool { return o.Kind() == cause.Kind() && alarmOf(o).Guard == alarmOf(cause).Guard }
	switch {
	case d.Stage.UnderWay() && !slices.ContainsFunc(d.Freezes, func(f Freezing) bool { return same(f.Cause) }):
		d.freeze(c)
	case !d.Stage.UnderWay() && !slices.ContainsFunc(d.Ails, func(a Ail) bool { return same(a.Cause) }):
		d.then(Ailed{Cause: cause})
	}
}

// recovered says that nothing ails any more.
func (d *decision) recovered() {
	var ids []uint64
	for _, a := range d.Ails {
		ids = append(ids, a.ID)
	}
	if len(ids) > 0 && !d.Stage.UnderWay() {
		d.then(Recovers{Ails: ids})
	}
}

// timeUp goes on when leg or keep are over.
func (d *decision) timeUp() {
	if !d.Timed() || d.Frozen() || len(d.Lacks) > 0 {
		return
	}
	switch {
	case !d.Proven:
		d.prove()
	case d.Stage == Proving:
		d.start()
	case d.Stage == Keeping && d.There.Empty():
		d.freeze(NobodyLeft{d.There})
	case d.Stage == Shifting && d.unsure():
	case d.Stage == Shifting:
		d.advance(false)
	case d.With != "":
		d.ask(AskTogether{d.With})
	default:
		d.kept()
	}
}

// kept ends a keep that has lasted as long as it should, or asks a person where the plan says so.
func (d *decision) kept() {
	switch {
	case d.Then == plan.ThenAsk, d.Then == plan.ThenRetire && len(d.Stays) > 0 && d.stays() == nil:
		d.ask(AskRetire{})
	case d.rested() == nil && (d.Then == plan.ThenLeave || d.stays() == nil):
		d.settle(false)
	}
}

// unsure asks a person, and reports whether it does, where a leg until sure has lasted as long as
// it may and the fault to find is not excluded.
func (d *decision) unsure() bool {
	leg, more := d.Next()
	if _, sure := d.UntilSure(); !sure || !more || len(d.Unsure) == 0 {
		return false
	}
	part := d.Route[leg].Part
	d.ask(AskUnsure{Step{leg, part, d.loadAt(part).Of(part)}, d.Unsure})
	return true
}

// resumed believes what was found over what was noted, and leaves it to a person to go
// on. Going home and retiring, which were begun, go on by themselves.
func (d *decision) resumed(i TookUp) {
	noted, wasMoved := d.Share, d.Moved
	if !d.Stage.UnderWay() && d.Task.ID == 0 && i.Found.Share == d.Share && slices.Equal(i.Found.Apart, d.Apart) &&
		i.Order.Generation <= d.Generation {
		return // nothing was under way, and nothing has changed
	}
	d.then(TakenUp{Found: i.Found, Order: i.Order})
	if t := d.Task; !d.Stage.UnderWay() && t.ID != 0 && t.Do != TaskRetire && t.Do != TaskHome {
		d.then(Failed{Task: t.ID, Trouble: Went(TroubleCut{})}) // by hand, and nobody waits for it any more
	}
	d.givesUp(noted)
	if i.Order.Generation > d.Generation {
		d.metOrder(FrontSeen{Share: i.Found.Share, Apart: i.Found.Apart, Order: i.Order})
		return
	}
	switch {
	case !d.Stage.UnderWay():
	case d.GoingBack:
		d.goOnHome()
	case wasMoved && d.Everyone(d.Home()) && noted != d.Home():
		d.then(Ended{Stage: RolledBack, Cause: Because(FoundHome{})})
	default:
		d.freeze(FoundAgain{i.Found})
	}
}
