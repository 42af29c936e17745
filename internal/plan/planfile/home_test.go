package planfile

import (
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"vaiven/internal/world/section"
)

// Where the front is can be read from a plan with mistakes elsewhere.
func TestTheFrontOfAPlanWithMistakes(t *testing.T) {
	front := "front:\n- listen: 127.0.0.1:18080\n  haproxy:\n    socket: ./haproxy.sock\n    backend: sailings\n- " +
		"listen: 127.0.0.1:18081\n"
	rest := "stack:\n  command: ./run {address}\n  ports: 18100-18109\nversions: folder builds\nsmoke:\n  - request: " +
		"/\nroute:\n  - 100 %\n"
	read := func(text string) (home, err error, same bool) {
		file := filepath.Join(t.TempDir(), "plan.yaml")
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		p, home := ReadFront(file)
		whole, err := Read(file)
		if home == nil && err == nil {
			same = reflect.DeepEqual(p.Fronts(), whole.Fronts()) && p.Service == whole.Service &&
				p.State == whole.State && p.Socket() == whole.Socket()
		}
		return home, err, same
	}
	if home, err, same := read("service: sailings\nstate: ./kept\n" + front + rest); home != nil || err != nil ||
		!same {
		t.Fatalf("without a mistake: %v, %v, the same %v", home, err, same)
	}
	for _, text := range []string{
		"service: sailings\n" + front + "rout: [100 %]\n",
		"service: sailings\n" + front + strings.ReplaceAll(rest, "100 %", "40 %"),
		"smoke: {{{\nservice: sailings\n" + front + rest + "keep: [\n\t- never\n",
		strings.Replace(rest, "route:", "\"route\" :", 1) + "# front: none\nservice: sailings\n" + front +
			"keep: 30\nkeep: 40\n",
	} {
		if home, err, _ := read(text); home != nil || err == nil {
			t.Errorf("%s\nfor going home: %v; in all: %v", text, home, err)
		}
	}
	home, _, _ := read("service: sailings\nroute: []\n\nfront:\n  lisen: 127.0.0.1:1\n")
	var problems section.Problems
	if !errors.As(home, &problems) || len(problems.List) != 1 || problems.List[0].Line != 5 {
		t.Errorf("a mistake in the front itself: %v", home)
	}
	if home, _, _ := read("route: [100 %]\n"); !errors.As(home, &problems) {
		t.Errorf("without a service: %v", home)
	}
}
