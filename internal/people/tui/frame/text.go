package frame

import (
	"fmt"
	"time"

	"vaiven/internal/core/engine"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/people/tui/theme"
	"vaiven/internal/words"
)

// Milliseconds is a time that is usually short: "0.8 ms", "12 ms", "1.4 s".
func Milliseconds(d time.Duration) string {
	ms := d.Seconds() * 1000
	switch {
	case ms < 1 && ms > 0:
		return fmt.Sprintf("%.1f ms", ms)
	case ms < 1000:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.1f s", ms/1000)
}

// Rate is requests a second.
func Rate(r float64) string {
	if r > 0 && r < 10 {
		return fmt.Sprintf("%.1f /s", r)
	}
	return fmt.Sprintf("%.0f /s", r)
}

// Percent is a part of a whole: two decimals while it is small, none when large.
func Percent(p float64) string {
	switch p *= 100; {
	case p == 0:
		return "0 %"
	case p < 1:
		return fmt.Sprintf("%.2f %%", p)
	case p < 10:
		return fmt.Sprintf("%.1f %%", p)
	}
	return fmt.Sprintf("%.0f %%", p)
}

// About is a number with what it may be off by, which is left out where that is nothing.
func About(n int64, off float64) string {
	if off <= 0 {
		return words.Thousands(n)
	}
	return words.Thousands(n) + " ±" + words.Thousands(int64(off+0.5))
}

// bars are the block elements from low to high.
var bars = []rune("▁▂▃▄▅▆▇") // none fills its row, so that rows stay apart

// Spark draws values as bars against the greatest of them and a floor, so that
// noise does not fill the height. Values below zero are marked as wrong.
func Spark(g *cells.Grid, x, y, width int, values []float64, floor float64, good, bad cells.Style) {
	values = values[max(0, len(values)-width):]
	top := floor
	for _, v := range values {
		top = max(top, v)
	}
	x += width - len(values)
	for i, v := range values {
		if v < 0 {
			g.Set(x+i, y, '▲', bad)
			continue
		}
		step := 0
		if top > 0 {
			step = int(v / top * float64(len(bars)-1))
		}
		g.Set(x+i, y, bars[step], good)
	}
}

// Aged is a figure with what its age makes of it: bright while fresh, dim and called old
// beyond twice its interval, and struck out for its age beyond ten times.
func Aged(t theme.Theme, text string, age, every time.Duration, fresh cells.Style) (string, cells.Style) {
	switch {
	case age > engine.Stale*every:
		return "— " + words.Age(age), t.Label
	case age > 2*every+time.Second/4: // a reading takes its time to arrive
		return text + " old", t.Label
	}
	return text, fresh
}

// Sparks draws fractions between 0 and 1 as blocks, joined to fit a width; where there
// is nothing (a value below 0), a space.
func Sparks(values []float64, width int) string {
	const blocks = "▁▂▃▄▅▆▇█"
	levels := []rune(blocks)
	n := min(width, len(values))
	out := make([]rune, 0, n)
	for k := range n {
		sum, count := 0.0, 0
		for _, v := range values[k*len(values)/n : (k+1)*len(values)/n] {
			if v >= 0 {
				sum, count = sum+v, count+1
			}
		}
		if count == 0 {
			out = append(out, ' ')
			continue
		}
		out = append(out, levels[min(int(sum/float64(count)*float64(len(levels))), len(levels)-1)])
	}
	return string(out)
}
