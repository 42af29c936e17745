package drawing

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// sample is a sheet with one of each.
func sample() *Sheet {
	s := New(300, 200, "Ferries <& gulls>", "what the ferries did")
	s.Line(Stroke{Ink: Red, Width: 2, Dash: 3}, Point{10, 10}, Point{290, 10}, Point{290, 100})
	s.Line(Stroke{Ink: Red, Width: 2}, Point{10, 10})
	s.Box(20, 20, 40, 30, Blue)
	s.Mark(100, 60, 5, Stroke{Ink: Black, Width: 1}, nil)
	s.Mark(120, 60, 5, Stroke{}, &Green)
	s.Text(150, 150, "Πλοίο & <пароход>", Words{Size: 12, Ink: Black, At: End})
	return s
}

func TestSVG(t *testing.T) {
	data := sample().SVG()
	names := map[string]int{}
	for d := xml.NewDecoder(bytes.NewReader(data)); ; {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatalf("it is no XML: %v\n%s", err, data)
		}
		if e, ok := token.(xml.StartElement); ok {
			names[e.Name.Local]++
		}
	}
	if got := fmt.Sprint(names); got != "map[circle:2 desc:1 polygon:1 polyline:1 rect:1 svg:1 text:1 title:1]" {
		t.Errorf("it has %s", got)
	}
	for _, want := range []string{"Ferries &lt;&amp; gulls&gt;", "what the ferries did", `text-anchor="end"`,
		`stroke-dasharray="3"`, `points="20,20 60,20 60,50 20,50"`, "Πλοίο"} {
		if !strings.Contains(string(data), want) {
			t.Errorf("%q is missing in\n%s", want, data)
		}
	}
}

// The same sheet is the same file, and a file of another kind is refused before anything is drawn.
func TestFiles(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"a.pdf", "b.pdf", "c.SVG"} {
		if err := sample().Save(filepath.Join(dir, name)); err != nil {
			t.Fatal(err)
		}
	}
	a, _ := os.ReadFile(filepath.Join(dir, "a.pdf"))
	b, _ := os.ReadFile(filepath.Join(dir, "b.pdf"))
	if !bytes.HasPrefix(a, []byte("%PDF-")) || !bytes.Equal(a, b) {
		t.Errorf("PDFs of %d and %d bytes, the first begins with %.8q", len(a), len(b), a)
	}
	if err := sample().Save(filepath.Join(dir, "d.png")); err == nil || !strings.Contains(err.Error(), ".svg or .pdf") {
		t.Errorf("a file of another kind: %v", err)
	}
	if err := sample().Save(filepath.Join(dir, "none", "d.pdf")); err == nil {
		t.Error("a file in a folder that is not there")
	}
}

func TestWords(t *testing.T) {
	set := Words{Size: 10}
	if w := Width("ferry", set); w < 15 || w > 40 || Width("ferry ferry", set) < 2*w || Width("", set) != 0 ||
		Width("ferry", Words{Size: 20}) < 1.9*w {
		t.Errorf("a word is %.1f points wide", w)
	}
	if Fit("ferry", set, 100) != "ferry" || Fit("ferry", set, 2) != "" {
		t.Error("what has room is cut, or what has none is not")
	}
	if short := Fit("the ferry to the island", set, 60); Width(short, set) > 60 || !strings.HasSuffix(short, "…") {
		t.Errorf("cut to 60 points it is %q", short)
	}
	if lines := Wrap("the ferry to the island leaves", set, 60); len(lines) < 2 ||
		strings.Join(lines, " ") != "the ferry to the island leaves" {
		t.Errorf("wrapped to 60 points it is %q", lines)
	}
}

func TestScale(t *testing.T) {
	s := Scale{Low: 0, High: 50, From: 100, To: 200}
	for v, want := range map[float64]float64{0: 100, 25: 150, 50: 200, -9: 100, 99: 200} {
		if got := s.Of(v); got != want {
			t.Errorf("%v lies at %v, not %v", v, got, want)
		}
	}
	for _, c := range []struct {
		low, high float64
		about     int
		want      string
	}{{0, 50, 5, "[0 10 20 30 40 50]"}, {0, 46, 5, "[0 10 20 30 40]"}, {-1, 3, 4, "[-1 0 1 2 3]"}, {0, 0, 5, "[]"},
		{0.2, 0.9, 3, "[0.5]"}, {0, 10, 0, "[]"}} {
		if got := fmt.Sprint((Scale{Low: c.low, High: c.high}).Ticks(c.about)); got != c.want {
			t.Errorf("%v to %v has the ticks %s, not %s", c.low, c.high, got, c.want)
		}
	}
	if (Scale{From: 7}).Of(3) != 7 {
		t.Error("a scale of nothing has a place for something")
	}
}
