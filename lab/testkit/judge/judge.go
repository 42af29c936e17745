package judge

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"vaiven/internal/core/split"
)

// By is who did something.
type By int

// Who there is.
const (
	Outside By = iota // somebody else, past Vaiven
	Vaiven            // because of its route, or of a person's word
	Stray             // Vaiven, by a command that was on its way before something called it off
	Home              // Vaiven, going home
)

// The times that are promised.
const (
	Noticed   = 25 * time.Second // users who suffer are noticed, where everything can be read
	RestAfter = time.Minute      // nothing is stopped for so long after nobody watched
	Late      = 10 * time.Second // what Vaiven reads is no older: it may act on what was so until then
)

// instance is one of a side, as the world has it.
type instance struct {
	proven bool      // a proof of it as it stands has passed
	well   bool      // it serves
	since  time.Time // that it is well, or is not
	listed bool      // the front sends it requests, if its side gets any
}

// Judge has seen what happened until now.
type Judge struct {
	now     time.Time
	share   split.Share // on green
	beside  split.Share // what another front has, where there are several
	apart   time.Time   // since when they differ, zero while they do not
	several bool        // they have differed at some time
	target  split.Side
	under   bool // a crossing is
	gives   bool // a side is being given up
	alone   bool // it began where nobody was live, or who was did not serve
	sides   [2]map[string]*instance
	seen    time.Time // when Vaiven could last have read how things are

	frozen  map[uint64]bool // freezes that somebody was told of, and nobody ended
	blindAt time.Time       // when somebody watched again after nobody had,
	closed  [2]bool         // sides that were left
	others  time.Time       // when somebody else changed the share last
	word    time.Time       // and when a person said something that goes on since
	wheel   string          // the client that has the wheel
	wants   []grown
	suffers time.Time // since when many users do, and nobody was told
	heeded  bool      // somebody was told of something, and has gone on in spite of it
	returns bool      // it goes back
	broken  string
	count   map[string]int // how often each rule was looked at where it could have been broken
}

// grown is how many instances the target has to have with more of the traffic than a part.
type grown struct {
	above split.Share
	count int
}

// New is a judge of a world in which nothing stands yet.
func New(now time.Time) *Judge {
	return &Judge{now: now, sides: [2]map[string]*instance{{}, {}}, frozen: map[uint64]bool{}, count: map[string]int{}}
}

// Broken is the first promise that was broken, "" for none.
func (j *Judge) Broken() string { return j.broken }

// Looked is how often each rule was looked at where it could have been broken.
func (j *Judge) Looked() map[string]int { return maps.Clone(j.count) }

// Rules are the promises, by their names.
var Rules = []string{
	"a freeze cancels what is not in force",
	"a side grows before its share does",
	"after a hole a person is asked",
	"no freeze ends unseen",
	"nobody dead gets more",
	"nobody is stopped where the other side does not serve",
	"nobody is stopped who gets requests",
	"nobody unproven gets requests",
	"nothing goes on unrecorded",
	"nothing goes on while fronts differ",
	"nothing goes to a side that is closed",
	"nothing is ordered under a freeze",
	"nothing is retired right after a hole",
	"users who suffer are noticed",
	"what is told is so",
	"who has the wheel steers",
}

// Seldom are the rules that were looked at less often than so many times: a run that is green says nothing of them.
func Seldom(looked map[string]int, least int) (names []string) {
	for _, name := range Rules {
		if n := looked[name]; n < least {
			names = append(names, fmt.Sprintf("%q: %d times", name, n))
		}
	}
	return names
}

func (j *Judge) rule(name string, holds bool, format string, args ...any) {
	if !slices.Contains(Rules, name) {
		panic("no rule is called " + name)
	}
	j.count[name]++
	if !holds && j.broken == "" {
		j.broken = name + ": " + fmt.Sprintf(format, args...)
	}
}

// Stands says that an instance was started: nobody has proven it yet.
func (j *Judge) Stands(at time.Time, side split.Side, name string) {
	j.now = at
	j.sides[side][name] = &instance{well: true, since: at}
}

// Gone says that an instance is no more.
func (j *Judge) Gone(at time.Time, side split.Side, name string) {
	j.now = at
	delete(j.sides[side], name)
}

// Well says whether an instance serves.
func (j *Judge) Well(at time.Time, side split.Side, name string, well bool) {
	j.now = at
	if i := j.sides[side][name]; i != nil && i.well != well {
		i.well, i.since = well, at
	}
}

// Proven says that a proof has passed with these instances of a side, or that somebody has accepted what it found.
func (j *Judge) Proven(at time.Time, side split.Side, names ...string) {
	j.now = at
	for _, name := range names {
		if i := j.sides[side][name]; i != nil {
			i.proven = true
		}
	}
}

