package testkit

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
)

var update = flag.Bool("update", false, "rewrite golden files")

// SeedIs is the environment variable with the seed of all that tests draw: a number, or "new" for new ones, as "make
// long" and "make simulate" have them. Without it each test has one of its own that is always the same.
const SeedIs = "VAIVEN_SEED"

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

// Seed is the seed of a test. It is printed when the test fails: with it in [SeedIs] the test draws the same again.
func Seed(t testing.TB) uint64 {
	t.Helper()
	var s uint64
	switch text := os.Getenv(SeedIs); text {
	case "":
		h := fnv.New64a()
		h.Write([]byte(t.Name()))
		s = h.Sum64() >> 1
	case "new":
		s = rand.Uint64() >> 1
	default:
		var err error
		if s, err = strconv.ParseUint(text, 10, 64); err != nil {
			t.Fatalf("%s: %v: want a number, or new", SeedIs, err)
		}
	}
	t.Logf("%s=%d", SeedIs, s)
	return s
}

// Rand is a source of randomness by the test's [Seed]. Each source of a test draws other numbers.
func Rand(t testing.TB) *rand.Rand {
	t.Helper()
	had, _ := sources.LoadOrStore(t, new(atomic.Uint64))
	t.Cleanup(func() { sources.Delete(t) })
	return rand.New(rand.NewPCG(Seed(t), had.(*atomic.Uint64).Add(1)))
}

var sources sync.Map // of tests to how many sources they have had

// Long skips a test that takes long, where only the short ones are wanted (go test -short, as make test does it): make
// long runs it.
func Long(t testing.TB) {
	t.Helper()
	if testing.Short() {
		t.Skip("it takes long: make long runs it")
	}
}

// Nobody is the user as whom [AsNobody] runs tests.
const Nobody = 65534

// AsNobody runs tests of this test binary once more as an ordinary user, because what root may do hides many mistakes.
// The pattern is the names of the tests with | between them; each has to pass. Run by another user than root it does
// nothing: all tests ran as an ordinary user then.
func AsNobody(t *testing.T, pattern string, environment ...string) {
	t.Helper()
	if os.Getuid() != 0 {
		RanAs(t, fmt.Sprintf("user %d, as everything did", os.Getuid()))
		return
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
	for name := range strings.SplitSeq(pattern, "|") {
		if !bytes.Contains(out, []byte("\n--- PASS: "+strings.Trim(name, "^$"))) {
			t.Errorf("as user %d %s did not pass", Nobody, name)
		}
	}
	if err != nil || bytes.Contains(out, []byte("--- SKIP")) || t.Failed() {
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
