package reading

import (
	"fmt"
	"slices"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"vaiven/internal/core/split"
)

// Apart is one of several fronts that has another share in force than the first.
type Apart struct {
	Front string      `json:"front"`
	Share split.Share `json:"share"` // on green
}

// Log is an access log that a front counts by.
type Log struct {
	Front  string `json:"front,omitempty"` // whose it is, of several
	Probes int64  `json:"probes"`          // requests of the prober that it has told of, since it was asked first
}

// Unread is one of several fronts that could not be read: what a reading has of it is what it had last.
type Unread struct {
	Front string `json:"front"`
	Said  string `json:"said"` // why
}

// Sends is the largest part of the requests that any member of the front sends to a side.
func (f Front) Sends(side split.Side) split.Share { return Sends(f.Split.Share, f.Apart, side) }

// Sends is the largest part of the requests that any of several fronts sends to a side: the first has a share, and
// some another.
func Sends(share split.Share, apart []Apart, side split.Side) split.Share {
	most := share.Of(side)
	for _, a := range apart {
		most = max(most, a.Share.Of(side))
	}
	return most
}

// Whole is an error that names a member that could not be read, and nil if all could.
func (f Front) Whole() error {
	if len(f.Unread) == 0 {
		return nil
	}
	return fmt.Errorf("%s cannot be read: %s", f.Unread[0].Front, f.Unread[0].Said)
}

// Split is the division of requests in force.
type Split struct {
	Revision uint64      `json:"revision"` // grows with every change
	Share    split.Share `json:"share"`    // on green
	Since    time.Time   `json:"since"`
}

// Order is the last going home that a front was told. It holds until a person lets
// requests out again: a change that was begun under an earlier order is refused. The
// zero value says that there was none.
type Order struct {
	Generation uint64 `json:"generation"` // grows with every going home
	// grows whenever a keeper goes on for one that did not hand over; a change of an earlier term is refused
	Term uint64     `json:"term,omitempty"`
	Side split.Side `json:"side"` // where all requests went
	At   time.Time  `json:"at,omitzero"`
	By   string     `json:"by,omitempty"`
	Why  string     `json:"why,omitempty"`
	// identity of the state folder of whoever said so; "" if it is not known
	Folder string `json:"folder,omitempty"`
	// the other side was left with it, and is closed: nothing is sent there until it is opened again
	Closed bool `json:"closed,omitempty"`
}

// Closes reports whether a side is closed.
func (o Order) Closes(side split.Side) bool { return o.Closed && side == o.Side.Other() }

// Server is one instance as a front has it: an address behind a side.
type Server struct {
	Name    string `json:"name"`
	Address string `json:"address"` // host:port
	Version string `json:"version"`
	Out     bool   `json:"out,omitempty"` // gets no new requests while others can take them
	// of a control group: together these get as many requests as the other side, and no more
	Control bool `json:"control,omitempty"`
}

// Front is what a front has and has counted, at one moment.
type Front struct {
	At     time.Time `json:"at"`
	Split  Split     `json:"split"`
	Order  Order     `json:"order,omitzero"`
	Sides  [2]Side   `json:"sides"`            // by side
	Apart  []Apart   `json:"apart,omitempty"`  // members of several fronts that have another share
	Unread []Unread  `json:"unread,omitempty"` // members of several fronts that could not be read
	// something the operator should know, such as a state file that cannot be written
	Notice string       `json:"notice,omitempty"`
	Tells  Capabilities `json:"tells"`
	Blind  string       `json:"blind,omitempty"` // why what it counts is not known just now, "" if it is

	// Sessions says that clients may keep a side which has no share any more, by sessions.
	Sessions bool `json:"sessions,omitempty"`
	// Forgot says that it had forgotten its instances since it was read before, and was told them again: what it
	// answered meanwhile was nobody's.
	Forgot bool `json:"forgot,omitempty"`
	// Own is how many requests the front has answered itself with an error, since it started, without having assigned
	// them to a side.
	Own int64 `json:"own,omitempty"`
	// Logs are the access logs that it counts by.
	Logs []Log `json:"logs,omitempty"`
	// Refused is what the front refused or cut off since it started, by reason, where it says.
	Refused map[string]int64 `json:"refused,omitempty"`

	Held int64 `json:"held,omitempty"` // messages that wait for nobody: they are kept until somebody lets them go on

	// Remembers is how long those who ask may go by what was before, after a change: names are remembered. 0 where a
	// change is in force for all of them at once.
	Remembers time.Duration `json:"remembers,omitzero"`
	// Everywhere is until when somebody may still go by what was before the last change.
	Everywhere time.Time `json:"everywhere,omitzero"`
	// Eased is from when on a change is remembered for no longer than Remembers: that was longer a while ago.
	Eased time.Time `json:"eased,omitzero"`
}

