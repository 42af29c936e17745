// Package link makes SSH connections to hosts that are known: by keys of files or of an agent, to
// hosts whose keys stand in a known_hosts file, and past others where that is the way.
//
//	client, err := link.Dial(ctx, link.Login{User: "deploy", Address: "10.1.0.5:22"})
//
// [Find] fills a login in from ~/.ssh/config, as people have it for ssh itself.
package link
