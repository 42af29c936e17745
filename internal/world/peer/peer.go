package peer

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"os"
	"os/user"
	"slices"
	"strconv"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Peer is a process at the other end of a connection.
type Peer struct {
	UID     int
	Process int
	Name    string   // of the user; the number where it has none
	Groups  []string // all that it is in, by name; the number of one that has none
	GIDs    []int    // the same by number
}

// Of is who is at the other end of a connection. An error says that it cannot be told.
func Of(c net.Conn) (p Peer, err error) {
	u, ok := c.(interface {
		SyscallConn() (syscall.RawConn, error)
	})
	if !ok {
		return p, fmt.Errorf("%T is no Unix socket", c)
	}
	raw, err := u.SyscallConn()
	if err != nil {
		return p, err
	}
	var errPeer error
	if err := raw.Control(func(fd uintptr) { p, errPeer = at(fd) }); err != nil {
		return p, err
	}
	if errPeer != nil {
		return p, fmt.Errorf("whose connection it is cannot be told: %w", errPeer)
	}
	number := strconv.Itoa(p.UID)
	if p.Name = number; p.UID >= 0 {
		if u, err := user.LookupId(number); err == nil {
			p.Name = u.Username
		}
	}
	p.Groups = groupNames(p.GIDs)
	return p, nil
}

// at asks the kernel, see socket(7) and unix(7).
func at(fd uintptr) (p Peer, err error) {
	cred, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED)
	if err != nil {
		return p, err
	}
	p.UID, p.Process, p.GIDs = int(cred.Uid), int(cred.Pid), []int{int(cred.Gid)}
	more, err := groupsAt(fd)
	if errors.Is(err, unix.ENOPROTOOPT) { // a kernel from before 4.13
		return p, nil
	}
	for _, gid := range more {
		if !slices.Contains(p.GIDs, gid) {
			p.GIDs = append(p.GIDs, gid)
		}
	}
	return p, err
}

// groupsMost is how many groups the kernel lets a process have.
const groupsMost = 65536

// groupsAt are the supplementary groups: the kernel writes as many numbers of four bytes as there are, and says how
// many there would be where they have no room.
func groupsAt(fd uintptr) ([]int, error) {
	buffer := make([]byte, 4*64)
	for {
		size := uint32(len(buffer))
		_, _, errno := unix.Syscall6(unix.SYS_GETSOCKOPT, fd, unix.SOL_SOCKET, unix.SO_PEERGROUPS,
			uintptr(unsafe.Pointer(&buffer[0])), uintptr(unsafe.Pointer(&size)), 0)
		switch {
		case errno == unix.ERANGE && int(size) > len(buffer) && size <= 4*groupsMost:
			buffer = make([]byte, size)
			continue
		case errno != 0:
			return nil, errno
		}
		var list []int
		for at := 0; at+4 <= int(size); at += 4 {
			list = append(list, int(binary.NativeEndian.Uint32(buffer[at:])))
		}
		return list, nil
	}
}

// Self is who runs this process.
func Self() string { return User(os.Geteuid()) }

// User is the name of a user of this machine, with the number where there is none.
func User(uid int) string {
	number := strconv.Itoa(uid)
	if u, err := user.LookupId(number); err == nil {
		return u.Username
	}
	return "user " + number
}

// Named is a user of this machine as they would come by themselves, with their groups.
func Named(name string) (p Peer, err error) {
	u, err := user.Lookup(name)
	if err != nil {
		return p, fmt.Errorf("there is no user %q on this machine", name)
	}
	p.Name = u.Username
	if p.UID, err = strconv.Atoi(u.Uid); err != nil {
		return p, err
	}
	numbers, err := u.GroupIds()
	if err != nil {
		return p, fmt.Errorf("which groups %s is in: %w", name, err)
	}
	for _, number := range numbers {
		if gid, err := strconv.Atoi(number); err == nil {
			p.GIDs = append(p.GIDs, gid)
		}
	}
	p.Groups = groupNames(p.GIDs)
	return p, nil
}

// groupNames are the names of groups; the number of one that has none.
func groupNames(gids []int) (names []string) {
	for _, gid := range gids {
		name := strconv.Itoa(gid)
		if g, err := user.LookupGroupId(name); err == nil {
			name = g.Name
		}
		names = append(names, name)
	}
	return names
}

// Group is the number of a Unix group of this machine.
func Group(name string) (int, error) {
	g, err := user.LookupGroup(name)
	if err != nil {
		return -1, fmt.Errorf("there is no Unix group %q on this machine: addgroup --system %[1]s makes one", name)
	}
	return strconv.Atoi(g.Gid)
}

// Host is what this machine calls itself.
func Host() string {
	name, err := os.Hostname()
	if err != nil {
		return "this machine"
	}
	return name
}
