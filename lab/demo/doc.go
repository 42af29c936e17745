// Package demo is the ferry scenario: a made-up ferry company whose sailing
// search is released while its passengers use it.
//
//	s, err := demo.Build(ctx, demo.Options{Program: os.Args[0], Fault: demo.Errors})
//	defer s.Remove(ctx)
//
// It builds everything in a temporary folder: a plan, builds of two versions, a
// front, three blue instances and a stream of passengers, all of them real
// processes on loopback. What a crashed demo leaves behind, the next one clears.
package demo
