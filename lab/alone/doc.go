// Command alone runs a program in network, pid, mount and ipc namespaces of its own, with its own /dev/shm:
//
//	go test -exec bin/alone ./...
//
// Test binaries that run at the same time then share no port, and nothing of them is left when they end, whatever ended
// them. It needs root; started by another user, or where the kernel gives no namespaces, it says so and runs the
// program as it is. The exit status is the program's. Signals are passed on.
package main
