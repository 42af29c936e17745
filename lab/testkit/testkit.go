package testkit

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
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
		t.Errorf("differs from %s (-update rewrites it; review the difference as code)\n--- got\n%s\n--- want\n%s",
			file, got, want)
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
func Eventually(t testing.TB, what string, ok func() bool) {
	t.Helper()
	deadline := time.Now().Add(90 * time.Second)
	for !ok() {
		if time.Now().After(deadline) {
			t.Fatalf("waited in vain: %s", what)
		}
		time.Sleep(10 * time.Millisecond) // between two questions, not to be right
	}
}

// Nobody is the user as whom [AsNobody] runs tests.
const Nobody = 65534

// AsNobody runs tests of this test binary, by a pattern, once more as an ordinary user: what
// root may do hides many mistakes. Run by somebody else than root it does nothing, because all
// the others ran as an ordinary user then.
func AsNobody(t *testing.T, pattern string, environment ...string) {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skipf("everything ran as user %d", os.Getuid())
	}
	dir, err := os.MkdirTemp("", "vaiven-nobody-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	program, err := os.ReadFile(os.Args[0])
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "tests")
	if err := errors.Join(os.Chmod(dir, 0o755), os.WriteFile(file, program, 0o755),
		os.Mkdir(filepath.Join(dir, "tmp"), 0o700),
		os.Chown(filepath.Join(dir, "tmp"), Nobody, Nobody)); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(file, "-test.run", pattern, "-test.v", "-test.timeout", "5m")
	cmd.Dir = "."
	cmd.Env = append(os.Environ(),
		append(environment, "TMPDIR="+filepath.Join(dir, "tmp"), "HOME="+filepath.Join(dir, "tmp"))...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: Nobody, Gid: Nobody}}
	out, err := cmd.CombinedOutput()
	if err != nil || !bytes.Contains(out, []byte("--- PASS")) {
		t.Fatalf("as user %d: %v\n%s", Nobody, err, out)
	}
	RanAs(t, fmt.Sprintf("user %d: %d tests passed", Nobody, bytes.Count(out, []byte("--- PASS"))))
}

// RanAsFile is the environment variable with a file that says at the end of "make test" what
// ran as an ordinary user.
const RanAsFile = "VAIVEN_RAN_AS"

// RanAs says as whom a test ran, where it matters that it was not root.
func RanAs(t *testing.T, who string) {
	t.Helper()
	t.Log("ran as ", who)
	name := os.Getenv(RanAsFile)
	if name == "" {
		return
	}
	f, err := os.OpenFile(name, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		t.Fatal(err)
	}
	_, err = fmt.Fprintf(f, "%s as %s\n", t.Name(), who)
	if err := errors.Join(err, f.Close()); err != nil {
		t.Fatal(err)
	}
}
