package cells

import (
	"fmt"
	"image/color"
	"iter"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"
)

// Style is how a cell looks. The zero value is the terminal's own. Colours have
// to be comparable.
type Style struct {
	Color color.Color // nil is the terminal's own
	Bold  bool
}

// In is the style in bold.
func (s Style) In(bold bool) Style {
	s.Bold = bold
	return s
}

// cell is what one column of a row shows.
type cell struct {
	r    rune   // 0 is a space; taken, the right half of a wide one
	more string // combining marks and joined runes that follow r
	s    Style
}

// taken marks the cell that the wide one on its left covers.
const taken rune = -1

// Grid is a drawing of fixed size. Drawing outside of it does nothing.
type Grid struct {
	w, h    int
	cells   []cell
	written []bool // cells that hold a text
	clashes []string
}

// New makes an empty grid. Sizes below zero count as zero.
func New(w, h int) *Grid {
	w, h = max(w, 0), max(h, 0)
	return &Grid{w: w, h: h, cells: make([]cell, w*h), written: make([]bool, w*h)}
}

// Clashes are the texts that were drawn over others: there are none where everything has its
// place.
func (g *Grid) Clashes() []string { return g.clashes }

// Size is the grid's width and height.
func (g *Grid) Size() (w, h int) { return g.w, g.h }

// Set draws one rune of one cell; what is none is drawn as a dot.
func (g *Grid) Set(x, y int, r rune, s Style) {
	if r != ' ' && (hidden(r) || r > 0x7e && ansi.StringWidth(string(r)) != 1) {
		r = unseen
	}
	g.put(x, y, cell{r: r, s: s})
}

// put fills a cell. Half of a wide rune does not stay behind.
func (g *Grid) put(x, y int, c cell) {
	if x < 0 || y < 0 || x >= g.w || y >= g.h {
		return
	}
	row := g.cells[y*g.w : (y+1)*g.w]
	if row[x].r == taken && x > 0 && c.r != taken {
		row[x-1] = cell{r: ' ', s: row[x-1].s}
	}
	if x+1 < g.w && row[x+1].r == taken && c.r != taken {
		row[x+1] = cell{r: ' ', s: row[x+1].s}
	}
	row[x] = c
}

// Text draws a text to the right of x and returns where the next one goes. Runes that take
// two cells take two, marks combine with what they follow, and what would steer the terminal
// is drawn as a dot.
func (g *Grid) Text(x, y int, text string, s Style) int {
	over := -1 // where another text stood first
	for p := range pieces(text) {
		c := cell{r: p.r, more: p.more, s: s}
		if p.width == 2 && x+1 >= g.w { // no half of it
			c = cell{r: ' ', s: s}
		}
		if x >= 0 && y >= 0 && x < g.w && y < g.h {
			if at := y*g.w + x; g.written[at] && over < 0 {
				over = x
			} else if c.r != ' ' {
				g.written[at] = true
			}
		}
		g.put(x, y, c)
		if x++; p.width == 2 {
			g.put(x, y, cell{r: taken, s: s})
			x++
		}
	}
	if over >= 0 {
		g.clashes = append(g.clashes, fmt.Sprintf("%q over another text at column %d of row %d", text, over, y))
	}
	return x
}

// Right draws a text so that it ends before x.
func (g *Grid) Right(x, y int, text string, s Style) {
	g.Text(x-Width(text), y, text, s)
}

// Within draws a text into a number of cells, with an ellipsis if it is longer,
// and returns where it ends.
func (g *Grid) Within(x, y, width int, text string, s Style) int {
	return g.Text(x, y, Cut(text, width), s)
}

// Blank empties a rectangle.
func (g *Grid) Blank(x, y, w, h int) {
	for row := y; row < y+h; row++ {
		for at := x; at < x+w; at++ {
			g.put(at, row, cell{r: ' '})
			if at >= 0 && row >= 0 && at < g.w && row < g.h {
				g.written[row*g.w+at] = false
			}
		}
	}
}

// Line draws a rune from x up to and without end.
func (g *Grid) Line(x, y, end int, r rune, s Style) {
	for ; x < end; x++ {
		g.Set(x, y, r, s)
	}
}

// piece is what a reader sees as one character.
type piece struct {
	r     rune
	more  string
	width int // in cells, 1 or 2
}

// unseen is drawn for what must not reach a terminal.
const unseen = '·'

// hidden reports whether a rune would steer the terminal, or change the order of what
// surrounds it.
func hidden(r rune) bool {
	return r < ' ' || 0x7f <= r && r < 0xa0 || r == 0xad || unicode.Is(unicode.Bidi_Control, r) ||
		r == utf8.RuneError || unicode.Is(unicode.Cf, r) ||
		r == 0x2028 || r == 0x2029
}

