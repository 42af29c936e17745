package durable

import (
	"os"
	"path/filepath"
	"testing"
)

func TestAFileIsReplacedWhole(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "front.json")
	for _, text := range []string{"first", "second, and longer", ""} {
		if err := WriteFile(file, []byte(text)); err != nil {
			t.Fatal(err)
		}
		got, err := os.ReadFile(file)
		if err != nil || string(got) != text {
			t.Errorf("written %q, read %q, %v", text, got, err)
		}
	}
	info, err := os.Stat(file)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("mode %v, %v, want 0600", info.Mode().Perm(), err)
	}
	leftOnly(t, dir, "front.json")
}

func TestAFailureLeavesTheOldFile(t *testing.T) {
	dir := t.TempDir()
	if err := WriteFile(filepath.Join(dir, "nowhere", "front.json"), nil); err == nil {
		t.Error("a file was written into a folder that is not there")
	}
	// A folder stands where the file should go: the rename fails at the very end.
	if err := os.MkdirAll(filepath.Join(dir, "front.json", "full"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := WriteFile(filepath.Join(dir, "front.json"), []byte("x")); err == nil {
		t.Error("a folder was replaced by a file")
	}
	leftOnly(t, dir, "front.json")
}

// leftOnly holds a folder to have one entry: nothing half done is left beside it.
func leftOnly(t *testing.T, dir, name string) {
	t.Helper()
	entries, err := os.ReadDir(dir)
	if err != nil || len(entries) != 1 || entries[0].Name() != name {
		t.Errorf("the folder has %v, %v", entries, err)
	}
}

func TestOverwrite(t *testing.T) {
	file := filepath.Join(t.TempDir(), "order")
	if err := Overwrite(file, []byte("x")); err == nil {
		t.Error("a file that is not there was written over")
	}
	for _, text := range []string{"a long first line\n", "short\n", "a longer one again\n"} {
		if text == "a long first line\n" {
			if err := os.WriteFile(file, nil, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		if err := Overwrite(file, []byte(text)); err != nil {
			t.Fatal(err)
		}
		if got, err := os.ReadFile(file); err != nil || string(got) != text {
			t.Errorf("written %q, read %q, %v", text, got, err)
		}
	}
}
