// Package process is the stack driver for processes on this machine.
//
//	d := process.New(plan)
//	instances, err := d.Raise(ctx, split.Green, "4.3.0")
//
// Each instance is a session of its own and outlives Vaiven. The driver keeps a
// note per instance and recognises it again by process id together with its
// start time, so that a reused id is never mistaken for it. It does not restart
// what ends, and it does not look whether an instance answers.
//
// It needs Linux: it reads /proc.
package process
