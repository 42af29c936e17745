package delivered

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io/fs"
	"os"
	"path"
	"slices"
	"time"

	"vaiven/internal/world/state"
)

// Record is a build as it was delivered, before anything was started of it. What is written into its folder later does
// not belong to it.
type Record struct {
	Path string    `json:"path"`
	ID   string    `json:"build"` // its identity
	At   time.Time `json:"at"`    // when the newest of its files was written
	All  Manifest  `json:"all"`
}

// recordsIn is the folder with them in the state folder, and recordsMost how many there are at most: those that were
// used last.
const (
	recordsIn   = "builds"
	recordsMost = 40
)

// recordOf is the file with the record of what stands at a path.
func recordOf(at string) string {
	h := sha256.Sum256([]byte(at))
	return path.Join(recordsIn, hex.EncodeToString(h[:8])+".json")
}

// Recorded is what was delivered at a path. The error wraps [fs.ErrNotExist] where that was not noted.
func Recorded(in *state.Folder, at string) (r Record, err error) {
	data, err := in.ReadFile(recordOf(at))
	if err != nil {
		return r, err
	}
	if err = json.Unmarshal(data, &r); err == nil && r.Path != at {
		err = fs.ErrNotExist
	}
	return r, err
}

// Keep notes it, and forgets those that were noted longest ago where there are too many.
func (r Record) Keep(in *state.Folder) error {
	data, err := json.Marshal(r)
	if err == nil {
		err = in.Mkdir(recordsIn)
	}
	if err == nil {
		err = in.WriteFile(recordOf(r.Path), data)
	}
	if err != nil {
		return err
	}
	names, err := in.Names(recordsIn)
	if err != nil || len(names) <= recordsMost {
		return err
	}
	written := func(name string) time.Time {
		info, err := os.Stat(in.Path(path.Join(recordsIn, name)))
		if err != nil {
			return time.Time{}
		}
		return info.ModTime()
	}
	slices.SortFunc(names, func(a, b string) int { return written(a).Compare(written(b)) })
	for _, name := range names[:len(names)-recordsMost] {
		if err := in.Remove(path.Join(recordsIn, name)); err != nil {
			return err
		}
	}
	return nil
}

// Stands reports whether all of it is there as it was delivered. Files that look as they did are not read.
func (r Record) Stands() bool { return len(r.All) > 0 && len(r.All.Differs()) == 0 }

// Since are the paths of what was written into it since, in order.
func (r Record) Since() (list []string, err error) {
	w := walk{each: func(_ string, info fs.FileInfo, _, at string) error {
		if _, delivered := r.All[at]; !delivered && info.Mode().IsRegular() {
			list = append(list, at)
		}
		return nil
	}}
	err = w.in(r.Path, ".", nil)
	return list, err
}
