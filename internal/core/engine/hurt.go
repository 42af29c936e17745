package engine

import (
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// Hurt is how many requests come to nothing good just now.
type Hurt struct {
	Sides   [2]Ache // by side
	Lost    int     // of the prober's last requests, that got no answer
	LastWhy string  // why the last of them was lost
}

// Ache is what fails on one side.
type Ache struct {
	Failing float64 `json:"failing"` // requests a second
	Rate    float64 `json:"rate"`    // all requests a second
}

// Total is both sides together.
func (h Hurt) Total() Ache {
	return Ache{h.Sides[0].Failing + h.Sides[1].Failing, h.Sides[0].Rate + h.Sides[1].Rate}
}

// When users are hurt: so much of what a side answers fails, so often; or so many of the
// prober's requests were lost lately.
const (
	hurtPart  = 0.05
	HurtLeast = 3
	hurtSpan  = 5 * time.Second
)

// Hurt tells how many requests fail now, and whether they are so many that users notice.
// What was read too long ago says nothing of now.
func (v View) Hurt(now time.Time) (Hurt, bool) {
	var h Hurt
	hurts := false
	if v.Front.Fresh(now) {
		for _, side := range split.Sides {
			f := v.Sides[side].Figures
			bad := f.FailingCount()
			if !v.Front.sends(side, now) { // nobody is hurt by a side that gets nothing
				continue
			}
			if f.Span <= 0 || bad.Bad == 0 {
				h.Sides[side].Rate = f.Rate
				continue
			}
			h.Sides[side] = Ache{Failing: float64(bad.Bad) / f.Span.Seconds(),
				Rate: max(f.Rate, float64(bad.Of)/f.Span.Seconds())}
			hurts = hurts || bad.Bad >= HurtLeast && bad.Rate() >= hurtPart
		}
	}
	for _, b := range v.Door.Bad {
		if lost := b.Kind == reading.LostAnswer || b.Kind == reading.Unreached; lost && now.Sub(b.At) <= hurtSpan {
			h.Lost++
			h.LastWhy = b.Why
		}
	}
	return h, hurts || h.Lost >= HurtLeast || len(v.WaysOut) > 0
}

// sends reports whether a side gets requests of some front, or of clients that still use an old DNS answer.
func (f FrontView) sends(side split.Side, now time.Time) bool {
	return reading.Sends(f.Split.Share, f.Apart, side) > 0 || f.Everywhere.After(now)
}

// FailedSince is how many requests the front has counted as failing since a time.
func (v View) FailedSince(at time.Time) int64 {
	var n int64
	for i := len(v.Track) - 1; i >= 0 && !v.Track[i].At.Before(at); i-- {
		n += v.Track[i].Failing
	}
	return n
}

// Stale is how many times its interval a reading may be old until it says nothing of now.
const Stale = 10

// Fresh reports whether the front was read lately.
func (f FrontView) Fresh(now time.Time) bool {
	return !f.At.IsZero() && now.Sub(f.At) <= Stale*max(f.Every, 100*time.Millisecond)
}

// Fresh reports whether the side's instances were read lately.
func (s SideView) Fresh(now time.Time) bool {
	return !s.At.IsZero() && now.Sub(s.At) <= Stale*max(s.Every, 100*time.Millisecond)
}
