// Package place is where an instance stands: connections are made from there,
// commands run there, and files read there, so that a dependency is asked for by
// whoever will need it.
//
// [Local] is this machine. Stack drivers yield the others. A place that a front stands on is
// a [Machine]: files are changed there as well, and a [Slot] is a file that several do. For places that can
// only run a program, package place has the relay: one line that says where to
// connect, one line that says whether it did, then the bytes of the connection.
package place
