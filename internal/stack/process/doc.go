// Package process is the stack driver for processes on this machine.
//
// Each instance is a session of its own and outlives Vaiven. The driver keeps a
// note per instance and recognises it again by process id together with its
// start time, so that a reused id is never mistaken for it. It does not restart
// what ends, and it does not look whether an instance answers.
//
// It needs Linux: it reads /proc.
package process
