package versions

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// Digest is a short digest of a file, or of all files in a folder with their
// names: the first 12 hexadecimal digits of SHA-256.
func Digest(path string) (string, error) {
	h := sha256.New()
	info, err := os.Stat(path)
	switch {
	case err != nil:
		return "", err
	case info.IsDir():
		err = fs.WalkDir(os.DirFS(path), ".", func(name string, entry fs.DirEntry, err error) error {
			if err != nil || !entry.Type().IsRegular() {
				return err
			}
			fmt.Fprintf(h, "%d %s\x00", len(name), name)
			return addFile(h, filepath.Join(path, name))
		})
	default:
		err = addFile(h, path)
	}
	if err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil))[:12], nil
}

func addFile(w io.Writer, path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = io.Copy(w, f)
	return err
}
