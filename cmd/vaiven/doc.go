// Command vaiven takes a service from its blue stack to its green one and back.
//
//	vaiven demo                            see it with made-up data
//	vaiven open sailings.yaml              the screen
//	vaiven cross sailings.yaml --version 4.3.0 --yes
//	vaiven back sailings.yaml              all traffic home, now
//
// This package holds flags, wiring and exit codes; what the commands do is in the
// packages below internal.
package main
