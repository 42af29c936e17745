package include

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/testkit"
)

// fake is a server whose configuration is files with lines "use NAME", and that does as
// it is told.
type fake struct {
	main      string
	files     []string // what it says that it loads; the main one alone if nil
	fail      string   // the step that fails
	loads     int
	checked   string // the text of what was checked last, with what it includes
	loaded    string // our file when it was loaded last
	ours      string
	unmovable bool // its workers stay who they are
}

var errFake = errors.New("the pier is closed")

func (s *fake) does(step string) error {
	if s.fail == step {
		return errFake
	}
	return nil
}

func (s *fake) Main() (string, string) { return s.main, filepath.Dir(s.main) }

func (s *fake) Files(context.Context) ([]string, string, error) {
	return append([]string{s.main}, s.files...), filepath.Dir(s.main), s.does("files")
}

func (s *fake) Check(_ context.Context, config string) error {
	var expand func(file string) string
	expand = func(file string) string {
		data, err := os.ReadFile(file)
		if err != nil {
			return err.Error()
		}
		return s.Directive().ReplaceAllStringFunc(string(data), func(line string) string {
			pattern := strings.TrimPrefix(line, "use ")
			if !filepath.IsAbs(pattern) {
				pattern = filepath.Join(filepath.Dir(s.main), pattern)
			}
			names, _ := filepath.Glob(pattern)
			names = slices.DeleteFunc(names, func(n string) bool { return n != pattern && strings.HasPrefix(filepath.Base(n), ".") })
			text := ""
			for _, n := range names {
				text += expand(n)
			}
			return text
		})
	}
	s.checked = expand(config)
	return s.does("check")
}

func (s *fake) Reload(context.Context) error {
	if err := s.does("reload"); err != nil {
		s.fail = "" // putting back works
		return err
	}
	data, err := os.ReadFile(s.ours)
	s.loads++
	s.loaded = string(data)
	return err
}

func (s *fake) Running() ([]string, error) {
	if s.unmovable && s.loads < 2 { // putting back works
		return []string{"1 1"}, s.does("running")
	}
	return []string{fmt.Sprintf("%d 1", s.loads)}, s.does("running")
}

func (s *fake) Fresh(before, now []string) bool { return AllNew(before, now) }
func (s *fake) Leaving() ([]string, error)      { return nil, nil }
func (s *fake) Directive() *regexp.Regexp       { return regexp.MustCompile(`(?m)^(use) (.*)$`) }
func (s *fake) Include(file string) string      { return "use " + file + "\n" }

// harbour makes a folder with files by name and content.
func harbour(t *testing.T, files map[string]string) (dir string, f File, s *fake) {
	t.Helper()
	dir = t.TempDir()
	for name, text := range files {
		name = filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte(strings.ReplaceAll(text, "DIR", dir)), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	ours := filepath.Join(dir, "kept", "ours.conf")
	s = &fake{main: filepath.Join(dir, "main.conf"), ours: ours}
	return dir, File{Path: ours, Server: s}, s
}

// left are the files of a folder and below.
func left(t *testing.T, dir string) []string {
	t.Helper()
	var names []string
	err := filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			names = append(names, strings.TrimPrefix(path, dir+"/"))
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return names
}

// Whatever includes our file, the check sees the candidate in its place, and everything
// else as it is.
func TestTheCheckSeesTheCandidate(t *testing.T) {
	for _, c := range []struct {
		name        string
		main, other string
		loads       []string
		want        string
	}{
		{"by name", "top\nuse DIR/kept/ours.conf\nend\n", "", nil, "top next end"},
		{"beside", "use kept/ours.conf\n", "", nil, "next"},
		{"by a pattern", "use kept/*.conf\n", "", nil, "first next zero"},
		{"two levels down", "top\nuse sites/site.conf\n", "site\nuse kept/ours.conf\n", []string{"sites/site.conf"}, "top site next"},
		{"two levels down, by patterns", "use sites/*.conf\n", "site\nuse kept/o*.conf\n", []string{"sites/site.conf"}, "site next"},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir, f, s := harbour(t, map[string]string{
				"main.conf": c.main, "sites/site.conf": c.other, "kept/ours.conf": "was\n", "kept/a.conf": "first\n", "kept/z.conf": "zero\n",
			})
			for _, name := range c.loads {
				s.files = append(s.files, filepath.Join(dir, name))
			}
			before := left(t, dir)
			if err := f.Replace(t.Context(), []byte("was\n"), []byte("next\n"), false); err != nil {
				t.Fatal(err)
			}
			if got := strings.Join(strings.Fields(s.checked), " "); got != c.want {
				t.Errorf("checked was %q, want %q", got, c.want)
			}
			if s.loaded != "next\n" {
				t.Errorf("loaded was %q", s.loaded)
			}
			kept, err := os.ReadFile(f.Before())
			if err != nil || string(kept) != "was\n" {
				t.Errorf("what it was before is kept as %q, %v", kept, err)
			}
			after := slices.DeleteFunc(left(t, dir), func(n string) bool { return n == "kept/.ours.conf.before" || n == "kept/.ours.conf.lock" })
			if !slices.Equal(after, before) {
				t.Errorf("there are the files %v, there were %v", after, before)
			}
		})
	}
}

