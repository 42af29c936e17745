package report

import (
	"fmt"
	"image/color"
	"math"
	"os"
	"path/filepath"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"vaiven/internal/core/forecast"
)

// Route draws a route as it was weighed into a file that ends in .svg or .pdf: its legs over time, and
// below what faults of some sizes cost on it beside everything at once. It can be read without
// colours.
func Route(file, service string, w forecast.Weighed) error {
	format, err := formatOf(file)
	if err != nil {
		return err
	}
	legs, err := legsOf(w)
	if err != nil {
		return err
	}
	legs.Title.Text = service + ": the route, and what a bad release would cost on it"
	costs, err := costsOf(w)
	if err != nil {
		return err
	}
	return tiles(file, format, legs, costs)
}

// tiles draws two plots below one another into a file.
func tiles(file, format string, above, below *plot.Plot) error {
	const width, height = 22 * vg.Centimeter, 18 * vg.Centimeter
	c, err := draw.NewFormattedCanvas(width, height, format)
	if err != nil {
		return err
	}
	places := draw.Tiles{Rows: 2, Cols: 1, PadTop: vg.Points(6), PadBottom: vg.Points(6), PadLeft: vg.Points(6),
		PadRight: vg.Points(14), PadY: vg.Points(14)}
	plots := [][]*plot.Plot{{above}, {below}}
	for row, at := range plot.Align(plots, places, draw.New(c)) {
		plots[row][0].Draw(at[0])
	}
	out, err := os.Create(file)
	if err != nil {
		return err
	}
	_, err = c.WriteTo(out)
	if closed := out.Close(); err == nil {
		err = closed
	}
	return err
}

// formatOf is the format of a chart's file.
func formatOf(file string) (string, error) {
	ext := strings.ToLower(filepath.Ext(file))
	if ext != ".svg" && ext != ".pdf" {
		return "", fmt.Errorf("%s: charts are written to files that end in .svg or .pdf", file)
	}
	return ext[1:], nil
}

// legsOf draws the share over time. The keep is shown for no longer than all legs before it.
func legsOf(w forecast.Weighed) (*plot.Plot, error) {
	p := plot.New()
	p.X.Label.Text, p.Y.Label.Text = "minutes from the first request that moves", "% on the new side"
	p.Y.Min, p.Y.Max = 0, 108
	p.Add(plotter.NewGrid())
	before := 0.0
	for _, l := range w.Legs[:len(w.Legs)-1] {
		before += l.Seconds
	}
	points, at := plotter.XYs{{X: 0, Y: 0}}, 0.0
	var labels plotter.XYLabels
	for n, l := range w.Legs {
		share, lasts := 100*l.Leg.Part.Fraction(), l.Seconds
		name := l.Leg.Part.String() + l.Leg.Stay()
		if n == len(w.Legs)-1 {
			if before > 0 {
				lasts = math.Min(lasts, before)
			}
			name = fmt.Sprintf("%v, kept for %.0f min", l.Leg.Part, l.Seconds/60)
		}
		points = append(points, plotter.XY{X: at / 60, Y: share}, plotter.XY{X: (at + lasts) / 60, Y: share})
		labels.XYs = append(labels.XYs, plotter.XY{X: at / 60, Y: share})
		labels.Labels = append(labels.Labels, " "+name)
		at += lasts
	}
	line, err := plotter.NewLine(points)
	if err != nil {
		return nil, err
	}
	line.LineStyle = draw.LineStyle{Color: inks[1], Width: vg.Points(1.6)}
	text, err := plotter.NewLabels(labels)
	if err != nil {
		return nil, err
	}
	text.Offset = vg.Point{Y: vg.Points(3)}
	p.Add(line, text)
	return p, nil
}

// costsOf draws, for each fault, how many requests fail until it is found: the middle as a point and
// nine of ten as the end of a line, of the route and of all at once.
func costsOf(w forecast.Weighed) (*plot.Plot, error) {
	p := plot.New()
	p.X.Label.Text, p.Y.Label.Text = "a fault in so many of the new side's answers",
		"requests that fail until it is found"
	p.Y.Scale, p.Y.Tick.Marker = plot.LogScale{}, plot.LogTicks{Prec: -1}
	p.Legend.Top, p.Legend.Left = true, true
	p.Add(plotter.NewGrid())
	least, most := 1.0, 10.0
	for _, s := range []struct {
		name   string
		hits   []forecast.Hit
		shape  draw.GlyphDrawer
		ink    color.Color
		beside float64
	}{
		{"on this route (the end of the line: nine of ten)", w.Whole, draw.CircleGlyph{}, inks[1], -0.08},
		{"all at once", w.AtOnce, draw.TriangleGlyph{}, inks[3], 0.08},
	} {
		var middles plotter.XYs
		for n, h := range s.hits {
			x, middle, end := float64(n)+s.beside, math.Max(h.Middle, least), math.Max(h.Most, least)
			most = math.Max(most, end)
			middles = append(middles, plotter.XY{X: x, Y: middle})
			if end > middle {
				line, err := plotter.NewLine(plotter.XYs{{X: x, Y: middle}, {X: x, Y: end}})
				if err != nil {
					return nil, err
				}
				line.LineStyle = draw.LineStyle{Color: s.ink, Width: vg.Points(1)}
				p.Add(line)
			}
		}
		points, err := plotter.NewScatter(middles)
		if err != nil {
			return nil, err
		}
		points.GlyphStyle = draw.GlyphStyle{Color: s.ink, Radius: vg.Points(4), Shape: s.shape}
		p.Add(points)
		p.Legend.Add(s.name, points)
	}
	p.X.Min, p.X.Max = -0.5, float64(len(w.Whole))-0.5
	p.Y.Min, p.Y.Max = least, most*4
	var names []string
	for _, h := range w.Whole {
		names = append(names, fmt.Sprintf("%g %%", 100*h.Fault))
	}
	p.NominalX(names...)
	return p, nil
}
