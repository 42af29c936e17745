package evidence

import "math"

// Ceiling is what the rate behind counts of several times, one after the other, is held to be at
// most when it is to be compared with what comes later: the upper end of what all of them
// together allow, with a chance of 1 % to be wrong, and twice the deviation by which the rate
// itself moved from one time to the next beyond chance (DerSimonian and Laird, "Meta-analysis in
// clinical trials", Controlled Clinical Trials 7, 1986).
func Ceiling(times []Count) float64 {
	var all Count
	for _, c := range times {
		all = all.Plus(c)
	}
	if all.Of == 0 {
		return 1
	}
	p := (float64(all.Bad) + 0.5) / (float64(all.Of) + 1)
	v := p * (1 - p) // variance of one answer
	var q, sum, squares float64
	used := 0
	for _, c := range times {
		if c.Of == 0 {
			continue
		}
		weight := float64(c.Of) / v
		q += weight * (c.Rate() - p) * (c.Rate() - p)
		sum += weight
		squares += weight * weight
		used++
	}
	moved := 0.0
	if rest := sum - squares/sum; used > 1 && rest > 0 {
		moved = math.Sqrt(max(0, (q-float64(used-1))/rest))
	}
	return min(1, Exact(all, 0.02).High+2*moved)
}
