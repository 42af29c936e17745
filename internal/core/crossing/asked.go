package crossing

import (
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/split"
)

func (m *machine) freezeAsked() error {
	switch {
	case m.Stage.Over():
		return notNow("the crossing is over (%s)", m.Stage)
	case m.GoingBack:
		return notNow("it is going back")
	}
	m.freeze("by hand")
	return nil
}

func (m *machine) goOn() error {
	switch {
	case m.Frozen == "":
		return notNow("nothing is frozen")
	case m.strays():
		return m.errStrays()
	case len(m.Asked) > 0:
		return m.errAsked()
	}
	m.takeAsItIs()
	m.thaw()
	m.resume()
	return nil
}

// takeAsItIs makes what somebody else did ours.
func (m *machine) takeAsItIs() { m.Foreign, m.Ours = false, 0 }

// putBack puts the share in force again that somebody else changed, and goes on from
// there.
func (m *machine) putBack() error {
	switch {
	case !m.Foreign || m.Stage.Over():
		return notNow("nobody else has changed the front")
	case m.GoingBack:
		return notNow("it is going back")
	case m.Pending.ID != 0:
		return notNow("%v has not been reported on yet", m.Pending)
	case m.Ours.Of(m.Target) > m.Part() && !m.Proven:
		return notNow("%v is not proven", m.Target)
	}
	ours := m.Ours
	m.takeAsItIs()
	if len(m.Asked) == 0 {
		m.Frozen = ""
	}
	m.shiftTo(ours)
	return nil
}

// strays reports whether somebody sent requests to the target before it was
// raised. Raising would then restart what answers them.
func (m *machine) strays() bool { return m.Stage == Raise && m.Part() > 0 }

func (m *machine) errStrays() error {
	return notNow("%v of the requests go to %v, which has not been raised: take them home first", m.Part(), m.Target)
}

// resume takes up what the stage was at when no effect is on its way and nobody
// is waited for.
func (m *machine) resume() {
	if m.Pending.ID != 0 || m.Waiting != "" {
		return
	}
	switch m.Stage {
	case Raise:
		m.do(Effect{Do: RaiseSide, Side: m.Target, Version: m.Version})
	case Prove:
		if m.Proven {
			m.start()
		} else {
			m.do(Effect{Do: ProveSide, Side: m.Target})
		}
	case Shift:
		if !m.Proven {
			m.do(Effect{Do: ProveSide, Side: m.Target})
		}
	}
}

func (m *machine) next() error {
	switch {
	case m.Stage.Over():
		return notNow("the crossing is over (%s)", m.Stage)
	case m.GoingBack:
		return notNow("it is going back")
	case m.Pending.ID != 0:
		return notNow("%v has not been reported on yet", m.Pending)
	case m.strays():
		return m.errStrays()
	case len(m.Asked) > 0:
		return m.errAsked()
	case m.Stage == Keep && m.Waiting == "":
		return notNow("all traffic is there; %v is kept", m.Target.Other())
	}
	m.Waiting, m.Trouble = "", ""
	m.takeAsItIs()
	if m.Frozen != "" {
		m.thaw()
	}
	switch {
	case m.Stage == Keep:
		m.settle()
	case m.Stage == Raise, m.Stage == Prove && !m.Proven, m.Stage == Shift && !m.Proven:
		m.resume()
	default:
		// Whoever said "start" or "next leg" has been asked: not twice in a row.
		m.advance(true)
	}
	return nil
}

func (m *machine) errAsked() error {
	return notNow("the proof found something that has to be accepted first: %s", m.Asked[0])
}

// accept goes on in spite of findings, if they are those that stand.
func (m *machine) accept(findings []string) error {
	switch {
	case len(m.Asked) == 0 || m.GoingBack:
		return notNow("the proof asks nothing")
	case m.Pending.ID != 0:
		return notNow("%v has not been reported on yet", m.Pending)
	case !slices.Equal(findings, m.Asked):
		return notNow("the proof has found something else meanwhile: %s", m.Asked[0])
	}
	m.Accepted = append(slices.Clone(m.Accepted), m.Asked...)
	m.Asked, m.Waiting, m.Trouble, m.Proven = nil, "", "", true
	switch {
	case m.Stage == Prove && m.Frozen == "":
		m.start()
	case strings.HasPrefix(m.Frozen, foundByProof):
		m.thaw()
		m.resume()
	}
	return nil
}

// proveAsked makes the proof again where there is something to prove and nothing
// else is on its way.
func (m *machine) proveAsked() error {
	switch {
	case m.Stage != Prove && m.Stage != Shift && m.Stage != Keep:
		return notNow("there is nothing to prove at %q", m.Stage)
	case m.GoingBack:
		return notNow("it is going back")
	case m.Pending.ID != 0:
		return notNow("%v has not been reported on yet", m.Pending)
	}
	if m.Stage == Prove {
		m.Waiting, m.Proven = "", false
	}
	m.Asked = nil
	m.do(Effect{Do: ProveSide, Side: m.Target})
	return nil
}

func (m *machine) steer(share split.Share) error {
	switch {
	case !share.Valid():
		return notNow("%v is not between 0 %% and 100 %%", share)
	case m.Stage.Over():
		return notNow("the crossing is over (%s)", m.Stage)
	case m.GoingBack:
		return notNow("it is going back")
	case share.Of(m.Target) > m.Part() && !m.Proven:
		return notNow("%v is not proven", m.Target)
	case share == m.Share && m.Pending.Do != ApplyShare:
		return notNow("%v of the requests go to green already", share)
	}
	m.takeAsItIs()
	m.Frozen = ""
	m.freeze("steered by hand")
	if share == m.Full() && len(m.Asked) == 0 {
		m.Frozen = "" // arrived: the old side's keep begins
	}
	m.shiftTo(share)
	return nil
}

func (m *machine) back(why string) error {
	// After the end somebody else may have put traffic back on the target.
	if m.Stage == Settled || m.Stage.Over() && m.Share == m.Home() {
		return notNow("the crossing is over (%s)", m.Stage)
	}
	m.goBack(why)
	return nil
}

// goBack takes everything home. It never waits for what else is on its way.
func (m *machine) goBack(why string) {
	if why == "" {
		why = "by hand"
	}
	if !m.Moved && m.Share == m.Home() {
		m.callOff(why)
		return
	}
	if m.Stage.Over() {
		m.enter(Shift) // it is not over after all
	}
	m.GoingBack, m.Why, m.Frozen, m.Waiting, m.Due, m.Retiring = true, why, "", "", time.Time{}, false
	m.Asked = nil
	m.takeAsItIs()
	m.do(Effect{Do: ApplyShare, Share: m.Home(), Home: true})
}

func (m *machine) retireAsked() error {
	switch {
	case m.Retiring:
		return notNow("that side is being retired")
	case m.Stage == Keep && !m.GoingBack && m.Pending.ID == 0 && m.Share == m.Full():
		m.becomeOver(Settled, "")
		m.retire(m.Target.Other())
		return nil
	case m.Stage.Over():
		spare := m.Live().Other()
		if m.Share.Of(spare) != 0 {
			return notNow("%v of the requests go to %v", m.Share.Of(spare), spare)
		}
		m.retire(spare)
		return nil
	}
	return notNow("a side can be retired when all traffic is on the other and the crossing is kept or over")
}
