// Package nettest has machines for tests that a network connects, and which can be cut off from it or from each other:
// network namespaces of the kernel, on one bridge. They have the files and processes of this machine.
//
//	net := nettest.New(t, "pier", "quay")
//	cmd := net.Command("pier", "vaiven", "keep", "sailings.yaml")
//	net.Cut("pier") // nobody reaches it
package nettest
