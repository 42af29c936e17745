package crossing

import (
	"slices"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
)

// Lack is something that has to be known for the route to go on, and is not.
type Lack = oneof.One[LackKind, lacks]

// LackKind is one of the types below, which [Lacks] lists.
type LackKind interface{ lack() string }

type lacks struct{}

// Set lists the types.
func (lacks) Set() *oneof.Set[LackKind] { return Lacks }

// Lacks are all kinds of lack that there are.
var Lacks = oneof.New[LackKind]("kind", LackKind.lack, func(n oneof.Newer) LackKind { return Newer{n} },
	LackFront{}, LackApart{}, LackSide{}, LackNoted{}, LackCounts{}, LackDoor{}, LackAnswers{}, LackFigures{},
	LackBaseline{}, LackTime{}, LackSpare{}, LackServes{}, LackAsked{}, LackEverywhere{}, LackAstray{}, LackEased{},
	LackControl{}, LackHours{}, LackEmbargo{})

// Lacking is a lack of a kind.
func Lacking(kind LackKind) Lack { return Lack{Is: kind} }

type (
	// OfSide is what lacks that are about a side have.
	OfSide struct {
		Side split.Side `json:"side"`
	}
	// OfGuard is what lacks of a guard have.
	OfGuard struct {
		Guard string    `json:"guard"`
		Since time.Time `json:"since,omitzero"` // zero if it is not known since when
	}
	// Unread is what lacks have that come of a reading: since when, zero if there never was one, and why.
	Unread struct {
		Since time.Time `json:"since,omitzero"`
		Said  string    `json:"said,omitempty"`
	}

	// LackFront says that the front, or one of several, was not read lately.
	LackFront struct{ Unread }
	// LackApart says that one of several fronts has another share than the others.
	LackApart struct {
		Front string      `json:"front"`
		Share split.Share `json:"share"` // on green
	}
	// LackSide says that a side's instances were not read lately.
	LackSide struct {
		OfSide
		Unread
	}
	// LackNoted says that a side answers where nothing is noted of who does.
	LackNoted struct {
		OfSide
		Where string `json:"where"`
	}
	// LackCounts says that the front's counts are not known, though it counts.
	LackCounts struct{ Unread }
	// LackDoor says that the prober does not reach the front.
	LackDoor struct {
		OfGuard
		Said string `json:"said,omitempty"`
	}
	// LackAnswers says that a guard has too few answers to say anything.
	LackAnswers struct {
		OfGuard
		Have    int64 `json:"have"`
		Need    int64 `json:"need"`
		Clients bool  `json:"clients,omitempty"` // these are different clients that ask
	}
	// LackFigures says that instances do not tell the figure that a guard is on.
	LackFigures struct {
		OfGuard
		Said string `json:"said,omitempty"`
	}
	// LackBaseline says that a guard has nothing to compare with.
	LackBaseline struct{ OfGuard }
	// LackTime says that nobody watched a while ago, and until when nothing is retired.
	LackTime struct {
		Until time.Time `json:"until"`
	}
	// LackSpare says that a side gets requests: it is neither raised anew nor retired.
	LackSpare struct{ OfSide }
	// LackServes says that nobody of the side that is to stay serves, or that most of its answers fail.
	LackServes struct{ OfSide }
	// LackAsked says that no user and no prober asks the side that is to stay.
	LackAsked struct{ OfSide }
	// LackEverywhere says until when somebody may go by what was before.
	LackEverywhere struct {
		Until time.Time `json:"until"`
		Said  string    `json:"said,omitempty"`
	}
	// LackAstray says that a side gets other requests, by what was counted, than the front says.
	LackAstray struct {
		OfSide
		Have  int64       `json:"have"`
		Need  int64       `json:"need"`  // of how many
		Share split.Share `json:"share"` // on the side, by the front
	}
	// LackHours says that it is not the time at which traffic may move towards the new side, and until when, zero if
	// that is not known: the plan has hours, it is a closed day, or which days are closed cannot be read.
	LackHours struct {
		Until  time.Time `json:"until,omitzero"`
		Closed string    `json:"closed,omitempty"` // the name of the day
		Said   string    `json:"said,omitempty"`   // why it cannot be read
	}
	// LackEmbargo says that nothing is to leave home just now, whichever service's it is, who says so, why, and until
	// when, zero for until it is taken back; or that it cannot be read whether that is so.
	LackEmbargo struct {
		Until time.Time `json:"until,omitzero"`
		By    string    `json:"by,omitempty"`
		Why   string    `json:"why,omitempty"`
		Said  string    `json:"said,omitempty"` // why it cannot be read
	}
	// LackControl says that the front has no control group on a side, beside which the leg goes.
	LackControl struct {
		OfSide
		Healthy int `json:"healthy"` // of the group
		Of      int `json:"of"`
	}
	// LackEased says until when a change would be remembered for longer than later.
	LackEased struct {
		Until time.Time `json:"until"`
	}
)

