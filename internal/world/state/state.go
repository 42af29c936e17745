package state

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"vaiven/internal/world/durable"
	"vaiven/internal/world/peer"
)

var (
	// ErrNotOurs is wrapped when a folder, or something in it, is not to be believed.
	ErrNotOurs = errors.New("not to be believed")
	// ErrOthers is wrapped, beside [ErrNotOurs], when a folder is another user's: it may be visited.
	ErrOthers = errors.New("another user's")
)

// Folder is an open state folder. Names are relative to it, with slashes. It may be used
// by many at the same time.
type Folder struct {
	path string
	root *os.Root
	uid  int // of its owner, whose things in it are believed
}

// Open opens a state folder, which is made if it is not there, and looks through all of it.
// Files that others could read are closed to them. An error wraps [ErrNotOurs] if the
// folder is refused.
func Open(path string) (*Folder, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, fmt.Errorf("make the state folder: %w", err)
	}
	if err := os.Mkdir(path, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, fmt.Errorf("make the state folder: %w", err)
	}
	f, err := Look(path)
	if err != nil {
		return nil, err
	}
	if err := f.lookThrough(); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	if _, err := f.Key(idIn); err != nil && !errors.Is(err, syscall.ENOSPC) {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// idIn is the file with the folder's identity.
const idIn = "folder.id"

// ID is the folder's identity, which tells it from another one that stands in its place; "" for one that was never
// opened to write.
func (f *Folder) ID() (string, error) {
	id, err := f.ReadFile(idIn)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	return string(id), err
}

// Look opens a state folder as it is; the error wraps [fs.ErrNotExist] if there is none, and [ErrOthers] if it is
// another user's.
func Look(path string) (*Folder, error) { return look(path, false) }

// Visit opens a state folder as it is, whoever it belongs to, for what its owner shows to a group: sockets, and files
// of [Folder.WriteShown]. What is in it is believed as far as its owner is.
func Visit(path string) (*Folder, error) { return look(path, true) }

func look(path string, visit bool) (*Folder, error) {
	there, err := os.Lstat(path)
	if err != nil {
		return nil, fmt.Errorf("open the state folder: %w", err)
	}
	if there.Mode()&fs.ModeSymlink != 0 {
		return nil, notOurs(path, "it is a link", `Name the folder itself as "state" in the plan`)
	}
	if uid := owner(there); uid != os.Geteuid() && !visit {
		return nil, fmt.Errorf("%w (%w)", notOurs(path, fmt.Sprintf("it belongs to user %d, and this is user %d", uid,
			os.Geteuid()), "Run this as the folder's user, or name another folder as \"state\" in the plan"), ErrOthers)
	}
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, fmt.Errorf("open the state folder: %w", err)
	}
	info, err := root.Stat(".")
	if err == nil {
		err = private(path, there, info)
	}
	if err != nil {
		return nil, errors.Join(err, root.Close())
	}
	return &Folder{path, root, owner(info)}, nil
}

// Admit lets the members of a Unix group see which names are in the folder, and reach what is shown to them; -1 lets
// nobody, as it was made.
func (f *Folder) Admit(group int) error {
	mode := fs.FileMode(0o700)
	if group >= 0 {
		mode = 0o750
		if err := f.root.Chown(".", -1, group); err != nil {
			return f.notGiven(group, err)
		}
	}
	return f.root.Chmod(".", mode)
}

func (f *Folder) notGiven(group int, err error) error {
	return fmt.Errorf("show the state folder %s to group %d, of which user %d has to be: %w", f.path, group, f.uid, err)
}

// WriteShown replaces a file as WriteFile does, for the members of a group to read; -1 is nobody.
func (f *Folder) WriteShown(name string, data []byte, group int) error {
	if group < 0 {
		return f.WriteFile(name, data)
	}
	made := name + ".new"
	err := f.WriteFile(made, data)
	if err == nil {
		err = f.shown(made, 0o640, group)
	}
	if err == nil {
		err = f.root.Rename(made, name)
	}
	return err
}

