package main

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"vaiven/lab/demo"
)

// All services below a folder are told of in a line each, problems first, and the worst is the exit status. One whose
// plan is wrong holds up no other.
func TestWhereAllStand(t *testing.T) {
	t.Parallel() // it mostly waits
	s := scenario(t)
	step := steps(t)
	empty, base := t.TempDir(), filepath.Dir(s.File)
	other := filepath.Join(base, "other", "fares.yaml")
	plan, err := os.ReadFile(s.File)
	if err = errors.Join(err, os.Mkdir(filepath.Dir(other), 0o755),
		os.WriteFile(filepath.Join(empty, "notes.yaml"), []byte("a: b\n"), 0o600)); err != nil {
		t.Fatal(err)
	}
	step(2, []string{"there is no plan below"}, "where", empty)
	step(0, []string{"1 service: all right", "sailings", "no keeper runs; 0 % of the requests go to green"}, "where", base)
	step(0, nil, "raise", s.File, "--version", demo.NewVersion)
	step(0, []string{"· sailings", "gets all requests"}, "where", base)
	step(0, []string{"raise green at 4.3.0"}, "log", s.File)
	step(2, []string{"of a folder all crossings are listed"}, "log", base, "3")
	step(0, nil, "log", base)
	wrong := strings.Replace(string(plan), "service: sailings", "service: fares\nnobody-knows: this", 1)
	if err := os.WriteFile(other, []byte(wrong), 0o600); err != nil {
		t.Fatal(err)
	}
	out := step(1, []string{"2 services: ", "; 1 all right", `no key "nobody-knows"`}, "where", base)
	if lines := strings.Split(out, "\n"); !strings.HasPrefix(lines[1], "▲ ") || !strings.Contains(out, "\n· sailings") {
		t.Errorf("problems are not first:\n%s", out)
	}
	step(1, []string{`"gravity":0`}, "where", base, "--json")
	cross := startedCross(t, s)
	defer func() { _ = cross.Wait() }()
	step(0, nil, "back", s.File, "--to", "blue")
	step(1, []string{"sailings            1  ", "4.2.0 → 4.3.0", "no key"}, "log", base)
	step(1, []string{"number,service", "1,sailings,green"}, "log", base, "--csv")
}
