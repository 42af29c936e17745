// Package plan is what a plan says, as values: what a service consists of, how
// its traffic is to cross, and which rules are watched meanwhile.
//
// The package knows no file format and does no I/O, so that the core can work
// with a plan. Package planfile reads plan files.
package plan
