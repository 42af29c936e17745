// Package change says what a change of the share would do at the front, before it is made: the commands, or the lines
// of the file, with what goes and what comes.
package change
