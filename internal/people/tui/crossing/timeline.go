package crossing

import "time"

// span is the time that one row of the past stands for.
type span struct {
	from, to time.Time
	whole    bool // a full step: neither cut off by now nor by a change of steps
}

// steps are the times that a row of the past may stand for.
var steps = []time.Duration{
	time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 15 * time.Second, 20 * time.Second,
	30 * time.Second,
	time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 30 * time.Minute, time.Hour, 6 * time.Hour,
	24 * time.Hour,
}

// lead is how much of the time before the crossing is shown.
const lead = 20 * time.Second

// step is the least of the steps by which a number of rows reaches over a time, and is not
// less than another.
func step(over time.Duration, rows int, least time.Duration) time.Duration {
	for _, s := range steps {
		if s >= least && s*time.Duration(max(rows, 1)) >= over {
			return s
		}
	}
	return steps[len(steps)-1]
}

// timeline divides the past into rows, the newest first. The running leg gets half of them,
// so that a row means less time the nearer it is to now; the rest reaches back to the begin
// of the crossing. Rows begin at round times, so that what is in a finished one stays.
func timeline(rows int, now, leg, begun time.Time) []span {
	if rows < 1 {
		return nil
	}
	var list []span
	to := now
	divide := func(step time.Duration, until time.Time, most int) {
		for len(list) < most && to.After(until) {
			from := to.Truncate(step)
			if !from.Before(to) {
				from = to.Add(-step)
			}
			list = append(list, span{from, to, to.Sub(from) == step})
			to = from
		}
	}
	half := (rows + 1) / 2
	near := step(now.Sub(leg), half-1, 0)
	divide(near, leg, half)
	begin := begun.Add(-lead)
	far := step(to.Sub(begin), rows-len(list)-1, near)
	divide(far, begin, rows)
	return list
}
