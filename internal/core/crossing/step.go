package crossing

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"vaiven/internal/core/proof"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
)

// ErrNotNow is wrapped by every refusal of something a person asked for that
// the present state does not allow. The error's text says why.
var ErrNotNow = errors.New("not now")

func notNow(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrNotNow, fmt.Sprintf(format, args...))
}

// Step is the state after an event, and the effects to be performed because of
// it. It is pure: equal inputs give equal outputs. On an error the state is
// returned unchanged with no effects; a report on an effect that is no longer
// pending is not an error, it just changes nothing.
func Step(s State, e Event) (State, []Effect, error) {
	m := machine{State: s, at: e.At}
	if err := m.take(e.What); err != nil {
		return s, nil, err
	}
	return m.State, m.effects, nil
}

// machine is a state on its way to the next one.
type machine struct {
	State
	at      time.Time
	effects []Effect
}

func (m *machine) take(fact Fact) error {
	if begun, ok := fact.(Begun); ok {
		return m.begin(begun)
	}
	if m.Stage == None {
		return notNow("no crossing has begun")
	}
	switch f := fact.(type) {
	case NextAsked:
		return m.next()
	case PutBackAsked:
		return m.putBack()
	case SteerAsked:
		return m.steer(f.Share)
	case FreezeAsked:
		return m.freezeAsked()
	case GoOnAsked:
		return m.goOn()
	case BackAsked:
		return m.back(f.Why)
	case RetireAsked:
		return m.retireAsked()
	case AcceptAsked:
		return m.accept(f.Findings)
	case ProveAsked:
		return m.proveAsked()
	case Tripped:
		m.tripped(f)
	case Changed:
		m.changed(f.Share)
	case Resumed:
		m.resumed(f)
	case Tick:
		m.tick()
	case Raised:
		if m.reported(f.Effect) {
			m.raised(f)
		}
	case RaiseFailed:
		if m.reported(f.Effect) {
			m.failed("raise", f.Why)
		}
	case Proved:
		if m.reported(f.Effect) {
			m.proved(f)
		}
	case Applied:
		if m.reported(f.Effect) {
			m.applied(f.Share)
		}
	case ApplyFailed:
		if m.reported(f.Effect) {
			m.applyFailed(f.Why)
		}
	case Retired:
		if m.reported(f.Effect) {
			m.Retiring, m.Trouble = false, ""
		}
	case RetireFailed:
		if m.reported(f.Effect) {
			m.Retiring, m.Trouble = false, "retire: "+f.Why
		}
	default:
		return fmt.Errorf("no step is known for %T", fact)
	}
	return nil
}

// do asks for an effect and awaits its report, and no earlier one's.
func (m *machine) do(e Effect) {
	m.Effects++
	e.ID = m.Effects
	m.Pending = e
	m.effects = append(m.effects, e)
}

// reported says whether an effect is the pending one, which then no longer is.
func (m *machine) reported(effect int) bool {
	if effect == 0 || effect != m.Pending.ID {
		return false
	}
	m.Pending = Effect{}
	return true
}

func (m *machine) enter(stage Stage) {
	m.Stage, m.Since = stage, m.at
}

// becomeOver ends the crossing. Nothing is timed, asked or frozen after that.
func (m *machine) becomeOver(stage Stage, why string) {
	m.takeAsItIs()
	m.enter(stage)
	m.Due, m.Left, m.Frozen, m.Waiting, m.GoingBack, m.Pending = time.Time{}, 0, "", "", false, Effect{}
	m.Asked = nil
	m.Why = why
}

func (m *machine) begin(f Begun) error {
	if m.Stage != None {
		return notNow("a crossing has begun already")
	}
	if leg, err := f.Route.Check(); err != nil {
		return fmt.Errorf("leg %d of the route: %w", leg+1, err)
	}
	m.State = State{
		Service: f.Service, Number: f.Number, Target: f.Target, Version: f.Version, Build: f.Build,
		LiveVersion: f.LiveVersion, Route: f.Route, Keep: f.Keep, Then: f.Then, Hold: f.Hold,
		Share: f.Share, Leg: -1, Built: f.Built, Others: f.Others,
	}
	if f.Nobody {
		// Nobody is served yet, so no user can be moved step by step, and there is no
		// other side to compare with or to keep.
		m.Route, m.Keep = f.Route[len(f.Route)-1:], 0
	}
	m.enter(Raise)
	switch {
	case m.Part() != 0:
		return notNow("%v of the requests go to %v already: it is not the spare side", m.Part(), m.Target)
	case f.nothingNew() && !f.SameBuild:
		m.Waiting = fmt.Sprintf("%s has the same build as %v now (%s): nothing has changed. Raise it all the same?",
			f.Version, f.Target.Other(), f.Build)
	default:
		m.do(Effect{Do: RaiseSide, Side: m.Target, Version: m.Version})
	}
	return nil
}