// pieces are the characters of a text, as they are drawn.
func pieces(text string) iter.Seq[piece] {
	return func(yield func(piece) bool) {
		for len(text) > 0 {
			if c := text[0]; ' ' <= c && c < 0x7f && (len(text) == 1 || text[1] < utf8.RuneSelf) {
				if !yield(piece{rune(c), "", 1}) {
					return
				}
				text = text[1:]
				continue
			}
			cluster, width := ansi.FirstGraphemeCluster(text, ansi.GraphemeWidth)
			if cluster == "" {
				return
			}
			text = text[len(cluster):]
			if !yield(drawn(cluster, width)) {
				return
			}
		}
	}
}

// drawn is how one character is drawn.
func drawn(cluster string, width int) piece {
	r, n := utf8.DecodeRuneInString(cluster)
	more := cluster[n:]
	if hidden(r) || width < 1 || width > 2 {
		return piece{unseen, "", 1}
	}
	for _, m := range more {
		if !unicode.Is(unicode.M, m) || hidden(m) {
			more = "" // joined runes are as wide as terminals like: only the first is drawn
			width = min(max(ansi.StringWidth(string(r)), 1), 2)
			break
		}
	}
	const most = 4 * utf8.UTFMax // marks upon marks reach into other rows
	if len(more) > most {
		more = ""
	}
	return piece{r, more, width}
}

// Width is how many cells a text takes.
func Width(text string) int {
	n := 0
	for p := range pieces(text) {
		n += p.width
	}
	return n
}

// Cut is the text with an ellipsis in place of what is beyond the width.
func Cut(text string, width int) string {
	if len(text) <= width || Width(text) <= width { // a cell takes a byte at least
		return text
	}
	if width < 1 {
		return ""
	}
	var b strings.Builder
	left := width - 1
	for p := range pieces(text) {
		if left -= p.width; left < 0 {
			break
		}
		b.WriteRune(p.r)
		b.WriteString(p.more)
	}
	return b.String() + "…"
}

// Take is as much of the text's beginning as fits into a width.
func Take(text string, width int) string {
	if len(text) <= width {
		return text
	}
	at := 0
	for at < len(text) {
		cluster, n := ansi.FirstGraphemeCluster(text[at:], ansi.GraphemeWidth)
		if width -= max(drawn(cluster, n).width, 1); width < 0 || cluster == "" {
			break
		}
		at += len(cluster)
	}
	return text[:at]
}

// CutLeft is the text with an ellipsis in place of its beginning: of names that differ at
// their end.
func CutLeft(text string, width int) string {
	if Width(text) <= width {
		return text
	}
	if width < 1 {
		return ""
	}
	var list []piece
	for p := range pieces(text) {
		list = append(list, p)
	}
	left, n := width-1, len(list)
	for n > 0 && left >= list[n-1].width {
		n--
		left -= list[n].width
	}
	var b strings.Builder
	b.WriteRune('…')
	for _, p := range list[n:] {
		b.WriteRune(p.r)
		b.WriteString(p.more)
	}
	return b.String()
}

// String is the grid as lines with escape sequences, without a line break at the
// end.
func (g *Grid) String() string {
	var b strings.Builder
	b.Grow(g.w * g.h * 2)
	for y := range g.h {
		if y > 0 {
			b.WriteByte('\n')
		}
		row := g.cells[y*g.w : (y+1)*g.w]
		end := len(row)
		for end > 0 && row[end-1].r == 0 {
			end--
		}
		for x := 0; x < end; {
			style := row[x].s
			if row[x].r == 0 {
				style = Style{}
			}
			opened := style.open(&b)
			for x < end && (row[x].s == style || row[x].r == 0) {
				switch c := row[x]; c.r {
				case taken:
				case 0:
					b.WriteByte(' ')
				default:
					b.WriteRune(c.r)
					b.WriteString(c.more)
				}
				x++
			}
			if opened {
				b.WriteString(reset)
			}
		}
	}
	return b.String()
}

const reset = "\x1b[m"

// open writes what begins the style, and reports whether anything does.
func (s Style) open(b *strings.Builder) bool {
	if s == (Style{}) {
		return false
	}
	b.WriteString(s.sequence())
	return true
}

// sequences are those of styles that were used: a screen has few, and draws them often.
var sequences sync.Map // Style to string

func (s Style) sequence() string {
	if made, ok := sequences.Load(s); ok {
		return made.(string)
	}
	var style ansi.Style
	if s.Bold {
		style = style.Bold()
	}
	if s.Color != nil {
		style = style.ForegroundColor(s.Color)
	}
	made := style.String()
	sequences.Store(s, made)
	return made
}
