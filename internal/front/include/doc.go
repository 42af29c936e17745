// Package include changes a proxy by a file of ours that its configuration includes:
// tested with the proxy's own checker before it is put in place, replaced in one step,
// loaded by a reload and confirmed, and put back if anything fails.
//
// The candidate is tested in a copy of the configuration in which it stands in the
// place of the file: the file itself is not touched before the checker has agreed.
// What the file says is the driver's business. A change of other files, which a survey
// makes, is tested in the same way.
package include