// Lists says which instances of a side the front sends requests to from now on.
func (j *Judge) Lists(at time.Time, by By, side split.Side, names []string) {
	j.now = at
	some := false // else whoever comes helps those that somebody sent there
	for _, i := range j.sides[side] {
		some = some || i.listed
	}
	for name, i := range j.sides[side] {
		was := i.listed
		i.listed = slices.Contains(names, name)
		if by == Vaiven && i.listed && !was && some && j.under && side == j.target && j.share.Of(side) > 0 &&
			at.Sub(j.others) > Late {
			j.rule("nobody unproven gets requests", i.proven,
				"the front was told of %s, which no proof has seen, while %v gets %v", name, side, j.share.Of(side))
		}
	}
}

// Begins says that a crossing has begun, and how many instances its target is to have above a part of the traffic.
func (j *Judge) Begins(at time.Time, target split.Side, alone bool, above split.Share, count int) {
	j.now, j.target, j.under, j.alone = at, target, true, alone
	j.frozen, j.blindAt, j.word, j.wants = map[uint64]bool{}, time.Time{}, at, nil
	j.suffers, j.heeded, j.returns = time.Time{}, false, false
	if count > 0 {
		j.wants = []grown{{above, count}}
	}
}

// Ends says that it is over, and whether people were told that it has settled.
func (j *Judge) Ends(at time.Time, settled bool) {
	j.now, j.under = at, false
	if settled {
		j.together("it has settled")
	}
}

// Beside says what share another front has, where there are several.
func (j *Judge) Beside(at time.Time, share split.Share) {
	j.now, j.beside = at, share
	switch {
	case j.beside == j.share:
		j.apart = time.Time{}
	case j.apart.IsZero():
		j.apart, j.several = at, true
	}
}

// sends is the most that any front sends to a side.
func (j *Judge) sends(side split.Side) split.Share { return max(j.share.Of(side), j.beside.Of(side)) }

// together holds that all fronts have the same share where something goes on, as far as that could be read.
func (j *Judge) together(what string) {
	if j.several {
		j.rule("nothing goes on while fronts differ", j.apart.IsZero() || j.now.Sub(j.apart) <= Late,
			"%s, and a front has had %v on green for %v, not %v", what, j.beside, j.now.Sub(j.apart), j.share)
	}
}

// Frozen says that people were told of a freeze, and Thawed that a person, who saw it, has ended it.
func (j *Judge) Frozen(at time.Time, id uint64) { j.now, j.frozen[id] = at, true }

// Thawed is the end of freezes by a person who has seen everything up to an event.
func (j *Judge) Thawed(at time.Time, seen uint64, ids ...uint64) {
	j.now, j.word, j.heeded = at, at, true
	for _, id := range ids {
		j.rule("no freeze ends unseen", id <= seen, "somebody who had seen #%d ended freeze #%d", seen, id)
		delete(j.frozen, id)
	}
}

// Says is a person's word that goes on with something: it was taken. client is who said it, and take whether the
// person said that it is to count though somebody else has the wheel; gone, that nothing has been heard of that one.
func (j *Judge) Says(at time.Time, client string, take, gone bool) {
	j.now, j.word = at, at
	if j.wheel != "" && j.wheel != client {
		j.rule("who has the wheel steers", take || gone, "%q steered while %q had the wheel", client, j.wheel)
	}
	j.wheel = client
}

// Leaves says that a client has let the wheel go, or has lost it because it is gone.
func (j *Judge) Leaves(client string) {
	if j.wheel == client {
		j.wheel = ""
	}
}

// Returns says that people were told that it goes back: what it stood still for is over with that.
func (j *Judge) Returns(at time.Time) {
	j.now, j.returns = at, true
	clear(j.frozen)
}

// Suffers says what part of all requests fails. able is whether Vaiven can read and do what it needs, and nobody else
// is at work.
func (j *Judge) Suffers(at time.Time, part float64, able bool) {
	j.now = at
	const many = 0.3
	switch {
	case !able || part < many || !j.under || j.alone || len(j.frozen) > 0 || j.heeded || j.returns:
		j.suffers = time.Time{}
	case j.suffers.IsZero():
		j.suffers = at
	default:
		j.rule("users who suffer are noticed", at.Sub(j.suffers) < Noticed,
			"%.0f %% of the requests have failed for %v, and nobody was told", 100*part, at.Sub(j.suffers))
	}
}

// Recorded says what of it is on disk, for a process that begins: what people were told and no disk has is not so any
// more.
func (j *Judge) Recorded(at time.Time, target split.Side, under bool, wheel string, freezes ...uint64) {
	j.now, j.target, j.under, j.wheel, j.frozen = at, target, under, wheel, map[uint64]bool{}
	for _, id := range freezes {
		j.frozen[id] = true
	}
}

