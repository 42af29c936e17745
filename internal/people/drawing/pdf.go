package drawing

import (
	"bytes"
	"time"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
)

// PDF is the sheet as a PDF of one page, with the letters that it needs. It is the same whenever it is made.
func (s *Sheet) PDF() ([]byte, error) {
	orientation := fpdf.OrientationPortrait
	if s.Width > s.Height {
		orientation = fpdf.OrientationLandscape
	}
	f := fpdf.NewCustom(&fpdf.InitType{OrientationStr: orientation, UnitStr: fpdf.UnitPoint,
		Size: fpdf.SizeType{Wd: min(s.Width, s.Height), Ht: max(s.Width, s.Height)}})
	f.SetMargins(0, 0, 0)
	f.SetAutoPageBreak(false, 0)
	f.SetTitle(s.title, true)
	f.SetSubject(s.about, true)
	f.SetKeywords(s.note, false)
	f.SetCreationDate(time.Unix(0, 0))
	f.SetModificationDate(time.Unix(0, 0))
	f.SetCatalogSort(true)
	f.AddUTF8FontFromBytes("go", "", goregular.TTF)
	f.AddUTF8FontFromBytes("go", "B", gobold.TTF)
	f.AddPage()
	for _, p := range s.shapes {
		at := p.points[0]
		stroke(f, p.stroke)
		switch p.kind {
		case line:
			for n := 1; n < len(p.points); n++ {
				f.Line(p.points[n-1].X, p.points[n-1].Y, p.points[n].X, p.points[n].Y)
			}
		case area:
			f.SetFillColor(int(p.fill.R), int(p.fill.G), int(p.fill.B))
			corner := p.points[2]
			f.Rect(at.X, at.Y, corner.X-at.X, corner.Y-at.Y, "F")
		case mark:
			fill, style := White, "F"
			if p.fill != nil {
				fill = *p.fill
			}
			if p.stroke.Width > 0 {
				style = "FD"
			}
			f.SetFillColor(int(fill.R), int(fill.G), int(fill.B))
			f.Circle(at.X, at.Y, p.radius, style)
		case words:
			style := ""
			if p.words.Bold {
				style = "B"
			}
			f.SetFont("go", style, p.words.Size)
			f.SetTextColor(int(p.words.Ink.R), int(p.words.Ink.G), int(p.words.Ink.B))
			x := at.X
			switch p.words.At {
			case End:
				x -= f.GetStringWidth(p.text)
			case Middle:
				x -= f.GetStringWidth(p.text) / 2
			}
			f.Text(x, at.Y, p.text)
		}
	}
	var b bytes.Buffer
	err := f.Output(&b)
	return b.Bytes(), err
}

func stroke(f *fpdf.Fpdf, s Stroke) {
	f.SetDrawColor(int(s.Ink.R), int(s.Ink.G), int(s.Ink.B))
	f.SetLineWidth(s.Width)
	var dashes []float64
	if s.Dash > 0 {
		dashes = []float64{s.Dash, s.Dash}
	}
	f.SetDashPattern(dashes, 0)
}
