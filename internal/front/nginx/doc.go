// Package nginx steers an nginx by a file of ours that its configuration includes:
// which part of the requests goes to green by which key, and the instances of both
// sides as upstream groups.
//
// The rest of the configuration is the operator's: it includes the file within http,
// and passes requests on to http://$vaiven_sailings. Every change is a reload, never a
// restart; docs/fronts.md says what becomes of kept connections. Requests are counted
// from an access log in a format that the file defines, because nginx has no counts of
// upstream servers.
package nginx
