package crossing

import (
	"maps"
	"slices"
	"time"

	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// Apply is the state after an event. It cannot fail: whatever happened, happened. An
// event that is not known changes nothing but the sequence number. It is pure: the
// first state stays as it was.
func Apply(s State, e Event) State {
	s.Seq = e.Seq
	switch f := e.What.(type) {
	case Begun:
		main := raise.Main(f.Choices)
		kept := f.Kept
		if !kept.Whole {
			kept = s.kept(f.Target, f.After)
		}
		s = State{
			Seq: s.Seq, Wheel: f.Wheel, Number: f.Number, Service: f.Service, Folder: f.Folder, Target: f.Target,
			Version: main.Version, Build: main.Build, LiveVersion: f.LiveVersion,
			Choices: f.Choices, Route: f.Route, Keep: f.Keep, Then: f.Then, First: f.First, Hold: f.Hold,
			With:   f.With,
			AtOnce: f.AtOnce, Begun: e.At, BegunBy: e.By, BegunPeer: e.Peer,
			Stage: Raising, Since: e.At, Leg: -1, Share: f.Share, Apart: kept.Apart, Generation: f.Generation,
			Was: f.Was,
			Out: kept.Out, Control: f.Control, Waiting: f.Waiting.unless(main.Version),
			Told: Told{Expires: kept.Expires, Notices: kept.Notices}, Closed: kept.Closed, Term: f.Term,
		}
		s.Control.Begun = kept.Control
		if f.After > 0 { // everything is there already
			s.Stage, s.Leg, s.Moved, s.Proven = Keeping, len(f.Route)-1, true, true
		}
		return s
	case VersionArrived:
		s.Waiting = Arrival{f.Version, f.Commit, e.At, e.By, e.Peer}
	case TermBegins:
		s.Term = Term{Number: s.Term.Number, Known: s.Term.Known, Folder: s.Term.Folder, Begins: true}
	case TermBegan:
		s.Term = Term{Number: f.Number, Known: true, Folder: f.Folder}
	case Followed:
		s.Term.Number, s.Term.Known = f.Term, true
	case TakenOver:
		s.Term.Over = true
	case NoticesBegin:
		s.Told.Notices = Noticing{On: true, From: e.Seq}
	case WayBackIs:
		s.Told.WayBack = f.State
	case RetireDue:
		s.Told.RetireDue = true
	case Expires:
		s.Told.Expires = maps.Clone(s.Told.Expires)
		if s.Told.Expires == nil {
			s.Told.Expires = map[string]time.Time{}
		}
		s.Told.Expires[f.What] = f.Until
	case Dropped:
		s.Waiting = s.Waiting.unless(f.Version)
	case Asked:
		s.Question = f.Question
		s.Question.ID, s.Question.At = e.Seq, e.At
	case Answered:
		s.Question, s.Trouble = Question{}, Trouble{}
	case Ordered:
		s = ordered(s, f.Task, e)
	case Raised:
		if s.Task.ID == f.Task && s.Task.Control {
			s.Control.Up, s.Control.Begun = !s.Task.Act, !s.Task.Act
		} else if s.Task.ID == f.Task && s.Task.More {
			s.Choices, s.Proven = s.Task.Choices, false // it was proven without these
			s, _ = done(s, f.Task)
			return s
		}
		control := s.Task.Control
		s, act := done(s, f.Task)
		if !act && (control || !s.Route.Controls() || s.Control.Up || len(s.Control.Stood) == 0) {
			s.Stage, s.Since = Proving, e.At
		}
		return s
	case Proved:
		s, _ = done(s, f.Task)
		s.Proven = len(f.Proof.Results) > 0 && len(f.Proof.Open(s.Accepted)) == 0
	case Noted:
		s.Was = f.Record
	case Accepted:
		s.Accepted = append(slices.Clone(s.Accepted), f.Findings...)
		s.Proven, s.Trouble = true, Trouble{}
		s.Freezes = without(s.Freezes,
			func(z Freezing) bool {
				found, is := z.Cause.Is.(ByProof)
				return is && sameFindings(found.Findings, f.Findings)
			})
	case TookEffect:
		s = inForce(s, f, e.At)
	case Failed:
		if s.Late.ID != 0 && f.Task == s.Late.ID {
			s.Late = Task{}
			return s
		}
		if s.Task.More && !s.Task.Control {
			s.Due = Due{}
			s.Proven = s.Proven && s.Stage != Proving // some may have come, and no proof has seen them
		}
		if s.Task.Do != TaskHome { // that is tried until it works
			s, _ = done(s, f.Task)
		}
		s.Trouble = f.Trouble
	case Frozen:
		if s.Stage.UnderWay() {
			s.Left = f.Left
		}
		s.Freezes = append(slices.Clone(s.Freezes), Freezing{ID: e.Seq, At: e.At, Cause: f.Cause})
		if s.risesBy(s.Task) {
			s.Late, s.Task = s.Task, Task{} // what is not in force yet is not to be
		}
	case Resumed:
		s.Freezes = without(s.Freezes, func(z Freezing) bool { return slices.Contains(f.Freezes, z.ID) })
		for _, o := range f.Overruled {
			s.Overruled = append(without(s.Overruled, func(p Overruling) bool { return p.Guard == o.Guard }), o)
		}
		s.Waived = append(slices.Clone(s.Waived), f.Waived...)
	case Compared:
		s.Baselines = f.Baselines
	case Changed:
		s = changed(s, f, e.At)
	case Rerouted:
		s.Route, s.Due = f.Route, Due{} // what was due by the other route is not
	case AcceptedTheirs:
		s.Foreign, s.Ours = false, 0
	case RollsBack:
		if s.Stage.Over() {
			s.Stage, s.Since = Shifting, e.At // it is not over after all
		}
		s.GoingBack, s.Why, s.Freezes, s.Question, s.Left, s.Due = true, f.Cause, nil, Question{}, 0, Due{}
		s.Foreign, s.Ours, s.Trouble, s.Late = false, 0, Trouble{}, Task{}
	case SentBack:
		s.Generation, s.Share, s.Apart, s.Closed = f.Order.Generation, f.Share, f.Apart, reading.Order{}
		if f.Order.Closed {
			s.Closed = f.Order
		}
		if s.GoingBack && f.Order.Closes(s.Target.Other()) { // that is no home any more
			s.GoingBack, s.Why, s.Left = false, Cause{}, s.Whole()
		}
		s.Moved = s.Moved || s.Stage.UnderWay() && !s.Everyone(s.Home())
	case Ailed:
		s.Ails = append(slices.Clone(s.Ails), Ail{ID: e.Seq, At: e.At, Cause: f.Cause})
	case Recovers:
		s.Ails = without(s.Ails, func(a Ail) bool { return slices.Contains(f.Ails, a.ID) })
	case Returned:
		s, _ = done(s, f.Task)
		s.Apart = nil
		s.Share, s.Everywhere, s.Generation, s.Trouble = f.Share, f.Everywhere, max(s.Generation, f.Generation),
			Trouble{}
	case NotReturned:
		if f.Task == s.Task.ID {
			s, _ = done(s, f.Task)
			s.GoingBack, s.Why, s.Left = false, Cause{}, s.Whole()
		}
	case Ended:
		s.Stage, s.Since, s.Why = f.Stage, e.At, f.Cause
		s.Left, s.Freezes, s.Question, s.GoingBack, s.Task, s.Foreign, s.Ours, s.Due, s.Late = 0, nil, Question{},
			false, Task{}, false, 0, Due{}, Task{}
	case Stopping:
		if f.Task == s.Task.ID {
			s.Task.Final = true
		}
	case Retired:
		s, _ = done(s, f.Task)
		s.Trouble = Trouble{}
		s.Out[f.Side] = f.Stands
	case TookWheel:
		s.Wheel = f.Wheel
	case LeftWheel:
		s.Wheel = Wheel{}
	case TakenUp:
		s = takenUp(s, f, e.At)
	}
	return s
}

// kept is what goes on when a crossing to a side begins, after the one that it goes back from (0 for none).
func (s State) kept(target split.Side, after int) Kept {
	return Kept{
		Whole: true, Apart: s.Apart, Out: s.Out, Closed: s.Closed, Expires: s.Told.Expires, Notices: s.Told.Notices,
		Control: s.Control.Begun && s.Target == target && after == 0,
	}
}

// done is the state after the task was, and whether that was an act by hand.
func done(s State, task uint64) (State, bool) {
	if task != s.Task.ID {
		return s, false
	}
	act := s.Task.Act
	s.Task, s.Trouble = Task{}, Trouble{}
	return s, act
}

func ordered(s State, t Task, e Event) State {
	t.ID, t.At = e.Seq, e.At
	s.Task = t
	if t.Do == TaskRaise {
		s.Out[t.Side] = false
		s.Control.Begun = s.Control.Begun || t.Control
	}
	if t.Act {
		if t.Do == TaskRaise {
			s.Waiting = s.Waiting.unless(raise.Main(t.Choices).Version)
		}
		return s
	}
	s.Question = Question{}
	switch t.Do {
	case TaskRaise:
		if t.More && !t.Control {
			s.Due = Due{On: true, Share: t.Share, Leg: t.Leg}
		}
	case TaskProve:
		s.Proven = s.Proven && s.Stage != Proving
	case TaskMove:
		s.Due, s.Late = Due{}, Task{}
		s.Moved = s.Moved || t.Share != s.Home()
	}
	return s
}

// inForce takes up the stage and the leg that a share begins.
func inForce(s State, f TookEffect, at time.Time) State {
	task := s.Task
	if s.Late.ID != 0 && f.Task == s.Late.ID { // it came through after all
		task, s.Task, s.Late = s.Late, s.Late, Task{}
	}
	s, act := done(s, f.Task)
	s.Share, s.Apart, s.Everywhere = f.Share, nil, f.Everywhere
	if act || task.ID != f.Task || !s.Stage.UnderWay() {
		return s
	}
	s.Leg = task.Leg
	if s.Leg < 0 {
		s.Leg = s.Route.Reached(task.Share.Of(s.Target))
	}
	return arrived(s, at)
}

// arrived begins the time of the leg or the keep.
func arrived(s State, at time.Time) State {
	s.Stage, s.Since, s.Waived = Shifting, at, nil
	if s.Everyone(s.Full()) {
		s.Stage = Keeping
	}
	s.Left = s.Whole()
	return s
}

// changed takes over what somebody else did to the front.
func changed(s State, f Changed, at time.Time) State {
	ours, leg := s.Share, s.Leg
	s.Share, s.Apart = f.Share, f.Apart
	if s.Stage.Over() {
		s.Trouble = Went(TroubleOutsider{ours, f.Share, f.Apart})
	}
	if !s.Stage.UnderWay() || s.GoingBack {
		return s
	}
	s.Moved = s.Moved || !s.Everyone(s.Home())
	s.Question, s.Due, s.Late = Question{}, Due{}, Task{}
	if !f.Foreign {
		return s
	}
	if s.Task.Do == TaskMove { // ours, if it was not in force yet
		ours, leg = s.Task.Share, s.Task.Leg
		s.Task = Task{}
	}
	switch {
	case !s.Foreign:
		s.Foreign, s.Ours, s.OursLeg = true, ours, leg
	case s.Everyone(s.Ours):
		s.Foreign, s.Ours = false, 0 // they put it back themselves
	}
	if s.Stage == Shifting || s.Stage == Keeping {
		s.Leg = s.Route.Reached(s.Part())
		s = arrived(s, at)
	}
	return s
}

// takenUp believes what was found over what was noted.
func takenUp(s State, f TakenUp, at time.Time) State {
	if !f.Found.Known {
		return s
	}
	before := s.Share
	s.Share, s.Apart = f.Found.Share, f.Found.Apart
	if !s.Stage.UnderWay() {
		return s
	}
	s.Resumed++
	s.Moved = s.Moved || !s.Everyone(s.Home())
	if s.GoingBack {
		return s
	}
	s.Task, s.Proven, s.Foreign, s.Ours, s.Due, s.Late = Task{}, false, false, 0, Due{}, Task{}
	switch s.Question.Is.(type) {
	case AskSameBuild, AskRaise:
	default:
		s.Question = Question{}
	}
	if s.Moved && s.Share != before {
		s.Leg = s.Route.Reached(s.Part())
		s = arrived(s, at)
	}
	return s
}

func sameFindings(a, b []proof.Finding) bool { return slices.EqualFunc(a, b, proof.Finding.Same) }

// without is a list that shares nothing with the first.
func without[T any](list []T, drop func(T) bool) []T {
	var kept []T
	for _, v := range list {
		if !drop(v) {
			kept = append(kept, v)
		}
	}
	return kept
}
