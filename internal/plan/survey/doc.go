// Package survey reads a running proxy and what is behind it, and writes a first plan: the front as it
// is, both sides as far as they can be told apart, checks that were tried and pass, and a comment
// wherever a person has to decide. It changes nothing: what has to change in the proxy's configuration
// it makes on copies, which the proxy tests, and it tells whether users get the same once that is done.
package survey
