// Package httpd steers an Apache httpd with mod_proxy_balancer, in one of two ways.
//
// The balancer manager changes one worker with each request, at once and for all of
// httpd's processes; the side that gains comes first. Every address that an instance may
// have has to stand in the configuration as a member: one that is added at run time is
// not seen by all processes. A reload by somebody resets all members to what stands
// there, which is noticed and said.
//
// The include file holds the balancer with its members. Every change is a graceful
// reload, which holds up all requests for about a second: it is the second choice.
//
// Either way requests are counted from an access log, since the balancer counts how
// often a worker was chosen and not what it answered.
package httpd
