// Package durable replaces small files so that a crash leaves them whole.
//
//	err := durable.WriteFile("front.json", data)
//
// It is for notes of a few kilobytes with one writer; it does not lock. A [Slot] has several
// writers, of whom one may have the last word.
package durable
