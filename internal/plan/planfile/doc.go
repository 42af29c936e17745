// Package planfile reads the plan file: what a service consists of, and how its
// traffic is to cross, as the values of package plan.
//
// The format is strict: an unknown key, a missing unit or a share that rounds
// is a mistake. It is described in docs/plan.md. The package only reads; it
// does not look whether what a plan names exists.
package planfile
