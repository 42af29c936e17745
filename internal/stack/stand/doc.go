// Package stand is the driver for instances that somebody else started: they stand, and a plan
// adopts them. It finds them at their addresses, as units of systemd here or on hosts, as containers,
// by a command, or in the front's own list; it says what they are, as far as that can be known, and
// never stops one.
//
// To raise such a side is to run the plan's own command that renews what stands, or nothing: then
// whoever raises it waits until it is at the version. To stop it does nothing.
package stand
