package embedded

import (
	"context"
	"log/slog"
	"net/netip"
	"sync/atomic"
	"time"
)

// reason is why a request or a connection was denied, for the log and for what a front reads.
type reason int

const (
	unclearRequest reason = iota
	badRequest
	badMethod
	largeBody
	slowBody
	headsFull
	perClient
	noRoom
	madeRoom
	sideFull
	noInstance
	noHandshake
	notAnnounced
	strayBytes
	reasons // how many there are
)

// reasonNames are what the reasons are called in the log and in JSON.
var reasonNames = [reasons]string{
	unclearRequest: "unclear framing",
	badRequest:     "bad request",
	badMethod:      "method not allowed",
	largeBody:      "body too large",
	slowBody:       "client too slow",
	headsFull:      "too many large request headers",
	perClient:      "too many connections from one address",
	noRoom:         "no connections left",
	madeRoom:       "closed to make room",
	sideFull:       "too many requests waiting on one side",
	noInstance:     "no instance available",
	noHandshake:    "TLS handshake failed",
	notAnnounced:   "PROXY protocol header missing",
	strayBytes:     "instance sent unexpected bytes",
}

// denials counts what the front refused or cut off, by reason. It is safe for concurrent use, and
// nil counts nothing.
type denials struct {
	counts [reasons]atomic.Int64
	last   [reasons]atomic.Pointer[netip.Addr] // of whom
}

// count notes one, and whose it was.
func (r *denials) count(why reason, of netip.Addr) {
	if r == nil {
		return
	}
	r.counts[why].Add(1)
	r.last[why].Store(&of)
}

// absorb adds what another process counted.
func (r *denials) absorb(counts map[string]int64) {
	for why, name := range reasonNames {
		r.counts[why].Add(counts[name])
	}
}

// read is how many there were since the front started, by name.
func (r *denials) read() map[string]int64 {
	var m map[string]int64
	for why := range r.counts {
		if n := r.counts[why].Load(); n > 0 {
			if m == nil {
				m = map[string]int64{}
			}
			m[reasonNames[why]] = n
		}
	}
	return m
}

// run logs once a minute what there was in it, until the context ends, and then what is left.
func (r *denials) run(ctx context.Context) {
	ticker := time.NewTicker(time.Minute)
	defer ticker.Stop()
	var before [reasons]int64
	tell := func() {
		for why := range r.counts {
			n := r.counts[why].Load()
			if n == before[why] {
				continue
			}
			attrs := []any{"why", reasonNames[why], "count", n - before[why], "since_start", n}
			if last := r.last[why].Load(); last != nil && last.IsValid() {
				attrs = append(attrs, "last", *last)
			}
			slog.Warn("refused or cut off in the last minute", attrs...)
			before[why] = n
		}
	}
	for {
		select {
		case <-ticker.C:
			tell()
		case <-ctx.Done():
			tell()
			return
		}
	}
}