// shown gives something in the folder to a group.
func (f *Folder) shown(name string, mode fs.FileMode, group int) error {
	if err := f.root.Chown(name, -1, group); err != nil {
		return f.notGiven(group, err)
	}
	return f.root.Chmod(name, mode)
}

// private looks whether a folder is its owner's alone to write.
func private(path string, named, opened fs.FileInfo) error {
	switch {
	case !os.SameFile(named, opened):
		return notOurs(path, "it was exchanged while it was opened", "Look who may write the folder that it is in")
	case opened.Mode().Perm()&0o022 != 0:
		return notOurs(path, fmt.Sprintf("others may write it (mode %o)", opened.Mode().Perm()),
			"If nobody has put anything there: chmod go-w "+path)
	}
	return nil
}

func notOurs(path, why, try string) error {
	return fmt.Errorf("the state folder %s is %w: %s. %s", path, ErrNotOurs, why, try)
}

func owner(info fs.FileInfo) int {
	s, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return -1
	}
	return int(s.Uid)
}

// lookThrough looks at all there is: links and what somebody else has put there are refused.
// Repositories in it, whose names end in .git, are not looked into, and neither are copies of builds, in .build.
func (f *Folder) lookThrough() error {
	return fs.WalkDir(f.root.FS(), ".", func(name string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil // gone meanwhile
		}
		if err != nil {
			return err
		}
		if e.IsDir() && (strings.HasSuffix(name, ".git") || strings.HasSuffix(name, ".build")) {
			return fs.SkipDir
		}
		if name == "." {
			return nil
		}
		info, err := f.root.Lstat(filepath.FromSlash(name))
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err == nil {
			err = f.ours(name, info)
		}
		if err == nil && info.Mode().IsRegular() && info.Mode().Perm()&0o077 != 0 && owner(info) == os.Geteuid() {
			err = f.root.Chmod(filepath.FromSlash(name), 0o600)
		}
		return err
	})
}

// ours looks whether something in the folder was put there by us, or by root.
func (f *Folder) ours(name string, info fs.FileInfo) error {
	switch uid := owner(info); {
	case info.Mode()&fs.ModeSymlink != 0:
		return notOurs(f.path, fmt.Sprintf("%s in it is a link", name), "Find out who made it, and remove it")
	case uid != f.uid && uid != 0:
		return notOurs(f.path, fmt.Sprintf("%s in it belongs to user %d", name, uid),
			"Find out who made it, and remove it")
	}
	return nil
}

// Owner is the name of the user whose folder it is.
func (f *Folder) Owner() string { return peer.User(f.uid) }

// Close lets the folder go. Files that were opened stay open.
func (f *Folder) Close() error { return f.root.Close() }

// Path is the absolute name of something in the folder, for programs that open it themselves.
func (f *Folder) Path(name string) string { return filepath.Join(f.path, filepath.FromSlash(name)) }

// OpenFile opens a file with mode 0600. A link is refused, and so is what is no file.
func (f *Folder) OpenFile(name string, flag int) (*os.File, error) {
	before, err := f.root.Lstat(name)
	if err == nil {
		err = f.ours(name, before)
	}
	if err == nil && !before.Mode().IsRegular() {
		err = notOurs(f.path, fmt.Sprintf("%s in it is no file", name), "Find out who made it, and remove it")
	}
	if err != nil && !(errors.Is(err, fs.ErrNotExist) && flag&os.O_CREATE != 0) {
		return nil, err
	}
	made := err != nil
	if made {
		flag |= os.O_EXCL
	}
	file, err := f.root.OpenFile(name, flag&^os.O_TRUNC, 0o600)
	if made && errors.Is(err, fs.ErrExist) {
		return f.OpenFile(name, flag&^os.O_EXCL) // somebody of ours was faster
	}
	if err != nil {
		return nil, err
	}
	info, err := file.Stat()
	if err == nil && !made && !os.SameFile(before, info) {
		err = notOurs(f.path, fmt.Sprintf("%s in it was exchanged while it was opened", name), "Look who did that")
	}
	if err == nil && flag&os.O_TRUNC != 0 {
		err = file.Truncate(0)
	}
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return file, nil
}

