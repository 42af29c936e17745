// Package evidence says how much a few counted answers prove.
//
// All that it says may be looked at after every answer, for as long as one likes: the chance
// that it is ever wrong stays below the stated level. That is what a guard needs which looks
// twice a second.
//
// A [Block] is what both sides answered over the same time, at the same share: what hits both
// cancels out. [Worse] finds a fault whenever it begins, [Excluded] says which faults there are
// not, and [Between] how far the sides lie apart. [Rate] and [Exact] are about one rate.
//
// The values are bets: one that starts at 1 and grows on average by nothing as long as the
// hypothesis holds exceeds 1/α with a chance of α at most (Ville, "Étude critique de la notion
// de collectif", 1939; Grünwald, de Heide and Koolen, "Safe testing", JRSS B 86, 2024).
//
// The package is pure and knows nothing of where the counts come from.
package evidence
