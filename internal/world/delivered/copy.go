package delivered

import (
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// What is cheap to keep a copy of.
const (
	mostCopied      = 64 << 20 // bytes
	mostFilesCopied = 5000
)

// Copy copies what was delivered into a folder that does not exist yet, each file below its own absolute path. It
// reports false, and leaves nothing, where that is too much to keep (64 MiB, 5,000 files). Links become what they lead
// to.
func (m Manifest) Copy(to string) (kept bool, err error) {
	defer func() {
		if !kept {
			_ = os.RemoveAll(to)
		}
	}()
	if len(m) > mostFilesCopied {
		return false, nil
	}
	room := int64(mostCopied)
	for _, path := range slices.Sorted(maps.Keys(m)) {
		e, into := m[path], filepath.Join(to, path)
		if err := os.MkdirAll(filepath.Dir(into), 0o755); err != nil {
			return false, err
		}
		switch {
		case e.Link != "": // it leads to a folder that it stands in
			err = os.Symlink(e.Link, into)
		case e.Mode.IsDir():
			err = os.MkdirAll(into, 0o755)
		default:
			err = e.copy(path, into, &room)
		}
		if err != nil {
			return false, err
		}
		if room < 0 {
			return false, nil
		}
	}
	if !m.Stands(to) {
		return false, fmt.Errorf("it was changed while it was copied")
	}
	return true, nil
}

// copy copies a file, as far as there is room.
func (e Entry) copy(from, into string, room *int64) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(into, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	n, err := io.Copy(out, io.LimitReader(in, *room+1))
	if *room -= n; err != nil {
		return err
	}
	return out.Chmod(e.Mode.Perm())
}

// Stands reports whether a copy is there with the content that was delivered.
func (m Manifest) Stands(copied string) bool {
	for path, e := range m {
		at := filepath.Join(copied, path)
		info, err := os.Stat(at)
		if err != nil || e.Link == "" && info.IsDir() != e.Mode.IsDir() {
			return false
		}
		if e.Sum == "" {
			continue
		}
		if now, err := sum(at, info.Size()); err != nil || now != e.Sum || info.Mode().Perm() != e.Mode.Perm() {
			return false
		}
	}
	return len(m) > 0
}

// In is a text with what it says of paths of the manifest said of a copy.
func (m Manifest) In(copied, text string) string {
	for _, path := range slices.Backward(slices.Sorted(maps.Keys(m))) { // the longer first
		text = moved(text, path, filepath.Join(copied, path))
	}
	return text
}

// moved puts one path in the place of another that stands in a text as it is.
func moved(text, path, into string) string {
	var b strings.Builder
	for {
		at := strings.Index(text, path)
		if at < 0 {
			return b.String() + text
		}
		end := at + len(path)
		b.WriteString(text[:at])
		before := at == 0 && b.Len() == 0 || at > 0 && !strings.ContainsRune(named, rune(text[at-1]))
		after := end == len(text) || text[end:] == "/" || !strings.ContainsRune(named, rune(text[end]))
		if before && after {
			b.WriteString(into)
		} else {
			b.WriteString(path)
		}
		text = text[end:]
	}
}

// named are characters that names have.
const named = "/ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789._-"
