package front

import (
	"cmp"
	"slices"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// Change is what a front would do to put a share in force, said beforehand.
type Change struct {
	From        split.Share   `json:"from"`            // on green, in force now
	Wanted      split.Share   `json:"wanted"`          // on green
	Reached     split.Share   `json:"reached"`         // the nearest that the front can do
	Steps       []string      `json:"steps"`           // commands, or lines of a file's difference, in order
	Connections string        `json:"connections"`     // what becomes of those that are open
	Usually     time.Duration `json:"usually"`         // from command to in force, in nanoseconds; 0 if not known
	Notes       []string      `json:"notes,omitempty"` // what else to know, such as an instance that gets nothing
}

// What is said of changes at several kinds of front.
const (
	StaysOpen = "every connection stays open; requests that are being answered are answered where they are, the " +
		"next one on the same connection is balanced again"
	SessionsStay = "who has a session stays where it is, so the share of requests follows only as sessions end"
)

// Error is the distance of the share reached from the one wanted.
func (c Change) Error() split.Share { return max(c.Reached-c.Wanted, c.Wanted-c.Reached) }

// Revisions numbers what is in force at a front that does not number it itself. The
// numbers are those of one process: they say that something changed, not how often.
// The zero value has seen nothing.
type Revisions struct {
	number uint64
	state  string
	since  time.Time  // when this state was first seen
	held   bool       // what is seen is on its way to another state that is ours
	holds  ChangeMark // how many of these have begun or ended
}

// ChangeMark is when somebody began to look at the front.
type ChangeMark uint64

// Mark is to be had before a state is read that [Revisions.Since] is asked about.
func (r *Revisions) Mark() ChangeMark { return r.holds }

// Past reports whether a hold has begun or ended since: what was seen may have been on its way.
func (r *Revisions) Past(g ChangeMark) bool { return r.held || g != r.holds }

// Since is the revision of a state that was read since a glance.
func (r *Revisions) Since(g ChangeMark, state string) uint64 {
	if r.number > 0 && r.Past(g) {
		return r.number
	}
	return r.Of(state)
}

// Of is the revision of a state, given as a text that is the same for the same state.
func (r *Revisions) Of(state string) uint64 {
	if r.number == 0 || state != r.state && !r.held {
		r.number++
		r.state, r.since = state, time.Now()
	}
	return r.number
}

// Split is a share with the revision of the state that it was read from, since a glance.
func (r *Revisions) Split(g ChangeMark, share split.Share, state string) reading.Split {
	return reading.Split{Revision: r.Since(g, state), Share: share, Since: r.since}
}

// Hold keeps the revision whatever is seen from now on, until Keep or Release: it is on its way to other instances,
// say.
func (r *Revisions) Hold() { r.held = true; r.holds++ }

// Release ends a hold.
func (r *Revisions) Release() { r.end() }

// Keep takes a state for one that is ours and no new split, such as other instances.
func (r *Revisions) Keep(state string) {
	r.state = state
	r.end()
}

func (r *Revisions) end() {
	if r.held {
		r.held = false
		r.holds++
	}
}

// Known is what a driver was told of the instances of a side. A proxy knows them by
// their addresses alone.
type Known [2][]reading.Server

// Live is the side that begins with all requests, of instances that are there: blue, unless only green has any.
func (k Known) Live() split.Side {
	if len(k[split.Blue]) == 0 && len(k[split.Green]) > 0 {
		return split.Green
	}
	return split.Blue
}

// At is the instance with an address, as it was told, or one that bears the name that
// it has at the proxy.
func (k Known) At(side split.Side, address, name string) reading.Server {
	for _, i := range k[side] {
		if i.Address == address {
			return i
		}
	}
	return reading.Server{Name: name, Address: address}
}

// Side is a side as a front has it that counts nothing: its instances, in the order in which they were told.
func (k Known) Side(side split.Side, list []reading.Server) reading.Side {
	s := reading.Side{Instances: []reading.Count{}}
	for _, i := range list {
		s.Instances = append(s.Instances, reading.Count{Server: i})
	}
	k.Sort(side, s.Instances)
	return s
}

// Sort brings a side's counts into the order in which their instances were told;
// others follow by name.
func (k Known) Sort(side split.Side, counts []reading.Count) {
	place := func(c reading.Count) int {
		n := slices.IndexFunc(k[side], func(i reading.Server) bool { return i.Address == c.Address })
		if n < 0 {
			return len(k[side])
		}
		return n
	}
	slices.SortStableFunc(counts, func(a, b reading.Count) int {
		return cmp.Or(cmp.Compare(place(a), place(b)), cmp.Compare(a.Name, b.Name))
	})
}

// Takes says which instances of a side get new requests: those that are not out, or all of
// them if all are.
func Takes(list []reading.Server) []bool {
	all := !slices.ContainsFunc(list, func(i reading.Server) bool { return !i.Out })
	takes := make([]bool, len(list))
	for n, i := range list {
		takes[n] = all || !i.Out
	}
	return takes
}

// Beside is the part of a side's requests that its control group gets while the other side has a share: as many as that
// side. It is nil where there is no such group: none of the instances is of one, nobody else takes requests, or the
// other side has more than half.
func Beside(list []reading.Server, other split.Share) *float64 {
	takes, group, rest := Takes(list), false, false
	for n, i := range list {
		group = group || takes[n] && i.Control
		rest = rest || takes[n] && !i.Control
	}
	if !group || !rest || 2*other > split.Whole {
		return nil
	}
	part := float64(other) / float64(split.Whole-other)
	return &part
}

// Weigh finds the weights, from 1 to most, of both sides' instances for a share on green, and within a side by what
// each carries, as far as the plan says it. A control group gets as much as the other side. Those that get nothing
// have 0. What is reached is by side.
func Weigh(sides [2][]reading.Server, carry [2]plan.Capacity, share split.Share, most int) (w split.Weights,
	of [2][]int, err error) {
	var groups []split.Group
	var at [2][2]int // by side and whether of its control group: which of the groups
	for _, side := range split.Sides {
		at[side] = [2]int{len(groups), len(groups)}
		groups = append(groups, split.Group{Share: share.Of(side)})
		if other := share.Of(side.Other()); Beside(sides[side], other) != nil {
			at[side][1]++
			groups[at[side][0]].Share -= other
			groups = append(groups, split.Group{Share: other})
		}
	}
	group := func(side split.Side, i reading.Server) int {
		if i.Control {
			return at[side][1]
		}
		return at[side][0]
	}
	for side, list := range sides {
		for n, takes := range Takes(list) {
			if g := group(split.Side(side), list[n]); takes {
				groups[g].Capacities = append(groups[g].Capacities,
					cmp.Or(carry[side].At(list[n].Name, list[n].Address), 1))
			}
		}
	}
	if share == 0 || share == split.Whole { // going home waits for no search
		w, err = split.WeighAlone(groups, most)
	} else {
		w, err = split.Weigh(groups, most)
	}
	if err != nil {
		return w, of, err
	}
	next := make([]int, len(groups))
	for side, list := range sides {
		for n, takes := range Takes(list) {
			weight := 0
			if g := group(split.Side(side), list[n]); takes {
				weight = w.Of[g][next[g]]
				next[g]++
			}
			of[side] = append(of[side], weight)
		}
	}
	green := w.Reached[at[split.Green][0]]
	if at[split.Green][1] > at[split.Green][0] {
		green += w.Reached[at[split.Green][1]]
	}
	w.Reached = []split.Share{split.Whole - green, green}
	return w, of, nil
}

// Within are the weights, from 1 to most, of a side's instances where something else divides requests between the
// sides, and a control group gets as much as the other side. Those that get nothing have 0. They are nil where there is
// no such group.
func Within(list []reading.Server, other split.Share, most int) ([]int, error) {
	if Beside(list, other) == nil {
		return nil, nil
	}
	sides := [2][]reading.Server{list, {{Name: "other", Address: "other"}}}
	_, of, err := Weigh(sides, [2]plan.Capacity{}, other, most)
	return of[0], err
}
