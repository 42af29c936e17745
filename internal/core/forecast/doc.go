// Package forecast says, before a crossing begins, what its route would do to users if the new side
// were bad: how likely a fault is found on each leg, and what it costs until then.
//
//	t := forecast.Traffic{Rate: 340, Failing: 0.001}
//	t.Find(2500, split.Green, g).After // until a fault in 5 % of the answers is found at 25 %
//	w := forecast.Question{Traffic: t, Guarding: g, Target: split.Green, Keep: keep}.Weigh(legs)
//	w.Harm / w.HarmAtOnce              // what legs are good for
//
// It plays the guards as they are on traffic like that of now, many times over, always with the
// same random numbers: a forecast moves only when what it is reckoned from does. The package is
// pure.
package forecast
