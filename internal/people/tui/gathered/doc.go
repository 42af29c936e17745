// Package gathered is the page of the evidence: what both sides answered since the crossing began, as
// each guard counts it, and how sure that made it, moment by moment.
package gathered
