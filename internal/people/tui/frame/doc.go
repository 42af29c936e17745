// Package frame is what all views share: the line for what needs a person, the line
// of keys, and how figures are written.
//
//	frame.Keys(g, t, 3, h-1, hints, wheel)
//	text := frame.Age(now.Sub(reading.At)) // "0.4 s"
package frame
