package raise

import (
	"slices"
	"time"
)

// Typical is the median of how long earlier instances took until they were
// healthy; 0 if there were none.
func Typical(earlier []time.Duration) time.Duration {
	if len(earlier) == 0 {
		return 0
	}
	sorted := slices.Clone(earlier)
	slices.Sort(sorted)
	middle := len(sorted) / 2
	if len(sorted)%2 == 1 {
		return sorted[middle]
	}
	return (sorted[middle-1] + sorted[middle]) / 2
}

// Overdue reports whether an instance has waited so much longer than typical that a
// person should look: three times as long, and at least five seconds more. Without
// a typical time nothing is called stuck; the plan's limit ends it.
func Overdue(waited, typical time.Duration) bool {
	return typical > 0 && waited > 3*typical && waited > typical+5*time.Second
}

// Overlap is since when both sides have been standing: the start of the first
// instance of the side that came later. It is false while only one side stands.
// The arguments are the starts of the sides' running instances.
func Overlap(blue, green []time.Time) (since time.Time, ok bool) {
	if len(blue) == 0 || len(green) == 0 {
		return time.Time{}, false
	}
	first := func(starts []time.Time) time.Time { return slices.MinFunc(starts, time.Time.Compare) }
	since = first(blue)
	if later := first(green); later.After(since) {
		since = later
	}
	return since, true
}

// Cost is what instances have cost by now, at a price per instance and hour, in
// the price's unit. What was started in the future costs nothing.
func Cost(price float64, starts []time.Time, now time.Time) float64 {
	hours := 0.0
	for _, at := range starts {
		hours += max(now.Sub(at), 0).Hours()
	}
	return price * hours
}
