package rotate

import (
	"errors"
	"os"
	"strings"
	"syscall"
	"testing"

	"vaiven/internal/world/state"
)

// A file that is being written to keeps its newest lines, and so many older files, and whoever
// writes goes on.
func TestCut(t *testing.T) {
	in, err := state.Open(t.TempDir() + "/state")
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	out, err := in.OpenFile("web.log", os.O_CREATE|os.O_APPEND|os.O_WRONLY)
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	limit := Limit{Size: 10, Keep: 2}
	for _, line := range []string{"short\n", "a first line\n", "the second long line\n", "the third long line\n",
		"rest\n"} {
		if _, err := out.WriteString(line); err != nil {
			t.Fatal(err)
		}
		if err := Cut(in, "web.log", limit); err != nil {
			t.Fatal(err)
		}
	}
	for name, want := range map[string]string{"web.log": "rest\n", "web.log.1": "long line\n",
		"web.log.2": "long line\n"} {
		if data, err := in.ReadFile(name); err != nil || string(data) != want {
			t.Errorf("%s: %q, %v, want %q", name, data, err, want)
		}
	}
	if names, _ := in.Names("."); strings.Join(names, " ") != "folder.id web.log web.log.1 web.log.2" {
		t.Errorf("there are %v", names)
	}
	if err := Cut(in, "none.log", limit); err != nil {
		t.Error("a file that is not there:", err)
	}
}

// full is a folder on a disk that takes nothing new.
type full struct{ *state.Folder }

func (f full) OpenFile(name string, flag int) (*os.File, error) {
	if flag&os.O_CREATE == 0 {
		return f.Folder.OpenFile(name, flag)
	}
	return os.OpenFile("/dev/full", os.O_WRONLY, 0)
}

// On a full disk a file is cut in place, the older ones stay, and it is said.
func TestAFullDisk(t *testing.T) {
	in, err := state.Open(t.TempDir() + "/state")
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	for name, text := range map[string]string{"web.log": "the last long line\n", "web.log.1": "one",
		"web.log.2": "two"} {
		if err := in.WriteFile(name, []byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	if err := Cut(full{in}, "web.log", Limit{Size: 10, Keep: 2}); !errors.Is(err, syscall.ENOSPC) {
		t.Errorf("it says %v", err)
	}
	for name, want := range map[string]string{"web.log": "", "web.log.1": "one", "web.log.2": "two"} {
		if data, err := in.ReadFile(name); err != nil || string(data) != want {
			t.Errorf("%s: %q, %v, want %q", name, data, err, want)
		}
	}
}
