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
	Size int64 // bytes, also of each older one; 0 for no limit
	Keep int   // name.1 is the newest; 0 keeps none
}

// Folder is where the files are.
type Folder interface {
	OpenFile(name string, flag int) (*os.File, error)
	Rename(from, to string) error
	Remove(names ...string) error
}

// Cut rotates a file that has become larger than the limit. One that is not there is no error. What cannot be copied
// aside is cut all the same, and the error says so: a full disk is not filled further.
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
	failed := aside(in, name, f, l)
	if err := f.Truncate(0); err != nil || failed != nil {
		return fmt.Errorf("rotate %s: %w", name, errors.Join(failed, err))
	}
	return nil
}

// aside copies the end of what a file holds to name.1, and moves what was there on. Where it cannot be copied, as on
// a full disk, the older ones stay as they are.
func aside(in Folder, name string, f *os.File, l Limit) error {
	if l.Keep <= 0 {
		return nil
	}
	older := func(n int) string { return fmt.Sprintf("%s.%d", name, n) }
	fresh := name + ".new"
	if err := copied(in, fresh, f, l.Size); err != nil {
		return errors.Join(err, in.Remove(fresh))
	}
	for n := l.Keep - 1; n >= 1; n-- {
		if err := in.Rename(older(n), older(n+1)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return in.Rename(fresh, older(1))
}

// copied copies so many bytes at most of a file's end to a new one.
func copied(in Folder, name string, f *os.File, size int64) error {
	info, err := f.Stat()
	if err != nil {
		return err
	}
	to, err := in.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_TRUNC)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, io.NewSectionReader(f, max(info.Size()-size, 0), size))
	return errors.Join(err, to.Close())
}
