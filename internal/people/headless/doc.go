// Package headless does without a screen what the screen does with one.
//
// [Cross], [Raise], [Prove], [Shift], [Retire] and [Follow] are clients of the keeper like any
// other. [Back] needs no keeper and no logbook: it goes home, and its record is the order at the
// front, which the next keeper takes into the logbook. [Looking.Differ] needs none either, and
// changes nothing.
package headless
