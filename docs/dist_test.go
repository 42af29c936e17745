package docs_test

import (
	"bytes"
	"debug/elf"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"vaiven/lab/testkit"
)

// dist makes a release for this machine from a tree.
func dist(t *testing.T, tree string) (archive string) {
	t.Helper()
	to := t.TempDir()
	cmd := exec.Command(filepath.Join(tree, "scripts", "dist"), to, "amd64")
	cmd.Env = append(os.Environ(), "VERSION=1.0-try", "SOURCE_DATE_EPOCH=1795939200")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return filepath.Join(to, "vaiven-1.0-try-linux-amd64.tar.gz")
}

// copied is a copy of the tree, with nothing in it but what belongs to the project.
func copied(t *testing.T, tree string) string {
	t.Helper()
	to := filepath.Join(t.TempDir(), "elsewhere")
	if err := os.Mkdir(to, 0o700); err != nil {
		t.Fatal(err)
	}
	script := `cd "$1" && { git ls-files -co --exclude-standard -z || find . -path ./bin -prune -o -type f -print0; } | while IFS= read -r -d "" f; do [ -e "$f" ] && ` +
		`printf "%s\0" "$f"; done | tar --null -T - -cf - | tar -xf - -C "$2"`
	if out, err := exec.Command("bash", "-c", script, "copy", tree, to).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return to
}

// A release is the same bytes wherever the tree stands, and all that it takes for a first crossing on a machine without
// Go.
func TestFromTheArchive(t *testing.T) {
	t.Parallel() // it mostly waits
	archive := dist(t, "..")
	one, err := os.ReadFile(archive)
	if err != nil {
		t.Fatal(err)
	}
	t.Run("again", func(t *testing.T) {
		testkit.Long(t)
		two, err := os.ReadFile(dist(t, copied(t, "..")))
		if err != nil || !bytes.Equal(one, two) {
			t.Errorf("built again, elsewhere, it is another: %d and %d bytes, %v", len(one), len(two), err)
		}
	})
	home := t.TempDir()
	// What a new user has: no Go, and nothing of ours but the archive.
	run := func(dir string, words ...string) string {
		t.Helper()
		cmd := exec.Command("/usr/bin/env", append([]string{"-i", "HOME=" + home, "TMPDIR=" + os.TempDir(),
			"TERM=xterm",
			"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "sh", "-c", `"$@"`, "sh"}, words...)...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %v\n%s", words, err, out)
		}
		return string(out)
	}
	run(home, "tar", "-xzf", archive)
	dir := filepath.Join(home, "vaiven-1.0-try-linux-amd64")
	run(dir, "sha256sum", "--quiet", "-c", "SHA256SUMS")
	run(filepath.Dir(archive), "sha256sum", "--quiet", "-c", filepath.Base(archive)+".sha256")
	if out := run(dir, "sh", "-c", "command -v go || echo none"); out != "none\n" {
		t.Errorf("there is Go: %s", out)
	}
	for _, program := range []string{"vaiven", "vaiven-demo", "vaiven-relay"} {
		f, err := elf.Open(filepath.Join(dir, program))
		if err != nil {
			t.Fatal(err)
		}
		if libraries, _ := f.ImportedLibraries(); len(libraries) > 0 || f.Section(".interp") != nil ||
			f.Section(".symtab") != nil || f.Section(".debug_info") != nil {
			t.Errorf("%s needs %v, or is not stripped", program, libraries)
		}
		f.Close()
	}
	if out := run(dir, "./vaiven", "version"); !strings.Contains(out, "1.0-try") {
		t.Errorf("its version is %s", out)
	}
	run(dir, "bash", "-n", "completions/vaiven.bash")
	if out := run(dir, "mandoc", "-T", "utf8", "man/vaiven.1"); !strings.Contains(out, "vaiven") {
		t.Errorf("its manual page is %.200s", out)
	}
	if text, err := os.ReadFile(filepath.Join(dir, "THIRD-PARTY")); err != nil || !strings.Contains(string(text),
		"bubbletea") {
		t.Errorf("the licences of what is in it are missing: %v", err)
	}
	t.Run("first crossing", func(t *testing.T) {
		testkit.Long(t)
		if out := run(dir, "./vaiven", "demo", "--hands-free", "--patient"); !strings.Contains(out, "settled") {
			t.Errorf("the first crossing ended with\n%s", out)
		}
	})
}
