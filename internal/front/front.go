package front

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"vaiven/internal/core/split"
)

// Errors that callers branch on.
var (
	// ErrUnreachable is wrapped when the front does not answer at all.
	ErrUnreachable = errors.New("front does not answer")
	// ErrChanged is wrapped when the split has another revision than expected:
	// somebody else changed it. Nothing was done.
	ErrChanged = errors.New("front was changed by somebody else")
	// ErrRefused is wrapped when the front will not do what was asked, because
	// requests would be lost. Nothing was done.
	ErrRefused = errors.New("front refuses")
)

// Driver is what every front can do. Its errors wrap those of this package.
type Driver interface {
	// Read is the split in force and the counts so far.
	Read(context.Context) (Reading, error)
	// Plan is what Set would do; nothing is done.
	Plan(context.Context, split.Share) (Change, error)
	// Set puts a share on green in force, if the split still has the revision.
	Set(ctx context.Context, share split.Share, revision uint64) (Split, error)
	// Home puts a share on green in force whatever the split is.
	Home(ctx context.Context, share split.Share) (Split, error)
	// SetInstances replaces the instances of a side.
	SetInstances(context.Context, split.Side, []Instance) error
	// Drain gives up a side without a share, and says how many requests it is
	// still answering.
	Drain(context.Context, split.Side) (open int64, err error)
}

// Split is the division of requests in force.
type Split struct {
	Revision uint64      `json:"revision"` // grows with every change
	Share    split.Share `json:"share"`    // on green
	Since    time.Time   `json:"since"`
	Did      []string    `json:"did,omitempty"` // of a change: the commands carried out, or lines of the file's difference
}

// Instance is one address behind a side.
type Instance struct {
	Name    string `json:"name"`
	Address string `json:"address"` // host:port
	Version string `json:"version"`
	Out     bool   `json:"out,omitempty"` // gets no new requests while others can take them
}

// Reading is what the front has and has counted, at one moment.
type Reading struct {
	At     time.Time `json:"at"`
	Split  Split     `json:"split"`
	Sides  [2]Side   `json:"sides"`            // by side
	Notice string    `json:"notice,omitempty"` // something the operator should know, such as a state file that cannot be written
}

// Side is one side as the front has it.
type Side struct {
	Draining  bool    `json:"draining,omitempty"`
	Open      int64   `json:"open"` // requests being answered now
	Lost      int64   `json:"lost"` // requests that got no instance's answer, since the front started
	Instances []Count `json:"instances"`
}

// Count is what one instance answered since the front knows it.
type Count struct {
	Instance
	Open     int64    `json:"open"`
	Requests int64    `json:"requests"`          // answered, with any status
	Status   [6]int64 `json:"status"`            // by class; [5] is 500 to 599, [0] is unused
	Failures int64    `json:"failures"`          // transport: no connection, or broken off
	Latency  []byte   `json:"latency,omitempty"` // histogram of times to the first byte in µs, HdrHistogram V2 compressed
}

// Histogram is the latency distribution in microseconds; an empty one if there
// is none.
func (c Count) Histogram() (*hdrhistogram.Histogram, error) {
	if len(c.Latency) == 0 {
		return NewHistogram(), nil
	}
	h, err := hdrhistogram.Decode(c.Latency)
	if err != nil {
		return nil, fmt.Errorf("latencies of %s: %w", c.Name, err)
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

// Headers between the prober, a front that names its sides, and the instances.
const (
	ProbeHeader    = "Vaiven-Probe"    // request: the secret; the instance sees only that it is a probe
	SideHeader     = "Vaiven-Side"     // answer to a probe: blue or green
	InstanceHeader = "Vaiven-Instance" // answer to a probe: the instance's name
	VersionHeader  = "Vaiven-Version"  // answer to a probe: the instance's version
	LostHeader     = "Vaiven-Lost"     // answer to a probe: why no instance answered
)