// nothingNew reports whether every part would be raised from the build that it
// is live with.
func (f Begun) nothingNew() bool {
	return f.Build != "" && f.Build == f.LiveBuild &&
		!slices.ContainsFunc(f.Others, func(c Choice) bool { return c.Build != c.LiveBuild })
}

func (m *machine) raised(f Raised) {
	if f.Build != "" {
		m.Build = f.Build
	}
	m.Trouble = ""
	m.enter(Prove)
	m.do(Effect{Do: ProveSide, Side: m.Target})
}

func (m *machine) proved(f Proved) {
	open := f.Proof.Open(m.Accepted)
	m.Proven = f.Pass || len(f.Proof.Results) > 0 && len(open) == 0
	m.Asked = nil
	if !m.Proven {
		why := "a check did not pass"
		if n := slices.IndexFunc(open, func(r proof.Result) bool { return !r.Ask }); n >= 0 {
			why = open[n].Finding()
		} else if len(open) > 0 {
			m.ask(open)
			return
		}
		if m.Stage == Prove {
			m.failed("proof", why)
			return
		}
		m.freeze("the proof failed: " + why)
		return
	}
	m.Trouble = ""
	if m.Stage == Prove && m.Frozen == "" {
		m.start()
	}
}

// ask waits for a person's word on findings that the plan leaves to one.
func (m *machine) ask(open []proof.Result) {
	m.Trouble = ""
	for _, r := range open {
		m.Asked = append(m.Asked, r.Finding())
	}
	what := m.Asked[0]
	accept := "accept it and go on?"
	if n := len(m.Asked); n > 1 {
		what += fmt.Sprintf(" (and %d more)", n-1)
		accept = fmt.Sprintf("accept these %d and go on?", n)
	}
	if m.Stage == Prove {
		m.Waiting = accept + " " + what
		return
	}
	m.freeze(foundByProof + what)
}

// foundByProof begins the reason of a freeze that ends when the findings are
// accepted.
const foundByProof = "the proof found: "

// start goes from a proven side to the first leg, or asks a person first.
func (m *machine) start() {
	if m.Hold {
		m.Waiting = fmt.Sprintf("%v is proven. Start to shift?", m.Target)
		return
	}
	m.advance(false)
}

// failed ends a raise or a proof that came to nothing, or asks a person where
// the crossing has one.
func (m *machine) failed(what, why string) {
	m.Trouble = what + ": " + why
	if m.Hold {
		m.Waiting = what + " failed. Try again?"
		return
	}
	m.callOff(m.Trouble)
}

// callOff ends a crossing that moved no traffic and clears the spare side.
func (m *machine) callOff(why string) {
	m.becomeOver(CalledOff, why)
	m.retire(m.Target)
}

// retire gives up a side, if it has no traffic.
func (m *machine) retire(side split.Side) {
	if m.Share.Of(side) != 0 {
		return
	}
	m.Retiring = true
	m.do(Effect{Do: RetireSide, Side: side})
}

// advance goes to the next leg, asking a person first where the leg says so and
// nobody has approved it.
func (m *machine) advance(approved bool) {
	next := m.Leg + 1
	for next < len(m.Route) && m.Route[next].Part <= m.Part() && m.Route[next].Part != split.Whole {
		next++ // steered past it by hand
	}
	if next >= len(m.Route) {
		return
	}
	leg := m.Route[next]
	if leg.Ask && !approved {
		m.Waiting = fmt.Sprintf("go on to %v on %v?", leg.Part, m.Target)
		return
	}
	m.shiftTo(split.Toward(m.Target, leg.Part))
}

// shiftTo asks the front for a share. It is the only place that moves traffic
// towards the target.
func (m *machine) shiftTo(share split.Share) {
	if share.Of(m.Target) > m.Part() && !m.Proven {
		m.do(Effect{Do: ProveSide, Side: m.Target})
		return
	}
	m.Waiting = ""
	m.Moved = m.Moved || share != m.Home()
	m.do(Effect{Do: ApplyShare, Share: share})
}

func (m *machine) applied(share split.Share) {
	m.Share, m.Trouble = share, ""
	if m.GoingBack {
		if share == m.Home() {
			m.becomeOver(RolledBack, m.Why)
			return
		}
		m.do(Effect{Do: ApplyShare, Share: m.Home(), Home: true})
		return
	}
	m.arrive()
}