// Whatever fails, the file is what it was, and so is what is in force.
func TestWhatFailsChangesNothing(t *testing.T) {
	for _, c := range []struct {
		fail  string
		kind  error
		loads int // of the old file, to go back
	}{
		{"check", front.ErrRefused, 0}, {"reload", front.ErrRefused, 1}, {"running", errFake, 0}, {"files", front.ErrRefused, 0},
	} {
		t.Run(c.fail, func(t *testing.T) {
			main := "use kept/ours.conf\n"
			if c.fail == "files" {
				main = "use sites/*.conf\n"
			}
			_, f, s := harbour(t, map[string]string{"main.conf": main, "kept/ours.conf": "was\n"})
			s.fail = c.fail
			err := f.Replace(t.Context(), []byte("was\n"), []byte("next\n"), false)
			if !errors.Is(err, c.kind) || !strings.Contains(err.Error(), errFake.Error()) {
				t.Errorf("the error is %v", err)
			}
			if now, err := f.Read(); err != nil || string(now) != "was\n" {
				t.Errorf("the file is %q, %v", now, err)
			}
			if s.loads != c.loads || c.loads > 0 && s.loaded != "was\n" {
				t.Errorf("it was loaded %d times, last with %q", s.loads, s.loaded)
			}
		})
	}
}

// A reload that does not come into force is put back when there is no more time.
func TestAReloadThatIsNotFollowed(t *testing.T) {
	_, f, s := harbour(t, map[string]string{"main.conf": "use kept/ours.conf\n", "kept/ours.conf": "was\n"})
	s.unmovable = true
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	err := f.Replace(ctx, []byte("was\n"), []byte("next\n"), false)
	if !errors.Is(err, front.ErrRefused) || !strings.Contains(err.Error(), "still serve") {
		t.Errorf("the error is %v", err)
	}
	if s.loaded != "was\n" {
		t.Errorf("in force is %q", s.loaded)
	}
}

// Somebody else's change is not overwritten, unless going home; nor is one of ours that
// is under way.
func TestSomebodyElse(t *testing.T) {
	_, f, s := harbour(t, map[string]string{"main.conf": "use kept/ours.conf\n", "kept/ours.conf": "theirs\n"})
	if err := f.Replace(t.Context(), []byte("was\n"), []byte("next\n"), false); !errors.Is(err, front.ErrChanged) {
		t.Errorf("the error is %v", err)
	}
	unlock, err := f.lock()
	if err != nil {
		t.Fatal(err)
	}
	if err := f.Replace(t.Context(), []byte("theirs\n"), []byte("next\n"), false); !errors.Is(err, front.ErrRefused) {
		t.Errorf("while somebody changes it the error is %v", err)
	}
	if now, _ := f.Read(); string(now) != "theirs\n" || s.loads > 0 {
		t.Errorf("the file is %q, loaded %d times", now, s.loads)
	}
	if err := f.Replace(t.Context(), []byte("was\n"), []byte("home\n"), true); err != nil || s.loaded != "home\n" {
		t.Errorf("going home: %v, in force is %q", err, s.loaded)
	}
	unlock()
}

