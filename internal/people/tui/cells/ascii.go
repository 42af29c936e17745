package cells

import "golang.org/x/text/unicode/norm"

// plain are the signs of ASCII in place of those that we draw: each mark keeps one of its own.
var plain = map[rune]rune{
	'●': '*', '◐': 'o', '○': '.', '▲': '!', '×': 'x', '◇': '?', '◆': '&', '▸': '>', '■': '#',
	'│': '|', '┃': '#', '┤': '|', '┆': ':', '┊': ':', '╎': '|', '▏': '|', '▕': '|',
	'─': '-', '━': '=', '╌': '-', '┄': '-',
	'┌': '+', '┐': '+', '└': '+', '┘': '+', '╭': '+', '╮': '+', '╰': '+', '╯': '+', '├': '+', '▪': '+',
	'█': '#', '▓': '#', '▒': '%', '░': '.', '▌': '|', '▎': '|', '▍': '|', '▋': '#', '▊': '#', '▉': '#',
	'▁': '_', '▂': '_', '▃': '.', '▄': '-', '▅': '=', '▆': '+', '▇': '#',
	'·': '.', '…': '~', '→': '>', '←': '<', '↑': '^', '↓': 'v', '≠': '!', '±': '~', '–': '-', '—': '-', '−': '-',
	'“': '"', '”': '"', '’': '\'', '‹': '<', '›': '>', '\u00a0': ' ', '≥': '>', '≤': '<',
}

// ASCII has the grid drawn with the signs of ASCII alone, for terminals that know no others. Letters lose their
// accents, and what has no sign of its own becomes a question mark.
func (g *Grid) ASCII() {
	for n := range g.cells {
		c := &g.cells[n]
		switch {
		case c.r == taken:
			c.r = ' '
		case c.r >= 0x7f:
			c.r = ascii(c.r)
		}
		c.more = ""
	}
}

func ascii(r rune) rune {
	if p, ok := plain[r]; ok {
		return p
	}
	for _, base := range norm.NFD.String(string(r)) {
		if base < 0x7f {
			return base
		}
		break
	}
	return '?'
}
