package crossing

import (
	"errors"
	"fmt"
	"slices"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

// Decide says what comes of an input: the events that then have happened, in order,
// which [Apply] takes in; or why it is refused, in which case there are none. Only what
// people ask for is refused, and the error is a [*Refusal]. A report on a task that is
// not the present one comes to nothing. It is pure: equal inputs give equal outputs.
func Decide(s State, m Moment, in Input) ([]Event, error) {
	d := decision{ground: ground{s, m}, words: m.Said}
	if err := d.grasp(in); err != nil {
		return nil, err
	}
	if about(in) && d.Stage == None {
		return nil, Refuse(NothingBegun{})
	}
	if err := in.decide(&d); err != nil {
		return nil, err
	}
	return d.events, nil
}

// decision is a state on its way to the next one.
type decision struct {
	ground
	words  string // a person's own, which the first event carries
	events []Event
}

// then adds a fact, and goes on from the state after it.
func (d *decision) then(fact Fact) {
	number := d.Number
	if b, ok := fact.(Begun); ok {
		number = b.Number
	}
	switch f := fact.(type) {
	case Ordered:
		if f.Task.Act {
			number = 0
		}
	case VersionArrived, Dropped, Built, Expires, NoticesBegin, NoticeSent, NoticeFailed, TermBegins, TermBegan,
		Followed, TakenOver:
		number = 0
	case SentBack, Changed, TakenUp, TookWheel, LeftWheel, Restarted, Ailed, Recovers:
		if !d.Stage.UnderWay() {
			number = 0
		}
	case Ended:
		f.Counted = d.Counted
		fact = f
	default:
		if d.Task.Act && isReport(f) {
			number = 0
		}
	}
	e := Event{Seq: d.State.Seq + 1, Crossing: number, At: d.At, By: d.By, Peer: d.Peer, Said: d.Said, What: fact}
	d.Said = "" // once
	d.events = append(d.events, e)
	before := d.State
	if d.State = Apply(before, e); d.State.Since != before.Since || d.State.Left != before.Left {
		d.Rest = d.State.Left // a leg or the keep has begun with this
	}
}

func isReport(f Fact) bool {
	switch f.(type) {
	case Raised, Proved, TookEffect, Returned, NotReturned, Stopping, Retired, Failed:
		return true
	}
	return false
}

// missed freezes after a time in which nobody watched.
func (d *decision) missed(i Missed) {
	if _, known := FrozenBy[Unwatched](d.State); d.Stage.UnderWay() && !d.GoingBack && !known {
		d.freeze(Unwatched{i.For})
	}
}

// remember keeps what the side crossed from is.
func (d *decision) remember(i Remember) {
	if d.Stage == Proving && !d.Moved {
		d.then(Noted(i))
	}
}

// targetLost sends no more to a side of which nobody serves.
func (d *decision) targetLost(i TargetLost) {
	if d.risesBy(d.Task) {
		d.freeze(NobodyLeft{i.Target})
	}
}

// arrived keeps what the other side answered until the target got requests, or all of them.
func (d *decision) arrived(i Arrived) {
	if (d.Stage == Shifting || d.Stage == Keeping) && len(i.Baselines) > 0 {
		d.then(Compared(i))
	}
}

// order asks for a task. What would send something to a side that is closed is left to a person, who opens it again.
func (d *decision) order(t Task) {
	if t.Do == TaskMove && d.toClosed(t.Share) || t.Do == TaskHome && d.Closed.Closes(t.Side) {
		d.stuck(ByOrder{d.Closed})
		return
	}
	t.By = d.By
	d.then(Ordered{Task: t})
}

func (d *decision) ask(q QuestionKind) { d.then(Asked{Question: Question{Side: d.Target, Is: q}}) }

func (d *decision) freeze(c CauseKind) { d.then(Frozen{Cause: Because(c), Left: d.Rest}) }

func (d *decision) begin(i Begin) error {
	switch {
	case d.Stage.UnderWay():
		return Refuse(d.InTheWay())
	case d.Task.ID != 0:
		return Refuse(IsBusy{d.Task})
	}
	if leg, err := i.Route.Check(); err != nil {
		return Refuse(NoRoute{leg, err.Error()})
	}
	if of := i.Front.Share.Of(i.Target); of != 0 {
		return Refuse(NotSpare{i.Target, of})
	}
	if d.Closed.Closes(i.Target) {
		return d.errClosed()
	}
	if i.AtOnce && !i.Nobody && i.Live.Known && i.Live.Healthy > 0 {
		return Refuse(LiveServes{i.Live})
	}
	b := Begun{
		Service: i.Service, Folder: i.Folder, Number: i.Number, Target: i.Target, LiveVersion: i.LiveVersion,
		Choices: i.Choices, Route: i.Route, Keep: i.Keep,
		Then: i.Then, First: i.Nobody, Hold: i.Hold, With: i.With, Wheel: d.Wheel, Share: i.Front.Share,
		Generation: i.Front.Order.Generation, Control: i.Control, Waiting: d.Waiting, Term: d.Term,
		Kept: d.State.kept(i.Target, 0),
	}
	if i.Nobody {
		// Nobody is served yet, so no user can be moved step by step, and there is no
		// other side to compare with or to keep.
		b.Route, b.Keep = route.Route{{Part: split.Whole}}, 0
	} else if i.AtOnce { // there is nobody to go step by step away from
		b.Route, b.AtOnce = route.Route{{Part: split.Whole}}, true
	}
	d.then(b)
	if i.NothingNew && !i.SameBuild {
		d.ask(AskSameBuild{d.Version, d.Build})
		return nil
	}
	d.standUp()
	return nil
}

func (d *decision) standUp() { d.order(Task{Do: TaskRaise, Side: d.Target, Choices: d.Choices}) }

func (d *decision) prove() { d.order(Task{Do: TaskProve, Side: d.Target}) }

// yes answers the question that is open, if it is the one that is named.
func (d *decision) yes(id uint64) error {
	q := d.Question
	switch {
	case q.ID == 0 || q.ID != id:
		return Refuse(OtherQuestion{d.Question, d.Target})
	case d.Task.ID != 0:
		return Refuse(IsBusy{d.Task})
	case d.frozenBut(q):
		return Refuse(IsFrozen{})
	}
	if err := d.answerable(q.Is); err != nil {
		return err
	}
	d.then(Answered{Question: q})
	switch is := q.Is.(type) {
	case AskSameBuild, AskRaise:
		d.standUp()
	case AskProof:
		d.prove()
	case AskFindings:
		d.then(Accepted(is))
		if !d.Frozen() {
			d.goesOn()
		}
	case AskStart, AskUnsure:
		d.advance(true)
	case AskLeg:
		d.legTo(is.Leg)
	case AskLoad:
		d.legTo(is.Leg)
	case AskTogether:
		d.kept()
	case AskRetire:
		d.settle(true)
	}
	return nil
}

// no answers it too, and goes back.
func (d *decision) no(id uint64) error {
	q := d.Question
	if q.ID == 0 || q.ID != id {
		return Refuse(OtherQuestion{d.Question, d.Target})
	}
	if !d.neverMoved() && d.Closed.Closes(d.Target.Other()) {
		return d.errClosed()
	}
	d.goBack(Declined{q})
	return nil
}

// next goes on to the next leg now, if it is the one that is named.
func (d *decision) next(leg int) error {
	if err := d.steerable(); err != nil {
		return err
	}
	following, ok := d.Next()
	switch {
	case d.Question.ID != 0:
		return Refuse(OpenQuestion{d.Question, d.Target})
	case d.Stage != Shifting || !ok:
		return Refuse(NothingToDo{d.Stage, d.Target})
	case following != leg:
		return Refuse(NotNext{d.nextLeg()})
	case slices.ContainsFunc(d.Freezes, func(f Freezing) bool { return !OfPerson(f.Cause) }):
		return Refuse(IsFrozen{})
	}
	if err := d.fit(); err != nil {
		return err
	}
	if err := d.room(d.LegShare(leg)); err != nil {
		return err
	}
	if err := d.thawed(); err != nil {
		return err
	}
	d.legTo(leg)
	return nil
}

// thawed ends the freezes that the person has seen, and refuses where there are others.
func (d *decision) thawed() error {
	if d.thaw(); d.Frozen() {
		return Refuse(IsFrozen{})
	}
	return nil
}

// thaw ends the freezes that the person has seen, in spite of the guards behind them.
func (d *decision) thaw() {
	var ids []uint64
	var overruled []Overruling
	var waived []string
	for _, f := range d.Freezes {
		if f.ID > d.Seen {
			continue
		}
		ids = append(ids, f.ID)
		switch c := f.Cause.Is.(type) {
		case ByGuard:
			overruled = append(overruled, c.Alarm.overruled())
		case NobodyHome:
			overruled = append(overruled, c.Alarm.overruled())
		case HomeIll:
			overruled = append(overruled, Overruling{Guard: LiveSide, Level: c.Home.ill()})
		case WayClosed:
			overruled = append(overruled, Overruling{Guard: wayOf(c.Way), Level: 1})
		case NotKnown:
			for _, l := range c.Lacks {
				if guard := GuardOf(l); guard != "" {
					waived = append(waived, guard)
				}
			}
		}
	}
	if len(ids) > 0 {
		d.then(Resumed{Freezes: ids, Overruled: overruled, Waived: waived})
	}
	if d.Foreign {
		d.then(AcceptedTheirs{})
	}
}

// legTo goes to a leg. Whoever said so has been asked.
func (d *decision) legTo(leg int) { d.move(d.LegShare(leg), leg) }

// advance goes to the next leg, asking a person first where the leg says so and nobody
// has approved it.
func (d *decision) advance(approved bool) {
	leg, ok := d.Next()
	if !ok {
		return
	}
	l := d.Route[leg]
	step := Step{leg, l.Part, d.loadAt(l.Part).Of(l.Part)}
	switch over := d.over(l.Part); {
	case over && d.Load.Refused:
		d.freeze(Overload{d.LegShare(leg), step.Load})
	case l.Ask && !approved:
		d.ask(AskLeg{step})
	case over:
		d.ask(AskLoad{step})
	default:
		d.legTo(leg)
	}
}

// move asks the front for a share. It is the only place that moves traffic towards the
// target, and it does so for one alone that is proven by its last proof and by its health.
func (d *decision) move(share split.Share, leg int) {
	switch more := share.Of(d.Target) > d.Least(d.Target); {
	case more && !d.Proven:
		d.prove()
	case more && d.There.Empty():
		d.freeze(NobodyLeft{d.There})
	case more && len(d.unread()) > 0:
		d.freeze(NotKnown{d.unread()})
	case more && len(d.forbidden()) > 0: // it is time again when it may
	default:
		// Also where somebody else has sent as much there before.
		if less := share.Of(d.Target) < d.Least(d.Target); less || !d.grow(share, leg) {
			d.order(Task{Do: TaskMove, Share: share, Leg: leg})
		}
	}
}

// grow has the target get more instances before a share that wants them, and reports whether it does.
func (d *decision) grow(share split.Share, leg int) bool {
	grown, more := raise.Grown(d.Choices, share.Of(d.Target))
	if more {
		d.order(Task{Do: TaskRaise, Side: d.Target, Choices: grown, More: true, Share: share, Leg: leg})
	}
	return more
}

// due goes on to the share for which the target got more instances.
func (d *decision) due() {
	if d.Due.Leg < 0 {
		d.freeze(Steered{})
	}
	d.move(d.Due.Share, d.Due.Leg)
}

// start goes from a proven side to the first leg, or asks a person first. Where something is
// not known it waits until it is, see [State.Timed].
func (d *decision) start() {
	if len(d.Lacks) > 0 {
		return
	}
	if d.Hold {
		d.ask(AskStart{})
		return
	}
	d.advance(false)
}

// goesOn takes up what the stage is at, where nothing is under way and nobody is
// waited for.
func (d *decision) goesOn() {
	if d.Task.ID != 0 || d.Question.ID != 0 || d.GoingBack {
		return
	}
	switch {
	case d.Stage == Raising:
		d.standUp()
	case !d.Proven:
		d.prove()
	case d.Due.On:
		d.due()
	case d.Stage == Proving:
		d.start()
	}
}

// toClosed reports whether a share would send something to a side that is closed.
func (d *decision) toClosed(share split.Share) bool {
	return d.Closed.Closed && share.Of(d.Closed.Side.Other()) > 0
}

func (d *decision) errClosed() error {
	return Refuse(SideClosed{Side: d.Closed.Side.Other(), Order: d.Closed})
}

func (d *decision) steer(share split.Share) error {
	more := d.gains(d.Target, share)
	switch {
	case !share.Valid():
		return Refuse(NoShare{share})
	case d.Stage.Over():
		return Refuse(IsOver{d.Stage})
	case d.GoingBack:
		return Refuse(IsGoingBack{})
	case d.toClosed(share):
		return d.errClosed()
	case d.Task.ID != 0 && d.Task.Do != TaskMove:
		return Refuse(IsBusy{d.Task})
	case more && d.fit() != nil:
		return d.fit()
	case d.gains(d.Target.Other(), share) && d.Old.Empty():
		return d.nobody(d.Old)
	case d.room(share) != nil:
		return d.room(share)
	case d.Everyone(share) && d.Task.Do != TaskMove:
		return Refuse(ThereAlready{d.Share})
	case len(d.Question.Findings()) > 0 && more:
		return Refuse(OpenQuestion{d.Question, d.Target})
	}
	if err := d.thawed(); err != nil && more { // by something that was not seen yet
		return err
	}
	leg := -1
	if share == d.Full() {
		leg = len(d.Route) - 1 // arrived: the old side's keep begins
	}
	if more && d.grow(share, leg) {
		return nil
	}
	if leg < 0 {
		d.freeze(Steered{})
	}
	d.order(Task{Do: TaskMove, Share: share, Leg: leg})
	return nil
}

// reroute goes on by other legs, as long as nothing is on its way to one of those that were planned,
// or is asked about it.
func (d *decision) reroute(r route.Route) error {
	switch {
	case d.Stage.Over():
		return Refuse(IsOver{d.Stage})
	case d.GoingBack:
		return Refuse(IsGoingBack{})
	case d.Task.Do == TaskMove || d.Task.More:
		return Refuse(IsBusy{d.Task})
	}
	switch d.Question.Is.(type) {
	case nil, AskSameBuild, AskRaise, AskProof, AskFindings:
	default:
		return Refuse(OpenQuestion{d.Question, d.Target})
	}
	leg, err := r.Check()
	if behind := d.Leg + 1; err == nil && (len(r) < behind || !slices.Equal(r[:behind], d.Route[:behind])) {
		leg, err = d.Leg, errors.New("the legs behind, and the present one, stay as they are")
	}
	if err == nil && d.Part() > 0 && len(r) > d.Leg+1 && r[d.Leg+1].Part <= d.Part() {
		leg, err = d.Leg+1, fmt.Errorf("it does not go further than the %v in force", d.Part())
	}
	if at := slices.IndexFunc(r, func(l route.Leg) bool { return l.Control }); err == nil && at >= 0 &&
		!d.State.Control.Up && !d.Route.Controls() {
		leg, err = at, errors.New("no control group was started with the new side")
	}
	if err != nil {
		return Refuse(NoRoute{leg, err.Error()})
	}
	if slices.Equal(r, d.Route) {
		return Refuse(NothingToDo{d.Stage, d.Target})
	}
	d.then(Rerouted{Route: r})
	return nil
}

// putBack puts the share in force again that somebody else changed, and goes on from
// there.
func (d *decision) putBack() error {
	if !d.Foreign || d.Stage.Over() {
		return Refuse(NotChanged{})
	}
	if err := d.steerable(); err != nil {
		return err
	}
	ours, leg := d.Ours, d.OursLeg
	more := d.gains(d.Target, ours)
	if more {
		if err := d.fit(); err != nil {
			return err
		}
	}
	if d.gains(d.Target.Other(), ours) && d.Old.Empty() {
		return d.nobody(d.Old)
	}
	if err := d.thawed(); err != nil {
		return err
	}
	if !more || !d.grow(ours, leg) {
		d.order(Task{Do: TaskMove, Share: ours, Leg: leg})
	}
	return nil
}

// halt stands still. Outside of a crossing it calls off what was ordered and can wait.
func (d *decision) halt() error {
	switch {
	case !d.Stage.UnderWay() && d.Task.ID != 0 && d.Task.Do != TaskHome:
		d.then(Failed{Task: d.Task.ID, Trouble: Went(TroubleHalted{})})
		return nil
	case d.Stage == None:
		return Refuse(NothingBegun{})
	case d.Stage.Over():
		return Refuse(IsOver{d.Stage})
	case d.GoingBack:
		return Refuse(IsGoingBack{})
	}
	if _, frozen := FrozenBy[ByHand](d.State); !frozen {
		d.freeze(ByHand{})
	}
	return nil
}

func (d *decision) resume() error {
	switch {
	case d.Stage.Over():
		return Refuse(IsOver{d.Stage})
	case !d.Frozen():
		return Refuse(NotFrozen{})
	case d.Stage == Raising && d.Sends(d.Target) > 0:
		// Somebody sent requests to the target before it was raised. Raising would
		// restart what answers them.
		return Refuse(GetsRequests{Side: d.Target, Share: d.Sends(d.Target)})
	case len(d.Question.Findings()) > 0:
		return Refuse(OpenQuestion{d.Question, d.Target})
	case !slices.ContainsFunc(d.Freezes, func(f Freezing) bool { return f.ID <= d.Seen }):
		return Refuse(IsFrozen{}) // by something that was not seen yet
	}
	d.thaw()
	if !d.Frozen() {
		d.goesOn()
	}
	return nil
}

// back goes home on a person's word, in any state.
func (d *decision) back(i Back) error {
	still := i.Read && d.neverMoved()
	switch {
	case d.Stage == Settled && (!i.Stands || d.Out[d.Target.Other()]):
		return Refuse(Gone{d.Target.Other(), d.Out[d.Target.Other()]})
	case i.Read && d.Stage.Over() && d.Stage != Settled && d.Everyone(d.Home()):
		return Refuse(IsOver{d.Stage})
	case i.Read && d.Stage == Settled && d.Everyone(d.Home()):
		return Refuse(ThereAlready{d.Share})
	case !still && d.Closed.Closes(d.Target.Other()):
		return d.errClosed()
	case !still && i.Home.Empty() && !i.Force:
		return Refuse(NobodyThere{i.Home})
	case d.GoingBack && !i.Force:
		return nil // it is under way; whoever performs it tries again at once
	}
	cause := ByHand{i.Why}
	if d.Stage == Settled { // what has settled stays so: this is a crossing of its own
		d.then(Begun{
			Service: d.Service, Folder: d.Folder, Number: d.State.Number + 1, Target: d.Target,
			LiveVersion: d.LiveVersion, Choices: d.Choices, Route: d.Route, Keep: d.Keep,
			Then: plan.ThenLeave, Wheel: d.Wheel, Share: d.Share, Generation: d.Generation, After: d.State.Number,
			Was: d.Was, Waiting: d.Waiting, Term: d.Term, Kept: d.State.kept(d.Target, d.State.Number),
		})
	}
	if still {
		d.callOff(cause)
	} else {
		d.goHome(cause, i.Force)
	}
	return nil
}

// goBack takes everything home, or calls off what never moved any traffic.
func (d *decision) goBack(c CauseKind) {
	if d.neverMoved() {
		d.callOff(c)
		return
	}
	d.goHome(c, false)
}

// goHome takes everything home. It never waits for what else is under way.
func (d *decision) goHome(c CauseKind, force bool) {
	if d.Closed.Closes(d.Target.Other()) { // that is no home
		d.stuck(c)
		return
	}
	d.then(RollsBack{Cause: Because(c)})
	d.order(Task{Do: TaskHome, Side: d.Target.Other(), Force: force})
}

// callOff ends a crossing that moved no traffic and clears the spare side.
func (d *decision) callOff(c CauseKind) {
	d.then(Ended{Stage: CalledOff, Cause: Because(c)})
	d.retire(d.Target, false)
}

// settle ends the crossing with the target live, and gives up the old side unless the
// plan leaves it standing. word says whether a person wants it.
func (d *decision) settle(word bool) {
	d.then(Ended{Stage: Settled})
	if d.Then != plan.ThenLeave {
		d.retire(d.Target.Other(), word)
	}
}

// retire gives up a side, if it has no traffic.
func (d *decision) retire(side split.Side, word bool) {
	if d.Sends(side) == 0 {
		d.order(Task{Do: TaskRetire, Side: side, Word: word})
	}
}

// typed gives up the side that is not live, if the service's name was typed for it.
func (d *decision) typed(r Retire) error {
	if r.Typed != d.Confirm {
		return Refuse(NotTyped{d.Confirm})
	}
	return d.giveUp()
}

func (d *decision) giveUp() error {
	t := d.Task
	switch {
	case t.Do == TaskRetire && d.Sends(t.Side) == 0 && !t.Word && len(d.Stays) > 0 && d.stays() == nil &&
		d.rested() == nil:
		t.Word = true // it waited for somebody to say so
		d.order(t)
		return nil
	case t.ID != 0:
		return Refuse(IsBusy{d.Task})
	case d.rested() != nil:
		return d.rested()
	case d.Stage == Keeping && !d.GoingBack && d.Everyone(d.Full()):
		if err := d.fit(); err != nil {
			return err
		}
		if err := d.stays(); err != nil {
			return err
		}
		d.settle(true)
		if d.Task.ID == 0 { // the plan would leave it; the person does not
			d.retire(d.Target.Other(), true)
		}
		return nil
	case d.Stage.UnderWay():
		return Refuse(d.InTheWay())
	}
	live, all := d.Share.Alone()
	if !all || d.Sends(live.Other()) > 0 {
		spare := d.Live().Other()
		return Refuse(GetsRequests{Side: spare, Share: d.Sends(spare)})
	}
	if err := d.watched(); err != nil {
		return err
	}
	if err := d.stays(); err != nil {
		return err
	}
	d.order(Task{Do: TaskRetire, Side: live.Other(), Act: true, Word: true})
	return nil
}

// proveAgain makes the proof again where there is something to prove and nothing else
// is under way.
func (d *decision) proveAgain() error {
	if d.Stage != Proving && d.Stage != Shifting && d.Stage != Keeping {
		return Refuse(NothingToDo{d.Stage, d.Target})
	}
	if err := d.steerable(); err != nil {
		return err
	}
	d.prove()
	return nil
}

func (d *decision) raiseSpare(i Raise) error {
	switch {
	case d.Stage.UnderWay():
		return Refuse(d.InTheWay())
	case d.Task.ID != 0:
		return Refuse(IsBusy{d.Task})
	case d.Sends(i.Side) > 0:
		return Refuse(GetsRequests{Side: i.Side, Share: d.Sends(i.Side)})
	case i.NothingNew && !i.SameBuild:
		main := raise.Main(i.Choices)
		return Refuse(NothingIsNew{i.Side.Other(), main.Version, main.Build})
	}
	d.order(Task{Do: TaskRaise, Side: i.Side, Choices: i.Choices, Act: true})
	return nil
}

// shiftTo puts a share in force by hand. What sends more to a side outside of a crossing is refused as long as that
// is not proven, unless a person says why; the side that a crossing came from, or ended at, is.
func (d *decision) shiftTo(i Shift) error {
	share := i.Share
	switch {
	case !share.Valid():
		return Refuse(NoShare{share})
	case d.Stage.UnderWay():
		return d.steer(share)
	case d.toClosed(share):
		return d.errClosed()
	case d.Task.ID != 0:
		return Refuse(IsBusy{d.Task})
	}
	more := split.Green
	if share < d.Share {
		more = split.Blue
	}
	carried := d.Share.Of(more) >= split.Whole/2 || d.Number > 0 && more == d.Live() && (d.Stage != Settled || d.Proven)
	unproven := share != d.Share && !i.Proven[more] && !carried
	switch {
	case unproven && !i.Unproven:
		return Refuse(NotProven{Side: more})
	case unproven && d.words == "":
		return Refuse(NoReason{more})
	}
	if err := d.free(); err != nil && share != d.Share && d.Share.Of(more) < split.Whole/2 { // it leaves home
		return err
	}
	for _, b := range []Serving{d.There, d.Old} {
		if b.Empty() && d.gains(b.Side, share) {
			return d.nobody(b)
		}
	}
	t := Task{Do: TaskMove, Share: share, Leg: -1, Act: true}
	if unproven {
		t.Unproven = d.words
	}
	d.order(t)
	return nil
}
