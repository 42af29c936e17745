// Package fleet is services that depend on each other: which of them cross after which, how many at a time, what is
// given up with what, and how long it takes in all.
package fleet
