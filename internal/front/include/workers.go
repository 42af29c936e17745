package include

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"vaiven/internal/front"
	"vaiven/internal/world/place"
)

// Workers are the children of a process of a machine that take requests, as serves says of their command
// lines.
func Workers(ctx context.Context, on place.Machine, master string, serves func(command string) bool) ([]place.Process,
	error) {
	list, err := on.Children(ctx, master)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: there is no process %s", front.ErrUnreachable, master)
	}
	return slices.DeleteFunc(list, func(p place.Process) bool { return !serves(p.Command) }), err
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
func AllNew(before, now []place.Process) bool {
	return len(now) > 0 && !slices.ContainsFunc(now, func(w place.Process) bool { return Among(before, w) })
}

// AnyNew reports whether a worker has come since.
func AnyNew(before, now []place.Process) bool {
	return slices.ContainsFunc(now, func(w place.Process) bool { return !Among(before, w) })
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
