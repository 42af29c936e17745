// Package headless does without a screen what the screen does with one.
//
//	sum, err := headless.Cross(ctx, client, headless.Options{Version: "4.3.0", By: "marit", Yes: true, Emit: emit})
//	sum.Outcome // "settled"
//
// [Cross], [Raise], [Prove], [Shift], [Retire] and [Follow] are clients of the keeper like any
// other. [Back] needs no keeper and no logbook: it goes home, and its record is the order at the
// front, which the next keeper takes into the logbook. [Looking.Differ] needs none either, and
// changes nothing.
package headless
