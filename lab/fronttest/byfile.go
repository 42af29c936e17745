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
	"vaiven/lab/testkit"
)

// Reload has a program reload its configuration by a signal, and waits until what serves is fresh.
func Reload[R any](p *Program, signal syscall.Signal, running func(context.Context) (R, error),
	fresh func(before, now R) bool) func(*testing.T) {
	return func(t *testing.T) {
		before, err := running(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		p.Signal(signal)
		testkit.Until(t, "a reload", func() error {
			now, err := running(t.Context())
			if err == nil && !fresh(before, now) {
				err = fmt.Errorf("%v still serve", now)
			}
			return err
		})
	}
}

// ByFile is a proxy that is steered by a file that its configuration includes.
type ByFile struct {
	Driver  func() front.Driver
	Program *Program
	File    string
	Edit    func(data []byte, share split.Share) []byte // as somebody with an editor would
	Line    string                                      // that may stand in the file, and is not Vaiven's
	Reload  func(*testing.T)                            // as anybody may; see [Reload]
	Door    plan.SpareDoor
	Other   string // another file of the configuration, that does not exist
	Broken  string // and a text for it that the checker refuses
	Slow    string // and one that takes a while to read, "" for none
}

// Proxy is what can be done to it.
func (b ByFile) Proxy() Proxy {
	p := Proxy{
		Driver: b.Driver, Door: b.Door,
		Foreign: func(t *testing.T, share split.Share) {
			data, err := os.ReadFile(b.File)
			if err == nil {
				err = os.WriteFile(b.File, b.Edit(data, share), 0o644)
			}
			if err != nil {
				t.Fatal(err)
			}
			b.Reload(t)
		},
		Write:  func(t *testing.T) { Append(t, b.File, b.Line+"\n") },
		Reload: b.Reload,
		Spoil:  func(t *testing.T) { NoNewFiles(t, filepath.Dir(b.File)) },
		Garble: func(t *testing.T) func() {
			Write(t, b.Other, b.Broken)
			return func() { os.Remove(b.Other) }
		},
		Kill: func(*testing.T) { b.Program.Kill() },
	}
	if b.Slow != "" {
		p.Slow = func(t *testing.T) { Write(t, b.Other, b.Slow) }
	}
	return p
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
