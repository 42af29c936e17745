package delivered

import (
	"os"
	"path/filepath"
	"testing"
)

// A copy is what was delivered, whatever becomes of that, and what is said of its paths is said of the copy.
func TestACopyIsKept(t *testing.T) {
	dir := t.TempDir()
	build, kept := dir+"/4.3.0", dir+"/kept"
	write(t, build+"/bin/server", "one", noon)
	write(t, build+"/lib/fares", "two", noon)
	if err := os.Chmod(build+"/bin/server", 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("fares", build+"/lib/current"); err != nil {
		t.Fatal(err)
	}
	m, err := Take(build)
	if err != nil {
		t.Fatal(err)
	}
	if ok, err := m.Copy(kept); err != nil || !ok || !m.Stands(kept) {
		t.Fatalf("kept %v, stands %v, %v", ok, m.Stands(kept), err)
	}
	write(t, build+"/bin/server", "other", noon)
	if ok, err := m.Copy(dir + "/late"); err == nil || ok {
		t.Errorf("a copy of something else is kept: %v, %v", ok, err)
	}
	if _, err := os.Stat(dir + "/late"); err == nil {
		t.Error("what is no copy stays")
	}
	data, err := os.ReadFile(filepath.Join(kept, build, "bin/server"))
	info, errStat := os.Stat(filepath.Join(kept, build, "bin/server"))
	if string(data) != "one" || err != nil || errStat != nil || info.Mode().Perm() != 0o755 || !m.Stands(kept) {
		t.Errorf("then the copy has %q, %v, %v", data, err, errStat)
	}
	for text, want := range map[string]string{
		build + "/bin/server": kept + build + "/bin/server",
		build:                 kept + build,
		build + "/":           kept + build + "/",
		"--in=" + build + ":" + build + "/lib/fares": "--in=" + kept + build + ":" + kept + build + "/lib/fares",
		build + "/written-since":                     build + "/written-since",
		build + ".old " + build + "/bin/server.old":  build + ".old " + build + "/bin/server.old",
		"/other" + build + "/bin/server":             "/other" + build + "/bin/server",
	} {
		if got := m.In(kept, text); got != want {
			t.Errorf("%q is said as %q, want %q", text, got, want)
		}
	}
	if err := os.WriteFile(filepath.Join(kept, build, "lib/fares"), []byte("six"), 0o644); err != nil {
		t.Fatal(err)
	}
	if m.Stands(kept) {
		t.Error("a copy that was changed stands")
	}
	write(t, build+"/big", "", noon)
	if err := os.Truncate(build+"/big", mostCopied+1); err != nil {
		t.Fatal(err)
	}
	if m, err = Take(build); err != nil {
		t.Fatal(err)
	}
	if ok, err := m.Copy(dir + "/big"); err != nil || ok {
		t.Errorf("what is too much is kept: %v, %v", ok, err)
	}
}
