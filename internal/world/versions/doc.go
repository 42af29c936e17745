// Package versions finds the versions that exist, so that nobody types one blind.
//
// A version has a name and an identity: the digest of a build in a folder, the
// commit behind a tag of a git repository or on a branch, or the digest of an image
// in a registry. Two versions of one identity are the same build. The package
// makes and fetches no builds.
package versions
