package versions

import (
	"errors"
	"io"
	"log"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	standin "github.com/google/go-containerregistry/pkg/registry"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/random"
	"github.com/google/go-containerregistry/pkg/v1/remote"

	"vaiven/internal/core/raise"
	"vaiven/internal/plan"
)

func list(t *testing.T, v plan.Versions) []raise.Version {
	t.Helper()
	s, err := Open(v, filepath.Join(t.TempDir(), "cache"))
	if err != nil {
		t.Fatal(err)
	}
	l, err := s.List(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return l
}

func namesOf(list []raise.Version) string {
	var names []string
	for _, v := range list {
		names = append(names, v.Name)
	}
	return strings.Join(names, " ")
}

func write(t *testing.T, path, text string, at time.Time) {
	t.Helper()
	if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(text), 0o644), os.Chtimes(path, at, at)); err != nil {
		t.Fatal(err)
	}
}

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func TestFolder(t *testing.T) {
	dir := t.TempDir()
	write(t, dir+"/4.2.0/sailings", "old", noon)
	write(t, dir+"/4.3.0/sailings", "new", noon.Add(2*time.Hour))
	write(t, dir+"/4.2.1/sailings", "old", noon.Add(time.Hour))
	write(t, dir+"/.keep", "", noon)
	s, err := Open(plan.Versions{Kind: plan.VersionFolder, Where: dir}, "")
	if err != nil {
		t.Fatal(err)
	}
	first, err := s.List(t.Context())
	if err != nil || namesOf(first) != "4.3.0 4.2.1 4.2.0" {
		t.Fatalf("versions %v, %v; want the newest first", namesOf(first), err)
	}
	if first[1].ID != first[2].ID || first[0].ID == first[1].ID || !first[2].At.Equal(noon) {
		t.Errorf("a rebuilt twin has another identity, or another build has the same: %+v", first)
	}
	write(t, dir+"/4.2.1/sailings", "ole", noon.Add(3*time.Hour)) // of the same size
	again, err := s.List(t.Context())
	if err != nil || again[0].Name != "4.2.1" || again[0].ID == first[1].ID {
		t.Errorf("a changed build keeps its identity: %+v, %v", again, err)
	}
	if _, err := (&folder{path: dir + "/nowhere"}).List(t.Context()); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a folder that is not there: %v", err)
	}
}

func TestFind(t *testing.T) {
	dir := t.TempDir()
	write(t, dir+"/4.2.0/a", "1", noon)
	write(t, dir+"/4.3.0/a", "2", noon.Add(time.Hour))
	s := &folder{path: dir}
	v, err := Find(t.Context(), s, "4.2.0")
	if err != nil || v.Name != "4.2.0" {
		t.Fatalf("found %+v, %v", v, err)
	}
	if byID, err := Find(t.Context(), s, v.ID[:8]); err != nil || byID != v {
		t.Errorf("by its identity: %+v, %v", byID, err)
	}
	if _, err := Find(t.Context(), s, "4.4.0"); !errors.Is(err, ErrNone) {
		t.Errorf("a version that is not there: %v", err)
	}
}

