// Pool is a stand-in for a load balancer behind a vendor's interface: a pool of members with weights, which is
// changed over HTTP. Changes are accepted now and in force seconds later, now and then one is refused, and
// what is read lags behind. It is for trying a front's tool; see ../poolfront.
//
//	pool -listen 127.0.0.1:8080 -api 127.0.0.1:8081 -delay 2s -lag 1s -refuse 5
package main
