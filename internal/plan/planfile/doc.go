// Package planfile reads the plan file: what a service consists of, and how its
// traffic is to cross, as the values of package plan.
//
// The format is strict: an unknown key, a missing unit or a share that rounds
// is a mistake. It is described in docs/plan.md. A plan may share a base with others:
// both are read as one. The package only reads; Check also looks whether what a plan
// names is there.
package planfile
