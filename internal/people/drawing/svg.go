package drawing

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strconv"
	"strings"
)

// SVG is the sheet as SVG 1.1.
func (s *Sheet) SVG() []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" width="%[1]s" height="%[2]s" viewBox="0 0 %[1]s %[2]s" `+
		`role="img" aria-labelledby="title about" font-family="Go, Helvetica, Arial, 'Liberation Sans', sans-serif">`+"\n",
		number(s.Width), number(s.Height))
	fmt.Fprintf(&b, "<title id=\"title\">%s</title>\n<desc id=\"about\">%s</desc>\n", escaped(s.title), escaped(s.about))
	if s.note != "" {
		fmt.Fprintf(&b, "<metadata>%s</metadata>\n", escaped(s.note))
	}
	fmt.Fprintf(&b, `<rect width="%s" height="%s" fill="%s"/>`+"\n", number(s.Width), number(s.Height), White)
	for _, p := range s.shapes {
		at := p.points[0]
		switch p.kind {
		case line:
			fmt.Fprintf(&b, `<polyline points="%s" fill="none"%s/>`, places(p.points), p.stroke)
		case area:
			fmt.Fprintf(&b, `<polygon points="%s" fill="%s"/>`, places(p.points), *p.fill)
		case mark:
			fill := White
			if p.fill != nil {
				fill = *p.fill
			}
			fmt.Fprintf(&b, `<circle cx="%s" cy="%s" r="%s" fill="%s"%s/>`, number(at.X), number(at.Y), number(p.radius),
				fill, p.stroke)
		case words:
			bold := ""
			if p.words.Bold {
				bold = ` font-weight="bold"`
			}
			anchor := [...]string{Begin: "start", End: "end", Middle: "middle"}[p.words.At]
			fmt.Fprintf(&b, `<text x="%s" y="%s" font-size="%s" text-anchor="%s" fill="%s"%s>%s</text>`, number(at.X),
				number(at.Y), number(p.words.Size), anchor, p.words.Ink, bold, escaped(p.text))
		}
		b.WriteByte('\n')
	}
	b.WriteString("</svg>\n")
	return b.Bytes()
}

// String is the ink as SVG has it.
func (i Ink) String() string { return fmt.Sprintf("#%02x%02x%02x", i.R, i.G, i.B) }

// String is the stroke as attributes of SVG.
func (s Stroke) String() string {
	if s.Width == 0 {
		return ""
	}
	text := fmt.Sprintf(` stroke="%s" stroke-width="%s" stroke-linejoin="round"`, s.Ink, number(s.Width))
	if s.Dash > 0 {
		text += fmt.Sprintf(` stroke-dasharray="%s"`, number(s.Dash))
	}
	return text
}

func places(points []Point) string {
	var list []string
	for _, p := range points {
		list = append(list, number(p.X)+","+number(p.Y))
	}
	return strings.Join(list, " ")
}

// number is a length, to a hundredth.
func number(v float64) string {
	text := strconv.FormatFloat(v, 'f', 2, 64)
	return strings.TrimSuffix(strings.TrimRight(text, "0"), ".")
}

func escaped(text string) string {
	var b bytes.Buffer
	_ = xml.EscapeText(&b, []byte(text)) // a buffer: cannot fail
	return b.String()
}
