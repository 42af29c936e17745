package front

import (
	"errors"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// sharedDriver is a driver of which only is known what a going home uses.
type sharedDriver struct {
	Driver
	ways HomeWays
	err  error
}

func (d sharedDriver) HomeWays() (HomeWays, error) { return d.ways, d.err }

func TestSharedWith(t *testing.T) {
	dir := t.TempDir()
	socket, file := filepath.Join(dir, "s"), filepath.Join(dir, "kept", "order")
	l, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if err := os.Mkdir(filepath.Dir(file), 0o755); err != nil {
		t.Fatal(err)
	}
	const group = 4242
	for _, c := range []struct {
		name           string
		socket, folder os.FileMode
		give           bool // both to the group
		want           string
	}{
		{"their own", 0o660, 0o770, true, ""},
		{"everybody's", 0o666, 0o777, false, ""},
		{"another group's", 0o660, 0o770, false, "may not connect to " + socket},
		{"to look at alone", 0o640, 0o770, true, "may not connect to"},
		{"to list alone", 0o660, 0o750, true, "may not replace files in " + filepath.Dir(file)},
	} {
		gid := os.Getgid()
		if c.give {
			gid = group
		}
		for path, mode := range map[string]os.FileMode{socket: c.socket, filepath.Dir(file): c.folder} {
			if err := errors.Join(os.Chown(path, -1, gid), os.Chmod(path, mode)); err != nil {
				t.Skipf("files can be given to no group: %v", err)
			}
		}
		err := SharedWith(sharedDriver{ways: HomeWays{[]string{socket}, []string{file}}}, group)
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	away := errors.New("elsewhere")
	if err := SharedWith(sharedDriver{err: away}, group); !errors.Is(err, away) {
		t.Errorf("a front elsewhere: %v", err)
	}
	if err := SharedWith(struct{ Driver }{}, group); !errors.Is(err, errNotShared) {
		t.Errorf("a front that cannot be shared: %v", err)
	}
}
