package drawing

import (
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
)

// Ink is a colour.
type Ink struct{ R, G, B uint8 }

// The inks.
var (
	Black = Ink{0x1c, 0x22, 0x2a}
	Grey  = Ink{0x5c, 0x66, 0x70} // words beside a chart
	Light = Ink{0xa9, 0xb2, 0xbb} // areas that nothing is wrong with
	Pale  = Ink{0xd5, 0xda, 0xdf} // scales
	Blue  = Ink{0x1d, 0x5f, 0xb0}
	Green = Ink{0x2f, 0xa8, 0x6d}
	Red   = Ink{0xb8, 0x1f, 0x2d}
	White = Ink{0xff, 0xff, 0xff}
)

// Point is a place on a sheet.
type Point struct{ X, Y float64 }

// Stroke is how a line is drawn.
type Stroke struct {
	Ink   Ink
	Width float64
	Dash  float64 // length of a dash, and of the gap after it; 0 for none
}

// Side is where words stand of their place.
type Side int

// The sides: words begin, end, or have their middle there.
const (
	Begin Side = iota
	End
	Middle
)

// Words are how words are set.
type Words struct {
	Size float64
	Ink  Ink
	Bold bool
	At   Side
}

// shape is something on a sheet.
type shape struct {
	kind   kind
	points []Point // of an area its corners, of a mark its middle, of words where they stand
	radius float64
	stroke Stroke
	fill   *Ink
	words  Words
	text   string
}

type kind int

const (
	line kind = iota
	area
	mark
	words
)

// Sheet is a drawing. The zero value is not usable.
type Sheet struct {
	Width, Height float64
	title, about  string
	note          string
	shapes        []shape
}

// New makes a sheet. Title and about say what it shows to those who cannot see it.
func New(width, height float64, title, about string) *Sheet {
	return &Sheet{Width: width, Height: height, title: title, about: about}
}

// Note writes something into the file that is not seen, for programs.
func (s *Sheet) Note(text string) { s.note = text }

// Line draws a line through points.
func (s *Sheet) Line(with Stroke, points ...Point) {
	if len(points) > 1 {
		s.shapes = append(s.shapes, shape{kind: line, points: points, stroke: with})
	}
}

// Box fills a rectangle.
func (s *Sheet) Box(x, y, width, height float64, ink Ink) {
	s.shapes = append(s.shapes, shape{kind: area, fill: &ink,
		points: []Point{{x, y}, {x + width, y}, {x + width, y + height}, {x, y + height}}})
}

// Mark draws a round mark, filled with an ink or hollow.
func (s *Sheet) Mark(x, y, radius float64, with Stroke, fill *Ink) {
	s.shapes = append(s.shapes, shape{kind: mark, points: []Point{{x, y}}, radius: radius, stroke: with, fill: fill})
}

// Text sets words, with their baseline at y, and returns where they end.
func (s *Sheet) Text(x, y float64, text string, set Words) float64 {
	s.shapes = append(s.shapes, shape{kind: words, points: []Point{{x, y}}, words: set, text: text})
	return x + Width(text, set)
}

// Fit is as much of a text as has room in a width, with an ellipsis where something is left out.
func Fit(text string, set Words, width float64) string {
	if Width(text, set) <= width {
		return text
	}
	runes := []rune(text)
	for n := len(runes) - 1; n > 0; n-- {
		if short := strings.TrimRight(string(runes[:n]), " ") + "…"; Width(short, set) <= width {
			return short
		}
	}
	return ""
}

// Wrap breaks a text into lines that have room in a width: between words, and within those that are too long for one.
func Wrap(text string, set Words, width float64) (lines []string) {
	line := ""
	for _, word := range strings.Fields(text) {
		longer := strings.TrimPrefix(line+" "+word, " ")
		if line != "" && Width(longer, set) > width {
			lines, longer = append(lines, line), word
		}
		for line = longer; Width(line, set) > width; {
			runes := []rune(line)
			n := len(runes) - 1
			for n > 1 && Width(string(runes[:n]), set) > width {
				n--
			}
			if n < 1 {
				break
			}
			lines, line = append(lines, string(runes[:n])), string(runes[n:])
		}
	}
	return append(lines, line)
}

// faces are the fonts' measures at a size of 1000 points, regular and bold.
var faces = sync.OnceValue(func() (list [2]font.Face) {
	for n, data := range [][]byte{goregular.TTF, gobold.TTF} {
		parsed, err := opentype.Parse(data)
		if err != nil {
			panic(err) // it is part of the program
		}
		if list[n], err = opentype.NewFace(parsed, &opentype.FaceOptions{Size: 1000, DPI: 72}); err != nil {
			panic(err)
		}
	}
	return list
})

// measuring is held while something is measured: faces are for one goroutine at a time.
var measuring sync.Mutex

// Width is how wide words are.
func Width(text string, set Words) float64 {
	measuring.Lock()
	defer measuring.Unlock()
	face := faces()[0]
	if set.Bold {
		face = faces()[1]
	}
	return float64(font.MeasureString(face, text)) / float64(fixed.I(1000)) * set.Size
}

// Format is the format that a file's name asks for: "svg" or "pdf".
func Format(file string) (string, error) {
	ext := strings.ToLower(filepath.Ext(file))
	if ext != ".svg" && ext != ".pdf" {
		return "", fmt.Errorf("%s: charts are written to files that end in .svg or .pdf", file)
	}
	return ext[1:], nil
}

// Save writes the sheet into a file that ends in .svg or .pdf.
func (s *Sheet) Save(file string) error {
	format, err := Format(file)
	if err != nil {
		return err
	}
	var data []byte
	if format == "svg" {
		data = s.SVG()
	} else if data, err = s.PDF(); err != nil {
		return err
	}
	return os.WriteFile(file, data, 0o644)
}

// Scale maps values to places.
type Scale struct {
	Low, High float64 // values
	From, To  float64 // their places
}

// Of is where a value lies, within the ends.
func (s Scale) Of(v float64) float64 {
	if s.High == s.Low {
		return s.From
	}
	return s.From + (min(max(v, min(s.Low, s.High)), max(s.Low, s.High))-s.Low)/(s.High-s.Low)*(s.To-s.From)
}

// Ticks are about so many round values between the ends, the first and the last not outside of them.
func (s Scale) Ticks(about int) (list []float64) {
	span := s.High - s.Low
	if span <= 0 || about < 1 {
		return nil
	}
	step := math.Pow(10, math.Floor(math.Log10(span/float64(about))))
	for _, f := range []float64{1, 2, 5, 10} {
		if span/(step*f) <= float64(about) {
			step *= f
			break
		}
	}
	for n := math.Ceil(s.Low/step - 1e-9); n*step <= s.High+step*1e-9; n++ {
		list = append(list, n*step+0) // not the negative zero
	}
	return list
}
