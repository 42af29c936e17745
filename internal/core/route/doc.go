// Package route describes the planned way of the traffic and what it will cost.
//
// A [Route] is an ordered list of legs. Its shares are parts of the way: 5 %
// means that the side being crossed to gets 5 % of all requests, whichever side
// that is. [split.Toward] turns a part into the share on green.
//
// The package is pure, and it does not decide when to go on; package crossing
// does.
package route
