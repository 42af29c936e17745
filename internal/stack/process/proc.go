package process

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/stack"
	"vaiven/internal/world/state"
)

// ID names a session of processes for as long as the machine is up: the number
// of its first process can come again, but not with the same start. The zero ID
// names none.
type ID struct {
	PID   int    `json:"pid"`
	Ticks uint64 `json:"ticks"` // start of the first process, in clock ticks since boot
	Boot  string `json:"boot"`  // which boot
}

// Start starts a command as a session of its own, which outlives us.
func Start(cmd *exec.Cmd) (ID, error) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return ID{}, err
	}
	// Reaps the process should it end before we do; nobody waits for this, because
	// the process is meant to stay.
	go func() { _ = cmd.Wait() }()
	id, err := Identify(cmd.Process.Pid)
	if err != nil {
		return ID{PID: cmd.Process.Pid}, nil // it was started and has ended already
	}
	return id, nil
}

// Identify is the ID of a running process.
func Identify(pid int) (ID, error) {
	id := ID{PID: pid}
	var err error
	if id.Ticks, err = startTicks(pid); err != nil {
		return ID{}, err
	}
	id.Boot, err = bootID()
	return id, err
}

// Running reports whether any process of the session is alive.
func (id ID) Running() bool {
	if id.PID == 0 {
		return false
	}
	if boot, err := bootID(); err != nil || boot != id.Boot {
		return false
	}
	if ticks, err := startTicks(id.PID); err == nil {
		return ticks == id.Ticks
	}
	// The first process is gone. The number of a process group is not given to a
	// new process while the group has members, so they are of this session.
	return groupAlive(id.PID)
}

// Signal sends to every process of the session, if it runs.
func (id ID) Signal(s syscall.Signal) {
	if id.Running() {
		_ = syscall.Kill(-id.PID, s) // gone meanwhile is as good
	}
}

// Gone waits until the session does not run, and reports false if the context
// ends first.
func (id ID) Gone(ctx context.Context) bool {
	for id.Running() {
		select {
		case <-ctx.Done():
			return false
		case <-time.After(20 * time.Millisecond):
		}
	}
	return true
}

// groupAlive reports whether a process group of our user has a member that is not a zombie.
func groupAlive(group int) bool {
	if syscall.Kill(-group, 0) != nil {
		return false
	}
	for pid := range processes() {
		if fields, err := statFields(pid); err == nil && fields[2] == strconv.Itoa(group) && !ended(fields) &&
			byUs(pid) {
			return true
		}
	}
	return false
}

// processes are the numbers of all processes that can be seen.
func processes() iter.Seq[int] {
	return func(yield func(int) bool) {
		entries, _ := os.ReadDir("/proc") // none if there is no /proc
		for _, e := range entries {
			if pid, err := strconv.Atoi(e.Name()); err == nil && !yield(pid) {
				return
			}
		}
	}
}

// byUs reports whether a process runs as our user.
func byUs(pid int) bool {
	info, err := os.Stat(fmt.Sprintf("/proc/%d", pid))
	if err != nil {
		return false
	}
	s, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(s.Uid) == os.Geteuid()
}

// markOf is the mark in a process's environment, "" for none. Another user's does not
// count.
func markOf(pid int) string { return variableOf(pid, stack.Marker) }

// variableOf is a variable in the environment of a process of ours, "" for none.
func variableOf(pid int, name string) string {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid))
	if err != nil || !byUs(pid) {
		return ""
	}
	for variable := range bytes.SplitSeq(data, []byte{0}) {
		if value, ok := bytes.CutPrefix(variable, []byte(name+"=")); ok {
			return string(value)
		}
	}
	return ""
}

// marks are all processes with a mark, by it. They are looked for when they are first asked
// for: as long as all is well nobody needs them.
func marks() func() map[string][]int {
	return sync.OnceValue(func() map[string][]int {
		m := map[string][]int{}
		for pid := range processes() {
			if mark := markOf(pid); mark != "" {
				m[mark] = append(m[mark], pid)
			}
		}
		return m
	})
}

// running reports whether the session that a note names is alive and is the instance's: a
// note is believed of a process of our user, with the same start, that has our mark.
// Without its first process the group's number and its user have to do: some programs write
// over their environment.
func (n *note) running() bool {
	if !n.Session.Running() {
		return false
	}
	if _, err := startTicks(n.Session.PID); err != nil {
		return true
	}
	if nothingLeft(n.Session.PID) { // it is ending, and the rest of its group may still have its address
		return groupAlive(n.Session.PID)
	}
	return markOf(n.Session.PID) == n.mark
}

// nothingLeft reports whether a process of ours has no environment any more, or none that can be read, as when it is
// being ended.
func nothingLeft(pid int) bool {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid))
	return len(data) == 0 && byUs(pid) && !errors.Is(err, fs.ErrNotExist)
}

// strays are processes with the instance's mark outside of its group: it put itself into
// the background.
func (n *note) strays(marked func() map[string][]int) []int {
	var list []int
	for _, pid := range marked()[n.mark] {
		if fields, err := statFields(pid); err == nil && !ended(fields) &&
			fields[2] != strconv.Itoa(n.Session.PID) {
			list = append(list, pid)
		}
	}
	return list
}

