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
	return fmt.Sprintf("%s, %s (%s)", Chance(h.Found), Requests(h.Middle), Requests(h.Most))
}

// Chance is one of [forecast.Runs]: nothing is certain by these.
func Chance(p float64) string {
	switch {
	case p >= 1:
		return "surely"
	case p <= 0:
		return "never"
	}
	return fmt.Sprintf("%.0f %%", 100*p)
}

// Requests is a number of requests with about three digits: "17", "1 240", "12 k".
func Requests(n float64) string {
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

// Costs is what a fault of one of [forecast.Faults], there from the first request, costs by a route, and all at once.
func Costs(w forecast.Weighed, fault int) string {
	return fmt.Sprintf("a fault of %s costs ~%s requests on this route, ~%s all at once", Percent(forecast.Faults[fault]),
		Requests(w.Whole[fault].Middle), Requests(w.AtOnce[fault].Middle))
}

// Harm is what a bad release is to be expected to cost by a route, and all at once: the mean over the faults that the
// plan does not allow.
func Harm(w forecast.Weighed) string {
	return fmt.Sprintf("a bad release costs ~%s requests on this route, ~%s all at once", Requests(w.Harm),
		Requests(w.HarmAtOnce))
}
