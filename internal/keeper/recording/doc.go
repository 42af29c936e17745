// Package recording keeps what was seen of a crossing, second by second, in one file beside the logbook, so that it can
// be looked at again as it was seen: figures, instances, guards, the door, and the situation as the value that was
// shown. Nothing is judged anew.
//
// A file is members of gzip, one after the other, of JSON lines: zcat shows it. A line has the parts of the snapshot
// that have changed since the line before; the first line of a member has all. What was cut off or damaged costs its
// member alone. Nothing depends on a recording, so it is the first thing that is given up: where the disk is nearly
// full or does not answer, there are no lines of that time, and that is a hole.
package recording
