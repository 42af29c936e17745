// Package check asks instances, and what they depend on, whether they are well.
//
// A kind of check is a type in package plan and a method of [Target] here, which
// says what was wanted and what came. Checks of instances go to their own
// addresses, past every front and cache; checks of dependencies go out from where
// an instance stands. The judgement itself is package proof's.
package check