// Missed says that nobody has watched from one time to another.
func (j *Judge) Missed(from, to time.Time) {
	j.now = to
	if j.under || j.gives {
		j.blindAt = to
	}
}

// Retiring says whether a side is being given up.
func (j *Judge) Retiring(gives bool) { j.gives = gives }

// Ordered says that Vaiven orders traffic to a share, by itself or because a person said so.
func (j *Judge) Ordered(at time.Time, order uint64, share split.Share, itself bool) {
	j.now = at
	if !j.under || !itself || share.Of(j.target) <= j.share.Of(j.target) {
		return
	}
	j.together(fmt.Sprintf("%v is ordered", share))
	j.rule("nothing is ordered under a freeze", len(j.frozen) == 0, "%v is ordered under freezes %v", share,
		j.freezes())
	if !j.blindAt.IsZero() {
		j.rule("after a hole a person is asked", j.word.After(j.blindAt),
			"%v is ordered, and nobody has said anything since nobody watched", share)
	}
}

func (j *Judge) freezes() []uint64 { return slices.Sorted(maps.Keys(j.frozen)) }

// Closed says that a side was left and is closed, or that it was opened again.
func (j *Judge) Closed(at time.Time, side split.Side, closed bool) {
	j.now, j.closed = at, [2]bool{}
	j.closed[side] = closed
}

// Share says that the front has another share on green, by an order, and whether that is on disk.
func (j *Judge) Share(at time.Time, by By, share split.Share, order uint64, recorded bool) {
	j.now = at
	before := j.share
	if j.share = share; by == Outside {
		j.others = at
	}
	j.Beside(at, share) // unless somebody says otherwise
	for _, side := range split.Sides {
		if by == Vaiven && share.Of(side) > before.Of(side) {
			j.rule("nothing goes to a side that is closed", !j.closed[side], "%v goes to %v, which is closed",
				share.Of(side), side)
		}
	}
	if by != Vaiven || !j.under || share.Of(j.target) <= before.Of(j.target) {
		return
	}
	part := share.Of(j.target)
	j.rule("nothing goes on unrecorded", recorded, "%v goes to %v, and no disk has the order", part, j.target)
	for _, id := range j.freezes() {
		j.rule("a freeze cancels what is not in force", id < order, "%v goes to %v by order %d, after freeze %d", part,
			j.target, order, id)
	}
	listed, dead := 0, 0
	for _, name := range slices.Sorted(maps.Keys(j.sides[j.target])) {
		i := j.sides[j.target][name]
		if i.listed {
			j.rule("nobody unproven gets requests", i.proven, "%v goes to %v, and no proof has seen %s", part, j.target,
				name)
			if listed++; !i.well && at.Sub(i.since) > Late {
				dead++
			}
		}
	}
	other := false // somebody of the other side is known to serve
	for _, i := range j.sides[j.target.Other()] {
		other = other || i.well && at.Sub(i.since) > Late
	}
	j.rule("nobody dead gets more", !other || listed == 0 ||
		dead < listed, "%v goes to %v, where nobody has served for %v", part, j.target, Late)
	for _, g := range j.wants {
		if part > g.above {
			proven := 0 // one that has ended since is what guards and people are for
			for _, i := range j.sides[j.target] {
				if i.proven {
					proven++
				}
			}
			j.rule("a side grows before its share does", proven >= g.count,
				"%v goes to %d instances of %v, and above %v there are to be %d", part, proven, j.target, g.above,
				g.count)
		}
	}
}

// Stops says that Vaiven tells an instance to stop, to give its side up. called says that a person has said so.
func (j *Judge) Stops(at time.Time, side split.Side, name string) {
	j.now = at
	of := j.sends(side)
	j.rule("nobody is stopped who gets requests", of == 0, "%s is stopped while %v gets %v", name, side, of)
	other, well := 0, 0
	for _, i := range j.sides[side.Other()] {
		if other++; i.well || at.Sub(i.since) <= Late {
			well++
		}
	}
	j.rule("nobody is stopped where the other side does not serve", other == 0 && j.alone ||
		well > 0, "%s is stopped, and nobody of %v has served for %v", name, side.Other(), Late)
	if side != j.target && !j.blindAt.IsZero() { // it is the way back
		j.rule("nothing is retired right after a hole", at.Sub(j.blindAt) >= RestAfter,
			"%s is stopped %v after nobody watched", name, at.Sub(j.blindAt))
	}
}

// Told holds what people are told of where traffic goes to where it goes.
func (j *Judge) Told(at time.Time, what string, share split.Share) {
	j.now = at
	j.rule("what is told is so", share == j.share, "%s: %v on green, and it is %v", what, share, j.share)
}
