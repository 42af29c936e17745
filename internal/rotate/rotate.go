package rotate

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
)

// Limit is how large a file may become, and how many older ones are kept beside it.
type Limit struct {
	Size int64 // bytes; 0 for no limit
	Keep int   // name.1 is the newest; 0 keeps none
}

// Folder is where the files are.
type Folder interface {
	OpenFile(name string, flag int) (*os.File, error)
	Rename(from, to string) error
	Remove(names ...string) error
}

// Cut rotates a file that has become larger than the limit. One that is not there is no error.
func Cut(in Folder, name string, l Limit) error {
	if l.Size <= 0 {
		return nil
	}
	f, err := in.OpenFile(name, os.O_RDWR)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || info.Size() <= l.Size {
		return err
	}
	if err := aside(in, name, f, l.Keep); err != nil {
		return fmt.Errorf("rotate %s: %w", name, err)
	}
	return f.Truncate(0)
}

// aside copies what a file holds to name.1, and moves what was there on.
func aside(in Folder, name string, f *os.File, keep int) error {
	if keep <= 0 {
		return nil
	}
	older := func(n int) string { return fmt.Sprintf("%s.%d", name, n) }
	if err := in.Remove(older(keep)); err != nil {
		return err
	}
	for n := keep - 1; n >= 1; n-- {
		if err := in.Rename(older(n), older(n+1)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	to, err := in.OpenFile(older(1), os.O_CREATE|os.O_WRONLY|os.O_TRUNC)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, f)
	return errors.Join(err, to.Close())
}
