package report

import (
	"fmt"
	"slices"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/split"
	"vaiven/internal/people/drawing"
	"vaiven/internal/words"
)

// trackArea is where a crossing's track is drawn.
type trackArea struct {
	left, right, top, bottom float64
	in                       *time.Location
}

// draw draws the track as the screen has it: blue to the left, green to the right, time down. A line is the share on
// green that the front has confirmed, dashes are what was asked of it until then, and marks are where requests went, as
// far as points of that time are known; beside them are the requests that failed, and what happened. It can be read
// without colours.
func (a trackArea) draw(s *drawing.Sheet, events []crossing.Event, points []engine.Point, target split.Side) {
	first, last := events[0].At, events[len(events)-1].At
	points = slices.DeleteFunc(slices.Clone(points),
		func(p engine.Point) bool { return p.At.Before(first) || p.At.After(last.Add(time.Minute)) })
	steps, _ := stepsOf(events)
	width := a.right - a.left
	timeRight, railLeft, railRight := a.left+44, a.left+62, a.left+width*0.42
	failsLeft, failsRight, saysLeft := railRight+20, railRight+58, railRight+72
	top, bottom := a.top+16, a.bottom-14 // the last things that happen are told below it
	share := drawing.Scale{High: 1, From: railLeft, To: railRight}
	s.Text(railLeft, a.top, "blue", drawing.Words{Size: beside.Size, Ink: inks[split.Blue], Bold: true})
	s.Text(railRight, a.top, "green", drawing.Words{Size: beside.Size, Ink: inks[split.Green], Bold: true,
		At: drawing.End})
	for _, v := range []float64{0, 0.25, 0.5, 0.75, 1} {
		hair(s, drawing.Point{X: share.Of(v), Y: top}, drawing.Point{X: share.Of(v), Y: bottom})
		s.Text(share.Of(v), top-4, split.Share(v*float64(split.Whole)).String(), at(beside, drawing.Middle))
	}
	down := drawing.Scale{High: max(last.Sub(first).Seconds(), 1), From: top + 4, To: bottom}
	y := func(t time.Time) float64 { return down.Of(t.Sub(first).Seconds()) }
	for _, v := range down.Ticks(10) {
		s.Text(timeRight, down.Of(v)+3, first.Add(time.Duration(v*float64(time.Second))).In(a.in).Format("15:04:05"),
			at(beside, drawing.End))
		hair(s, drawing.Point{X: timeRight + 4, Y: down.Of(v)}, drawing.Point{X: railLeft, Y: down.Of(v)})
	}
	worst := observed(s, points, share, drawing.Scale{High: 10, From: failsLeft, To: failsRight}, y)
	s.Text(failsLeft, top-4, fmt.Sprintf("failed, to %.0f", worst), beside)
	ink := inks[target]
	for n, step := range steps {
		until := last
		if n+1 < len(steps) {
			until = steps[n+1].confirmed
		}
		x, from := share.Of(step.share.Fraction()), share.Of(step.before.Fraction())
		s.Line(drawing.Stroke{Ink: ink, Width: 1, Dash: 3}, drawing.Point{X: from, Y: y(step.asked)},
			drawing.Point{X: x, Y: y(step.asked)}, drawing.Point{X: x, Y: y(step.confirmed)})
		s.Line(drawing.Stroke{Ink: ink, Width: 2.2}, drawing.Point{X: from, Y: y(step.confirmed)},
			drawing.Point{X: x, Y: y(step.confirmed)}, drawing.Point{X: x, Y: y(until)})
	}
	a.tell(s, events, saysLeft, railRight, a.bottom, y)
}

// step is a change of the share on green.
type step struct {
	asked, confirmed time.Time
	before, share    split.Share
}

// stepsOf are the changes of a crossing, the first one what it began with, and how it stands after all events.
func stepsOf(events []crossing.Event) (steps []step, s crossing.State) {
	asked := map[uint64]time.Time{}
	for _, e := range events {
		before := s.Share
		s = crossing.Apply(s, e)
		if _, begins := e.What.(crossing.Begun); begins {
			steps = append(steps, step{e.At, e.At, s.Share, s.Share})
			continue
		}
		if _, orders := e.What.(crossing.Ordered); orders {
			asked[e.Seq] = e.At
		}
		if s.Share == before {
			continue
		}
		from := e.At
		switch f := e.What.(type) {
		case crossing.TookEffect:
			from = asked[f.Task]
		case crossing.Returned:
			from = asked[f.Task]
		}
		if from.IsZero() {
			from = e.At
		}
		steps = append(steps, step{from, e.At, before, s.Share})
	}
	return steps, s
}

// observed marks where requests went, and draws how many failed, some seconds together. It returns what the longest
// bar may stand for.
func observed(s *drawing.Sheet, points []engine.Point, share, fails drawing.Scale, y func(time.Time) float64) float64 {
	const most = 120
	each := max((len(points)+most-1)/most, 1)
	var sums []engine.Point
	for n := 0; n < len(points); n += each {
		sum := engine.Point{At: points[n].At}
		for _, p := range points[n:min(n+each, len(points))] {
			sum.Green, sum.All, sum.Failing = sum.Green+p.Green, sum.All+p.All, sum.Failing+p.Failing
		}
		sums = append(sums, sum)
		fails.High = max(fails.High, float64(sum.Failing))
	}
	for _, p := range sums {
		if p.All == 0 {
			continue
		}
		s.Mark(share.Of(float64(p.Green)/float64(p.All)), y(p.At), 1.8, drawing.Stroke{Ink: drawing.Grey, Width: 0.8},
			nil)
		if p.Failing > 0 {
			s.Box(fails.From, y(p.At)-1, fails.Of(float64(p.Failing))-fails.From, 2.4, drawing.Red)
		}
	}
	return fails.High
}

// tell says what happened, each thing beside its time as far as there is room: what is too close goes further down,
// with a hair to its time, and what has no room is counted.
func (a trackArea) tell(s *drawing.Sheet, events []crossing.Event, x, rail, bottom float64,
	y func(time.Time) float64) {
	const line = 11.5
	var state crossing.State
	at, left := 0.0, 0
	for _, e := range events {
		state = crossing.Apply(state, e)
		switch e.What.(type) {
		case crossing.Ordered, crossing.Noted, crossing.Compared, crossing.Hooked, crossing.TookWheel,
			crossing.LeftWheel, crossing.WayBackIs, crossing.RetireDue:
			continue
		}
		text := words.Event(e, state)
		if text == "" {
			continue
		}
		place := max(y(e.At)+3, at+line)
		if place > bottom {
			left++
			continue
		}
		at = place
		hair(s, drawing.Point{X: rail + 6, Y: y(e.At)}, drawing.Point{X: x - 4, Y: place - 3})
		text = fmt.Sprintf("%s  %s: %s", e.At.In(a.in).Format("15:04:05"), e.What.Kind(), text)
		s.Text(x, place, drawing.Fit(text, beside, a.right-x), beside)
	}
	if left > 0 {
		s.Text(x, bottom+line, fmt.Sprintf("and %d more", left), beside)
	}
}
