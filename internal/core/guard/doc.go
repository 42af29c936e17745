// Package guard evaluates the rules that are watched while the new side gets requests.
//
// A guard that lacks what it needs is unknown, which is not clear. The package is pure.
package guard
