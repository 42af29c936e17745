// Package prober sends Vaiven's own steady stream of requests through the front
// and keeps the door log: which side, instance and version answered, how long it
// took, and the longest gap between good answers.
//
// Its requests refuse caches and carry a marker header. They are real requests
// and count in the front's figures; they stand in for no user.
package prober
