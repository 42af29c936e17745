// Package secret reads the secrets that a plan names, puts them where they are
// used, and takes them out of whatever is shown, recorded or said.
//
// It keeps nothing on disk, and it does not guard the memory of the process.
package secret
