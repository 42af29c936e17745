// Package link makes SSH connections to hosts that are known: by keys of files or of an agent, to
// hosts whose keys stand in a known_hosts file, and past others where that is the way.
//
// [Find] fills a login in from ~/.ssh/config, as people have it for ssh itself.
package link
