package delivered

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"syscall"
)

// Manifest is each file, folder and link of what was delivered, by its path.
type Manifest map[string]Entry

// Entry is one of them.
type Entry struct {
	Mode fs.FileMode `json:"mode"`
	Link string      `json:"link,omitempty"` // where it leads, if it is a link
	Sum  string      `json:"sum,omitempty"`  // SHA-256 of a file's content, in hexadecimal digits
	// of a file: size, device, inode and time of the last change, as long as which is the same nobody reads it
	Seen string `json:"seen,omitempty"`
}

// Take is the manifest of what stands at paths now. What is neither file nor folder nor link is an error.
func Take(paths ...string) (Manifest, error) {
	m := Manifest{}
	for _, path := range paths {
		w := walk{each: func(_ string, info fs.FileInfo, link, path string) (err error) {
			e := Entry{Mode: info.Mode(), Link: link}
			if info.Mode().IsRegular() {
				e.Seen = seen(info)
				e.Sum, err = sum(path, info.Size())
			}
			m[path] = e
			return err
		}}
		if err := w.in(path, ".", nil); err != nil {
			return nil, err
		}
	}
	return m, nil
}

// Differs are the paths of which something else stands there now than was delivered, in order: another content, mode or
// link, or nothing. What was added is no difference. Files that look as they did are not read.
func (m Manifest) Differs() []string {
	var list []string
	for _, path := range slices.Sorted(maps.Keys(m)) {
		if !m[path].stands(path) {
			list = append(list, path)
		}
	}
	return list
}

// Is reports whether what stands at a path is a file of the manifest's, as it was delivered; known is false where the
// manifest has no such file.
func (m Manifest) Is(path, at string) (same, known bool) {
	e, known := m[path]
	return known && e.stands(at), known && e.Sum != ""
}

// stands reports whether something is as it was.
func (e Entry) stands(path string) bool {
	look := os.Lstat
	if e.Sum != "" {
		look = os.Stat // of a link that was named itself, what it leads to
	}
	info, err := look(path)
	switch {
	case err != nil:
		return false
	case e.Link != "":
		to, err := os.Readlink(path)
		return err == nil && to == e.Link
	case info.Mode() != e.Mode:
		return false
	case e.Sum == "" || seen(info) == e.Seen:
		return true
	}
	now, err := sum(path, info.Size())
	return err == nil && now == e.Sum
}

// seen is what a file looks like without reading it.
func seen(info fs.FileInfo) string {
	s, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return ""
	}
	return fmt.Sprintf("%d %d %d %d.%09d", info.Size(), s.Dev, s.Ino, s.Ctim.Sec, s.Ctim.Nsec)
}

// sum is a file's content in short.
func sum(path string, size int64) (string, error) {
	h := sha256.New()
	if err := addFile(h, path, size); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// ErrOther is wrapped where what stands is not what was delivered.
var ErrOther = errors.New("not the build that was delivered")

// Told names what differs, in few words, with paths in short where they are below a folder.
func Told(list []string, folder string) string {
	if len(list) == 0 {
		return ""
	}
	name := list[0]
	if rel, err := filepath.Rel(folder, name); err == nil && folder != "" && filepath.IsLocal(rel) && rel != "." {
		name = rel
	}
	if len(list) == 1 {
		return name + " differs"
	}
	return fmt.Sprintf("%s and %d more differ", name, len(list)-1)
}
