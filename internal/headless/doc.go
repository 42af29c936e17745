// Package headless does without a screen what the screen does with one: it takes
// a crossing from its beginning to its end, and goes back.
//
//	sum, err := headless.Cross(ctx, client, headless.Options{Version: "4.3.0", By: "marit", Yes: true, Emit: emit})
//	sum.Outcome // "settled"
//
// [Cross] is a client of the keeper like any other. [Back] needs no keeper: it
// reads what it can, goes home, and writes down what it can.
package headless