// The names of the kinds are part of the logbook's format.
func (LackFront) lack() string      { return "front" }
func (LackApart) lack() string      { return "apart" }
func (LackSide) lack() string       { return "side" }
func (LackNoted) lack() string      { return "noted" }
func (LackCounts) lack() string     { return "counts" }
func (LackDoor) lack() string       { return "door" }
func (LackAnswers) lack() string    { return "answers" }
func (LackFigures) lack() string    { return "figures" }
func (LackBaseline) lack() string   { return "baseline" }
func (LackTime) lack() string       { return "time" }
func (LackSpare) lack() string      { return "spare" }
func (LackServes) lack() string     { return "serves" }
func (LackAsked) lack() string      { return "asked" }
func (LackEverywhere) lack() string { return "everywhere" }
func (LackAstray) lack() string     { return "astray" }
func (LackEased) lack() string      { return "eased" }
func (LackControl) lack() string    { return "control" }
func (LackHours) lack() string      { return "hours" }
func (LackEmbargo) lack() string    { return "embargo" }
func (n Newer) lack() string        { return n.Called }

func (o OfSide) side() split.Side { return o.Side }
func (o OfGuard) guard() string   { return o.Guard }

// GuardOf names the guard that lacks something, "" if none does.
func GuardOf(l Lack) string {
	if g, ok := l.Is.(interface{ guard() string }); ok {
		return g.guard()
	}
	return ""
}

// SideOf is the side that a lack is about, if it is about one.
func SideOf(l Lack) (split.Side, bool) {
	if s, ok := l.Is.(interface{ side() split.Side }); ok {
		return s.side(), true
	}
	return 0, false
}

// Passes reports whether a lack passes by itself, so that nobody has to be asked however long it takes.
func Passes(l Lack) bool {
	switch l.Is.(type) {
	case LackEverywhere, LackEased, LackHours, LackEmbargo:
		return true
	}
	return false
}

// Forbids reports whether a lack is somebody's word that traffic stays, and nothing that has to be known.
func Forbids(l Lack) bool { return oneof.IsA[LackHours](l) || oneof.IsA[LackEmbargo](l) }

// Baseline is what the live side answered before the target got anything, or on the last leg
// on which both got requests. It is kept for the time in which that side answers nothing.
type Baseline struct {
	Guard string         `json:"guard"`
	After time.Duration  `json:"after,omitempty"` // of guards on times: what counts as slow, in nanoseconds
	Count evidence.Count `json:"count"`
	High  float64        `json:"high"` // the rate that it is held to have at most, by what it varied
	From  time.Time      `json:"from"`
	To    time.Time      `json:"to"`
}

// lapsed stands still because what has to be known for the route to go on has not been for
// too long.
func (d *decision) lapsed() {
	if d.Timed() && !d.Frozen() && len(d.Lacks) > 0 {
		d.freeze(NotKnown{d.Lacks})
	}
}

// liveIll stands still because the side that the crossing is to leave does not serve as it
// should: it helps nobody to go on as if nothing had happened, and somebody has to say what
// does. It is heard again when it is worse than what a person has accepted.
func (d *decision) liveIll(i LiveIll) {
	level := i.Home.ill()
	accepted := slices.ContainsFunc(d.Overruled,
		func(o Overruling) bool { return o.Guard == LiveSide && level <= o.Level })
	if d.GoingBack || accepted && d.Stage.UnderWay() {
		return
	}
	d.stuck(HomeIll{i.Home})
}

// LiveSide names, among what was overruled, the health of the side crossed from.
const LiveSide = "live side"

// wayClosed stands still because there is no way back any more, unless a person goes on without
// one of that kind.
func (d *decision) wayClosed(c wayback.Condition) {
	known := slices.ContainsFunc(d.Freezes, func(f Freezing) bool {
		closed, is := f.Cause.Is.(WayClosed)
		return is && closed.Way.Kind() == c.Kind()
	})
	accepted := slices.ContainsFunc(d.Overruled, func(o Overruling) bool { return o.Guard == wayOf(c) })
	if d.Stage != Shifting && d.Stage != Keeping || d.GoingBack || d.Part() == 0 || known || accepted {
		return
	}
	d.freeze(WayClosed{c})
}

// wayOf names, among what was overruled, a condition of the way back.
func wayOf(c wayback.Condition) string { return "way back: " + c.Kind() }
