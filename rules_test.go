package vaiven

import (
	"bytes"
	"encoding/json"
	"errors"
	"go/parser"
	"go/scanner"
	"go/token"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"vaiven/internal/plan/planfile"
)

// pkg is what go list says of a package.
type pkg struct {
	ImportPath, Dir           string
	Imports                   []string
	TestImports, XTestImports []string
	GoFiles                   []string
}

func packages(t *testing.T) []pkg {
	t.Helper()
	out, err := exec.Command("go", "list", "-json=ImportPath,Dir,Imports,TestImports,XTestImports,GoFiles",
		"./...").Output()
	if err != nil {
		t.Fatalf("go list: %v", err)
	}
	var list []pkg
	for d := json.NewDecoder(bytes.NewReader(out)); ; {
		var p pkg
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		list = append(list, p)
	}
	if len(list) < 10 {
		t.Fatalf("go list found %d packages only", len(list))
	}
	return list
}

// pure reports whether a package is of the core.
func pure(path string) bool { return strings.HasPrefix(path, "vaiven/internal/core/") }

// The core may import the standard library but for what touches the world, and
// numeric libraries.
func TestTheCoreIsPure(t *testing.T) {
	banned := map[string]string{
		"os": "a core that reads files cannot be replayed", "os/exec": "effects are data, performed by the keeper",
		"net": "the network is for drivers", "net/http": "the network is for drivers",
		"database/sql": "the logbook records, the core does not",
		"log":          "a core that logs has effects", "log/slog": "a core that logs has effects",
		"context":   "nothing in the core waits",
		"math/rand": "chance comes in with events", "math/rand/v2": "chance comes in with events",
		"sync": "a pure function needs no lock",
	}
	for _, p := range packages(t) {
		if !pure(p.ImportPath) {
			continue
		}
		for _, i := range p.Imports {
			if why, bad := banned[i]; bad {
				t.Errorf("%s imports %s: %s", p.ImportPath, i, why)
			}
			ours := strings.HasPrefix(i, "vaiven/") && !pure(i)
			foreign := strings.Contains(i, ".") && !strings.HasPrefix(i, "gonum.org/") &&
				i != "github.com/HdrHistogram/hdrhistogram-go"
			if ours || foreign {
				t.Errorf("%s imports %s: the core rests on the standard library and numeric libraries", p.ImportPath, i)
			}
		}
		for _, file := range p.GoFiles {
			source, err := os.ReadFile(filepath.Join(p.Dir, file))
			if err != nil {
				t.Fatal(err)
			}
			for _, clock := range []string{"time.Now(", "time.Since(", "time.Until(", "time.Sleep(", "time.After("} {
				if bytes.Contains(source, []byte(clock)) {
					t.Errorf("%s/%s calls %s): time comes in with events", p.ImportPath, file, clock)
				}
			}
		}
	}
}

// floors are the folders of internal, from the ground up. What stands on one rests on those below it.
var floors = []string{"core", "words", "world", "front", "stack", "proving", "plan", "keeper", "people"}

// floor is where a package stands: 0 is the ground, -1 what is not the product's.
func floor(path string) int {
	name, inside := strings.CutPrefix(path, "vaiven/internal/")
	name, _, _ = strings.Cut(name, "/")
	switch n := slices.Index(floors, name); {
	case inside && n >= 0:
		return n
	case strings.HasPrefix(path, "vaiven/cmd/"):
		return len(floors)
	}
	return -1
}

// Dependencies point down, and never to the lab; what draws does not do.
func TestDependenciesPointTheRightWay(t *testing.T) {
	for _, p := range packages(t) {
		here := floor(p.ImportPath)
		if strings.HasPrefix(p.ImportPath, "vaiven/internal/") && here < 0 {
			t.Errorf("%s stands on no floor: one of %v", p.ImportPath, floors)
		}
		for _, i := range p.Imports {
			driver := strings.HasPrefix(i, "vaiven/internal/front/") ||
				strings.HasPrefix(i, "vaiven/internal/stack/") || i == "vaiven/internal/keeper/logbook"
			switch {
			case here >= 0 && floor(i) > here:
				t.Errorf("%s imports %s, which stands above it", p.ImportPath, i)
			case here >= 0 && strings.HasPrefix(i, "vaiven/lab/"):
				t.Errorf("%s imports %s: what is in lab is not the product's", p.ImportPath, i)
			case strings.HasPrefix(i, "vaiven/internal/people/tui") && here < len(floors) &&
				!strings.HasPrefix(p.ImportPath, "vaiven/internal/people/tui") && here >= 0:
				t.Errorf("%s imports the screen (%s)", p.ImportPath, i)
			case strings.HasPrefix(p.ImportPath, "vaiven/internal/people/tui") &&
				(driver || i == "net/http" || i == "os"):
				t.Errorf("%s imports %s: screens only draw", p.ImportPath, i)
			case p.ImportPath == "vaiven/internal/keeper" && driver:
				t.Errorf("%s imports the driver %s: it declares what it needs of one", p.ImportPath, i)
			}
		}
	}
}

