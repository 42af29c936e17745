// Package judge says whether a service was treated as promised, from what can be seen of it from outside: what the
// front did, which instances stood and served, and what people said and were told. It knows nothing of the code that
// is judged, and asks it nothing, so that a fault of that code is none of the judgement.
//
//	j := judge.New(start)
//	j.Stands(at, split.Green, "green-1")
//	j.Proven(at, split.Green, "green-1")
//	j.Share(at, judge.Vaiven, 25*split.Percent)
//	if broken := j.Broken(); broken != "" { ... }
//
// What happens is told it in the order in which it happens. One judge is for one run, and for one goroutine.
package judge
