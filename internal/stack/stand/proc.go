package stand

import (
	"context"
	"encoding/hex"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"vaiven/internal/world/delivered"
	"vaiven/internal/world/place"
)

// process is one that listens at an address.
type process struct {
	pid     int
	ticks   string // its start, so that a number that is used again is another one
	started time.Time
	build   string // "" if it is not known
}

// processes knows who listens on this machine. It is safe for concurrent use.
type processes struct {
	look func(context.Context, string) (process, bool)

	mu     sync.Mutex          // protects what follows
	known  map[string]process  // by address
	sought map[string]*inquiry // the same; under way
}

// inquiry is one for who listens at an address. What it found is there once it is over.
type inquiry struct {
	over  chan struct{}
	found process
	ok    bool
}

// seekLimit bounds an inquiry: what a process was built from is read off a disk, which may be slow.
const seekLimit = time.Minute

func newProcesses() *processes {
	return &processes{look: look, known: map[string]process{}, sought: map[string]*inquiry{}}
}

// listens is the process that listens at an address of this machine, and false if it cannot be told, or not before the
// context ends: whoever asks later may have it. One that is known is looked for anew when it has ended.
func (p *processes) listens(ctx context.Context, address string) (process, bool) {
	p.mu.Lock()
	known, ok := p.known[address]
	p.mu.Unlock()
	if ok {
		if now, err := place.Look(strconv.Itoa(known.pid)); err == nil && now.Ticks == known.ticks {
			return known, true
		}
	}
	q := p.seek(ctx, address)
	select {
	case <-q.over:
		return q.found, q.ok
	case <-ctx.Done():
		return process{}, false
	}
}

// seek is the inquiry that is under way for an address, or else a new one. It outlasts whoever asked for it.
func (p *processes) seek(ctx context.Context, address string) *inquiry {
	p.mu.Lock()
	defer p.mu.Unlock()
	if q := p.sought[address]; q != nil {
		return q
	}
	q := &inquiry{over: make(chan struct{})}
	p.sought[address] = q
	go func() {
		limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), seekLimit)
		defer cancel()
		q.found, q.ok = p.look(limited, address)
		p.mu.Lock()
		defer p.mu.Unlock()
		delete(p.sought, address)
		delete(p.known, address)
		if q.ok {
			p.known[address] = q.found
		}
		close(q.over)
	}()
	return q
}

// look finds the process that listens at an address: of several that share the socket, the one that began first.
func look(ctx context.Context, address string) (process, bool) {
	inode := socket(address)
	if inode == "" {
		return process{}, false
	}
	want := "socket:[" + inode + "]"
	dirs, _ := filepath.Glob("/proc/[0-9]*") // none if there is no /proc
	first := process{}
	for _, dir := range dirs {
		if ctx.Err() != nil {
			return process{}, false
		}
		pid, err := strconv.Atoi(filepath.Base(dir))
		if err != nil || !holds(dir, want) {
			continue
		}
		p, err := place.Look(strconv.Itoa(pid))
		if err == nil && (first.pid == 0 || p.Started.Before(first.started) ||
			p.Started.Equal(first.started) && pid < first.pid) {
			first = process{pid: pid, ticks: p.Ticks, started: p.Started}
		}
	}
	if first.pid == 0 {
		return process{}, false
	}
	first.build = built(ctx, first.pid)
	return first, true
}

// holds reports whether a process has a file open.
func holds(dir, want string) bool {
	entries, err := os.ReadDir(dir + "/fd")
	if err != nil {
		return false // another user's, or gone
	}
	return slices.ContainsFunc(entries, func(e os.DirEntry) bool {
		to, err := os.Readlink(dir + "/fd/" + e.Name())
		return err == nil && to == want
	})
}

// built names what a process of this machine was built from, as a source of versions names builds.
func built(ctx context.Context, pid int) string {
	dir := fmt.Sprintf("/proc/%d", pid)
	exe, err := os.Readlink(dir + "/exe")
	if err != nil {
		return ""
	}
	if ofSystem(exe) {
		return identity(ctx, place.Local{}, strconv.Itoa(pid))
	}
	digest, err := delivered.Digest(dir + "/exe")
	if err != nil {
		return ""
	}
	return digest
}

// socket is the number of the socket that listens at an address (proc_net_tcp: local address, state 0A), "" if none
// does. One that listens at all addresses will do.
func socket(address string) string {
	host, port, err := net.SplitHostPort(address)
	n, errPort := strconv.ParseUint(port, 10, 16)
	if err != nil || errPort != nil {
		return ""
	}
	if host == "localhost" {
		host = "127.0.0.1"
	}
	ip := net.ParseIP(host)
	any := ""
	for _, file := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		data, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(data)) {
			f := strings.Fields(line)
			if len(f) < 10 || f[3] != "0A" {
				continue
			}
			at, atPort, _ := strings.Cut(f[1], ":")
			if p, err := strconv.ParseUint(atPort, 16, 16); err != nil || p != n {
				continue
			}
			switch local := ipOf(at); {
			case local.Equal(ip):
				return f[9]
			case local.IsUnspecified():
				any = f[9]
			}
		}
	}
	return any
}

// ipOf reads an address as /proc/net/tcp has it: words of four bytes, each in the machine's own order, which
// is little-endian on all that we build for.
func ipOf(text string) net.IP {
	raw, err := hex.DecodeString(text)
	if err != nil || len(raw)%4 != 0 {
		return nil
	}
	for n := 0; n < len(raw); n += 4 {
		slices.Reverse(raw[n : n+4])
	}
	return net.IP(raw)
}
