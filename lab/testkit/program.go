package testkit

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"sync"
	"testing"
)

// ProgramsIn is the environment variable with the folder of programs that were built before, as "make test" does it.
// Without it each test binary builds the ones that it starts.
const ProgramsIn = "VAIVEN_TEST_PROGRAMS"

// Build puts programs of ours, named by their packages, into a folder.
func Build(dir string, packages ...string) error {
	from := os.Getenv(ProgramsIn)
	if from == "" {
		cmd := exec.Command("go", append([]string{"build", "-trimpath", "-o", dir + "/"}, packages...)...)
		cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("build %v: %w\n%s", packages, err, out)
		}
		return nil
	}
	for _, pkg := range packages {
		if err := copyProgram(filepath.Join(from, path.Base(pkg)), filepath.Join(dir, path.Base(pkg))); err != nil {
			return fmt.Errorf("%w (%s is %s)", err, ProgramsIn, from)
		}
	}
	return nil
}

func copyProgram(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o755)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

var programs sync.Map // of packages to func() (string, error)

// Program is the file of a program of ours, by its package. Ordinary users can start it, and nobody else can change it.
func Program(t testing.TB, pkg string) string {
	t.Helper()
	once, _ := programs.LoadOrStore(pkg, sync.OnceValues(func() (string, error) { return build(pkg) }))
	file, err := once.(func() (string, error))()
	if err != nil {
		t.Fatal(err)
	}
	return file
}

func build(pkg string) (string, error) {
	dir := filepath.Join(os.TempDir(), fmt.Sprintf("vaiven-programs-%d", os.Getuid()))
	if err := errors.Join(os.MkdirAll(dir, 0o755), os.Chmod(dir, 0o755)); err != nil {
		return "", err
	}
	// Other test binaries build it as well: it gets its name when it is whole.
	fresh, err := os.MkdirTemp(dir, "fresh-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(fresh)
	if err := Build(fresh, pkg); err != nil {
		return "", err
	}
	file := filepath.Join(dir, path.Base(pkg))
	return file, os.Rename(filepath.Join(fresh, path.Base(pkg)), file)
}
