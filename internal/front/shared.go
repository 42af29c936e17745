package front

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

// HomeWays are what a going home uses of this machine.
type HomeWays struct {
	Sockets []string // that it connects to
	Files   []string // that it replaces
}

// Shareable is a front that other users of this machine can take home, if they may use what that takes. One that needs
// a secret, another user's signal or another machine's login is none.
type Shareable interface {
	HomeWays() (HomeWays, error)
}

// errNotShared is a front that only who runs the keeper can steer.
var errNotShared = errors.New("this front is steered by the keeper's own user alone")

// SharedWith is why the members of a Unix group could not take a front home by themselves; nil if they could.
func SharedWith(d Driver, group int) error {
	s, ok := Can[Shareable](d)
	if !ok {
		return errNotShared
	}
	ways, err := s.HomeWays()
	if err != nil {
		return err
	}
	for _, socket := range ways.Sockets {
		if err := lets(socket, group, 0o2, "connect to"); err != nil {
			return err
		}
	}
	for _, file := range ways.Files {
		if err := lets(filepath.Dir(file), group, 0o3, "replace files in"); err != nil {
			return err
		}
	}
	return nil
}

// lets is an error if a group has not all bits of a permission at a path.
func lets(path string, group int, bits fs.FileMode, what string) error {
	info, err := os.Stat(path)
	if err != nil {
		return fmt.Errorf("%s cannot be looked at: %w", path, err)
	}
	mode := info.Mode().Perm()
	of, ok := info.Sys().(*syscall.Stat_t)
	if mode&bits == bits || ok && int(of.Gid) == group && mode>>3&bits == bits {
		return nil
	}
	return fmt.Errorf("they may not %s %s (mode %o)", what, path, mode)
}
