// Package rotate keeps files that programs go on writing to from growing without end: what they
// hold is copied aside, and they are cut to nothing. Whoever writes with O_APPEND goes on at the
// beginning.
//
// What is written between the copy and the cut is lost; it is a log.
package rotate
