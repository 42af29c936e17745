package crossing

import (
	"slices"

	"vaiven/internal/core/proof"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
)

// report takes in what the present task has come to.
func (d *decision) report(f Fact) {
	t := d.Task
	switch f := f.(type) {
	case Raised:
		if f.Task != t.ID || t.Do != StandUp {
			return
		}
		d.then(f)
		if !t.Act {
			d.prove()
		}
	case Proved:
		if f.Task == t.ID && t.Do == Check {
			d.then(f)
			d.proved(f)
		}
	case InForce:
		if f.Task == t.ID && t.Do == Move {
			d.moved(f, t)
		}
	case AtHome:
		if f.Task != t.ID || t.Do != GoHome || f.Share != split.Toward(t.Side, split.Whole) {
			return
		}
		d.then(f)
		if d.GoingBack {
			d.then(Ended{Stage: RolledBack, Cause: d.Why})
		}
	case NotHome:
		if f.Task == t.ID && t.Do == GoHome {
			why := d.Why
			d.then(f)
			d.freeze(Cause{Kind: NobodyHome, Alarm: why.Alarm, Why: why.Why, Home: f.Home})
		}
	case Hooked:
		d.then(f)
	case Stopping:
		if f.Task == t.ID && t.Do == Retire && !t.Final {
			d.then(f)
		}
	case Retired:
		if f.Task == t.ID && t.Do == Retire {
			d.then(f)
		}
	case NotDone:
		if f.Task == t.ID && t.ID != 0 {
			d.notDone(f, t)
		}
	}
}

// moved takes in which share is in force. One that is not what the front can do of what
// was asked is somebody else's.
func (d *decision) moved(f InForce, t Task) {
	switch {
	case f.Share == f.Nearest && near(f.Nearest, t.Share):
	case t.Act:
		d.then(NotDone{Task: t.ID, Trouble: Trouble{Kind: TroubleOther, From: t.Share, To: f.Share}})
		d.then(Changed{From: d.Share, Share: f.Share, Revision: f.Revision})
		return
	default:
		d.foreign(t.Share, f.Share, f.Revision)
		return
	}
	d.then(f)
}

// near reports whether a share can be the nearest that a front can do for another:
// weights are coarse, but not that coarse, and exact at both ends.
func near(reached, asked split.Share) bool {
	const coarse = 5 * split.Percent
	if asked == 0 || asked == split.Whole {
		return reached == asked
	}
	return max(reached-asked, asked-reached) <= coarse
}

// proved goes on from a proof.
func (d *decision) proved(f Proved) {
	open := f.Proof.Open(d.Accepted)
	switch {
	case d.Proven && d.Due.On && !d.Frozen():
		d.due()
		return
	case d.Proven && d.Stage == Prove && !d.Frozen():
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
		trouble := Trouble{Kind: TroubleProof}
		if len(open) > 0 {
			trouble.First = open[0].Finding()
		}
		if d.Stage != Prove {
			d.freeze(Cause{Kind: ByProof, Trouble: trouble})
			return
		}
		d.failed(AskProof, trouble)
		return
	}
	if d.Stage != Prove {
		d.freeze(Cause{Kind: ByProof, Findings: findings})
	}
	d.ask(Question{Kind: AskFindings, Findings: findings})
}

// failed ends a raise or a proof that came to nothing, or asks a person where the
// crossing has one.
func (d *decision) failed(again QuestionKind, t Trouble) {
	if d.Hold {
		d.ask(Question{Kind: again, Trouble: t})
		return
	}
	d.callOff(Cause{Kind: Failed, Trouble: t})
}

// notDone takes in that a task came to nothing.
func (d *decision) notDone(f NotDone, t Task) {
	if t.Do == GoHome {
		if d.Trouble.Kind == "" { // whoever performs it tries until it works; once is said
			d.then(f)
		}
		return
	}
	d.then(f)
	switch {
	case t.Act:
	case t.More:
		d.freeze(Cause{Kind: ByRaise, Trouble: f.Trouble})
	case t.Do == StandUp:
		d.failed(AskRaise, f.Trouble)
	case t.Do == Check && d.Stage == Prove:
		d.failed(AskProof, f.Trouble)
	case t.Do == Check:
		d.freeze(Cause{Kind: ByProof, Trouble: f.Trouble})
	case t.Do == Move:
		d.freeze(Cause{Kind: ByFront, Trouble: f.Trouble})
	}
}

