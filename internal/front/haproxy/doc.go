// Package haproxy steers an HAProxy through its run-time interface, the Unix socket of
// its configuration's "stats socket" line at level admin.
//
// There are two ways. With weights, servers of both sides stand in one backend, told
// apart by what their names begin with; the side that gains is raised before the other
// is lowered, so that there is no moment with neither. With a map, each side has a
// backend, and the configuration holds a random number or the hash of a key against a
// share that is looked up in the map; one command changes it.
//
// What is set at run time is kept for a reload: in the server state file and in the
// file of the map. The package does not write HAProxy's configuration and never
// reloads it: what has to change in it before, a survey makes on copies, which HAProxy
// tests.
package haproxy
