package report

import (
	"fmt"
	"math"
	"strings"
	"time"

	"vaiven/internal/core/forecast"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/people/drawing"
	"vaiven/internal/words"
)

// The columns of a route's drawing, from the left.
const (
	oldRight   = 132.0 // where the words on the old side end
	railLeft   = 146.0
	railRight  = 316.0
	newLeft    = 330.0
	foundLeft  = 446.0
	foundRight = 510.0
	costLeft   = 560.0
	costRight  = 770.0
)

// Route draws a route as it was weighed into a file that ends in .svg or .pdf: the new side's share leg by leg, and
// beside each leg how likely a fault of the size that outlooks are reckoned for is found on it, and how many requests
// fail until then: a bar for the middle, a line to what nine of ten cases stay below. It can be read without colours.
func Route(file, service string, by forecast.Question, w forecast.Weighed) error {
	if _, err := drawing.Format(file); err != nil {
		return err
	}
	fault, target := by.Common(), by.Target
	s, top := page(service+": the route, and what a bad release would cost on it", sentence(words.Costs(w, fault)),
		about(w, target, fault))
	head := at(beside, drawing.Begin)
	s.Text(oldRight, top, fmt.Sprintf("%v carries", target.Other()), at(beside, drawing.End))
	s.Text(newLeft, top, fmt.Sprintf("%v carries", target), head)
	s.Text(foundLeft, top, "found", head)
	s.Text(costLeft, top, fmt.Sprintf("requests that fail before a rollback, with a fault of %s",
		words.Percent(forecast.Faults[fault])), head)
	top += 22
	share := drawing.Scale{High: float64(split.Whole), From: railLeft, To: railRight}
	for _, v := range []split.Share{0, split.Whole / 2, split.Whole} {
		s.Text(share.Of(float64(v)), top-6, v.String(), at(beside, drawing.Middle))
	}
	rows := len(w.Legs) + 2
	band := min((pageHeight-margin-top-20)/float64(rows), 58)
	bottom := top + band*float64(rows)

	most := 1.0
	for _, h := range hits(w, fault) {
		most = max(most, h.Most)
	}
	cost := drawing.Scale{High: most, From: costLeft, To: costRight}
	for _, v := range cost.Ticks(5) {
		hair(s, drawing.Point{X: cost.Of(v), Y: top}, drawing.Point{X: cost.Of(v), Y: bottom})
		s.Text(cost.Of(v), top-6, decimal(v), at(beside, drawing.Middle))
	}
	for _, v := range []float64{0, 0.5, 1} {
		x := share.Of(v * float64(split.Whole))
		hair(s, drawing.Point{X: x, Y: top}, drawing.Point{X: x, Y: top + band*float64(len(w.Legs))})
	}
	before := split.Share(0)
	for n, l := range w.Legs {
		y := top + float64(n)*band
		hair(s, drawing.Point{X: margin, Y: y}, drawing.Point{X: costRight, Y: y})
		part := l.Leg.Part
		from, to := share.Of(float64(before)), share.Of(float64(part))
		line := drawing.Stroke{Ink: inks[target], Width: 2}
		s.Line(drawing.Stroke{Ink: inks[target], Width: 2, Dash: 4}, drawing.Point{X: from, Y: y}, drawing.Point{X: to,
			Y: y})
		s.Line(line, drawing.Point{X: to, Y: y}, drawing.Point{X: to, Y: y + band})
		s.Mark(to, y, 3.5, line, &drawing.White)
		s.Text(oldRight, y+15, (split.Whole - part).String(), at(plain, drawing.End))
		text := part.String()
		if l.Load > 0 {
			text += fmt.Sprintf(", %s load", words.Percent(l.Load))
		}
		s.Text(newLeft, y+15, text, plain)
		s.Text(newLeft, y+28, stay(l, n == len(w.Legs)-1), beside)
		if l.Leg.Ask {
			s.Text(margin, y+15, "asks first", beside)
		}
		hit(s, y, l.Hits[fault], cost, inks[target])
		before = part
	}
	for n, o := range []struct {
		name string
		hit  forecast.Hit
		ink  drawing.Ink
	}{{"the whole route, bad from its first request", w.Whole[fault], inks[target]},
		{"everything at once", w.AtOnce[fault], drawing.Grey}} {
		y := top + float64(len(w.Legs)+n)*band
		hair(s, drawing.Point{X: margin, Y: y}, drawing.Point{X: costRight, Y: y})
		s.Text(railLeft, y+15, o.name, plain)
		hit(s, y, o.hit, cost, o.ink)
	}
	hair(s, drawing.Point{X: margin, Y: bottom}, drawing.Point{X: costRight, Y: bottom})
	s.Height = bottom + 14 + margin
	s.Text(costLeft, bottom+14, "bar: the middle; line: nine of ten cases stay below its end", beside)
	return s.Save(file)
}

// hits are all that are drawn.
func hits(w forecast.Weighed, fault int) []forecast.Hit {
	list := []forecast.Hit{w.Whole[fault], w.AtOnce[fault]}
	for _, l := range w.Legs {
		list = append(list, l.Hits[fault])
	}
	return list
}

// hit draws how likely something is found, and what it costs until then.
func hit(s *drawing.Sheet, y float64, h forecast.Hit, cost drawing.Scale, ink drawing.Ink) {
	found := drawing.Scale{High: 1, From: foundLeft, To: foundRight}
	s.Box(foundLeft, y+8, foundRight-foundLeft, 9, drawing.Pale)
	s.Box(foundLeft, y+8, found.Of(h.Found)-foundLeft, 9, drawing.Grey)
	s.Text(foundRight+6, y+16, words.Chance(h.Found), beside)
	end, middle := cost.Of(h.Most), cost.Of(h.Middle)
	s.Box(costLeft, y+6, max(middle-costLeft, 0.8), 12, ink)
	whisker := drawing.Stroke{Ink: drawing.Black, Width: 1}
	s.Line(whisker, drawing.Point{X: middle, Y: y + 12}, drawing.Point{X: end, Y: y + 12})
	s.Line(whisker, drawing.Point{X: end, Y: y + 8}, drawing.Point{X: end, Y: y + 16})
	s.Text(end+6, y+16, decimal(math.Round(h.Middle)), plain)
}

// stay is how long a leg lasts.
func stay(l forecast.LegOutlook, last bool) string {
	lasts := time.Duration(l.Seconds * float64(time.Second)).Round(time.Second)
	if last {
		return "kept for " + route.Short(lasts)
	}
	return strings.TrimSpace(l.Leg.Terms())
}

// about says what a route's drawing shows.
func about(w forecast.Weighed, target split.Side, fault int) string {
	text := fmt.Sprintf("The share of %v leg by leg, and what a fault of %s of its answers costs.", target,
		words.Percent(forecast.Faults[fault]))
	for _, l := range w.Legs {
		h := l.Hits[fault]
		text += fmt.Sprintf(" At %v: found with a chance of %s, %s requests fail in the middle, %s in nine of ten cases.",
			l.Leg.Part, words.Chance(h.Found), decimal(math.Round(h.Middle)), decimal(math.Round(h.Most)))
	}
	return text + fmt.Sprintf(" Everything at once: %s requests fail in the middle.",
		decimal(math.Round(w.AtOnce[fault].Middle)))
}
