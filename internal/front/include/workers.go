package include

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"vaiven/internal/front"
	"vaiven/internal/place"
)

// Workers are the children of a process of a machine, each with its start, so that a number
// that is used again is another worker. serves says of a command line whether such a child
// takes requests.
func Workers(ctx context.Context, on place.Machine, master string, serves func(command string) bool) ([]string, error) {
	if _, err := on.Stat(ctx, "/proc/"+master); master == "" || err != nil {
		return nil, fmt.Errorf("%w: there is no process %s", front.ErrUnreachable, master)
	}
	candidates, err := children(ctx, on, master)
	if err != nil { // a kernel without such lists: all processes
		if candidates, err = on.Glob(ctx, "/proc/[0-9]*"); err != nil {
			return nil, err
		}
	}
	var list []string
	for _, dir := range candidates {
		data, err := on.ReadFile(ctx, filepath.Join(dir, "stat"))
		end := bytes.LastIndexByte(data, ')') // of the name, which may hold anything
		if err != nil || end < 0 {
			continue // gone
		}
		// From the third field on: state, parent, ..., start in ticks since boot (proc(5)).
		fields := strings.Fields(string(data[end+1:]))
		if len(fields) < 20 || fields[1] != master || fields[0] == "Z" {
			continue
		}
		command, err := on.ReadFile(ctx, filepath.Join(dir, "cmdline"))
		if err == nil && serves(string(command)) {
			list = append(list, filepath.Base(dir)+" "+fields[19])
		}
	}
	return list, nil
}

// children are the folders in /proc of a process's children, by the kernel's own lists.
// Those may leave some out while another ends (proc(5)), and then the next reading differs.
func children(ctx context.Context, on place.Machine, master string) ([]string, error) {
	read := func() (all []byte, err error) {
		lists, err := on.Glob(ctx, filepath.Join("/proc", master, "task", "*", "children")) // of its threads
		if err == nil && len(lists) == 0 {
			err = errors.ErrUnsupported
		}
		for _, file := range lists {
			list, errRead := on.ReadFile(ctx, file)
			all, err = append(all, list...), errors.Join(err, errRead)
		}
		return all, err
	}
	last, err := read()
	for err == nil {
		var again []byte
		if again, err = read(); bytes.Equal(again, last) {
			break
		}
		last = again
	}
	var dirs []string
	for _, pid := range strings.Fields(string(last)) {
		dirs = append(dirs, "/proc/"+pid)
	}
	return dirs, err
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
func AllNew(before, now []string) bool {
	return len(now) > 0 && !slices.ContainsFunc(now, func(w string) bool { return slices.Contains(before, w) })
}

// AnyNew reports whether a worker has come since.
func AnyNew(before, now []string) bool {
	return slices.ContainsFunc(now, func(w string) bool { return !slices.Contains(before, w) })
}

// youngest is when the last of some workers was started.
func youngest(ctx context.Context, on place.Machine, workers []string) (time.Time, error) {
	data, err := on.ReadFile(ctx, "/proc/stat")
	if err != nil {
		return time.Time{}, err
	}
	boot := int64(0)
	for line := range strings.Lines(string(data)) {
		if rest, ok := strings.CutPrefix(line, "btime "); ok {
			boot, _ = strconv.ParseInt(strings.TrimSpace(rest), 10, 64)
		}
	}
	latest := int64(0)
	for _, w := range workers {
		_, ticks, _ := strings.Cut(w, " ")
		n, _ := strconv.ParseInt(ticks, 10, 64)
		latest = max(latest, n)
	}
	if boot == 0 || latest == 0 {
		return time.Time{}, errors.New("when the workers were started is not known")
	}
	const perSecond = 100 // USER_HZ, the same on all of Linux's common systems
	return time.Unix(boot, latest*int64(time.Second)/perSecond), nil
}
