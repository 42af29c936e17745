// Package tryout tries split keys on an access log.
//
// Keys are those of a plan, and some more that a log can show: the clock, and any field
// of a JSON log. What a line lacks, such as a cookie, is replaced by the client's
// address, as the fronts do. The arithmetic is package trial's.
package tryout
