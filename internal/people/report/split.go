package report

import (
	"fmt"
	"path/filepath"

	"vaiven/internal/core/split"
	"vaiven/internal/people/drawing"
	"vaiven/internal/plan/tryout"
	"vaiven/internal/words"
)

// Split draws for one share how much of the requests each key would have sent to green,
// window by window, into a file that ends in .svg or .pdf.
func Split(file string, r tryout.Report, share split.Share) error {
	if _, err := drawing.Format(file); err != nil {
		return err
	}
	type drawn struct {
		name    string
		windows []float64
		minutes float64
	}
	var list []drawn
	for _, k := range r.Keys {
		for _, s := range k.Shares {
			if s.Share == share && len(s.Windows) > 0 {
				list = append(list, drawn{k.Key, s.Windows, k.Window.Minutes()})
			}
		}
	}
	if len(list) == 0 {
		return fmt.Errorf("%s: nothing to draw at %v", r.Log, share)
	}
	says := fmt.Sprintf("A panel for each key; the dashed line is the share that was asked for, %v. Windows of %s.",
		share, words.Age(r.Keys[0].Window))
	s, top := page(fmt.Sprintf("%s: requests on green, %v asked", filepath.Base(r.Log), share), says,
		"How much of the requests each split key would have sent to green, window by window. "+says)
	const left, right = margin + 130, pageWidth - margin
	height := (pageHeight - margin - 24 - top) / float64(len(list))
	for n, d := range list {
		y := top + float64(n)*height
		across := drawing.Scale{High: max(float64(len(d.windows))*d.minutes, d.minutes), From: left, To: right}
		up := drawing.Scale{High: 1, From: y + height - 8, To: y + 4}
		for _, v := range []float64{0, 0.5, 1} {
			hair(s, drawing.Point{X: left, Y: up.Of(v)}, drawing.Point{X: right, Y: up.Of(v)})
		}
		s.Text(left-5, up.Of(0)+3, "0", at(beside, drawing.End))
		s.Text(left-5, up.Of(1)+5, "100 %", at(beside, drawing.End))
		s.Text(margin, y+height/2, drawing.Fit(d.name, plain, 90), plain)
		s.Line(drawing.Stroke{Ink: drawing.Black, Width: 0.8, Dash: 4}, drawing.Point{X: left,
			Y: up.Of(share.Fraction())},
			drawing.Point{X: right, Y: up.Of(share.Fraction())})
		var line []drawing.Point
		flush := func() {
			s.Line(drawing.Stroke{Ink: drawing.Green, Width: 1.6}, line...)
			if len(line) == 1 {
				s.Mark(line[0].X, line[0].Y, 1.2, drawing.Stroke{}, &drawing.Green)
			}
			line = nil
		}
		for w, seen := range d.windows {
			if seen < 0 { // nothing came
				flush()
				continue
			}
			line = append(line, drawing.Point{X: across.Of((float64(w) + 0.5) * d.minutes), Y: up.Of(seen)})
		}
		flush()
		if n == len(list)-1 {
			for _, v := range across.Ticks(8) {
				s.Text(across.Of(v), y+height+6, decimal(v), at(beside, drawing.Middle))
			}
			s.Text(right, y+height+18, "minutes", at(beside, drawing.End))
		}
	}
	return s.Save(file)
}
