package frame

// Scroll is how many lines of a text are above the first one that is drawn, as far as it has that many.
type Scroll int

// ScrollKey reports whether a key scrolls.
func ScrollKey(key string) bool { return steps[key] != 0 }

// steps are by how many lines a key scrolls, or moves a cursor.
var steps = map[string]int{"up": -1, "down": 1, "pgup": -10, "pgdown": 10}

// Steps is by how many lines a key moves, 0 if it does not.
func Steps(key string) int { return steps[key] }

// Press is the scroll after a key.
func (s Scroll) Press(key string) Scroll { return max(s+Scroll(steps[key]), 0) }

// Of is the first of so many lines that is drawn, where there is room for some.
func (s Scroll) Of(lines, room int) int { return min(int(s), max(lines-room, 0)) }

// Window is the first of so many rows that is drawn, where there is room for some, so that the one at the cursor is
// seen: in the middle as far as there are rows above and below it.
func Window(at, rows, room int) int { return min(max(at-room/2, 0), max(rows-max(room, 1), 0)) }
