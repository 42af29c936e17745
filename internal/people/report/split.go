package report

import (
	"fmt"
	"image/color"
	"path/filepath"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"vaiven/internal/core/split"
	"vaiven/internal/plan/tryout"
)

// inks are the lines' colours, in order.
var inks = []color.Color{
	color.RGBA{0x2b, 0x7b, 0xd6, 0xff}, color.RGBA{0x1f, 0x9d, 0x62, 0xff}, color.RGBA{0xb9, 0x77, 0x14, 0xff},
	color.RGBA{0xc4, 0x37, 0x38, 0xff},
	color.RGBA{0x7a, 0x55, 0xb8, 0xff}, color.RGBA{0x55, 0x60, 0x6b, 0xff},
}

// Split draws for one share how much of the requests each key would have sent to green,
// window by window, into a file that ends in .svg or .pdf.
func Split(file string, r tryout.Report, share split.Share) error {
	if _, err := formatOf(file); err != nil {
		return err
	}
	p := plot.New()
	p.Title.Text = fmt.Sprintf("%s: requests on green, %v asked", filepath.Base(r.Log), share)
	p.X.Label.Text, p.Y.Label.Text = "minutes", "% on green"
	p.Y.Min, p.Y.Max = 0, 100
	p.Legend.Top = true
	p.Add(plotter.NewGrid())
	drawn := 0
	for n, k := range r.Keys {
		for _, s := range k.Shares {
			if s.Share != share {
				continue
			}
			var points plotter.XYs
			for w, seen := range s.Windows {
				if seen >= 0 {
					points = append(points, plotter.XY{X: (float64(w) + 0.5) * k.Window.Minutes(), Y: 100 * seen})
				}
			}
			if len(points) == 0 {
				continue
			}
			line, err := plotter.NewLine(points)
			if err != nil {
				return err
			}
			line.LineStyle = draw.LineStyle{Color: inks[n%len(inks)], Width: vg.Points(1.2)}
			if n >= len(inks) {
				line.LineStyle.Dashes = []vg.Length{vg.Points(4), vg.Points(2)}
			}
			p.Add(line)
			p.Legend.Add(k.Key, line)
			drawn++
		}
	}
	if drawn == 0 {
		return fmt.Errorf("%s: nothing to draw at %v", r.Log, share)
	}
	return p.Save(22*vg.Centimeter, 12*vg.Centimeter, file)
}
