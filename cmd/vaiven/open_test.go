package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

// A copy of a plan with an edited route stands beside it, under a name that nothing had.
func TestCopyPlan(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "sailings.yaml")
	const text = "# ours\nservice: sailings\nversions: folder builds\nstack: {command: run, ports: " +
		"18100-18109}\nsmoke: [{request: /}]\nroute: [5 % for 2m, 100 %]\n"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	legs := route.Route{{Part: 1000, Dwell: time.Minute}, {Part: split.Whole}}
	for n, want := range []string{"sailings.route-2.yaml", "sailings.route-3.yaml"} {
		to, err := copyPlan(file, legs)
		if err != nil || filepath.Base(to) != want {
			t.Fatalf("copy %d: %s, %v", n+1, to, err)
		}
		data, err := os.ReadFile(to)
		if err != nil || !strings.HasPrefix(string(data), "# ours\n") ||
			!strings.Contains(string(data), "  - 10 % for 1m\n  - 100 %\n") {
			t.Errorf("copy %d is %q, %v", n+1, data, err)
		}
	}
	if data, err := os.ReadFile(file); err != nil || string(data) != text {
		t.Errorf("the plan itself is %q, %v", data, err)
	}
	if to, err := copyPlan(filepath.Join(dir, "none.yaml"), legs); err == nil {
		t.Errorf("a copy of nothing: %s", to)
	}
}
