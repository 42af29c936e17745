// Package nginx steers an nginx by a file of ours that its configuration includes:
// which part of the requests goes to green by which key, and the instances of both
// sides as upstream groups. Or the file stands within an upstream block that is there,
// and holds the servers of both sides by weights.
//
// The rest of the configuration is the operator's: it includes the file, and passes
// requests on to http://$vaiven_sailings, or to its upstream as ever. What has to change
// for that a survey makes, and has nginx test on copies. Every change is a reload, never a
// restart; docs/fronts.md says what becomes of kept connections. Requests are counted
// from an access log in a format that the file defines, because nginx has no counts of
// upstream servers.
package nginx
