// Package figures turns a front's running counts into figures over a time:
// requests a second, failing and slow answers, latencies.
//
// It bears a front that starts anew and instances that come and go: what is
// counted down is taken as counted from zero. The package holds no clock.
package figures
