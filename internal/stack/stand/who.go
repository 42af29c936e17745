package stand

import (
	"context"
	"fmt"
	"os"
	"path"
	"regexp"
	"strings"
)

// Who is who listens at an address of this machine. What is not known is empty.
type Who struct {
	PID       int
	Command   []string
	Unit      string // of systemd
	Container string // its id
}

// containerIn finds the id of a container in the name of a control group: docker-ID.scope, /docker/ID, libpod-ID.
var containerIn = regexp.MustCompile(`(?:docker|libpod|cri-containerd|crio)[-/]([0-9a-f]{64})`)

// WhoListens finds who listens at an address, the zero value if that is nobody of this machine or cannot be told.
func WhoListens(ctx context.Context, address string) Who {
	if !isHere(address) {
		return Who{}
	}
	p, ok := look(ctx, address)
	if !ok {
		return Who{}
	}
	w := Who{PID: p.pid}
	if data, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", p.pid)); err == nil {
		w.Command = strings.Split(strings.TrimRight(string(data), "\x00"), "\x00")
	}
	data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cgroup", p.pid)) // without it nothing is known of that
	for line := range strings.Lines(string(data)) {
		_, group, _ := strings.Cut(strings.TrimSpace(line), "::")
		if m := containerIn.FindStringSubmatch(line); m != nil {
			w.Container = m[1]
		}
		if unit := path.Base(group); strings.HasSuffix(unit, ".service") && strings.Contains(group, "/system.slice/") {
			w.Unit = unit
		}
	}
	if w.Container != "" {
		w.Unit = "" // the engine's
	}
	return w
}
