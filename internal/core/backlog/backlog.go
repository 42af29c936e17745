package backlog

import "time"

// Line is what has come into a queue over time. Messages leave in the order in which they came, so the oldest that is
// there is the one after as many as have gone, and it came when as many had come: the horizontal distance between the
// curves of arrivals and departures (Newell, Applications of Queueing Theory, 1982, chapter 1). Between two readings
// messages are taken to have come evenly. What is there at the first reading is taken to have come then.
//
// How many are there is known at once, and how many have come may be told late. By then fewer seem to have gone than
// have, so what has gone is the most that any reading came to: how long the oldest has been there is off by no more
// than twice what counts are late. The zero value is ready. It is not safe for concurrent use.
type Line struct {
	points []point // of arrivals, oldest first; the first is at or before the oldest message that is there
	gone   int64
	there  int64
	told   int64 // to have come
}

// point is how many had come at a time.
type point struct {
	at   time.Time
	came int64
}

// pointsMost bounds what is remembered; beyond it the curve becomes coarser at its old end.
const pointsMost = 4096

// Add takes in how many messages are told to have come since counting began, and how many are there. A count that is
// lower than before, and a clock that was put back, begin anew.
func (l *Line) Add(at time.Time, came, there int64) {
	if n := len(l.points); n > 0 && (came < l.told || at.Before(l.points[n-1].at)) {
		*l = Line{}
	}
	n := len(l.points)
	if gone := came - there; n == 0 || gone > l.gone {
		l.gone = gone
	}
	l.told, l.there = came, there
	came = max(came, l.gone+there)
	if n > 0 {
		came = max(came, l.points[n-1].came)
	}
	switch {
	case n > 1 && l.points[n-1].came == came && l.points[n-2].came == came:
		l.points[n-1].at = at // nothing has come
	default:
		l.points = append(l.points, point{at, came})
	}
	for len(l.points) > 1 && l.points[1].came <= l.gone {
		l.points = l.points[1:]
	}
	if len(l.points) > pointsMost {
		l.points = append(l.points[:1], l.points[2:]...)
	}
}

// Oldest is how long the oldest message has been there, 0 if none is.
func (l *Line) Oldest(now time.Time) time.Duration {
	if l.there <= 0 {
		return 0
	}
	number := l.gone + 1
	for n, p := range l.points {
		if p.came < number {
			continue
		}
		if n == 0 {
			return now.Sub(p.at)
		}
		before := l.points[n-1]
		part := float64(number-before.came) / float64(p.came-before.came)
		return now.Sub(before.at.Add(time.Duration(part * float64(p.at.Sub(before.at)))))
	}
	return 0
}
