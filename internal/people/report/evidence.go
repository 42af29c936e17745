package report

import (
	"fmt"
	"math"
	"strings"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/people/drawing"
	"vaiven/internal/words"
)

// Evidence draws what a guard has come to into a file that ends in .svg or .pdf: time goes down; in the middle is by
// how much the new side is worse, with its range, against what the plan allows; beside it what each side answered,
// and the evidence with the bound at which the guard trips. It can be read without colours.
func Evidence(file, service string, target split.Side, g guard.Story) error {
	if _, err := drawing.Format(file); err != nil {
		return err
	}
	rows := together(g, 34)
	if len(rows) < 2 {
		return fmt.Errorf("%s: %s has come to nothing yet that could be drawn", file, g.Guard)
	}
	what := fmt.Sprintf("in %s", g.Unit)
	if !g.Watch.Rates() {
		what = g.Figure
	}
	last := rows[len(rows)-1]
	says := fmt.Sprintf("%s Evidence that it is worse by more than that: %s; the guard trips at %s.", differs(g, last),
		words.Odds(last.Evidence), words.Odds(last.Needed))
	s, top := page(fmt.Sprintf("%s: %s since %s, %s", service, g.Guard, rows[0].At.Format("2006-01-02 15:04:05"), what),
		says, "Time goes down. "+says)
	const (
		left, right           = 190.0, 560.0
		proofLeft, proofRight = 660.0, 800.0
	)
	top += 26
	bottom := pageHeight - margin - 18
	low, high := g.Reach(rows)
	across := drawing.Scale{Low: low, High: high, From: left, To: right}
	for _, v := range across.Ticks(6) {
		hair(s, drawing.Point{X: across.Of(v), Y: top}, drawing.Point{X: across.Of(v), Y: bottom})
		s.Text(across.Of(v), top-5, measure(g, v), at(beside, drawing.Middle))
	}
	s.Text(left, top-18, fmt.Sprintf("%v against %v: further right is worse", target, target.Other()), beside)
	bound := drawing.Stroke{Ink: drawing.Red, Width: 1.4}
	zero := drawing.Stroke{Ink: drawing.Black, Width: 0.8}
	s.Line(zero, drawing.Point{X: across.Of(0), Y: top}, drawing.Point{X: across.Of(0), Y: bottom})
	s.Line(bound, drawing.Point{X: across.Of(g.Margin), Y: top}, drawing.Point{X: across.Of(g.Margin), Y: bottom})

	deep := 1.0
	for _, r := range rows {
		deep = max(deep, r.Needed+0.5, min(r.Evidence, 12))
	}
	proof := drawing.Scale{Low: -3, High: deep, From: proofLeft, To: proofRight}
	s.Text(proofLeft, top-18, "evidence that it is worse", beside)
	s.Line(zero, drawing.Point{X: proof.Of(0), Y: top}, drawing.Point{X: proof.Of(0), Y: bottom})
	s.Text(proof.Of(0), top-5, "1:1", at(beside, drawing.Middle))
	needed := proof.Of(last.Needed)
	s.Line(bound, drawing.Point{X: needed, Y: top}, drawing.Point{X: needed, Y: bottom})
	s.Text(needed, top-5, words.Odds(last.Needed), at(beside, drawing.Middle))
	s.Text(margin, top-5, "time", beside)
	if g.Watch.Rates() {
		s.Text(left-14, top-5, target.Other().String(), at(beside, drawing.End))
		s.Text(right+14, top-5, target.String(), beside)
	}
	height := (bottom - top) / float64(len(rows))
	var line []drawing.Point
	for n, r := range rows {
		y := top + (float64(n)+0.5)*height
		if every := int(math.Ceil(12 / height)); n%every == 0 {
			s.Text(margin, y+3, r.At.Format("15:04:05"), beside)
			if g.Watch.Rates() {
				s.Text(left-14, y+3, answered(r.Live), at(beside, drawing.End))
				s.Text(right+14, y+3, answered(r.Trial), beside)
			}
		}
		ink := drawing.Light
		if r.Range.Low > g.Margin {
			ink = drawing.Red
		}
		if r.Range != (evidence.Interval{}) {
			from, to := across.Of(r.Range.Low), across.Of(r.Range.High)
			s.Box(from, y-height*0.3, max(to-from, 1), height*0.6, ink)
		}
		s.Mark(across.Of(r.Difference), y, min(height*0.3, 3), drawing.Stroke{Ink: drawing.Black, Width: 1},
			&drawing.White)
		line = append(line, drawing.Point{X: proof.Of(min(max(r.Evidence, -3), 12)), Y: y})
	}
	s.Line(drawing.Stroke{Ink: drawing.Black, Width: 1.6}, line...)
	s.Text(margin, bottom+12,
		"bar: the difference with 95 % certainty, dark where it is worse than the plan allows, which is the red line", beside)
	return s.Save(file)
}

// together are a guard's moments, so many together that there are at most so many rows.
func together(g guard.Story, most int) (rows []guard.Point) {
	each := max((len(g.Points)+most-1)/most, 1)
	for n := 0; n < len(g.Points); n += each {
		rows = append(rows, guard.Join(g.Points[n:min(n+each, len(g.Points))]))
	}
	return rows
}

// measure is a difference in the guard's unit.
func measure(g guard.Story, v float64) string {
	if !g.Watch.Rates() && g.Watch != plan.Fewer {
		if v == 0 {
			return "0"
		}
		return words.Measure(g.Watch, g.Figure, v)
	}
	return strings.Replace(decimal(100*v)+" %", "-", "−", 1)
}

// differs says how the sides differ.
func differs(g guard.Story, r guard.Point) string {
	text := "The new side differs by " + measure(g, r.Difference)
	if r.Range != (evidence.Interval{}) {
		text += fmt.Sprintf(" (%s to %s)", measure(g, r.Range.Low), measure(g, r.Range.High))
	}
	return text + fmt.Sprintf("; %s is allowed.", measure(g, g.Margin))
}

// answered is how many of how many were bad.
func answered(c evidence.Count) string {
	if c.Of == 0 {
		return "nothing"
	}
	return fmt.Sprintf("%d of %d", c.Bad, c.Of)
}
