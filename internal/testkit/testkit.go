package testkit

import (
	"flag"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"
)

var (
	update = flag.Bool("update", false, "rewrite golden files")
	seed   = flag.Uint64("seed", 0, "seed of property tests (0: a new one)")
)

// Golden compares a text with the file of that name below testdata, which -update
// rewrites.
func Golden(t *testing.T, name, got string) {
	t.Helper()
	file := filepath.Join("testdata", name)
	if *update {
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if got != string(want) {
		t.Errorf("differs from %s (-update rewrites it; review the difference as code)\n--- got\n%s\n--- want\n%s", file, got, want)
	}
}

// Rand is a source of randomness whose seed is printed when the test fails.
func Rand(t testing.TB) *rand.Rand {
	t.Helper()
	s := *seed
	if s == 0 {
		s = rand.Uint64()
	}
	t.Logf("-seed=%d", s)
	return rand.New(rand.NewPCG(s, 0))
}

// Eventually waits until a condition holds, and fails the test if it does not
// within a generous time. The condition is asked again and again.
func Eventually(t *testing.T, what string, ok func() bool) {
	t.Helper()
	deadline := time.Now().Add(30 * time.Second)
	for !ok() {
		if time.Now().After(deadline) {
			t.Fatalf("waited in vain: %s", what)
		}
		time.Sleep(10 * time.Millisecond) // between two questions, not to be right
	}
}
