package fronttest

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/world/place"
)

// ByFile is a proxy that is steered by a file that its configuration includes.
type ByFile struct {
	Driver  func() front.Driver
	Program *Program
	File    string
	Edit    func(data []byte, share split.Share) []byte // as somebody with an editor would
	Line    string                                      // that may stand in the file, and is not Vaiven's
	Reload  syscall.Signal
	Running func(context.Context) ([]place.Process, error)
	Fresh   func(before, now []place.Process) bool
	Door    plan.SpareDoor
	Other   string // another file of the configuration, that does not exist
	Broken  string // and a text for it that the checker refuses
}

// Proxy is what can be done to it.
func (b ByFile) Proxy() Proxy {
	reload := func(t *testing.T) {
		before, err := b.Running(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		b.Program.Signal(b.Reload)
		Eventually(t, "other processes", func() error {
			now, err := b.Running(t.Context())
			if err == nil && !b.Fresh(before, now) {
				err = fmt.Errorf("%v still serve", now)
			}
			return err
		})
	}
	return Proxy{
		Driver: b.Driver, Door: b.Door,
		Foreign: func(t *testing.T, share split.Share) {
			data, err := os.ReadFile(b.File)
			if err == nil {
				err = os.WriteFile(b.File, b.Edit(data, share), 0o644)
			}
			if err != nil {
				t.Fatal(err)
			}
			reload(t)
		},
		Write:  func(t *testing.T) { Append(t, b.File, b.Line+"\n") },
		Reload: reload,
		Spoil:  func(t *testing.T) { NoNewFiles(t, filepath.Dir(b.File)) },
		Garble: func(t *testing.T) func() {
			Write(t, b.Other, b.Broken)
			return func() { os.Remove(b.Other) }
		},
		Kill: func(*testing.T) { b.Program.Kill() },
	}
}

// NoNewFiles makes a folder take no further file, as on a disk that is full; those that are
// there can be written.
func NoNewFiles(t *testing.T, dir string) {
	t.Helper()
	if out, err := exec.Command("chattr", "+i", dir).CombinedOutput(); err != nil {
		t.Skipf("no folder can be closed here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("chattr", "-i", dir).Run() })
}