// frontSeen holds the front as read against what is remembered.
func (d *decision) frontSeen(i FrontSeen) {
	if i.Order.Generation > d.Generation {
		d.metOrder(i)
		return
	}
	foundHome := i.Share == d.Home() && d.Moved
	switch {
	case i.Share == d.Share:
		return
	case d.Stage.UnderWay() && !d.Task.Act && !d.GoingBack && !foundHome:
		d.foreign(d.Share, i.Share, i.Revision)
		return
	}
	was := d.Share
	d.then(Changed{From: was, Share: i.Share, Revision: i.Revision})
	switch {
	case d.Task.Act && d.Task.Do == StandUp && i.Share.Of(d.Task.Side) > 0:
		d.then(NotDone{Task: d.Task.ID, Trouble: Trouble{Kind: TroubleOutsider, From: was, To: i.Share}}) // to go on would restart what answers them
	case d.Task.Act:
	case d.Stage == RolledBack && i.Holding:
		d.goHome(d.Why, false) // a change that was begun before the going home came through after it
	case !d.Stage.UnderWay():
	case d.GoingBack:
		d.goOnHome()
	default:
		d.then(Ended{Stage: RolledBack, Cause: Cause{Kind: FoundHome}})
	}
}

// goOnHome takes up a going back that something else got in the way of.
func (d *decision) goOnHome() {
	if d.Task.Do != GoHome {
		d.order(Task{Do: GoHome, Side: d.Target.Other()})
	}
}

// foreign takes in that somebody else changed the share, and stands still until a person
// says what to do of it.
func (d *decision) foreign(from, to split.Share, revision uint64) {
	d.then(Changed{From: from, Share: to, Foreign: true, Revision: revision})
	d.freeze(Cause{Kind: Foreign, From: from, To: to})
}

// metOrder takes a going home past this keeper as one of its own, whatever the share is.
func (d *decision) metOrder(i FrontSeen) {
	cause := Cause{Kind: ByOrder, Order: i.Order}
	home, from := d.neverMoved(), d.Share
	d.then(MetOrder{Order: i.Order, Share: i.Share})
	switch {
	case d.Stage == RolledBack && i.Holding && i.Order.Side != d.Target && i.Share != d.Home():
		d.goHome(d.Why, false) // what was begun before came through after it
	case !d.Stage.UnderWay():
	case d.GoingBack:
		d.goOnHome()
	case i.Order.Side == d.Target:
		d.foreign(from, i.Share, i.Revision) // somebody sent everything forward
	case home && i.Share == d.Home():
		d.callOff(cause)
	case i.Share == d.Home():
		d.then(WentBack{Cause: cause})
		d.then(Ended{Stage: RolledBack, Cause: cause})
	default:
		d.goHome(cause, false)
	}
}

// alarmed heeds a guard.
func (d *decision) alarmed(i Alarmed) {
	if d.GoingBack || d.Stage != Shift && d.Stage != Keep {
		return
	}
	a := i.Alarm
	kind := ByGuard
	if a.Then == plan.RollBack {
		if !i.Home.Empty() {
			d.goBack(Cause{Kind: ByGuard, Alarm: a})
			return
		}
		kind = NobodyHome
	}
	known := slices.ContainsFunc(d.Freezes, func(f Freeze) bool { return f.Cause.Kind == kind && f.Cause.Alarm.Guard == a.Guard })
	if !known {
		d.freeze(Cause{Kind: kind, Alarm: a, Home: i.Home})
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
	case d.Stage == Prove:
		d.start()
	case d.Stage == Keep && d.There.Empty():
		d.freeze(Cause{Kind: NobodyLeft, Home: d.There})
	case d.Stage == Shift && d.unsure():
	case d.Stage == Shift:
		d.advance(false)
	case d.Then == plan.ThenAsk:
		d.ask(Question{Kind: AskRetire})
	case d.rested() == nil:
		d.settle()
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
	d.ask(Question{Kind: AskUnsure, Leg: leg, Part: part, Load: d.loadAt(part).Of(part), Unsure: d.Unsure})
	return true
}

// resumed believes what was found over what was noted, and leaves it to a person to go
// on. Going home and retiring, which were begun, go on by themselves.
func (d *decision) resumed(i Resumed) {
	noted, wasMoved := d.Share, d.Moved
	if !d.Stage.UnderWay() && d.Task.ID == 0 && i.Found.Share == d.Share && i.Order.Generation <= d.Generation {
		return // nothing was under way, and nothing has changed
	}
	d.then(TakenUp{Found: i.Found, Order: i.Order})
	if t := d.Task; !d.Stage.UnderWay() && t.ID != 0 && t.Do != Retire {
		d.then(NotDone{Task: t.ID, Trouble: Trouble{Kind: TroubleCut}}) // by hand, and nobody waits for it any more
	}
	if i.Order.Generation > d.Generation {
		d.metOrder(FrontSeen{Share: i.Found.Share, Order: i.Order})
		return
	}
	switch {
	case !d.Stage.UnderWay():
	case d.GoingBack:
		d.goOnHome()
	case wasMoved && d.Share == d.Home() && noted != d.Home():
		d.then(Ended{Stage: RolledBack, Cause: Cause{Kind: FoundHome}})
	default:
		d.freeze(Cause{Kind: FoundAgain, Found: i.Found})
	}
}
