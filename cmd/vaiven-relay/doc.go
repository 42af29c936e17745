// Command vaiven-relay connects from where it is started: Vaiven puts it beside a container
// whose needs are to be asked for from there. What it reads and says stands in package
// place. With --wait it does nothing until it is ended, or for ten minutes.
//
// It is a program of its own because it goes into an image: it is small, linked statically,
// and found beside vaiven.
package main
