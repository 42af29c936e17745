package rotate

import (
	"os"
	"strings"
	"testing"

	"vaiven/internal/state"
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
	for _, line := range []string{"short\n", "the first long line\n", "the second long line\n", "the third long line\n", "rest\n"} {
		if _, err := out.WriteString(line); err != nil {
			t.Fatal(err)
		}
		if err := Cut(in, "web.log", limit); err != nil {
			t.Fatal(err)
		}
	}
	for name, want := range map[string]string{"web.log": "rest\n", "web.log.1": "the third long line\n", "web.log.2": "the second long line\n"} {
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
