package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"syscall"

	"golang.org/x/sys/unix"
)

// insideIs is the environment variable of the first process of the namespaces.
const insideIs = "VAIVEN_ALONE"

func main() {
	if len(os.Args) < 2 {
		fmt.Fprintln(os.Stderr, "usage: alone PROGRAM [ARGUMENT ...]")
		os.Exit(2)
	}
	if os.Getenv(insideIs) != "" && os.Getpid() == 1 {
		os.Unsetenv(insideIs)
		status, err := inside(os.Args[1:])
		if err != nil {
			fmt.Fprintln(os.Stderr, "alone:", err)
		}
		os.Exit(status)
	}
	os.Exit(outside(os.Args[1:]))
}

// refused is the status of the first process where the namespaces cannot be furnished.
const refused = 120

// outside starts the namespaces, and the program as it is where there are none.
func outside(words []string) int {
	runtime.LockOSThread() // the death signal comes when the thread ends that started the process
	if os.Geteuid() == 0 {
		cmd := exec.Command("/proc/self/exe", words...)
		cmd.Env = append(os.Environ(), insideIs+"=1")
		cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL,
			Cloneflags: syscall.CLONE_NEWNET | syscall.CLONE_NEWPID | syscall.CLONE_NEWNS | syscall.CLONE_NEWIPC}
		status, err := run(cmd)
		if err == nil && status != refused {
			return status
		}
		fmt.Fprintf(os.Stderr, "alone: no namespaces of its own: %v, status %d\n", err, status)
	}
	status, err := run(exec.Command(words[0], words[1:]...))
	if err != nil {
		fmt.Fprintln(os.Stderr, "alone:", err)
	}
	return status
}

// run runs a command with our streams, and returns its exit status as a shell does.
func run(cmd *exec.Cmd) (status int, err error) {
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, syscall.SIGINT, syscall.SIGTERM, syscall.SIGQUIT)
	if err := cmd.Start(); err != nil {
		return 1, err
	}
	go func() {
		for s := range signals {
			_ = cmd.Process.Signal(s)
		}
	}()
	err = cmd.Wait()
	if exit, ok := errors.AsType[*exec.ExitError](err); ok {
		return statusOf(exit.Sys().(syscall.WaitStatus)), nil
	}
	if err != nil {
		return 1, err
	}
	return 0, nil
}

// statusOf is a process's exit status as a shell gives it.
func statusOf(w syscall.WaitStatus) int {
	if w.Signaled() {
		return 128 + int(w.Signal())
	}
	return w.ExitStatus()
}

// inside is the first process: it furnishes the namespaces, starts the program, and waits for every process that has
// lost its parent. When it ends, the kernel ends what is left.
func inside(words []string) (status int, err error) {
	if err := furnish(); err != nil {
		return refused, err
	}
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, syscall.SIGINT, syscall.SIGTERM, syscall.SIGQUIT)
	file, err := exec.LookPath(words[0])
	if err != nil {
		return 127, err
	}
	if file, err = filepath.Abs(file); err != nil {
		return 127, err
	}
	pid, err := syscall.ForkExec(file, words, &syscall.ProcAttr{Env: os.Environ(), Files: []uintptr{0, 1, 2}})
	if err != nil {
		return 127, fmt.Errorf("start %s: %w", file, err)
	}
	go func() {
		for s := range signals {
			_ = syscall.Kill(pid, s.(syscall.Signal))
		}
	}()
	for {
		var w syscall.WaitStatus
		ended, err := syscall.Wait4(-1, &w, 0, nil)
		switch {
		case err == syscall.EINTR:
		case err != nil:
			return 1, fmt.Errorf("wait for %s: %w", file, err)
		case ended == pid && (w.Exited() || w.Signaled()):
			return statusOf(w), nil
		}
	}
}

// furnish makes the namespaces look like a machine: /proc, memory for files, machines of tests, and loopback.
func furnish() error {
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return fmt.Errorf("keep mounts to itself: %w", err)
	}
	if err := os.MkdirAll("/run/netns", 0o755); err != nil {
		return err
	}
	for _, m := range []struct{ kind, at string }{{"proc", "/proc"}, {"tmpfs", "/dev/shm"}, {"tmpfs", "/run/netns"}} {
		if err := unix.Mount(m.kind, m.at, m.kind, unix.MS_NOSUID|unix.MS_NODEV, ""); err != nil {
			return fmt.Errorf("mount %s: %w", m.at, err)
		}
	}
	if err := os.Chmod("/dev/shm", 0o777|os.ModeSticky); err != nil {
		return err
	}
	if err := os.Setenv("TMPDIR", "/dev/shm"); err != nil {
		return err
	}
	return loopback()
}

// loopback takes the loopback device up (netdevice(7)).
func loopback() error {
	s, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(s)
	lo, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	lo.SetUint16(unix.IFF_UP)
	if err := unix.IoctlIfreq(s, unix.SIOCSIFFLAGS, lo); err != nil {
		return fmt.Errorf("take the loopback device up: %w", err)
	}
	return nil
}
