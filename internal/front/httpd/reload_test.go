package httpd

import (
	"io"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"vaiven/internal/front/include"
	"vaiven/internal/world/place"
	"vaiven/lab/testkit"
)

// A worker that comes before httpd has read its configuration is none of the new one, however new it is: httpd may just
// have been started.
func TestANewWorkerOfTheOldConfiguration(t *testing.T) {
	dir := t.TempDir()
	cmd := place.Program(t.Context(), "sh")
	in, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Cancel()
		_ = cmd.Wait()
	})
	s := &server{on: place.Local{}, pidFile: filepath.Join(dir, "pid")}
	writes := func() {
		t.Helper()
		if err := os.WriteFile(s.pidFile, []byte(strconv.Itoa(cmd.Process.Pid)+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	running := func() (now include.Running) {
		t.Helper()
		if now, err = s.Running(t.Context()); err != nil {
			t.Fatal(err)
		}
		return now
	}
	starts := func(n int) include.Running {
		t.Helper()
		if _, err := io.WriteString(in, "sleep 60 &\n"); err != nil {
			t.Fatal(err)
		}
		testkit.Eventually(t, "another worker runs", func() bool { return len(running().Workers) == n })
		return running()
	}
	writes()
	before := starts(1)
	// long before it would count all the same
	s.told = reload{at: time.Now().Add(time.Hour), stamp: s.written(t.Context()), old: before.Workers}
	if s.told.stamp.IsZero() {
		t.Skip("this file system tells whole seconds")
	}
	if now := starts(2); s.Fresh(before, now) {
		t.Error("a worker from before the configuration was read is taken for one of the new one")
	}
	testkit.Until(t, "another time of the file", func() error {
		writes()
		if s.written(t.Context()).Equal(s.told.stamp) {
			return os.ErrExist
		}
		return nil
	})
	if s.Fresh(before, running()) {
		t.Error("the configuration is read, and no worker of it serves yet")
	}
	if now := starts(3); !s.Fresh(before, now) {
		t.Error("a worker of the new configuration is not seen")
	}
}
