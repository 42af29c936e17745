package durable

import (
	"errors"
	"os"
	"path/filepath"
)

// WriteFile replaces a file with mode 0600: whoever reads it, also after a
// crash, finds the old content or the new one, whole.
func WriteFile(path string, data []byte) (err error) {
	f, err := os.CreateTemp(filepath.Dir(path), ".new-"+filepath.Base(path)+"-")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = os.Remove(f.Name())
		}
	}()
	_, err = f.Write(data)
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	if err = os.Rename(f.Name(), path); err != nil {
		return err
	}
	return Sync(filepath.Dir(path))
}

// Sync writes a file that stands already, or the names in a folder, through to the disk.
func Sync(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}
