// Package situation says of a service what has to be said first: what is wrong or waits, since when, for how many
// users, and what helps. Line 2 of every screen, what commands print while they wait, and notices are drawn from it;
// nothing else compares figures or picks a time over which they are taken.
//
// It is given a view and the time, and says the same of the same. Sentences are made of it elsewhere.
package situation
