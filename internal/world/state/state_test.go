package state

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"vaiven/lab/testkit"
)

func TestAStateFolderIsMadeForItsOwnerAlone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a", "sailings.vaiven")
	if _, err := Look(path); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a folder that is not there: %v", err)
	}
	f, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("it has mode %v, %v", info.Mode(), err)
	}
	if err := errors.Join(f.Mkdir("instances/worker"), f.Make("logbook.db"),
		f.WriteFile("instances/worker/green-1.json", []byte("{}"))); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"logbook.db", "instances/worker/green-1.json"} {
		if info, err := os.Stat(f.Path(name)); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s has mode %v, %v", name, info.Mode(), err)
		}
	}
	if data, err := f.ReadFile("instances/worker/green-1.json"); err != nil || string(data) != "{}" {
		t.Errorf("read %q, %v", data, err)
	}
	if names, err := f.Names("instances/worker"); err != nil || len(names) != 1 {
		t.Errorf("in it are %v, %v", names, err)
	}
	if names, err := f.Names("nowhere"); err != nil || len(names) != 0 {
		t.Errorf("in nothing are %v, %v", names, err)
	}
	if err := f.Remove("logbook.db", "logbook.db"); err != nil {
		t.Errorf("removed twice: %v", err)
	}
}

// Files that an earlier version left open to everybody are closed.
func TestFilesThatOthersCouldReadAreClosed(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "logbook.db")
	if err := errors.Join(os.WriteFile(file, nil, 0o644), os.Chmod(file, 0o644)); err != nil {
		t.Fatal(err)
	}
	f, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("mode %v, %v", info.Mode(), err)
	}
}

func TestAFolderThatIsNotToBeBelievedIsRefused(t *testing.T) {
	for name, c := range map[string]struct {
		make func(dir string) error
		want string
	}{
		"others may write it":    {func(dir string) error { return os.Chmod(dir, 0o777) }, "others may write it"},
		"its group may write it": {func(dir string) error { return os.Chmod(dir, 0o770) }, "others may write it"},
		"somebody else's": {func(dir string) error { return os.Chown(dir, 65533, 65533) },
			"belongs to user 65533"},
		"a link in it": {func(dir string) error {
			return os.Symlink("/etc/hosts",
				filepath.Join(dir, "vaiven.log"))
		}, "vaiven.log in it is a link"},
		"a link deep in it": {func(dir string) error {
			return errors.Join(os.Mkdir(filepath.Join(dir, "instances"), 0o700),
				os.Symlink("/etc/hosts", filepath.Join(dir, "instances", "green-1.log")))
		}, "instances/green-1.log in it is a link"},
		"somebody else's file": {func(dir string) error {
			file := filepath.Join(dir, "keeper.lock")
			return errors.Join(os.WriteFile(file, nil, 0o600), os.Chown(file, 65533, 65533))
		}, "keeper.lock in it belongs to user 65533"},
	} {
		if os.Getuid() != 0 && strings.HasPrefix(name, "somebody else's") {
			continue // only root can give files away
		}
		t.Run(name, func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "sailings.vaiven")
			if err := os.Mkdir(dir, 0o700); err != nil {
				t.Fatal(err)
			}
			if err := c.make(dir); err != nil {
				t.Fatal(err)
			}
			_, err := Open(dir)
			if !errors.Is(err, ErrNotOurs) || !strings.Contains(err.Error(), c.want) {
				t.Errorf("opened: %v, want %q", err, c.want)
			}
		})
	}
	t.Run("the folder is a link", func(t *testing.T) {
		link := filepath.Join(t.TempDir(), "sailings.vaiven")
		if err := os.Symlink(t.TempDir(), link); err != nil {
			t.Fatal(err)
		}
		if _, err := Open(link); !errors.Is(err, ErrNotOurs) {
			t.Errorf("opened: %v", err)
		}
	})
}

// A link that comes after the folder was looked through is not followed either, and a
// pipe holds nobody up.
func TestNothingIsReachedThroughALink(t *testing.T) {
	dir, precious := t.TempDir(), filepath.Join(t.TempDir(), "precious")
	if err := os.WriteFile(precious, []byte("as it was"), 0o600); err != nil {
		t.Fatal(err)
	}
	f, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := errors.Join(os.Symlink(precious, f.Path("out")), f.WriteFile("inside", []byte("x")),
		os.Symlink("inside", f.Path("in"))); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"out", "in"} {
		if _, err := f.ReadFile(name); !errors.Is(err, ErrNotOurs) {
			t.Errorf("read through the link %s: %v", name, err)
		}
		if file, err := f.OpenFile(name, os.O_CREATE|os.O_TRUNC|os.O_WRONLY); err == nil {
			file.Close()
			t.Errorf("written through the link %s", name)
		}
	}
	if err := f.WriteFile("out", []byte("ours")); err != nil {
		t.Errorf("a link was not replaced: %v", err)
	}
	if data, err := os.ReadFile(precious); err != nil || string(data) != "as it was" {
		t.Errorf("what a link led to is %q now, %v", data, err)
	}
}

func TestAsAnOrdinaryUser(t *testing.T) {
	testkit.AsNobody(t, "TestAStateFolderIsMade|TestFilesThatOthers|TestAFolderThatIsNot|TestNothingIsReached")
}

// A key is the same for all who ask for it, though they all be the first.
func TestAKey(t *testing.T) {
	f, err := Open(filepath.Join(t.TempDir(), "state"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	keys := make(chan string, 20)
	for range cap(keys) {
		go func() {
			key, err := f.Key("digest.key")
			if err != nil {
				t.Error(err)
			}
			keys <- string(key)
		}()
	}
	first := <-keys
	for range cap(keys) - 1 {
		if key := <-keys; key != first || len(key) < 20 {
			t.Errorf("there are the keys %q and %q", first, key)
		}
	}
	if names, err := f.Names("."); err != nil || len(names) != 2 { // and the folder's identity
		t.Errorf("left are %v, %v", names, err)
	}
}
