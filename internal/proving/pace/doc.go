// Package pace does something many times, no faster than it was asked.
//
//	pace.Each(ctx, 1000, 20*time.Millisecond, func(int) chan struct{} { return room }, send)
package pace
