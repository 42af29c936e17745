package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

func readSecret(dir string) (string, error) {
	data, err := os.ReadFile(filepath.Join(dir, "probe.secret"))
	return string(data), err
}

// family are a process and its children: nginx works in children.
func family(cmd *exec.Cmd) []int {
	if cmd == nil {
		return nil
	}
	list := []int{cmd.Process.Pid}
	data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", list[0], list[0]))
	for _, word := range strings.Fields(string(data)) {
		if pid, err := strconv.Atoi(word); err == nil {
			list = append(list, pid)
		}
	}
	return list
}

// processorTime is what a front has used so far, in user and kernel mode
// (fields 14 and 15 of proc(5), at 100 ticks a second).
func processorTime(cmd *exec.Cmd) time.Duration {
	var sum time.Duration
	for _, pid := range family(cmd) {
		sum += busyAlone(pid)
	}
	return sum
}

// busyAlone is what one process has used so far.
func busyAlone(pid int) time.Duration {
	var ticks int64
	data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	_, rest, _ := strings.Cut(string(data), ") ")
	fields := strings.Fields(rest)
	for _, n := range []int{11, 12} {
		if n < len(fields) {
			t, _ := strconv.ParseInt(fields[n], 10, 64)
			ticks += t
		}
	}
	return time.Duration(ticks) * 10 * time.Millisecond
}

// resident is the memory that a front holds, in bytes.
func resident(cmd *exec.Cmd) int64 {
	var bytes int64
	for _, pid := range family(cmd) {
		bytes += residentAlone(pid)
	}
	return bytes
}

// residentAlone is the memory that one process holds, in bytes.
func residentAlone(pid int) int64 {
	data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	_, rest, _ := strings.Cut(string(data), "VmRSS:")
	var kilobytes int64
	_, _ = fmt.Sscan(rest, &kilobytes)
	return kilobytes << 10
}
