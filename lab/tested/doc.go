// Command tested is go test, on a machine that may stand still: what fails while it did so says nothing of the program,
// and is tried again alone. On a machine that goes on a failure is one at once. It takes go test's flags, each as one
// word, and packages.
package main