// arrive takes up the stage and the leg that belong to the share in force.
func (m *machine) arrive() {
	m.Leg = m.Route.Reached(m.Part())
	dwell := m.Keep
	if m.Share == m.Full() {
		m.enter(Keep)
	} else {
		m.enter(Shift)
		dwell = 0
		if m.Leg >= 0 {
			dwell = m.Route[m.Leg].Dwell
		}
	}
	m.Due, m.Left = m.at.Add(dwell), 0
	if m.Frozen != "" {
		m.Due, m.Left = time.Time{}, dwell
	}
}

func (m *machine) applyFailed(why string) {
	m.Trouble = "front: " + why
	if !m.GoingBack { // while going back, the next tick tries again
		m.freeze("the front did not take the share")
	}
}

// freeze stops the clock of leg or keep. The first reason stays.
func (m *machine) freeze(why string) {
	if m.Frozen != "" {
		return
	}
	m.Frozen = why
	if !m.Due.IsZero() {
		m.Left = max(m.Due.Sub(m.at), 0)
	}
	m.Due = time.Time{}
}

func (m *machine) thaw() {
	m.Frozen = ""
	if m.Stage == Shift || m.Stage == Keep {
		m.Due = m.at.Add(m.Left)
	}
	m.Left = 0
}

func (m *machine) tripped(f Tripped) {
	if m.GoingBack || m.Stage != Shift && m.Stage != Keep {
		return
	}
	why := f.Guard + ": " + f.Why
	if f.Action == plan.RollBack {
		m.goBack(why)
		return
	}
	m.freeze(why)
}

// changed takes over what somebody else did to the front.
func (m *machine) changed(share split.Share) {
	if share == m.Share {
		return
	}
	before := m.Share
	m.Share = share
	switch {
	case m.Stage.Over():
		m.Trouble = fmt.Sprintf("somebody changed the front from %v to %v on green after the end", before, share)
	case share == m.Home() && m.Moved:
		why := "somebody took all traffic home at the front"
		if m.GoingBack {
			why = m.Why
		}
		m.becomeOver(RolledBack, why)
	case m.GoingBack:
		m.do(Effect{Do: ApplyShare, Share: m.Home(), Home: true})
	default:
		m.Moved = m.Moved || share != m.Home()
		m.Frozen, m.Waiting = "", ""
		switch {
		case !m.Foreign:
			m.Foreign, m.Ours = true, before
		case m.Ours == share:
			m.takeAsItIs() // they put it back themselves
		}
		m.freeze(fmt.Sprintf("somebody changed the front from %v to %v on green", before, share))
		if m.Stage == Shift || m.Stage == Keep {
			m.arrive()
		}
	}
}

// resumed believes what was found over what was remembered, and leaves it to a
// person to go on.
func (m *machine) resumed(f Resumed) {
	if m.Stage.Over() && !m.Retiring {
		m.Share = f.Share // nothing was under way
		return
	}
	before := m.Share
	m.takeAsItIs()
	m.Share, m.Pending, m.Proven, m.Asked = f.Share, Effect{}, false, nil // it will be proven anew
	switch {
	case m.Stage.Over():
		m.retire(m.Live().Other())
	case m.GoingBack && m.Share != m.Home():
		m.do(Effect{Do: ApplyShare, Share: m.Home(), Home: true})
	case m.GoingBack:
		m.becomeOver(RolledBack, m.Why)
	case m.Moved && m.Share == m.Home() && before != m.Home():
		m.becomeOver(RolledBack, "all traffic was found at home")
	default:
		m.Moved = m.Moved || m.Share != m.Home()
		if m.Stage != Raise { // where the question is whether to raise at all
			m.Waiting = ""
		}
		m.freeze("found again")
		m.Frozen = "found again: " + f.Found
		if m.Moved && m.Share != before {
			m.arrive()
		}
	}
}

func (m *machine) tick() {
	switch {
	case m.Pending.ID != 0 || m.Stage.Over():
	case m.GoingBack:
		m.do(Effect{Do: ApplyShare, Share: m.Home(), Home: true})
	case m.Frozen != "" || m.Waiting != "" || m.Due.IsZero() || m.at.Before(m.Due):
	case m.Stage == Shift:
		m.advance(false)
	case m.Stage == Keep && m.Then == plan.ThenAsk:
		m.Waiting = fmt.Sprintf("%v was kept for its time. Retire it?", m.Target.Other())
	case m.Stage == Keep:
		m.settle()
	}
}

// settle ends the crossing with the target live, and gives up the old side
// unless the plan leaves it standing.
func (m *machine) settle() {
	m.becomeOver(Settled, "")
	if m.Then != plan.ThenLeave {
		m.retire(m.Target.Other())
	}
}
