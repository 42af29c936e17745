// Subject is the program that stack drivers are tried with: an instance that
// behaves as it is told.
//
//	subject -listen 127.0.0.1:8080 -as later
//
// It is built by package stacktest, linked statically, so that an image can consist
// of it alone. It is also a relay (-relay).
package main
