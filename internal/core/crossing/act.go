package crossing

import (
	"fmt"
	"reflect"
	"strings"
	"time"

	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

// Act is something that a person asks for: one of the types below, which [Acts] lists. What has a name in JSON is
// what the person says; the rest is filled in by whoever carries it out, and is what is known by then.
//
// The command, the verb at the keeper's socket, its description and the completion all come from here: an act is
// added as a type with its two methods, in the list.
type Act interface {
	Input
	// About is what is known of the act beforehand. It does not depend on its fields.
	About() About
}

// About is what is known of a kind of act beforehand.
type About struct {
	Name  string // the one word for it
	Does  string // what it does, after its name
	Takes string // what is said with it, such as "SHARE"; "" for nothing
	Said  bool   // it can be said (vaiven say): all that it needs is seen, or said with it
	Wheel bool   // it is for whoever has the wheel
	Under bool   // it is about a crossing: one has to have begun
	Past  bool   // it goes past the freezes that there are
	Dry   bool   // it is done even if it cannot be recorded
	Facts []Fact // what may come of it, beside the wheel
}

// Acts are all there are, in the order in which they are told of.
var Acts = []Act{
	Yes{}, No{}, Next{}, Freeze{}, Resume{}, Steer{}, Reroute{}, PutBack{}, TakeWheel{}, LeaveWheel{},
	Begin{}, Arrive{}, Prove{}, Raise{}, Shift{}, Back{}, Retire{},
}

// Facts that a move, or what stands in its way, leads to.
var moves = []Fact{Ordered{}, Frozen{}, Asked{}, Resumed{}, AcceptedTheirs{}}

type (
	// Begin begins a crossing.
	Begin struct {
		Version   string            `json:"version,omitempty" says:"which version"`
		Versions  map[string]string `json:"versions,omitempty" says:"those of other parts than the first, where they are not the same"`
		Route     route.Route       `json:"route,omitempty" says:"the legs, in place of the plan's. Each has part, dwell (nanoseconds), ask, sure, least, control"`
		SameBuild bool              `json:"same_build,omitempty" says:"even if the live side runs all of that already"`
		AtOnce    bool              `json:"at_once,omitempty" says:"in one step, because the live side does not serve"`
		Hold      bool              `json:"hold,omitempty" says:"wait for a person before the first leg and after failures"`
		With      string            `json:"with,omitempty" says:"the fleet that it arrives with: its keep does not end before somebody says that all have arrived"`

		Service     string         `json:"-"`
		Folder      string         `json:"-"` // identity of the state folder
		Number      int            `json:"-"`
		Target      split.Side     `json:"-"` // the spare side
		LiveVersion string         `json:"-"`
		Choices     []raise.Choice `json:"-"` // what each part is raised at, the front's part first
		Control     Control        `json:"-"` // what a control group would be of
		NothingNew  bool           `json:"-"` // the live side runs all of that already
		Nobody      bool           `json:"-"` // the live side has no instances
		Live        Serving        `json:"-"` // the live side, as known
		Keep        time.Duration  `json:"-"`
		Then        plan.Then      `json:"-"`
		Front       FrontSeen      `json:"-"` // as it is now
	}
	// Arrive says that a version has arrived: it is begun as soon as it can be, by what the plan says of starting.
	Arrive struct {
		Version string `json:"version" says:"which version"`
		Commit  string `json:"commit,omitempty" says:"what it is made of, for whoever makes it"`
		// takes it back
		Withdraw bool `json:"withdraw,omitempty" says:"it is not to begin any more, if it waits"`
	}
	// Yes answers a question, which it names.
	Yes struct {
		Question uint64 `json:"question" says:"the question's number"`
	}
	// No answers a question, and goes back.
	No struct {
		Question uint64 `json:"question" says:"the question's number"`
	}
	// Next goes on to a leg now, which it names.
	Next struct {
		Leg int `json:"leg" says:"which leg, from 0"`
	}
	// Reroute goes on by other legs. Those that are behind, and the present one, stay as they are.
	Reroute struct {
		Route route.Route `json:"route" says:"all legs, those behind as they were. Each has part, dwell (nanoseconds), ask, sure, least, control"`
	}
	// Steer moves the share on green by hand.
	Steer struct {
		Share split.Share `json:"share" says:"on green"`
	}
	// PutBack puts our share back in force after somebody else changed it.
	PutBack struct{}
	// Freeze stops the route at the present share.
	Freeze struct{}
	// Resume ends the freezes that the person has seen.
	Resume struct{}
	// Back takes all traffic home, or calls off what has not moved any.
	Back struct {
		Force bool `json:"force,omitempty" says:"also to a side that cannot serve"`

		Why    string  `json:"-"` // a person's own words
		Home   Serving `json:"-"` // the side to go to, as known
		Stands bool    `json:"-"` // instances of the side crossed from are there
		Read   bool    `json:"-"` // the front was read just now: where nothing has moved, there is nothing to take home
	}
	// Retire retires the side without traffic, before its time or after the end.
	Retire struct {
		Typed string `json:"typed" says:"the service's name, to confirm it"`
	}
	// Prove has the whole proof made again, or one check of it.
	Prove struct {
		Check proof.Result `json:"check,omitzero" says:"which check alone, as a proof has it"`
	}
	// Raise stands the spare side up outside of a crossing.
	Raise struct {
		Version   string            `json:"version,omitempty" says:"which version"`
		Versions  map[string]string `json:"versions,omitempty" says:"those of other parts than the first, where they are not the same"`
		SameBuild bool              `json:"same_build,omitempty" says:"even if the live side runs all of that already"`

		Side       split.Side     `json:"-"`
		Choices    []raise.Choice `json:"-"`
		NothingNew bool           `json:"-"` // the live side runs all of that already
	}
	// Shift puts a share on green in force outside of a crossing; within one it steers.
	Shift struct {
		Share    split.Share `json:"share" says:"on green"`
		Unproven bool        `json:"unproven,omitempty" says:"even to a side that is not proven; why says why"`

		Proven [2]bool `json:"-"` // by side: its last proof passed, and it has not changed since
	}
	// TakeWheel takes the wheel, also from somebody else.
	TakeWheel struct{}
	// LeaveWheel lets it go, if the client has it.
	LeaveWheel struct {
		Client string `json:"-"`
		Gone   bool   `json:"-"` // nothing has been heard of it for too long
	}
)

// About is of an act.
func (Begin) About() About {
	return About{Name: "begin", Does: "begins a crossing", Takes: "VERSION", Wheel: true,
		Facts: []Fact{Begun{}, Asked{}, Ordered{}}}
}

// About is of an act.
func (Arrive) About() About {
	return About{Name: "arrived", Does: "says that a version has arrived, which begins as the plan has it", Takes: "VERSION",
		Facts: []Fact{VersionArrived{}, Dropped{}}}
}

// About is of an act.
func (Yes) About() About {
	return About{Name: "yes", Does: "answers the open question", Said: true, Wheel: true, Under: true,
		Facts: append([]Fact{Answered{}, Accepted{}, Ended{}}, moves...)}
}

// About is of an act.
func (No) About() About {
	return About{Name: "no", Does: "answers it, and rolls back", Said: true, Wheel: true, Under: true,
		Facts: []Fact{RollsBack{}, Ended{}, Ordered{}}}
}

// About is of an act.
func (Next) About() About {
	return About{Name: "next", Does: "goes to the next leg's share now", Said: true, Wheel: true, Under: true,
		Past: true, Facts: moves}
}

// About is of an act.
func (Reroute) About() About {
	return About{Name: "reroute", Does: "goes on by other legs, written as in a plan: reroute '5 % for 2m' ask '100 %'",
		Takes: "LEG...", Said: true, Wheel: true,
		Under: true, Facts: []Fact{Rerouted{}}}
}

// About is of an act.
func (Steer) About() About {
	return About{Name: "steer", Does: "moves the new side's share by hand, such as steer 25", Takes: "SHARE", Said: true,
		Wheel: true, Under: true, Past: true, Facts: moves}
}

// About is of an act.
func (PutBack) About() About {
	return About{Name: "put-back", Does: "puts our share back after somebody else changed it", Said: true, Wheel: true,
		Under: true, Past: true, Facts: moves}
}

// About is of an act.
func (Freeze) About() About {
	return About{Name: "freeze", Does: "stays at the present share", Said: true, Wheel: true, Dry: true,
		Facts: []Fact{Frozen{}, Failed{}}}
}

// About is of an act.
func (Resume) About() About {
	return About{Name: "resume", Does: "ends the freezes", Said: true, Wheel: true, Under: true, Past: true,
		Facts: moves}
}

// About is of an act.
func (Back) About() About {
	return About{Name: "back", Does: "rolls back, or calls off", Under: true, Dry: true,
		Facts: []Fact{RollsBack{}, Ordered{}, Ended{}, Begun{}}}
}

// About is of an act.
func (Retire) About() About {
	return About{Name: "retire", Does: "retires the side without traffic", Takes: "SERVICE", Wheel: true,
		Facts: []Fact{Ended{}, Ordered{}}}
}

// About is of an act.
func (Prove) About() About {
	return About{Name: "prove", Does: "proves again", Wheel: true, Under: true, Facts: []Fact{Ordered{}}}
}

// About is of an act.
func (Raise) About() About {
	return About{Name: "raise", Does: "raises the spare side, outside of a crossing", Takes: "VERSION", Wheel: true,
		Facts: []Fact{Ordered{}}}
}

// About is of an act.
func (Shift) About() About {
	return About{Name: "shift", Does: "puts a share on green in force, outside of a crossing", Takes: "SHARE",
		Wheel: true, Past: true, Facts: moves}
}

// About is of an act.
func (TakeWheel) About() About {
	return About{Name: "take-wheel", Does: "takes the wheel from whoever has it, and leaves it to anybody", Said: true}
}

// About is of an act.
func (LeaveWheel) About() About {
	return About{Name: "leave-wheel", Does: "lets the wheel go"}
}

func (i Begin) decide(d *decision) error      { return d.begin(i) }
func (i Arrive) decide(d *decision) error     { return d.arrives(i) }
func (i Yes) decide(d *decision) error        { return d.yes(i.Question) }
func (i No) decide(d *decision) error         { return d.no(i.Question) }
func (i Next) decide(d *decision) error       { return d.next(i.Leg) }
func (i Reroute) decide(d *decision) error    { return d.reroute(i.Route) }
func (i Steer) decide(d *decision) error      { return d.steer(i.Share) }
func (PutBack) decide(d *decision) error      { return d.putBack() }
func (Freeze) decide(d *decision) error       { return d.halt() }
func (Resume) decide(d *decision) error       { return d.resume() }
func (i Back) decide(d *decision) error       { return d.back(i) }
func (r Retire) decide(d *decision) error     { return d.typed(r) }
func (Prove) decide(d *decision) error        { return d.proveAgain() }
func (i Raise) decide(d *decision) error      { return d.raiseSpare(i) }
func (i Shift) decide(d *decision) error      { return d.shiftTo(i) }
func (TakeWheel) decide(*decision) error      { return nil } // it was, see grasp
func (i LeaveWheel) decide(d *decision) error { return d.left(i) }

// Whole reports whether the whole proof is to be made, and not one check alone.
func (i Prove) Whole() bool { return i.Check.Check == "" }

// Named is the act of a name, with nothing said yet; an error names those that there are.
func Named(name string) (Act, error) {
	var names []string
	for _, a := range Acts {
		if a.About().Name == name {
			return a, nil
		}
		names = append(names, a.About().Name)
	}
	return nil, fmt.Errorf("there is no act %q; there are %s", name, strings.Join(names, ", "))
}

// ActOf reads an act of a name: its fields as JSON, among which there may be others.
func ActOf(name string, fields []byte) (Act, error) {
	a, err := Named(name)
	if err != nil {
		return nil, err
	}
	if a, err = oneof.Of[Act](reflect.TypeOf(a), fields); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return a, nil
}

// AsSeen is an act with what it answers by what was seen last, where it names that: the open question, the next leg.
func AsSeen(a Act, s State) Act {
	switch a.(type) {
	case Yes:
		return Yes{Question: s.Question.ID}
	case No:
		return No{Question: s.Question.ID}
	case Next:
		leg, _ := s.Next()
		return Next{Leg: leg}
	}
	return a
}

// GoesPast reports whether an act goes past the freezes that there are.
func GoesPast(a Act, s State) bool {
	switch i := a.(type) {
	case Steer:
		return i.Share.Of(s.Target) > s.Part()
	case Shift:
		return i.Share.Of(s.Target) > s.Part()
	}
	return a.About().Past
}
