package peer

import (
	"net"
	"os"
	"path/filepath"
	"slices"
	"testing"
)

// What the kernel says of a process at the other end is what that knows of itself.
func TestOf(t *testing.T) {
	l, err := net.Listen("unix", filepath.Join(t.TempDir(), "s"))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	client, err := net.Dial("unix", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer client.Close()
	c, err := l.Accept()
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	p, err := Of(c)
	if err != nil {
		t.Fatal(err)
	}
	groups, err := os.Getgroups()
	if err != nil {
		t.Fatal(err)
	}
	if p.UID != os.Geteuid() || p.Process != os.Getpid() || p.Name == "" || len(p.Groups) != len(p.GIDs) ||
		!slices.Contains(p.GIDs, os.Getegid()) {
		t.Errorf("%+v", p)
	}
	for _, gid := range groups {
		if !slices.Contains(p.GIDs, gid) {
			t.Errorf("group %d is missing: %+v", gid, p)
		}
	}
	one, other := net.Pipe()
	defer one.Close()
	defer other.Close()
	if p, err := Of(one); err == nil {
		t.Errorf("a pipe is %+v", p)
	}
}

func TestGroup(t *testing.T) {
	if gid, err := Group("root"); gid != 0 || err != nil {
		t.Errorf("root is %d, %v", gid, err)
	}
	if gid, err := Group("no-such-group"); err == nil {
		t.Errorf("it is %d", gid)
	}
}
