// Package stacktest is the suite that every stack driver passes, against the real
// system that it works on.
//
//	func TestConformance(t *testing.T) {
//		stacktest.Run(t, stacktest.System{Plan: newPlan, Driver: open, Kill: kill, Remains: remains})
//	}
//
// It says nothing of how fast a driver is.
package stacktest
