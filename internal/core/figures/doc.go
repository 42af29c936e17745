// Package figures turns a front's running counts into figures over a time:
// requests a second, failing and slow answers, latencies.
//
//	var s figures.Series
//	s.Add(reading) // with every reading of the front
//	f := s.Over(split.Green, now.Add(-10*time.Second), 250*time.Millisecond)
//	f.P99
//
// It bears a front that starts anew and instances that come and go: what is
// counted down is taken as counted from zero. The package holds no clock.
package figures
