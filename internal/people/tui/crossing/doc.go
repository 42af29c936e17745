// Package crossing is the main view: where is this release, and is it all right?
//
// It turns a snapshot, the time and the ghost of the bob into text. Left is blue,
// right is green, time runs down the middle. It does nothing else: keys are the
// root's.
package crossing
