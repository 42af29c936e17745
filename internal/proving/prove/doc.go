// Package prove finds out whether the spare side is good, before users meet it.
//
// It looks whether all instances are there, are what was raised and are healthy,
// warms them up, makes the smoke checks, asks for what the side depends on from
// where each instance stands (and from the live side, to tell the two apart),
// compares the sides, and sends both the same requests. What it finds is package
// proof's to judge.
package prove
