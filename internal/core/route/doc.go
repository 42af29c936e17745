// Package route describes the planned way of the traffic and what it will cost.
//
// A [Route] is an ordered list of legs. Its shares are parts of the way: 5 %
// means that the side being crossed to gets 5 % of all requests, whichever side
// that is. [split.Toward] turns a part into the share on green.
//
//	r := route.Route{{Part: 5 * split.Percent, Dwell: 2 * time.Minute}, {Part: split.Whole}}
//	f := r.Forecast(30*time.Minute, 0)
//	f.Total // 32m0s, and however long people take where they are asked
//
// The package is pure, and it does not decide when to go on; package crossing
// does.
package route
