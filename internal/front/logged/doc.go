// Package logged counts what a proxy's instances answered from its access log, for
// proxies that do not count it themselves.
//
// The lines are JSON objects with the upstream servers that were asked, their statuses
// and times. A request that was tried at several counts for the last one, and as a
// failure for the others. Counts begin when the tally is made.
package logged
