// Package told steers fronts that are told changes over an interface of their own, and
// asked afterwards what is in force: the order of a change is the same for all of them.
//
// It knows no proxy, and keeps nothing but the revision of what it saw last.
package told
