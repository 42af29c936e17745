package testkit

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// Freeze stops a process, and others if they still run, until thaw is called or the test ends. It returns when they
// stand still with all their threads: a process goes on for a moment after the signal, on a busy machine for long
// enough to answer.
func Freeze(t testing.TB, pids ...int) (thaw func()) {
	t.Helper()
	thaw = func() {
		for _, pid := range pids {
			_ = syscall.Kill(pid, syscall.SIGCONT)
		}
	}
	for _, pid := range pids {
		if err := syscall.Kill(pid, syscall.SIGSTOP); err != nil && (pid == pids[0] || err != syscall.ESRCH) {
			thaw()
			t.Fatalf("freeze process %d: %v", pid, err)
		}
	}
	t.Cleanup(thaw)
	Eventually(t, "all stand still", func() bool {
		for _, pid := range pids {
			if !still(pid) {
				return false
			}
		}
		return true
	})
	return thaw
}

// still reports whether each thread of a process is stopped, or has ended (proc(5)).
func still(pid int) bool {
	tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/stat", pid))
	for _, task := range tasks {
		text, err := os.ReadFile(task)
		if err != nil {
			continue // it has ended
		}
		after := text[strings.LastIndexByte(string(text), ')')+1:]
		if f := strings.Fields(string(after)); len(f) > 0 && !strings.Contains("TtZX", f[0]) {
			return false
		}
	}
	return true
}