// Going home asks no checker, and needs no room for another file.
func TestGoingHomeInPlace(t *testing.T) {
	_, f, s := harbour(t, map[string]string{"main.conf": "", "kept/ours.conf": "a long text that was there\n", "kept/.ours.conf.before": "older\n"})
	s.fail = "check"
	for _, name := range []string{"new", "before-new"} { // there is no room
		if err := os.MkdirAll(filepath.Join(f.hidden(name), "full"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := f.Replace(t.Context(), nil, []byte("home\n"), true); err != nil {
		t.Fatal(err)
	}
	if strings.TrimRight(s.loaded, "\n") != "home" {
		t.Errorf("in force is %q", s.loaded)
	}
	if kept, err := os.ReadFile(f.Before()); err != nil || string(kept) != "older\n" {
		t.Errorf("what was kept from before is %q, %v", kept, err)
	}
}

// Where nothing runs, the way home is written down for when somebody starts it.
func TestGoingHomeWithoutAServer(t *testing.T) {
	_, f, s := harbour(t, map[string]string{"main.conf": "use kept/ours.conf\n", "kept/ours.conf": "was\n"})
	s.fail = "running"
	err := f.Replace(t.Context(), nil, []byte("home\n"), true)
	if !errors.Is(err, errFake) || !strings.Contains(err.Error(), "in force when it is started") {
		t.Errorf("the error is %v", err)
	}
	if now, err := f.Read(); err != nil || string(now) != "home\n" || s.loads > 0 {
		t.Errorf("the file is %q, %v, loaded %d times", now, err, s.loads)
	}
}

func TestAConfigurationWithoutOurFile(t *testing.T) {
	_, f, _ := harbour(t, map[string]string{"main.conf": "use kept/their*.conf\n", "kept/ours.conf": "was\n"})
	err := f.Replace(t.Context(), []byte("was\n"), []byte("next\n"), false)
	if !errors.Is(err, front.ErrRefused) || !strings.Contains(err.Error(), "does not include") {
		t.Errorf("the error is %v", err)
	}
}

// plain is a form of lines "share N" and "at ADDRESS".
type plain struct{}

func (plain) Render(s Setting) []byte {
	text := fmt.Sprintf("share %d\n", s.Share)
	for _, list := range s.Sides {
		for _, i := range list {
			text += "  at " + i.Address + "\n"
		}
	}
	return []byte(text)
}

func (plain) Parse([]byte) (Setting, error)                  { return Setting{}, nil }
func (plain) Nearest(Setting) (split.Share, []string, error) { return 0, nil, nil }

// Lines that somebody wrote into our file are known from those that we write in another
// way than we once did.
func TestStrangeLines(t *testing.T) {
	f := New(Config{File: File{Path: "ours.conf"}, Form: plain{}})
	s := Setting{Share: 2500, Sides: [2][]reading.Server{{{Address: "127.0.0.1:1"}}, {{Address: "127.0.0.1:2"}}}}
	ours := string(f.render(s))
	for _, c := range []struct {
		what, text, want string
	}{
		{"as we wrote it", ours, ""},
		{"padded, on a full disk", ours + "\n\n\n", ""},
		{"as an older Vaiven wrote it", string(seal([]byte("portion 25\n"))), ""},
		{"another share", strings.Replace(ours, "2500", "50.5", 1), ""},
		{"another address, and space", strings.Replace(ours, "  at 127.0.0.1:1", "\tat   10.1.0.5:80", 1), ""},
		{"a line more", strings.Replace(ours, "share", "slow berths\nshare", 1), "[slow berths]"},
		{"one of ours twice", strings.Replace(ours, "share 2500", "share 2500\nshare 7", 1), "[share 7]"},
		{"after the end", ours + "garbage {\n}\n", "[garbage { }]"},
	} {
		if got := fmt.Sprint(f.strange([]byte(c.text), s)); got != c.want && (c.want != "" || got != "[]") {
			t.Errorf("%s: strange are %s, want %s", c.what, got, c.want)
		}
	}
	other := s
	other.Share = 5000
	if got := fmt.Sprintf("%q", f.steps([]byte(ours), f.render(other))); got != `["-share 2500" "+share 5000"]` {
		t.Errorf("a change is said as %s", got)
	}
	if got := f.errStrange([]string{"a", "b", "c"}).Error(); !strings.Contains(got, "(a and 2 more)") {
		t.Errorf("the error says %q", got)
	}
}

// The workers of a process are its children that serve, and all of them.
func TestWorkers(t *testing.T) {
	mine := strconv.Itoa(os.Getpid())
	var pids []string
	for range 3 {
		c := exec.Command("sleep", "600")
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() {
			_ = c.Process.Kill()
			_ = c.Wait()
		})
		pids = append(pids, strconv.Itoa(c.Process.Pid))
	}
	sleeps := func(command string) bool { return strings.HasPrefix(command, "sleep") }
	testkit.Eventually(t, "all three are there", func() bool { // each is a copy of this program at first
		list, err := Workers(mine, sleeps)
		if err != nil {
			t.Fatal(err)
		}
		var found []string
		for _, w := range list {
			pid, start, _ := strings.Cut(w, " ")
			if n, err := strconv.Atoi(start); err != nil || n <= 0 {
				t.Fatalf("it was started at %q", start)
			}
			found = append(found, pid)
		}
		return slices.Equal(slices.Sorted(slices.Values(found)), slices.Sorted(slices.Values(pids)))
	})
	if list, err := Workers(mine, func(string) bool { return false }); err != nil || len(list) > 0 {
		t.Errorf("those that do not serve: %v, %v", list, err)
	}
	if _, err := Workers("", sleeps); !errors.Is(err, front.ErrUnreachable) {
		t.Errorf("of nobody: %v", err)
	}
}
