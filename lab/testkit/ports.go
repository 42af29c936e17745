package testkit

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
)

// Where the tests' ports lie: below those that the system gives to connections, and apart from the demo's.
const (
	firstPort  = 10_000
	blockPorts = 50
	blocks     = 190
	usersFrom  = 150 // the first block of tests that run as another user than root, who see no locks of each other's
)

// block is the block of ports that the next ones are taken from.
var block = struct {
	mu         sync.Mutex // protects all
	next, left int        // port, and how many are left of its block
	number     int        // of the block after it
	held       []*os.File // with the locks of all blocks, until the program ends
}{}

// Ports is a range of ports that nobody listens on. They are never given again while the test binary runs, and not to
// another one that runs at the same time, so that a server may listen there at any time later.
func Ports(t testing.TB, n int) (first, last int) {
	t.Helper()
	block.mu.Lock()
	defer block.mu.Unlock()
	for range 2 * blocks {
		for block.left < n {
			takeBlock(t, n)
		}
		first = block.next
		block.next, block.left = block.next+n, block.left-n
		if allFree(first, n) {
			return first, first + n - 1
		}
	}
	t.Fatal("there is no range of free ports")
	return 0, 0
}

// Address is one of loopback at which nobody listens, with a port by [Ports].
func Address(t testing.TB) string {
	t.Helper()
	port, _ := Ports(t, 1)
	return fmt.Sprintf("127.0.0.1:%d", port)
}

// takeBlock takes the next blocks that hold n ports, in their order.
func takeBlock(t testing.TB, n int) {
	t.Helper()
	dir := filepath.Join(os.TempDir(), fmt.Sprintf("vaiven-ports-%d", os.Getuid()))
	if err := os.MkdirAll(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	from, end := 0, usersFrom
	if os.Getuid() != 0 {
		from, end = usersFrom, blocks
	}
	block.number = max(block.number, from)
	block.left = 0
	for block.left < n {
		if block.number >= end {
			t.Fatalf("all ports from %d on are taken: other tests hold them", firstPort+from*blockPorts)
		}
		number := block.number
		block.number++
		f, err := os.OpenFile(filepath.Join(dir, fmt.Sprint(number)), os.O_CREATE|os.O_RDWR, 0o600)
		if err != nil {
			t.Fatal(err)
		}
		if syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
			f.Close()
			block.left = 0 // what follows is not beside it
			continue
		}
		block.held = append(block.held, f)
		if block.left == 0 {
			block.next = firstPort + number*blockPorts
		}
		block.left += blockPorts
	}
}

func allFree(first, n int) bool {
	for port := first; port < first+n; port++ {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			return false
		}
		l.Close()
	}
	return true
}
