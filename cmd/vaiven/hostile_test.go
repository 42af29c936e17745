package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"vaiven/internal/keeper/service"
	"vaiven/lab/testkit"
)

// A tool that hangs does not keep Vaiven from ending when it is asked to.
func TestItEndsThoughAToolHangs(t *testing.T) {
	dir := t.TempDir()
	front, _ := testkit.Ports(t, 2)
	begun := filepath.Join(dir, "begun")
	tool := "#!/bin/sh\nread q\ncase $q in *'\"do\":\"list\"'*) echo '{}' ;; *) touch " + begun +
		"; sleep 600 ;; esac\n"
	file := filepath.Join(dir, "p.yaml")
	text := fmt.Sprintf("service: fares\nfront: {listen: '127.0.0.1:%d'}\nversions: folder builds\nstack: {tool: "+
		"./tool, raise: 5m}\nsmoke: [{request: /}]\nroute: [100 %%]\n", front)
	for name, c := range map[string]struct {
		text string
		mode os.FileMode
	}{"tool": {tool, 0o755}, "p.yaml": {text, 0o600}, "builds/1": {"x", 0o644}} {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(c.text), c.mode); err != nil {
			t.Fatal(err)
		}
	}
	server := exec.Command(program, "front", file)
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		server.Process.Kill()
		server.Wait()
	}()
	testkit.Eventually(t, "the front listens",
		func() bool { _, err := os.Stat(filepath.Join(dir, "fares.vaiven", "front.sock")); return err == nil })
	keeperEnds(t, file)
	cross := exec.Command(program, "cross", file, "--version", "1", "--yes")
	var said bytes.Buffer
	cross.Stdout, cross.Stderr = &said, &said
	if err := cross.Start(); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "the tool hangs", func() bool { _, err := os.Stat(begun); return err == nil })
	if err := cross.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cross.Wait() }()
	select {
	case <-ended:
	case <-time.After(30 * time.Second):
		cross.Process.Kill()
		t.Fatalf("it goes on: %s", said.String())
	}
	if !strings.Contains(said.String(), "interrupted") {
		t.Errorf("it says %s", said.String())
	}
	// So does the keeper, which had gone on.
	keeper := keeperOf(t, file)
	if err := syscall.Kill(keeper, syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	gone(t, keeper)
	log, err := os.ReadFile(filepath.Join(dir, "fares.vaiven", service.LogIn))
	if err != nil || !strings.Contains(string(log), "nobody watches its guards until a keeper runs again") {
		t.Errorf("its last words: %s, %v", log, err)
	}
}

// Names that would steer a terminal are printed without that, and a version that cannot be raised
// is refused with the reason.
func TestOddVersionsOnATerminal(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "p.yaml")
	if err := os.WriteFile(file, []byte("service: fares\nversions: folder builds\nstack: {command: run, ports: "+
		"1000-1009}\nsmoke: [{request: /}]\nroute: [100 %]\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"4.2.0", "4.3.0\x1b]0;owned\x07", "4.4.0\u009b31m", "4.5.0\u202e"} {
		if err := os.MkdirAll(filepath.Join(dir, "builds", name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("nowhere", filepath.Join(dir, "builds", "4.6.0")); err != nil {
		t.Fatal(err)
	}
	stdout, stderr, status := vaiven(t, "versions", file)
	if status != 0 || strings.ContainsAny(stdout, "\x1b\x07\u009b\u202e") ||
		!strings.Contains(stdout, "4.3.0?]0;owned?") ||
		!strings.Contains(stdout, "cannot be raised: 4.6.0 is a link to nowhere") {
		t.Errorf("versions: status %d\n%q%s", status, stdout, stderr)
	}
}
