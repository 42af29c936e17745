package durable

import (
	"bytes"
	"crypto/rand"
	"errors"
	"os"
	"path/filepath"
)

// WriteFile replaces a file with mode 0600: whoever reads it, also after a
// crash, finds the old content or the new one, whole.
func WriteFile(path string, data []byte) error {
	root, err := os.OpenRoot(filepath.Dir(path))
	if err != nil {
		return err
	}
	return errors.Join(WriteIn(root, filepath.Base(path), data), root.Close())
}

// WriteIn is WriteFile for a name below an open folder, out of which no link leads it.
func WriteIn(root *os.Root, name string, data []byte) (err error) {
	dir, base := filepath.Split(name)
	next := dir + ".new-" + base + "-" + rand.Text()
	f, err := root.OpenFile(next, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = root.Remove(next)
		}
	}()
	_, err = f.Write(data)
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	if err = root.Rename(next, name); err != nil {
		return err
	}
	in, err := root.Open(filepath.Join(".", dir))
	if err != nil {
		return err
	}
	return errors.Join(in.Sync(), in.Close())
}

// Sync writes a file that stands already, or the names in a folder, through to the disk.
func Sync(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// Overwrite gives a file that is there other content in its place, for when there is no
// room for another file. A crash in the middle may leave a mixture. Content that is shorter
// than before ends with empty lines until the file has been cut.
func Overwrite(path string, data []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err == nil {
		padded := data
		if pad := int(info.Size()) - len(data); pad > 0 {
			padded = append(bytes.Clone(data), bytes.Repeat([]byte{'\n'}, pad)...)
		}
		_, err = f.WriteAt(padded, 0)
	}
	if err == nil {
		err = f.Truncate(int64(len(data)))
	}
	return errors.Join(err, f.Close())
}
