// Package durable replaces small files so that a crash leaves them whole.
//
// It is for notes of a few kilobytes with one writer; it does not lock. What several write,
// on whatever machine, is a slot of package place.
package durable
