// Package stack holds what every stack driver says about the instances of a
// side.
//
// The drivers are the packages below this one; what the keeper asks of a driver
// is declared there. Whether an instance is healthy is not for a driver to say.
package stack
