// Package several runs the keepers of all plans below a folder: a process each, so that one that is killed, hangs,
// panics or leaks touches no other. What it does about one is decided by [Keeper.Next] alone, from what it sees of it:
// nothing that it knows is needed by the keepers, which go on when it ends in any way but a proper one, and are found
// again by the next.
package several
