package delivered

import (
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"testing"
	"time"
)

var noon = time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)

func write(t *testing.T, file, text string, at time.Time) {
	t.Helper()
	if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, []byte(text), 0o644),
		os.Chtimes(file, at, at)); err != nil {
		t.Fatal(err)
	}
}

func TestDigestIsOfTheContent(t *testing.T) {
	dir := t.TempDir()
	of := func(path string) string {
		t.Helper()
		id, err := Digest(path)
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	write(t, dir+"/a/x", "one", noon)
	write(t, dir+"/b/x", "one", noon.Add(time.Hour))
	if of(dir+"/a/x") != of(dir+"/b/x") || of(dir+"/a") != of(dir+"/b") {
		t.Error("the same content has two identities")
	}
	before := of(dir + "/a")
	write(t, dir+"/a/y", "", noon)
	if of(dir+"/a") == before {
		t.Error("another file did not change the folder's identity")
	}
}

// A build's identity covers all that is started of it: links and where they lead, modes,
// names.
func TestAnIdentityCoversAll(t *testing.T) {
	dir := t.TempDir()
	of := func() string {
		t.Helper()
		id, err := Digest(dir + "/build")
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	write(t, dir+"/store/a", "one", noon)
	write(t, dir+"/store/b", "two", noon)
	write(t, dir+"/build/own", "x", noon)
	if err := os.Symlink(dir+"/store/a", dir+"/build/server"); err != nil {
		t.Fatal(err)
	}
	seen := map[string]string{of(): "at first"}
	for _, c := range []struct {
		what   string
		change func() error
	}{
		{"the link leads elsewhere", func() error {
			return errors.Join(os.Remove(dir+"/build/server"), os.Symlink(dir+"/store/b", dir+"/build/server"))
		}},
		{"what it leads to is written anew",
			func() error { return os.WriteFile(dir+"/store/b", []byte("three"), 0o644) }},
		{"a mode", func() error { return os.Chmod(dir+"/build/own", 0o755) }},
		{"a name", func() error { return os.Rename(dir+"/build/own", dir+"/build/other") }},
		{"an empty folder", func() error { return os.Mkdir(dir+"/build/empty", 0o755) }},
		{"a folder that is linked", func() error { return os.Symlink(dir+"/store", dir+"/build/all") }},
		{"a file in that", func() error { return os.WriteFile(dir+"/store/c", []byte("four"), 0o644) }},
	} {
		if err := c.change(); err != nil {
			t.Fatal(err)
		}
		id := of()
		if before, known := seen[id]; known {
			t.Errorf("%s: the identity is the one %s", c.what, before)
		}
		seen[id] = "after " + c.what
	}
}

// What was delivered is known again, whatever running it has added.
func TestWhatWasDelivered(t *testing.T) {
	dir := t.TempDir()
	build := dir + "/4.3.0"
	write(t, build+"/bin/server", "one", noon)
	write(t, build+"/lib/fares", "two", noon)
	if err := os.Symlink("fares", build+"/lib/current"); err != nil {
		t.Fatal(err)
	}
	m, err := Take(build, build+"/bin/server")
	if err != nil {
		t.Fatal(err)
	}
	if list := m.Differs(); list != nil {
		t.Errorf("untouched, %v differ", list)
	}
	write(t, build+"/lib/__pycache__/fares.pyc", "made", noon)
	write(t, build+"/server.log", "ran", noon)
	write(t, build+"/bin/server", "one", noon.Add(time.Hour)) // the same, written anew
	if list := m.Differs(); list != nil {
		t.Errorf("what running it adds is held for another build: %v", list)
	}
	for _, c := range []struct {
		what   string
		change func() error
		want   string
	}{
		{"another content", func() error { return os.WriteFile(build+"/bin/server", []byte("six"), 0o644) },
			build + "/bin/server"},
		{"another mode", func() error { return os.Chmod(build+"/lib/fares", 0o600) }, build + "/lib/fares"},
		{"another link", func() error {
			return errors.Join(os.Remove(build+"/lib/current"), os.Symlink("__pycache__", build+"/lib/current"))
		}, build + "/lib/current"},
		{"none", func() error { return os.Remove(build + "/lib/fares") }, build + "/lib/fares"},
	} {
		if err := c.change(); err != nil {
			t.Fatal(err)
		}
		list := m.Differs()
		if len(list) == 0 || !contains(list, c.want) {
			t.Errorf("%s: %v differ, want %s", c.what, list, c.want)
		}
		if m, err = Take(build); err != nil {
			t.Fatal(err)
		}
	}
	if same, known := m.Is(build+"/bin/server", build+"/bin/server"); !same || !known {
		t.Errorf("the program is %v, known %v", same, known)
	}
	if _, known := m.Is("/bin/sh", "/bin/sh"); known {
		t.Error("what was not delivered is known")
	}
	if _, err := Take(dir + "/nowhere"); err == nil {
		t.Error("nothing has a manifest")
	}
	got := []string{Told(nil, build), Told([]string{build + "/bin/server"}, build),
		Told([]string{"/usr/x", "/usr/y"}, build)}
	if want := []string{"", "bin/server differs", "/usr/x and 1 more differ"}; !reflect.DeepEqual(got, want) {
		t.Errorf("told as %q", got)
	}
}

func contains(list []string, want string) bool {
	for _, s := range list {
		if s == want {
			return true
		}
	}
	return false
}
