// Package forecast says, before a crossing begins, what its route would do to users if the new side
// were bad: how likely a fault is found on each leg, and what it costs until then.
//
// It plays the guards as they are on traffic like that of now, many times over, always with the
// same random numbers: a forecast moves only when what it is reckoned from does. The package is
// pure.
package forecast