// Tests assert with the standard library alone.
func TestTestsUseTheStandardLibraryAlone(t *testing.T) {
	for _, p := range packages(t) {
		for _, i := range append(p.TestImports, p.XTestImports...) {
			for _, bad := range []string{"testify", "go-cmp", "gotest", "onsi", "golden", "teatest", "goconvey",
				"quicktest"} {
				if strings.Contains(i, bad) {
					t.Errorf("the tests of %s import %s", p.ImportPath, i)
				}
			}
		}
	}
}

// Every package says in doc.go what it is for.
func TestEveryPackageIsDescribed(t *testing.T) {
	for _, p := range packages(t) {
		if len(p.GoFiles) == 0 {
			continue
		}
		f, err := parser.ParseFile(token.NewFileSet(), filepath.Join(p.Dir, "doc.go"), nil,
			parser.ParseComments|parser.PackageClauseOnly)
		if err != nil {
			t.Errorf("%s: %v", p.ImportPath, err)
			continue
		}
		if f.Doc == nil || len(f.Doc.Text()) < 100 {
			t.Errorf("%s has no package comment worth the name in doc.go", p.ImportPath)
		}
	}
}

// Colours are the theme's.
func TestColoursStandInTheThemeOnly(t *testing.T) {
	err := filepath.WalkDir("internal/people/tui", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
			strings.Contains(path, "/theme/") {
			return err
		}
		source, err := os.ReadFile(path)
		if err == nil && bytes.Contains(source, []byte("lipgloss.Color(")) {
			t.Errorf("%s names a colour", path)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// Lines have 120 columns at most (a tab has four), but for what is one text.
func TestLinesAreShort(t *testing.T) {
	const most = 120
	for _, root := range []string{"cmd", "internal", "lab"} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") {
				return err
			}
			source, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			whole := map[int]bool{} // lines that a long text is in
			files := token.NewFileSet()
			file := files.AddFile(path, -1, len(source))
			var s scanner.Scanner
			s.Init(file, source, nil, 0)
			for {
				at, kind, text := s.Scan()
				if kind == token.EOF {
					break
				}
				if kind == token.STRING && len(text) > 16 {
					for n := range strings.Count(text, "\n") + 1 {
						whole[file.Line(at)+n] = true
					}
				}
			}
			for n, line := range strings.Split(string(source), "\n") {
				wide := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    "))
				if wide > most && !whole[n+1] {
					t.Errorf("%s:%d has %d columns", path, n+1, wide)
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
}

// replaced are phrases that needed a second reading; docs/words.md has what is said in their place.
var replaced = []string{
	"answers everything", "the time of this leg stands still", "guards can tell", "too few requests yet", "nobody steers",
	"look who made it", "two must not", "goes by what was before", "go by what was before", "is to answer all",
	"not worse so far", "answers all", "of what it carries", "share of the way", "no sign of a fault", "no sign yet",
	"placed anew", "rollback takes", "evidence 10^", "in force after usually", "% sure", "not been read for",
	"answers that it needs",
}

// What has been replaced comes back nowhere: not in what is said, nor in the documents.
func TestReplacedPhrasesAreGone(t *testing.T) {
	look := func(path, text string) {
		for _, phrase := range replaced {
			if strings.Contains(strings.ToLower(text), strings.ToLower(phrase)) {
				t.Errorf("%s says %q again", path, phrase)
			}
		}
	}
	for _, root := range []string{"cmd", "internal"} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			source, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			var s scanner.Scanner
			s.Init(token.NewFileSet().AddFile(path, -1, len(source)), source, nil, 0)
			for {
				_, kind, text := s.Scan()
				if kind == token.EOF {
					return nil
				}
				if kind == token.STRING {
					look(path, text)
				}
			}
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, pattern := range []string{"docs/[^b]*.md", "docs/begin.md", "README.md"} { // what is measured is in benchmarks.md
		files, err := filepath.Glob(pattern)
		if err != nil || len(files) == 0 {
			t.Fatalf("%s: %v", pattern, err)
		}
		for _, file := range files {
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			look(file, string(text))
		}
	}
}

// What the documents point at is there.
func TestDocumentsPointAtWhatExists(t *testing.T) {
	docs, err := filepath.Glob("docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range append(docs, "README.md", "ARCHITECTURE.md", "CONTRIBUTING.md", "CHANGELOG.md") {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Error(err)
			continue
		}
		for _, part := range strings.Split(string(text), "](")[1:] {
			target, _, _ := strings.Cut(part, ")")
			target, _, _ = strings.Cut(target, "#")
			if target == "" || strings.Contains(target, "://") {
				continue
			}
			if _, err := os.Stat(filepath.Join(filepath.Dir(file), target)); err != nil {
				t.Errorf("%s points at %s: %v", file, strconv.Quote(target), err)
			}
		}
	}
}

// The plan that the README explains is one.
func TestThePlanInTheReadmeIsRight(t *testing.T) {
	text, err := os.ReadFile("README.md")
	if err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(text), "```yaml\n")
	example, _, found := strings.Cut(rest, "```")
	if !found {
		t.Fatal("the README has no plan")
	}
	if _, err := planfile.Parse("README.md", []byte(example)); err != nil {
		t.Error(err)
	}
}
