// Package delivered knows builds by what was delivered: files, folders and links, before anything of them was ever
// started.
//
//	id, err := delivered.Digest("/srv/builds/4.3.0")   // names it
//	m, err := delivered.Take("/srv/builds/4.3.0")      // remembers each file of it
//	list := m.Differs()                                // what is not as it was
//
// What running a build adds to its folder, such as caches and logs, does not make it another one.
package delivered
