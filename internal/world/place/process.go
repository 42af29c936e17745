package place

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Process is a process of a machine.
type Process struct {
	PID     string
	Ticks   string    // when it was started, in ticks since boot: a number that is used again is another process
	Started time.Time // the same, by the machine's clock; zero if it does not say when it was booted
	Command string    // its words, each with a zero at its end
}

// Family is a process, and those that it has started and that have not ended.
type Family struct {
	Children []Process

	// What the process itself was doing, from just before its children were looked for.
	awake bool   // it did something, or had to
	held  uint64 // signals that it has not taken yet or takes later, the lowest bit for the first
}

// Waits reports whether the process slept then, with no signal of a kind on its way to it. What is not known of it is
// no reason to think otherwise.
func (f Family) Waits(s syscall.Signal) bool { return !f.awake && f.held&(1<<(s-1)) == 0 }

// note takes in a line of the process's status (proc(5)).
func (f *Family) note(line string) {
	name, text, _ := strings.Cut(line, ":")
	switch text = strings.TrimSpace(text); name {
	case "State":
		f.awake = !strings.HasPrefix(text, "S")
	case "SigPnd", "ShdPnd", "SigBlk":
		bits, _ := strconv.ParseUint(text, 16, 64)
		f.held |= bits
	}
}

// Family is a process of this machine with those that it has started.
func (Local) Family(ctx context.Context, pid string) (Family, error) {
	return act(ctx, reads, "/proc/"+pid, func() (f Family, err error) {
		if _, err := os.Stat("/proc/" + pid); pid == "" || err != nil {
			return f, &fs.PathError{Op: "look at", Path: "/proc/" + pid, Err: fs.ErrNotExist}
		}
		status, _ := os.ReadFile("/proc/" + pid + "/status")
		for line := range strings.Lines(string(status)) {
			f.note(line)
		}
		dirs, err := childrenOf(pid)
		if err != nil { // a kernel without such lists: all processes
			if dirs, err = filepath.Glob("/proc/[0-9]*"); err != nil {
				return f, err
			}
		}
		boot, err := booted()
		if err != nil {
			return f, err
		}
		for _, dir := range dirs {
			p, of, err := look(filepath.Base(dir), boot)
			switch {
			case errors.Is(err, fs.ErrNotExist) || err == nil && of != pid: // gone, or another's
			case err != nil:
				return f, err
			default:
				f.Children = append(f.Children, p)
			}
		}
		return f, nil
	})
}

// Look is a process of this machine. The error wraps [fs.ErrNotExist] if there is none that runs.
func Look(pid string) (Process, error) {
	boot, err := booted()
	if err != nil {
		return Process{}, err
	}
	p, _, err := look(pid, boot)
	return p, err
}

// booted is the second of this machine's boot, 0 if it does not say.
func booted() (boot int64, err error) {
	data, err := os.ReadFile("/proc/stat")
	for line := range bytes.Lines(data) {
		if rest, ok := bytes.CutPrefix(line, []byte("btime ")); ok {
			boot, _ = strconv.ParseInt(string(bytes.TrimSpace(rest)), 10, 64)
		}
	}
	return boot, err
}

// look is a process of this machine, and its parent. What cannot be read is taken for gone.
func look(pid string, boot int64) (p Process, parent string, err error) {
	data, err := os.ReadFile("/proc/" + pid + "/stat")
	end := bytes.LastIndexByte(data, ')') // of the name, which may hold anything
	// From the third field on: state, parent, ..., start in ticks since boot (proc(5)).
	fields := strings.Fields(string(data[end+1:]))
	if err != nil || end < 0 || len(fields) < 20 || fields[0] == "Z" {
		return p, "", fs.ErrNotExist
	}
	command, err := os.ReadFile("/proc/" + pid + "/cmdline")
	if err != nil {
		return p, "", fs.ErrNotExist
	}
	p = Process{PID: pid, Ticks: fields[19], Command: string(command)}
	p.Started, err = begun(p, boot)
	return p, fields[1], err
}

// begun is when a process was started by the machine's clock, zero without the second of its boot.
func begun(p Process, boot int64) (time.Time, error) {
	ticks, err := strconv.ParseInt(p.Ticks, 10, 64)
	if err != nil {
		return time.Time{}, fmt.Errorf("the start of process %s: %w", p.PID, err)
	}
	const perSecond = 100 // USER_HZ, the same on all of Linux's common systems
	if boot <= 0 {
		return time.Time{}, nil
	}
	return time.Unix(boot, ticks*int64(time.Second)/perSecond), nil
}

// childrenOf are the folders in /proc of a process's children, by the kernel's own lists.
// Those may leave some out while another ends (proc(5)), and then the next reading differs.
func childrenOf(parent string) ([]string, error) {
	read := func() (all []byte, err error) {
		lists, err := filepath.Glob(filepath.Join("/proc", parent, "task", "*", "children")) // of its threads
		if err == nil && len(lists) == 0 {
			err = errors.ErrUnsupported
		}
		for _, file := range lists {
			list, errRead := os.ReadFile(file)
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

// ParseFamily reads what is said of a process: lines of its status, a line "btime" with the second of the machine's
// boot, and one "child" for each that it has started, with its number, ticks and command in base64.
func ParseFamily(text []byte) (f Family, err error) {
	boot := int64(0)
	for line := range strings.Lines(string(text)) {
		words := strings.Fields(line)
		switch {
		case len(words) == 2 && words[0] == "btime":
			boot, _ = strconv.ParseInt(words[1], 10, 64)
		case len(words) >= 3 && words[0] == "child":
			p := Process{PID: words[1], Ticks: words[2]}
			if p.Started, err = begun(p, boot); err != nil {
				return Family{}, err
			}
			if len(words) == 4 {
				command, err := base64.StdEncoding.DecodeString(words[3])
				if err != nil {
					return Family{}, fmt.Errorf("the command of process %s: %w", p.PID, err)
				}
				p.Command = string(command)
			}
			f.Children = append(f.Children, p)
		default:
			f.note(line)
		}
	}
	return f, nil
}
