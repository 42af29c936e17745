package process

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/stack"
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

// groupAlive reports whether a process group has a member that is not a zombie.
func groupAlive(group int) bool {
	if syscall.Kill(-group, 0) != nil {
		return false
	}
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, file := range stats {
		if fields, err := statFields(file); err == nil && fields[2] == strconv.Itoa(group) && fields[0] != "Z" {
			return true
		}
	}
	return false
}

// look is the instance as it is now.
func (n *note) look() reading.Instance {
	i := n.Instance
	if i.Running = n.Session.Running(); !i.Running {
		status, _ := os.ReadFile(n.exitFile()) // none if nobody saw how
		i.Exit = stack.Ended(string(status))
	}
	i.Output = lastLines(n.outputFile())
	return i
}

// find looks for the process of a start that was cut short before its id was
// noted.
func (n *note) find() {
	files, _ := filepath.Glob("/proc/[0-9]*/environ")
	want := []byte(stack.Marker + "=" + n.file)
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			continue // another user's, or gone
		}
		for _, variable := range bytes.Split(data, []byte{0}) {
			if !bytes.Equal(variable, want) {
				continue
			}
			fields, err := statFields(filepath.Join(filepath.Dir(file), "stat"))
			if err != nil {
				continue
			}
			// fields[2] is the process group, whose number is the shell's id.
			if group, err := strconv.Atoi(fields[2]); err == nil {
				n.Session, _ = Identify(group) // gone meanwhile: none
			}
			return
		}
	}
}

// startTicks is when a process started, in clock ticks since boot (field 22 of
// /proc/PID/stat, proc(5)). A zombie has ended and is an error.
func startTicks(pid int) (uint64, error) {
	fields, err := statFields(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	if fields[0] == "Z" || fields[0] == "X" {
		return 0, fmt.Errorf("process %d has ended", pid)
	}
	return strconv.ParseUint(fields[19], 10, 64)
}

// statFields are the fields of a stat file from the third on: the second is the
// program's name, which may hold spaces and parentheses.
func statFields(file string) ([]string, error) {
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

// outputTail is how many bytes of an instance's output are looked at.
const outputTail = 8 << 10

// lastLines are the last lines of a file.
func lastLines(file string) []string {
	f, err := os.Open(file)
	if err != nil {
		return nil
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil && info.Size() > outputTail {
		_, _ = f.Seek(-outputTail, 2)
	}
	buf := make([]byte, outputTail)
	n, _ := f.Read(buf)
	return stack.LastLines(buf[:n])
}

// describe reads what the session's program runs with.
func (id ID) describe() (stack.Description, error) {
	pid := id.PID // of the shell
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, file := range stats {
		fields, err := statFields(file)
		if err == nil && fields[1] == strconv.Itoa(id.PID) && fields[2] == strconv.Itoa(id.PID) {
			pid, _ = strconv.Atoi(filepath.Base(filepath.Dir(file)))
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
