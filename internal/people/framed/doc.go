// Package framed runs the program's screens. In tests it numbers what they draw, so that a test knows which drawing it
// looks at:
//
//	p := framed.New(ctx, model, 60)
//	final, err := p.Run()
//
// With [Numbered] in the environment, the last row of the terminal is not the screen's: it says which process drew it,
// how many keys that had taken in, and how many rows the terminal has. A drawing that another process left, or one from
// before a key or a resize, has other numbers.
package framed
