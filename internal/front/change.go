package front

import (
	"cmp"
	"slices"
	"time"

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
	StaysOpen    = "every connection stays open; requests that are being answered are answered where they are, the next one on the same connection is placed anew"
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
	since  time.Time // when this state was first seen
}

// Of is the revision of a state, given as a text that is the same for the same state.
func (r *Revisions) Of(state string) uint64 {
	if r.number == 0 || state != r.state {
		r.number++
		r.state, r.since = state, time.Now()
	}
	return r.number
}

// Split is a share with the revision of the state that it was read from.
func (r *Revisions) Split(share split.Share, state string) reading.Split {
	return reading.Split{Revision: r.Of(state), Share: share, Since: r.since}
}

// Keep takes a state for one that is ours and no new split, such as other instances.
func (r *Revisions) Keep(state string) { r.state = state }

// Known is what a driver was told of the instances of a side. A proxy knows them by
// their addresses alone.
type Known [2][]reading.Server

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

// AllOut reports whether no instance of a side may get new requests, in which case all
// of them do.
func AllOut(list []reading.Server) bool {
	return !slices.ContainsFunc(list, func(i reading.Server) bool { return !i.Out })
}
