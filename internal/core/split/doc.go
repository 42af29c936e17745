// Package split says which side a request belongs to.
//
// A request has a key (a random draw, a cookie, a header or the client's
// address). The key's [Place] is a point in [0, 1), and the [Share] on green is
// a threshold over it: everything below goes to green. Raising the share
// therefore only ever moves places from blue to green, so a client that is on
// green stays there while green grows.
//
// Fronts that send requests to instances by whole numbers instead are told the
// [Weights] that [Weigh] finds for the shares.
//
// The package is pure. It does not read keys out of requests; a front does.
package split
