package report

import (
	"fmt"
	"image/color"
	"math"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/plan"
)

// Evidence draws what a guard has come to into a file that ends in .svg or .pdf: both sides' rates over
// time, with the range of each, and below the evidence with the bound at which the guard trips. It
// can be read without colours.
func Evidence(file, service string, s guard.Story) error {
	format, err := formatOf(file)
	if err != nil {
		return err
	}
	if len(s.Points) < 2 {
		return fmt.Errorf("%s: %s has come to nothing yet that could be drawn", file, s.Guard)
	}
	draws, what := ratesOf, "in "+string(s.Unit)
	if s.Watch.Figures() {
		draws, what = differencesOf, s.Figure
	}
	rates, err := draws(s)
	if err != nil {
		return err
	}
	rates.Title.Text = fmt.Sprintf("%s: %s since %s, %s", service, s.Guard,
		s.Points[0].At.Format("2006-01-02 15:04:05"), what)
	proof, err := proofOf(s)
	if err != nil {
		return err
	}
	return tiles(file, format, rates, proof)
}

func minutes(s guard.Story, n int) float64 {
	return s.Points[n].At.Sub(s.Points[0].At).Minutes()
}

// ratesOf draws the rates, several moments together where there are many, so that few answers
// do not hide what many say.
func ratesOf(s guard.Story) (*plot.Plot, error) {
	p := plot.New()
	p.Y.Label.Text = "% that are bad"
	p.Legend.Top, p.Legend.Left = true, true
	p.Add(plotter.NewGrid())
	each := max((len(s.Points)+39)/40, 1)
	for _, side := range []struct {
		name   string
		of     func(guard.Point) evidence.Count
		ink    color.Color
		shape  draw.GlyphDrawer
		beside float64
	}{
		{"live side (95 % ranges)", func(m guard.Point) evidence.Count { return m.Live }, inks[0], draw.RingGlyph{}, 0},
		{"new side", func(m guard.Point) evidence.Count { return m.Trial }, inks[1], draw.CircleGlyph{}, 0.15},
	} {
		var points plotter.XYs
		for n := 0; n < len(s.Points); n += each {
			var c evidence.Count
			last := min(n+each, len(s.Points))
			for _, m := range s.Points[n:last] {
				c = c.Plus(side.of(m))
			}
			if c.Of == 0 {
				continue
			}
			x := minutes(s, last-1) + side.beside*minutes(s, len(s.Points)-1)/60
			points = append(points, plotter.XY{X: x, Y: 100 * c.Rate()})
			i := evidence.Exact(c, 0.05)
			line, err := plotter.NewLine(plotter.XYs{{X: x, Y: 100 * i.Low}, {X: x, Y: 100 * i.High}})
			if err != nil {
				return nil, err
			}
			line.LineStyle = draw.LineStyle{Color: side.ink, Width: vg.Points(0.6)}
			p.Add(line)
		}
		if len(points) == 0 {
			continue
		}
		dots, err := plotter.NewScatter(points)
		if err != nil {
			return nil, err
		}
		dots.GlyphStyle = draw.GlyphStyle{Color: side.ink, Radius: vg.Points(2.4), Shape: side.shape}
		p.Add(dots)
		p.Legend.Add(side.name, dots)
	}
	p.Y.Min = 0
	return p, nil
}

// differencesOf draws by how much a figure differs, with its range, and what is allowed.
func differencesOf(s guard.Story) (*plot.Plot, error) {
	p := plot.New()
	p.Y.Label.Text = map[plan.Watch]string{plan.Grows: "more a minute", plan.Higher: "higher by",
		plan.Fewer: "fewer by, as a part"}[s.Watch]
	p.Legend.Top, p.Legend.Left = true, true
	p.Add(plotter.NewGrid())
	in := 1.0 // of the figure's unit
	if name, _, _ := strings.Cut(s.Figure, "{"); s.Watch != plan.Fewer && strings.HasSuffix(name, "_bytes") {
		in = 1e6
		p.Y.Label.Text += ", MB"
	}
	allowed := plotter.XYs{{X: 0, Y: s.Margin / in}, {X: minutes(s, len(s.Points)-1), Y: s.Margin / in}}
	var points plotter.XYs
	for n, m := range s.Points {
		points = append(points, plotter.XY{X: minutes(s, n), Y: m.Difference / in})
		if m.Range == (evidence.Interval{}) {
			continue
		}
		line, err := plotter.NewLine(plotter.XYs{{X: minutes(s, n), Y: m.Range.Low / in},
			{X: minutes(s, n), Y: m.Range.High / in}})
		if err != nil {
			return nil, err
		}
		line.LineStyle = draw.LineStyle{Color: inks[1], Width: vg.Points(0.6)}
		p.Add(line)
	}
	dots, err := plotter.NewScatter(points)
	if err != nil {
		return nil, err
	}
	dots.GlyphStyle = draw.GlyphStyle{Color: inks[1], Radius: vg.Points(2.4), Shape: draw.CircleGlyph{}}
	bound, err := plotter.NewLine(allowed)
	if err != nil {
		return nil, err
	}
	bound.LineStyle = draw.LineStyle{Color: inks[3], Width: vg.Points(1),
		Dashes: []vg.Length{vg.Points(5), vg.Points(3)}}
	p.Add(bound, dots)
	p.Legend.Add("new side against the live one (95 % ranges)", dots)
	p.Legend.Add("what the plan allows", bound)
	return p, nil
}

// proofOf draws the evidence and its bound.
func proofOf(s guard.Story) (*plot.Plot, error) {
	p := plot.New()
	p.X.Label.Text, p.Y.Label.Text = "minutes",
		fmt.Sprintf("evidence that it is worse by more than %g points", 100*s.Margin)
	if s.Watch.Figures() {
		p.Y.Label.Text = "evidence that it differs by more"
	}
	p.Y.Scale, p.Y.Tick.Marker = plot.LogScale{}, plot.LogTicks{Prec: 3}
	p.Legend.Top, p.Legend.Left = true, true
	p.Add(plotter.NewGrid())
	var value, needed plotter.XYs
	for n, m := range s.Points {
		value = append(value, plotter.XY{X: minutes(s, n), Y: math.Pow(10, min(max(m.Evidence, -6), 12))})
		needed = append(needed, plotter.XY{X: minutes(s, n), Y: math.Pow(10, m.Needed)})
	}
	for _, l := range []struct {
		name   string
		points plotter.XYs
		style  draw.LineStyle
	}{
		{"evidence", value, draw.LineStyle{Color: color.Black, Width: vg.Points(1.4)}},
		{"where the guard trips", needed,
			draw.LineStyle{Color: inks[3], Width: vg.Points(1), Dashes: []vg.Length{vg.Points(5), vg.Points(3)}}},
	} {
		line, err := plotter.NewLine(l.points)
		if err != nil {
			return nil, err
		}
		line.LineStyle = l.style
		p.Add(line)
		p.Legend.Add(l.name, line)
	}
	return p, nil
}
