// Package logbook is the durable record of a service: every event of its crossings, and of
// what was done by hand, in SQLite.
//
// What happened stands in it, never what was asked for and might have been refused, so it
// can always be read; what a newer Vaiven wrote is kept and passed over, and what older
// ones wrote is translated when the book is opened. The package decides nothing.
package logbook