// Make makes sure that a file is there, for a program that opens it itself.
func (f *Folder) Make(name string) error {
	file, err := f.OpenFile(name, os.O_CREATE|os.O_RDWR)
	if err != nil {
		return err
	}
	return file.Close()
}

// ReadFile reads a file.
func (f *Folder) ReadFile(name string) ([]byte, error) {
	file, err := f.OpenFile(name, os.O_RDONLY)
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(file)
	return data, errors.Join(err, file.Close())
}

// WriteFile replaces a file: whoever reads it, also after a crash, finds the old content
// or the new one, whole.
func (f *Folder) WriteFile(name string, data []byte) error {
	return durable.WriteIn(f.root, filepath.FromSlash(name), data)
}

// Mkdir makes a folder with mode 0700, and those that it is in.
func (f *Folder) Mkdir(name string) error { return f.root.MkdirAll(name, 0o700) }

// Remove removes files. One that is not there is no error.
func (f *Folder) Remove(names ...string) error {
	var failed []error
	for _, name := range names {
		if err := f.root.Remove(name); !errors.Is(err, fs.ErrNotExist) {
			failed = append(failed, err)
		}
	}
	return errors.Join(failed...)
}

// RemoveAll removes a folder in it with all that it has. One that is not there is no error.
func (f *Folder) RemoveAll(name string) error { return f.root.RemoveAll(name) }

// Key is a key in the folder that nobody else knows. It is made when it is first asked for.
func (f *Folder) Key(name string) ([]byte, error) {
	key, err := f.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		fresh := rand.Text()
		made := name + "." + fresh[:8]
		err = f.WriteFile(made, []byte(fresh))
		// somebody of ours may be faster
		if errLink := f.root.Link(made, name); err == nil && errLink != nil && !errors.Is(errLink, fs.ErrExist) {
			err = f.Rename(made, name) // where there are no links
		}
		if err = errors.Join(err, f.Remove(made)); err == nil {
			key, err = f.ReadFile(name)
		}
	}
	if err == nil && len(key) == 0 {
		err = errors.New("it is empty: remove it")
	}
	if err != nil {
		return nil, fmt.Errorf("the key %s: %w", f.Path(name), err)
	}
	return key, nil
}

// Listen listens at a socket with mode 0600, in the place of what was there, or with 0660 for the members of a group;
// -1 is none. The folder's path may be longer than that of a socket can be.
func (f *Folder) Listen(name string, group int) (*net.UnixListener, error) {
	made := name + ".new"
	if err := f.Remove(made); err != nil {
		return nil, err
	}
	dir, err := f.root.Open(".")
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: through(dir, made)})
	if err != nil {
		return nil, fmt.Errorf("listen at %s: %w", f.Path(name), err)
	}
	l.SetUnlinkOnClose(false) // by then it may be another's
	if err = f.root.Chmod(made, 0o600); err == nil && group >= 0 {
		err = f.shown(made, 0o660, group)
	}
	if err == nil {
		err = f.root.Rename(made, name)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("listen at %s: %w", f.Path(name), err), l.Close(), f.Remove(made))
	}
	return l, nil
}

// Dial connects to a socket.
func (f *Folder) Dial(ctx context.Context, name string) (net.Conn, error) {
	info, err := f.root.Lstat(name)
	if err == nil {
		err = f.ours(name, info)
	}
	if err != nil {
		return nil, err
	}
	dir, err := f.root.Open(".")
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	var d net.Dialer
	return d.DialContext(ctx, "unix", through(dir, name))
}

// through is the name of something in an open folder, by whatever path that is.
func through(dir *os.File, name string) string {
	return fmt.Sprintf("/proc/self/fd/%d/%s", dir.Fd(), name)
}

// Rename gives a file another name, in the place of one that has it.
func (f *Folder) Rename(from, to string) error { return f.root.Rename(from, to) }

// Names are the names in a folder of it, in order; none if it is not there.
func (f *Folder) Names(folder string) ([]string, error) {
	entries, err := fs.ReadDir(f.root.FS(), folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	names := make([]string, len(entries))
	for n, e := range entries {
		names[n] = e.Name()
	}
	return names, err
}
