// Package delivered knows builds by what was delivered: files, folders and links, before anything of them was ever
// started.
//
// What running a build adds to its folder, such as caches and logs, does not make it another one.
package delivered
