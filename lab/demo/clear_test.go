package demo

import (
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"vaiven/internal/stack/process"
)

// A folder that somebody else has put where demos are is not cleared away, and nothing that it
// names is ended. One that is ours is.
func TestClearBelievesOnlyItsOwn(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	for name, c := range map[string]struct {
		mode os.FileMode
		ours bool
	}{"planted": {0o777, false}, "mine": {0o700, true}} {
		t.Run(name, func(t *testing.T) {
			cmd := exec.Command("sleep", "60")
			other, err := process.Start(cmd)
			if err != nil {
				t.Fatal(err)
			}
			defer other.Signal(syscall.SIGKILL)
			folder := filepath.Join(os.TempDir(), prefix()+name)
			data, err := json.Marshal(owner{Started: []process.ID{other}})
			if err := errors.Join(err, os.Mkdir(folder, 0o700), os.Chmod(folder, c.mode),
				os.WriteFile(filepath.Join(folder, ownerFile), data, 0o600)); err != nil {
				t.Fatal(err)
			}
			if err := Clear(t.Context()); err != nil {
				t.Fatal(err)
			}
			_, err = os.Stat(folder)
			if there := err == nil; there == c.ours || other.Running() == c.ours {
				t.Errorf("the folder is there: %v; what it names runs: %v", there, other.Running())
			}
		})
	}
}
