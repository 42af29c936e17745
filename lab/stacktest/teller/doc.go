// Command teller is an instance that tells all it knows, to everybody who asks and to its
// output: its environment and what it was asked, in every way of writing. What Vaiven makes
// of that must show no secret.
package main
