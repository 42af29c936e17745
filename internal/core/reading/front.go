package reading

import (
	"fmt"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"

	"vaiven/internal/core/split"
)

// Split is the division of requests in force.
type Split struct {
	Revision uint64      `json:"revision"` // grows with every change
	Share    split.Share `json:"share"`    // on green
	Since    time.Time   `json:"since"`
	Did      []string    `json:"did,omitempty"` // of a change: the commands carried out, or lines of the file's difference
}

// Server is one instance as a front has it: an address behind a side.
type Server struct {
	Name    string `json:"name"`
	Address string `json:"address"` // host:port
	Version string `json:"version"`
	Out     bool   `json:"out,omitempty"` // gets no new requests while others can take them
}

// Front is what a front has and has counted, at one moment.
type Front struct {
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
	Server
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