// A repository made by the real git, read where it is and by way of a URL.
func TestGit(t *testing.T) {
	dir := t.TempDir()
	run := func(at time.Time, args ...string) string {
		t.Helper()
		cmd := exec.Command("git", append([]string{"-C", dir}, args...)...)
		date := at.Format(time.RFC3339)
		cmd.Env = append(os.Environ(), "GIT_COMMITTER_DATE="+date, "GIT_AUTHOR_DATE="+date, "GIT_CONFIG_GLOBAL=/dev/null",
			"GIT_AUTHOR_NAME=marit", "GIT_AUTHOR_EMAIL=marit@vessa.example", "GIT_COMMITTER_NAME=marit", "GIT_COMMITTER_EMAIL=marit@vessa.example")
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("git %v: %v\n%s", args, err, out)
		}
		return strings.TrimSpace(string(out))
	}
	run(noon, "init", "--quiet", "--initial-branch", "main")
	run(noon, "commit", "--quiet", "--allow-empty", "-m", "Fares in cents")
	first := run(noon, "rev-parse", "HEAD")
	run(noon, "tag", "v4.2.0")
	run(noon.Add(time.Hour), "commit", "--quiet", "--allow-empty", "-m", "Berths by deck")
	second := run(noon, "rev-parse", "HEAD")
	run(noon.Add(2*time.Hour), "tag", "-a", "v4.3.0", "-m", "the spring timetable")
	run(noon, "tag", "nightly", first)

	for _, where := range []string{dir, "file://" + dir} {
		tags := list(t, plan.Versions{Kind: plan.VersionTags, Where: where, Ref: "v*"})
		if namesOf(tags) != "v4.3.0 v4.2.0" || tags[0].ID != second || tags[1].ID != first || tags[0].Note != "the spring timetable" ||
			!tags[0].At.Equal(noon.Add(2*time.Hour)) {
			t.Errorf("tags of %s: %+v", where, tags)
		}
		branch := list(t, plan.Versions{Kind: plan.VersionBranch, Where: where, Ref: "main"})
		if len(branch) != 2 || branch[0].ID != second || branch[0].Name != second[:12] || branch[1].Note != "Fares in cents" {
			t.Errorf("branch of %s: %+v", where, branch)
		}
	}
	for _, bad := range []plan.Versions{
		{Kind: plan.VersionTags, Where: dir + "/nowhere", Ref: "*"},
		{Kind: plan.VersionTags, Where: "file://" + dir + "/nowhere", Ref: "*"},
		{Kind: plan.VersionBranch, Where: dir, Ref: "no-such-branch"},
	} {
		s, _ := Open(bad, filepath.Join(t.TempDir(), "cache"))
		if _, err := s.List(t.Context()); err == nil {
			t.Errorf("%+v lists versions", bad)
		}
	}
}

func TestRegistry(t *testing.T) {
	srv := httptest.NewServer(standin.New(standin.Logger(log.New(io.Discard, "", 0))))
	defer srv.Close()
	where := strings.TrimPrefix(srv.URL, "http://") + "/vessa/sailings"
	push := func(tag string, image v1.Image, at time.Time) string {
		t.Helper()
		image, err := mutate.CreatedAt(image, v1.Time{Time: at})
		if err != nil {
			t.Fatal(err)
		}
		ref, err := name.NewTag(where + ":" + tag)
		if err != nil {
			t.Fatal(err)
		}
		if err := remote.Write(ref, image); err != nil {
			t.Fatal(err)
		}
		digest, err := image.Digest()
		if err != nil {
			t.Fatal(err)
		}
		return digest.String()
	}
	old, err := random.Image(64, 1)
	if err != nil {
		t.Fatal(err)
	}
	next, err := random.Image(64, 1)
	if err != nil {
		t.Fatal(err)
	}
	first := push("4.2.0", old, noon)
	second := push("4.3.0", next, noon.Add(time.Hour))
	push("stable", old, noon)
	got := list(t, plan.Versions{Kind: plan.VersionRegistry, Where: where})
	if namesOf(got) != "4.3.0 stable 4.2.0" || got[0].ID != second || got[1].ID != first || got[2].ID != first || !got[2].At.Equal(noon) {
		t.Errorf("tags %+v", got)
	}
	s, err := newRegistry(strings.TrimPrefix(srv.URL, "http://") + "/vessa/nothing")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.List(t.Context()); err == nil || !strings.Contains(err.Error(), "does not know it") {
		t.Errorf("an image that is not there: %v", err)
	}
	srv.Close()
	if _, err := s.List(t.Context()); err == nil {
		t.Error("a registry that is gone lists versions")
	}
}

func TestShort(t *testing.T) {
	for id, want := range map[string]string{"sha256:0123456789abcdef": "0123456789ab", "short": "short", "": ""} {
		if got := raise.Short(id); got != want {
			t.Errorf("raise.Short(%q) = %q, want %q", id, got, want)
		}
	}
}

func TestDigestIsOfTheContent(t *testing.T) {
	dir := t.TempDir()
	of := func(path string) string {
		t.Helper()
		id, err := Digest(path)
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	write(t, dir+"/a/x", "one", noon)
	write(t, dir+"/b/x", "one", noon.Add(time.Hour))
	if of(dir+"/a/x") != of(dir+"/b/x") || of(dir+"/a") != of(dir+"/b") {
		t.Error("the same content has two identities")
	}
	before := of(dir + "/a")
	write(t, dir+"/a/y", "", noon)
	if of(dir+"/a") == before {
		t.Error("another file did not change the folder's identity")
	}
}