// signal sends to everything of an instance that runs.
func (n *note) signal(s syscall.Signal, marked func() map[string][]int) {
	if n.running() {
		n.signalled = append(n.signalled, n.Session)
		n.Session.Signal(s)
	}
	for _, pid := range n.strays(marked) {
		if id, err := Identify(pid); err == nil {
			n.signalled = append(n.signalled, id)
			_ = syscall.Kill(pid, s) // gone meanwhile is as good
		}
	}
}

// alive reports whether anything of an instance runs. What was sent a signal is waited for by its number: a process
// that is ending loses its environment, and so its mark, before it lets go of its address.
func (n *note) alive(marked func() map[string][]int) bool {
	return n.running() || len(n.strays(marked)) > 0 || slices.ContainsFunc(n.signalled, ID.Running)
}

// gone waits until nothing of instances runs, and says what is left when the context
// ends.
func gone(ctx context.Context, notes []*note) []*note {
	for {
		marked := marks()
		notes = slices.DeleteFunc(slices.Clone(notes), func(n *note) bool { return !n.alive(marked) })
		if len(notes) == 0 {
			return nil
		}
		select {
		case <-ctx.Done():
			return notes
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// look is the instance as it is now.
func (n *note) look(in *state.Folder, marked func() map[string][]int) reading.Instance {
	i := n.Instance
	if i.Running = n.running(); !i.Running {
		status, _ := in.ReadFile(n.exit()) // none if nobody saw how
		i.Exit = stack.Ended(string(status))
		if strays := n.strays(marked); len(strays) > 0 {
			i.Exit = stack.Background(i.Exit, strays[0])
		}
		if n.damaged != nil {
			i.Exit = fmt.Sprintf("its note is damaged (%v)", n.damaged)
		}
	}
	i.Output = lastLines(in, n.output())
	return i
}

// find looks for the process of a start that was cut short before its id was
// noted.
func (n *note) find(marked func() map[string][]int) {
	for _, pid := range marked()[n.mark] {
		fields, err := statFields(pid)
		if err != nil {
			continue
		}
		// fields[2] is the process group, whose number is the shell's id.
		if group, err := strconv.Atoi(fields[2]); err == nil && markOf(group) == n.mark {
			n.Session, _ = Identify(group) // gone meanwhile: none
			return
		}
	}
}

// startTicks is when a process started, in clock ticks since boot (field 22 of
// /proc/PID/stat, proc(5)). A zombie has ended and is an error.
func startTicks(pid int) (uint64, error) {
	fields, err := statFields(pid)
	if err != nil {
		return 0, err
	}
	if ended(fields) {
		return 0, fmt.Errorf("process %d has ended", pid)
	}
	return strconv.ParseUint(fields[19], 10, 64)
}

// ended reports whether a process has ended with all its threads: its first thread can end before others do, which
// hold its files until then (proc(5), fields 3 and 20).
func ended(fields []string) bool {
	threads, err := strconv.Atoi(fields[17])
	return (fields[0] == "Z" || fields[0] == "X") && (err != nil || threads <= 1)
}

// statFields are the fields of a process's stat file from the third on: the second is the
// program's name, which may hold spaces and parentheses.
func statFields(pid int) ([]string, error) {
	file := fmt.Sprintf("/proc/%d/stat", pid)
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	end := bytes.LastIndexByte(data, ')')
	fields := strings.Fields(string(data[end+1:]))
	if end < 0 || len(fields) < 20 {
		return nil, fmt.Errorf("%s is not in the form of proc(5)", file)
	}
	return fields, nil
}

func bootID() (string, error) {
	data, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return strings.TrimSpace(string(data)), err
}

// lastLines are the last lines of a file.
func lastLines(in *state.Folder, file string) []string {
	f, err := in.OpenFile(file, os.O_RDONLY)
	if err != nil {
		return nil
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil && info.Size() > stack.OutputTail {
		_, _ = f.Seek(-stack.OutputTail, io.SeekEnd)
	}
	data, _ := io.ReadAll(io.LimitReader(f, stack.OutputTail))
	return stack.Lines(data)
}

// describe reads what the instance's program runs with.
func (n *note) describe() (stack.Description, error) {
	if !n.running() {
		return stack.Description{}, fmt.Errorf("%s does not run", n.Name)
	}
	shell := strconv.Itoa(n.Session.PID)
	pid := n.Session.PID
	for other := range processes() {
		if fields, err := statFields(other); err == nil && fields[1] == shell && fields[2] == shell {
			pid = other
			break
		}
	}
	read := func(name string) ([]byte, error) { return os.ReadFile(fmt.Sprintf("/proc/%d/%s", pid, name)) }
	command, err1 := read("cmdline")
	environment, err2 := read("environ")
	limits, err3 := read("limits")
	if err := errors.Join(err1, err2, err3); err != nil {
		return stack.Description{}, err
	}
	return stack.FromProc(command, environment, limits), nil
}