// Capabilities are what a kind of front can tell at all of the requests that it carries.
type Capabilities struct {
	Counts bool `json:"counts"`          // how many each instance answered, and how
	Times  bool `json:"times"`           // how long answers took
	Means  bool `json:"means,omitempty"` // how long they took on average
	Waits  bool `json:"waits"`           // how long open requests have waited
	// which clients turned bad, where the key keeps clients together
	Clients bool `json:"clients,omitempty"`
	// the prober meets both sides there: it has a new cookie or header each time, and one address
	Both bool `json:"both"`
}

// And is what both can tell.
func (t Capabilities) And(other Capabilities) Capabilities {
	return Capabilities{Counts: t.Counts && other.Counts, Times: t.Times && other.Times, Means: t.Means &&
		other.Means, Waits: t.Waits && other.Waits, Both: t.Both && other.Both, Clients: t.Clients && other.Clients}
}

// Side is one side as the front has it.
type Side struct {
	Open      int64   `json:"open"` // requests being answered now
	Lost      int64   `json:"lost"` // requests that got no instance's answer, since the front started
	Instances []Count `json:"instances"`
	Clients   Clients `json:"clients,omitzero"`
	// how many sessions have kept somebody on it lately ([KeptFor]), where the front tells them apart
	Kept  int64  `json:"kept,omitempty"`
	Queue *Queue `json:"queue,omitempty"` // that its instances take work from, where they are not asked but ask
}

// KeptFor is for how long a session counts that was not used.
const KeptFor = 10 * time.Minute

// Grouped reports whether some of its instances are a control group.
func (s Side) Grouped() bool {
	return slices.ContainsFunc(s.Instances, func(c Count) bool { return c.Control })
}

// Count is what one instance answered since the front knows it.
type Count struct {
	Server
	// what it has answered is not known just now: what follows says nothing
	Untold   bool     `json:"untold,omitempty"`
	Open     int64    `json:"open"`
	Requests int64    `json:"requests"`         // answered, with any status
	Status   [6]int64 `json:"status"`           // by class; [5] is 500 to 599, [0] is unused
	Failures int64    `json:"failures"`         // transport: no connection, or broken off
	Left     int64    `json:"left,omitempty"`   // clients that gave up before an answer began
	Probes   int64    `json:"probes,omitempty"` // the prober's, beside Requests, where the front knows them
	// of Requests, those that ended before the length that they named, where the front counts these apart and not as
	// lost
	Cut int64 `json:"cut,omitempty"`
	// open requests without an answer, that have waited for longer than each of [Waits]; none where the front does not
	// tell
	Waiting []int64 `json:"waiting,omitempty"`
	// what the answers took in all, to the first byte, where the front tells only what they took on average
	Took time.Duration `json:"took,omitempty"`
	// how long it has had the oldest of the messages that it took from a queue and is not done with
	Oldest time.Duration `json:"oldest,omitempty"`
	// histogram of times to the first byte in µs, HdrHistogram V2 compressed
	Latency []byte `json:"latency,omitempty"`
}

// Waits are the times that a front tells of its open requests how many have waited longer.
var Waits = []time.Duration{
	100 * time.Millisecond, 250 * time.Millisecond, 500 * time.Millisecond, time.Second, 2 * time.Second,
	5 * time.Second, 10 * time.Second, 30 * time.Second,
}

// Longer is how many open requests have waited for longer than a time: for that of [Waits]
// which is no shorter, so that all of those counted have.
func (c Count) Longer(than time.Duration) int64 {
	for n, wait := range Waits {
		if wait >= than && n < len(c.Waiting) {
			return c.Waiting[n]
		}
	}
	return 0
}

// Histogram is the latency distribution in microseconds; an empty one if there
// is none.
func (c Count) Histogram() (*hdrhistogram.Histogram, error) { return Decode(c.Latency, c.Name) }

// Decode is a latency histogram as [Encode] writes it; an empty one of nothing. An error says
// whose it is.
func Decode(data []byte, whose string) (*hdrhistogram.Histogram, error) {
	if len(data) == 0 {
		return NewHistogram(), nil
	}
	h, err := hdrhistogram.Decode(data)
	if err != nil {
		return nil, fmt.Errorf("latencies of %s: %w", whose, err)
	}
	return h, nil
}

// Encode is a latency histogram as a [Count] has it.
func Encode(h *hdrhistogram.Histogram) []byte {
	data, _ := h.Encode(hdrhistogram.V2CompressedEncodingCookieBase) // to memory: cannot fail
	return data
}

// NewHistogram makes an empty latency histogram: 1 µs to 60 s, two significant
// figures.
func NewHistogram() *hdrhistogram.Histogram { return hdrhistogram.New(1, 60_000_000, 2) }

// Record counts a time in a latency histogram; one beyond its range counts as its
// end.
func Record(h *hdrhistogram.Histogram, took time.Duration) {
	_ = h.RecordValue(min(max(took.Microseconds(), 1), h.HighestTrackableValue())) // within the range: cannot fail
}
