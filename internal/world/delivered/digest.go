package delivered

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"
)

// Digest is a short digest of a build, which is a file or a folder: the first 12
// hexadecimal digits of SHA-256 over names, modes and content of all there is in it. Of a
// link it covers where it leads and what is there, because that is started. What is neither
// file nor folder nor link, or a link that leads nowhere, is an error.
func Digest(path string) (string, error) {
	h := sha256.New()
	w := walk{each: func(name string, info fs.FileInfo, link, path string) error {
		fmt.Fprintf(h, "%q %v %q %d\x00", name, info.Mode(), link, info.Size())
		if !info.Mode().IsRegular() {
			return nil
		}
		return addFile(h, path, info.Size())
	}}
	if err := w.in(path, ".", nil); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil))[:12], nil
}

// Looks is what a build looks like without reading it: as long as it is the same, so is the
// digest. It says when the newest of its files was written.
func Looks(path string) (text string, at time.Time, err error) {
	h := sha256.New()
	w := walk{each: func(name string, info fs.FileInfo, link, _ string) error {
		s, ok := info.Sys().(*syscall.Stat_t)
		if !ok {
			return fmt.Errorf("%s: nothing is known of it", name)
		}
		fmt.Fprintf(h, "%q %v %q %d %d %d %v\x00", name, info.Mode(), link, info.Size(), s.Dev, s.Ino, s.Ctim)
		if info.Mode().IsRegular() && info.ModTime().After(at) {
			at = info.ModTime()
		}
		return nil
	}}
	err = w.in(path, ".", nil)
	return string(h.Sum(nil)), at, err
}

// walk goes through a build, in the same order every time.
type walk struct {
	// each is told of every file, folder and link: its name in the build, what it is, where
	// it leads if it is a link, and its path.
	each func(name string, info fs.FileInfo, link, path string) error
}

// in walks what a path leads to. above are the folders that it is in: a link to one of them
// is not gone through again.
func (w walk) in(path, name string, above []fs.FileInfo) error {
	info, err := os.Lstat(path)
	if err != nil {
		return err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		to, err := os.Readlink(path)
		if err != nil {
			return err
		}
		if name != "." { // what a version is called does not matter
			if err := w.each(name, info, to, path); err != nil {
				return err
			}
		}
		if info, err = os.Stat(path); err != nil {
			return fmt.Errorf("%s is a link to %s, which leads nowhere", called(name, path), to)
		}
	}
	switch {
	case info.Mode().IsRegular():
		return w.each(name, info, "", path)
	case !info.IsDir():
		return fmt.Errorf("%s is neither a file nor a folder (%v)", called(name, path), info.Mode())
	}
	for _, f := range above {
		if os.SameFile(f, info) {
			return nil
		}
	}
	if err := w.each(name, folderInfo{info}, "", path); err != nil {
		return err
	}
	entries, err := os.ReadDir(path)
	if err != nil {
		return err
	}
	above = append(above[:len(above):len(above)], info)
	for _, e := range entries {
		if e.Name() == pythonCache && e.IsDir() {
			continue
		}
		if err := w.in(filepath.Join(path, e.Name()), filepath.Join(name, e.Name()), above); err != nil {
			return err
		}
	}
	return nil
}

// pythonCache is the folder that Python writes beside what it runs, and reads as long as the source is the same: it
// belongs to no build.
const pythonCache = "__pycache__"

// called is how something in a build is called, or the build itself.
func called(name, path string) string {
	if name == "." {
		return filepath.Base(path)
	}
	return name
}

// folderInfo is a folder without its size, which depends on what was in it once.
type folderInfo struct{ fs.FileInfo }

func (folderInfo) Size() int64 { return 0 }

// addFile reads a file of a size.
func addFile(w io.Writer, path string, size int64) error {
	// Without waiting: it may be another thing by now.
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	n, err := io.Copy(w, io.LimitReader(f, size+1))
	if err == nil && n != size {
		err = fmt.Errorf("%s was changed while it was read", path)
	}
	return err
}
