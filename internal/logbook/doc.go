// Package logbook is the durable record of all crossings of a service: every
// event with the effects that followed from it, in SQLite.
//
//	book, err := logbook.Open("logbook.db")
//	err = book.Append(ctx, state, event, effects) // on disk when it returns
//
// An event is appended before anything is done because of it, so a keeper that
// dies may repeat an effect but never forgets one. The package decides nothing.
package logbook
