// Package fronttest is the suite that every front driver passes against its real
// proxy, with requests flowing at all times and every answer looked at.
//
//	func TestConformance(t *testing.T) {
//		fronttest.Run(t, fronttest.System{Open: func(t *testing.T, w *fronttest.World) fronttest.Proxy { ... }})
//	}
//
// Each case has a rule, a promise to whoever uses a front, which it prints. A system says which
// abilities it lacks, and is held to everything else; [Rules] holds fronts in memory to what can
// be seen without a request.
//
// A request is lost if it got a wrong answer or none. A kept connection that the proxy
// closed while it was idle, so that a request of which no byte was answered had to be
// sent again, is counted apart (RFC 9110 section 9.2.2 lets clients do so).
package fronttest
