package words

import (
	"fmt"
	"strings"

	"vaiven/internal/core/forecast"
	"vaiven/internal/core/route"
)

// Legs is a route in one line.
func Legs(r route.Route) string {
	var list []string
	for _, l := range r {
		list = append(list, l.String())
	}
	return strings.Join(list, "; ")
}

// Hit is what a fault does until it is found: the chance of that, how many requests fail in the middle, and how
// many in nine of ten cases at most.
func Hit(h forecast.Hit) string {
	return fmt.Sprintf("%s, %s (%s)", chance(h.Found), number(h.Middle), number(h.Most))
}

// chance is one of [forecast.Runs]: nothing is certain by these.
func chance(p float64) string {
	switch {
	case p >= 1:
		return "surely"
	case p <= 0:
		return "never"
	}
	return fmt.Sprintf("%.0f %%", 100*p)
}

// number is a number of requests with about three digits: "17", "1 240", "12 k".
func number(n float64) string {
	switch {
	case n >= 1e6:
		return fmt.Sprintf("%.1f M", n/1e6)
	case n >= 1e4:
		return fmt.Sprintf("%.0f k", n/1e3)
	case n >= 1e3:
		return fmt.Sprintf("%.1f k", n/1e3)
	}
	return fmt.Sprintf("%.0f", n)
}

// Harm is what a bad release is to be expected to cost by a route, and all at once.
func Harm(w forecast.Weighed) string {
	return fmt.Sprintf("a bad release costs ~%s requests on this route, and ~%s all at once (the mean over the "+
		"faults that the plan does not allow)", number(w.Harm), number(w.HarmAtOnce))
}
