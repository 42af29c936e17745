package include

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"syscall"
	"time"

	"vaiven/internal/front"
	"vaiven/internal/world/place"
)

// Running is what runs of a server.
type Running struct {
	Workers []place.Process // those that serve
	// Idle is that no reload went on just before they were looked for: one that shows later has read the files as they
	// are now, or will be.
	Idle bool
}

// Workers are the children of a process of a machine that take requests, as serves says of their command lines. The
// process is told by a signal to reload.
func Workers(ctx context.Context, on place.Machine, master string, reloads syscall.Signal,
	serves func(command string) bool) (Running, error) {
	f, err := on.Family(ctx, master)
	if errors.Is(err, fs.ErrNotExist) {
		return Running{}, fmt.Errorf("%w: there is no process %s", front.ErrUnreachable, master)
	}
	return Running{Workers: slices.DeleteFunc(f.Children, func(p place.Process) bool { return !serves(p.Command) }),
		Idle: f.Waits(reloads)}, err
}

// PID reads a file with the number of a process.
func PID(ctx context.Context, on place.Machine, file string) (string, error) {
	data, err := on.ReadFile(ctx, file)
	if err != nil {
		return "", fmt.Errorf("%w: it is not running (%w)", front.ErrUnreachable, err)
	}
	return strings.TrimSpace(string(data)), nil
}

// AllNew reports whether every worker has come since.
func AllNew(before, now Running) bool {
	return len(now.Workers) > 0 &&
		!slices.ContainsFunc(now.Workers, func(w place.Process) bool { return Among(before.Workers, w) })
}

// AnyNew reports whether a worker has come since.
func AnyNew(before []place.Process, now Running) bool {
	return slices.ContainsFunc(now.Workers, func(w place.Process) bool { return !Among(before, w) })
}

// Among reports whether a process is one of some.
func Among(list []place.Process, p place.Process) bool {
	return slices.ContainsFunc(list, func(q place.Process) bool { return p.PID == q.PID && p.Ticks == q.Ticks })
}

// youngest is when the last of some workers was started, zero if that is not known.
func youngest(workers []place.Process) time.Time {
	var last time.Time
	for _, w := range workers {
		if w.Started.After(last) {
			last = w.Started
		}
	}
	return last
}
