// Package survey reads a running proxy and what is behind it, and writes a first plan: the front as it
// is, both sides as far as they can be told apart, checks that were tried and pass, and a comment
// wherever a person has to decide. It changes nothing.
package survey
