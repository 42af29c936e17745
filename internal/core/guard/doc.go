// Package guard evaluates the rules that are watched while the new side gets requests.
//
//	g := guard.New(p.Guards)
//	list := g.Evaluate(facts) // as time passes, whatever could be read
//	alarm, ok := guard.Gravest(list, target, state.Overruled)
//
// A guard that lacks what it needs is unknown, which is not clear. The package is pure.
package guard
