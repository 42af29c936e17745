// Package vaiven holds the rules that the whole project keeps, as tests: what the
// core may import, which way dependencies point, and that every package says what
// it is for.
//
//	go test .
//
// The program is cmd/vaiven, and everything it does is below internal.
package vaiven
