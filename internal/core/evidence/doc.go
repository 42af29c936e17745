// Package evidence says how much a few counted answers prove.
//
// Its intervals are always valid: they may be looked at after every answer, for
// as long as one likes, and the chance that they ever miss the true rate stays
// below the stated level. That is what a guard needs which looks every second.
//
//	c := evidence.Compare(
//		evidence.Count{Bad: 4, Of: 5100},  // the live side
//		evidence.Count{Bad: 31, Of: 290},  // the side on trial
//		evidence.Bound{Margin: 0.005, Sure: 0.99, AtLeast: 50})
//	c.Verdict // evidence.Worse
//
// The package is pure and knows nothing of where the counts come from. It does
// not compare latencies as such, only how many answers fell on the wrong side
// of a bound.
package evidence
