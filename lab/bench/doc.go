// Command bench measures the embedded front beside HAProxy and nginx, as plain
// reverse proxies in front of the same instances, and times its switch. It writes
// what it finds to a Markdown file. It also measures checks of many instances, and
// the same request to both sides, beside plain requests.
//
//	go run ./bench -vaiven bin/vaiven -out docs/benchmarks.md
//
// Fronts take turns, round by round, and are compared within a round, because the
// machine's speed drifts. Single figures mean little; the ratios do.
package main
