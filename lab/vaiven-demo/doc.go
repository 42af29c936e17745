// Command vaiven-demo builds up a made-up ferry company and runs vaiven, which stands beside it, on that: on the
// screen, or a whole crossing by itself. Its hidden commands are the company's services.
package main
