package haproxy

import (
	"math"
	"time"
)

// window is over how many requests HAProxy says what they took on average (TIME_STATS_SAMPLES of its source; its
// manual says 1024): with each, the sum that it keeps loses a 512th and gains what that one took. Until there were so
// many all count the same.
const window = 512

// took is what the answers of a server took in all, made of the averages that HAProxy shows: of the sum S that it
// keeps, S' = S·q^k + x₁·q^(k-1) + ... + x_k after k more answers, with q = 1 - 1/512, so that each of those took
// about (S' - S·q^k) divided by the sum of the powers. What is lost by whole milliseconds in one reading comes back
// with the next.
type took struct {
	answered int64   // by HAProxy's count
	sum      float64 // S, in ms
	all      float64 // ms
}

// add takes in how many were answered, and the average in ms, and returns what all took that have been answered since
// the first.
func (t *took) add(answered int64, average float64) time.Duration {
	now := took{answered: answered, sum: average * float64(min(answered, window)), all: t.all}
	if more := answered - t.answered; t.answered > 0 && more > 0 {
		full := min(answered, window) - min(t.answered, window) // that took nothing off the sum
		q := math.Pow(1-1.0/window, float64(more-full))
		now.all += float64(more) * (now.sum - t.sum*q) / (float64(full)*q + window*(1-q))
	} else if more == 0 {
		now.sum = t.sum
	}
	*t = now
	return time.Duration(t.all * float64(time.Millisecond))
}
