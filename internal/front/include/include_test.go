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
	"sync"
	"syscall"
	"testing"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/world/place"
	"vaiven/lab/placetest"
	"vaiven/lab/testkit"
)

// fake is a server whose configuration is files with lines "use NAME", and that does as
// it is told.
type fake struct {
	on        place.Machine
	main      string
	files     []string // what it says that it loads; the main one alone if nil
	fail      string   // the step that fails
	loads     int
	checked   string // the text of what was checked last, with what it includes
	loaded    string // our file when it was loaded last
	ours      string
	unmovable bool              // its workers stay who they are
	hook      func(step string) // what happens before each step
}

var errFake = errors.New("the pier is closed")

func (s *fake) does(step string) error {
	if s.hook != nil {
		s.hook(step)
	}
	if s.fail == step {
		return errFake
	}
	return nil
}

func (s *fake) Main() (string, string) { return s.main, filepath.Dir(s.main) }

func (s *fake) Files(context.Context) ([]string, string, error) {
	return append([]string{s.main}, s.files...), filepath.Dir(s.main), s.does("files")
}

func (s *fake) Check(ctx context.Context, config string) error {
	var expand func(file string) string
	expand = func(file string) string {
		data, err := s.on.ReadFile(ctx, file)
		if err != nil {
			return err.Error()
		}
		return s.Directive().ReplaceAllStringFunc(string(data), func(line string) string {
			pattern := strings.TrimPrefix(line, "use ")
			if !filepath.IsAbs(pattern) {
				pattern = filepath.Join(filepath.Dir(s.main), pattern)
			}
			names, _ := s.on.Glob(ctx, pattern)
			names = slices.DeleteFunc(names,
				func(n string) bool { return n != pattern && strings.HasPrefix(filepath.Base(n), ".") })
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

func (s *fake) Begin(context.Context) {}

func (s *fake) Reload(ctx context.Context) error {
	if err := s.does("reload"); err != nil {
		s.fail = "" // putting back works
		return err
	}
	data, err := s.on.ReadFile(context.WithoutCancel(ctx), s.ours)
	s.loads++
	s.loaded = string(data)
	return err
}

func (s *fake) Running(context.Context) (Running, error) {
	worker := place.Process{PID: fmt.Sprint(s.loads), Ticks: "1"}
	if s.unmovable && s.loads < 2 { // putting back works
		worker.PID = "1"
	}
	if err := s.does("running"); err != nil {
		return Running{}, fmt.Errorf("%w: %w", front.ErrUnreachable, err)
	}
	return Running{Workers: []place.Process{worker}, Idle: true}, nil
}

func (s *fake) Fresh(before, now Running) bool                   { return AllNew(before, now) }
func (s *fake) Leaving(context.Context) ([]place.Process, error) { return nil, nil }
func (s *fake) Directive() *regexp.Regexp                        { return regexp.MustCompile(`(?m)^()use (.*)$`) }
func (s *fake) Include(file string) string                       { return "use " + file + "\n" }

// harbour makes a machine with files by name and content.
func harbour(t *testing.T, files map[string]string) (there *placetest.Elsewhere, f File, s *fake) {
	t.Helper()
	there = &placetest.Elsewhere{Root: t.TempDir()}
	t.Cleanup(lasting.Wait)
	for name, text := range files {
		name = there.Here(name)
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	s = &fake{on: there, main: "/main.conf", ours: "/kept/ours.conf"}
	return there, File{On: there, Path: s.ours, Server: s}, s
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
		{"by name", "top\nuse /kept/ours.conf\nend\n", "", nil, "top next end"},
		{"beside", "use kept/ours.conf\n", "", nil, "next"},
		{"by a pattern", "use kept/*.conf\n", "", nil, "first next zero"},
		{"two levels down", "top\nuse sites/site.conf\n", "site\nuse kept/ours.conf\n", []string{"sites/site.conf"},
			"top site next"},
		{"two levels down, by patterns", "use sites/*.conf\n", "site\nuse kept/o*.conf\n", []string{"sites/site.conf"},
			"site next"},
	} {
		t.Run(c.name, func(t *testing.T) {
			there, f, s := harbour(t, map[string]string{
				"main.conf": c.main, "sites/site.conf": c.other, "kept/ours.conf": "was\n", "kept/a.conf": "first\n",
				"kept/z.conf": "zero\n",
			})
			for _, name := range c.loads {
				s.files = append(s.files, "/"+name)
			}
			before := left(t, there.Root)
			if err := f.Replace(t.Context(), []byte("was\n"), []byte("next\n")); err != nil {
				t.Fatal(err)
			}
			if got := strings.Join(strings.Fields(s.checked), " "); got != c.want {
				t.Errorf("checked was %q, want %q", got, c.want)
			}
			if s.loaded != "next\n" {
				t.Errorf("loaded was %q", s.loaded)
			}
			kept, err := there.ReadFile(t.Context(), f.Before())
			if err != nil || string(kept) != "was\n" {
				t.Errorf("what it was before is kept as %q, %v", kept, err)
			}
			after := slices.DeleteFunc(left(t, there.Root),
				func(n string) bool { return n == "kept/.ours.conf.before" || n == "kept/.ours.conf.file.lock" })
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
		{"check", front.ErrRefused, 0}, {"reload", front.ErrRefused, 1}, {"running", errFake, 0},
		{"files", front.ErrRefused, 0},
	} {
		t.Run(c.fail, func(t *testing.T) {
			main := "use kept/ours.conf\n"
			if c.fail == "files" {
				main = "use sites/*.conf\n"
			}
			_, f, s := harbour(t, map[string]string{"main.conf": main, "kept/ours.conf": "was\n"})
			s.fail = c.fail
			err := f.Replace(t.Context(), []byte("was\n"), []byte("next\n"))
			if !errors.Is(err, c.kind) || !strings.Contains(err.Error(), errFake.Error()) {
				t.Errorf("the error is %v", err)
			}
			if now, err := f.Read(t.Context()); err != nil || string(now) != "was\n" {
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
	s.hook = func(step string) {
		if step == "reload" {
			cancel()
		}
	}
	err := f.Replace(ctx, []byte("was\n"), []byte("next\n"))
	if !errors.Is(err, front.ErrRefused) || !strings.Contains(err.Error(), "still serve") {
		t.Errorf("the error is %v", err)
	}
	if s.loaded != "was\n" {
		t.Errorf("in force is %q", s.loaded)
	}
}

// Somebody else's change is not overwritten; nor is one of ours that is under way.
func TestSomebodyElse(t *testing.T) {
	_, f, s := harbour(t, map[string]string{"main.conf": "use kept/ours.conf\n", "kept/ours.conf": "theirs\n"})
	if err := f.Replace(t.Context(), []byte("was\n"), []byte("next\n")); !errors.Is(err, front.ErrChanged) {
		t.Errorf("the error is %v", err)
	}
	unlock, err := f.lock(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer unlock()
	short, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	if err := f.Replace(short, []byte("theirs\n"), []byte("next\n")); !errors.Is(err, front.ErrRefused) {
		t.Errorf("while somebody changes it the error is %v", err)
	}
	if now, _ := f.Read(t.Context()); string(now) != "theirs\n" || s.loads > 0 {
		t.Errorf("the file is %q, loaded %d times", now, s.loads)
	}
}

// numbered is a form with a share and addresses that read back.
type numbered struct{}

func (numbered) Render(s Setting) []byte {
	text := fmt.Sprintf("share %d\n", s.Share)
	for side, list := range s.Sides {
		for _, i := range list {
			text += fmt.Sprintf("at %d %s\n", side, i.Address)
		}
	}
	return []byte(text)
}

func (numbered) Parse(data []byte) (s Setting, err error) {
	if !strings.HasPrefix(string(data), "share ") {
		return s, errors.New("it has no share")
	}
	for line := range strings.Lines(string(data)) {
		var side int
		var address string
		fmt.Sscanf(line, "share %d", &s.Share)
		if n, _ := fmt.Sscanf(line, "at %d %s", &side, &address); n == 2 {
			s.Sides[side] = append(s.Sides[side], reading.Server{Address: address})
		}
	}
	return s, nil
}
func (numbered) Nearest(s Setting) (split.Share, []string, error) { return s.Share, nil, nil }

// pier is a front with 10 % on green, and another process's driver for it.
func pier(t *testing.T) (a, b *Front, s *fake) {
	t.Helper()
	there, f, s := harbour(t, map[string]string{"main.conf": "use kept/ours.conf\n", "kept/ours.conf": ""})
	start := Setting{Share: 1000, Sides: [2][]reading.Server{{{Address: "127.0.0.1:1"}}, {{Address: "127.0.0.1:2"}}}}
	other := *s // with the same files, and no hooks
	other.on = &placetest.Elsewhere{Root: there.Root}
	a = New(Config{File: File{On: there, Path: f.Path, Server: s}, Form: numbered{}})
	b = New(Config{File: File{On: other.on, Path: f.Path, Server: &other}, Form: numbered{}})
	write(t, b, a.render(start))
	return a, b, s
}

// write puts content in place past everything.
func write(t *testing.T, f *Front, data []byte) {
	t.Helper()
	if err := os.WriteFile(f.File.On.(*placetest.Elsewhere).Here(f.File.Path), data, 0o644); err != nil {
		t.Fatal(err)
	}
}

func expect(t *testing.T, f *Front) front.Expect {
	t.Helper()
	r, err := f.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return front.AsRead(r)
}

// share is what is in place.
func share(t *testing.T, f *Front) split.Share {
	t.Helper()
	s, _, err := f.read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return s.Share
}

var toBlue = front.Homing{Side: split.Blue, By: "marit", Why: "it looks wrong"}

// A change is at some step when somebody goes home, in another process or in the same: it
// does not come into force after that, and puts nothing back over it.
func TestHomeIsNotUndoneByAChangeUnderWay(t *testing.T) {
	for _, step := range []string{"running", "check", "reload", "running again"} {
		for _, same := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s, in the same process %v", step, same), func(t *testing.T) {
				a, b, s := pier(t)
				e := expect(t, a)
				times := map[string]int{}
				s.hook = func(at string) {
					if times[at]++; at != strings.TrimSuffix(step, " again") ||
						step == "running again" && times[at] < 2 {
						return
					}
					s.hook = nil
					by := b
					if same {
						by = a
					}
					if d, err := by.Home(context.Background(), toBlue); err != nil || d.Share != 0 ||
						d.Order.Generation != 1 {
						t.Errorf("home: %+v, %v", d, err)
					}
				}
				d, err := a.Set(t.Context(), 2500, e)
				if !errors.Is(err, front.ErrNewer) && !errors.Is(err, front.ErrChanged) {
					t.Errorf("the change says %+v, %v", d, err)
				}
				if s.hook != nil {
					t.Fatalf("nobody went home at %s", step)
				}
				if got := share(t, a); got != 0 {
					t.Errorf("after going home %v is on green", got)
				}
				if r, err := a.Read(t.Context()); err != nil || r.Order.By != "marit" ||
					r.Order.Why != "it looks wrong" || r.Order.Side != split.Blue {
					t.Errorf("the order is read as %+v, %v", r.Order, err)
				}
				if d, err := a.Set(t.Context(), 2500, e); !errors.Is(err, front.ErrNewer) {
					t.Errorf("by the old order again: %+v, %v", d, err)
				}
			})
		}
	}
}

// A process that is held up between its check and its rename cannot rename any more.
func TestAChangeThatWasHeldUp(t *testing.T) {
	a, b, _ := pier(t)
	was, err := a.File.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	c, err := a.File.slot().Candidate(t.Context(), []byte("share 2500\n")) // and there it stands still
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.Home(t.Context(), toBlue); err != nil {
		t.Fatal(err)
	}
	if err := c.Put(t.Context()); !errors.Is(err, place.ErrSwept) {
		t.Errorf("its candidate took its place: %v", err)
	}
	if err := a.File.undo(t.Context(), was, []byte("share 2500\n"), errFake); !errors.Is(err, errFake) {
		t.Errorf("undone: %v", err)
	}
	if got := share(t, a); got != 0 {
		t.Errorf("in the end %v is on green", got)
	}
}

// Going home waits neither for a check of another change nor for its lock.
func TestHomeWaitsForNoCheck(t *testing.T) {
	a, b, s := pier(t)
	e := expect(t, a)
	began, on := make(chan struct{}), make(chan struct{})
	s.hook = func(step string) {
		if step == "check" {
			close(began)
			<-on
		}
	}
	changed := make(chan error, 1)
	go func() {
		_, err := a.Set(context.Background(), 2500, e)
		changed <- err
	}()
	<-began
	if d, err := b.Home(t.Context(), toBlue); err != nil || d.Share != 0 {
		t.Errorf("home: %+v, %v", d, err)
	}
	close(on)
	if err := <-changed; !errors.Is(err, front.ErrNewer) && !errors.Is(err, front.ErrChanged) {
		t.Errorf("the change says %v", err)
	}
	if got := share(t, a); got != 0 {
		t.Errorf("in the end %v is on green", got)
	}
}

// What could not be loaded stays in place, is said, and is loaded by the next try, under
// the same order.
func TestHomeThatIsNotLoadedStays(t *testing.T) {
	a, _, s := pier(t)
	s.fail = "check" // nobody asks a checker
	refuse := true
	s.hook = func(step string) {
		if s.fail = ""; step == "reload" && refuse {
			s.fail = "reload"
		}
	}
	_, err := a.Home(t.Context(), toBlue)
	if !errors.Is(err, front.ErrNotLoaded) || !strings.Contains(err.Error(), "still runs the previous configuration") ||
		!strings.Contains(err.Error(), errFake.Error()) {
		t.Fatalf("the error is %v", err)
	}
	first := expect(t, a)
	if got := share(t, a); got != 0 || s.loads > 0 || first.Generation != 1 {
		t.Errorf("in place is %v on green by order %d, loaded %d times", got, first.Generation, s.loads)
	}
	refuse = false
	d, err := a.Home(t.Context(), toBlue)
	if err != nil || d.Share != 0 || d.Order.Generation != 1 || s.loads != 1 {
		t.Errorf("once more: %+v, %v, loaded %d times", d, err, s.loads)
	}
}

// Without room for another file the file that is there is written over.
func TestGoingHomeInPlace(t *testing.T) {
	a, _, s := pier(t)
	e := expect(t, a)
	there(a).Before = func(act, _ string) error {
		if act == "create" {
			return syscall.ENOSPC
		}
		return nil
	}
	if _, err := a.Set(t.Context(), 2500, e); !errors.Is(err, front.ErrRefused) || !errors.Is(err, syscall.ENOSPC) {
		t.Errorf("a change without room: %v", err)
	}
	if d, err := a.Home(t.Context(), toBlue); err != nil || d.Share != 0 || s.loads != 1 {
		t.Errorf("home: %+v, %v, loaded %d times", d, err, s.loads)
	}
}

func there(f *Front) *placetest.Elsewhere { return f.File.On.(*placetest.Elsewhere) }

// failing has the nth act of a machine fail from now on, and says whether there was one.
func failing(m *placetest.Elsewhere, nth int) (failed func() string) {
	var mu sync.Mutex
	count, which := 0, ""
	m.Before = func(act, path string) error {
		mu.Lock()
		defer mu.Unlock()
		if count++; count-1 != nth {
			return nil
		}
		which = act + " " + path
		return fmt.Errorf("%w: %s", syscall.EIO, which)
	}
	return func() string {
		mu.Lock()
		defer mu.Unlock()
		return which
	}
}

// Whichever act on the machine fails in a change, what is in place is whole, is what was
// loaded last, and is what the answer says.
func TestAnyActOfAChangeFails(t *testing.T) {
	for n := 0; ; n++ {
		a, b, s := pier(t)
		e := expect(t, a)
		failed := failing(there(a), n)
		d, err := a.Set(t.Context(), 2500, e)
		there(a).Before = nil
		what := failed()
		if what == "" {
			if n < 12 || err != nil || share(t, b) != 2500 {
				t.Errorf("after %d acts without a failure: %+v, %v", n, d, err)
			}
			return
		}
		want := split.Share(1000)
		// it was done, and could not be read back
		if err == nil || errors.Is(err, front.ErrUnreachable) && s.loads == 1 {
			want = 2500
		}
		now, _ := b.File.Read(t.Context())
		if got := share(t, b); got != want || s.loads > 0 && s.loaded != string(now) {
			t.Errorf("%s failed: in place is %v, loaded was %q, and it says %+v, %v", what, got, s.loaded, d, err)
		}
		for _, name := range left(t, there(a).Root) {
			if strings.Contains(name, ".next-") && !strings.HasPrefix(what, "remove") {
				t.Errorf("%s failed: %s is left", what, name)
			}
		}
		if d, err := a.Home(t.Context(), toBlue); err != nil || d.Share != 0 || share(t, b) != 0 {
			t.Errorf("%s failed, and home after it: %+v, %v", what, d, err)
		}
	}
}

// Whichever act on the machine fails in a going home, home is in place or the answer says
// that it is not, and the next try works.
func TestAnyActOfAGoingHomeFails(t *testing.T) {
	for n := 0; ; n++ {
		a, b, s := pier(t)
		failed := failing(there(a), n)
		d, err := a.Home(t.Context(), toBlue)
		lasting.Wait()
		there(a).Before = nil
		what := failed()
		if what == "" {
			if n < 5 || err != nil {
				t.Errorf("after %d acts without a failure: %+v, %v", n, d, err)
			}
			return
		}
		if got := share(t, b); err == nil && (got != 0 || s.loads == 0) {
			t.Errorf("%s failed: it says %+v, and in place is %v, loaded %d times", what, d, got, s.loads)
		}
		if d, err := a.Home(t.Context(), toBlue); err != nil || d.Share != 0 || share(t, b) != 0 ||
			d.Order.By != "marit" {
			t.Errorf("%s failed, and once more: %+v, %v", what, d, err)
		}
	}
}

// Where nothing runs, the way home is written down for when somebody starts it.
func TestGoingHomeWithoutAServer(t *testing.T) {
	a, _, s := pier(t)
	s.fail = "running"
	_, err := a.Home(t.Context(), toBlue)
	if !errors.Is(err, errFake) || !strings.Contains(err.Error(), "takes effect when the server starts") {
		t.Errorf("the error is %v", err)
	}
	if got := share(t, a); got != 0 || s.loads > 0 {
		t.Errorf("in place is %v on green, loaded %d times", got, s.loads)
	}
}

// A file that is not in our form is replaced by what it was before, sent home; and nobody is
// sent to a side that has nobody.
func TestHomeFromWhateverStandsThere(t *testing.T) {
	a, b, _ := pier(t)
	if _, err := a.Set(t.Context(), 2500, expect(t, a)); err != nil {
		t.Fatal(err)
	}
	write(t, a, []byte("garbage\n"))
	if d, err := b.Home(t.Context(), toBlue); err != nil || d.Share != 0 {
		t.Errorf("home from garbage: %+v, %v", d, err)
	}
	write(t, a, a.render(Setting{Share: split.Whole, Sides: [2][]reading.Server{nil, {{Address: "127.0.0.1:2"}}}}))
	if d, err := a.Home(t.Context(), toBlue); !errors.Is(err, front.ErrNobody) || share(t, a) != split.Whole {
		t.Errorf("home to nobody: %+v, %v", d, err)
	}
}

func TestAConfigurationWithoutOurFile(t *testing.T) {
	_, f, _ := harbour(t, map[string]string{"main.conf": "use kept/their*.conf\n", "kept/ours.conf": "was\n"})
	err := f.Replace(t.Context(), []byte("was\n"), []byte("next\n"))
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
		now, err := Workers(t.Context(), place.Local{}, mine, syscall.SIGHUP, sleeps)
		if err != nil {
			t.Fatal(err)
		}
		var found []string
		for _, w := range now.Workers {
			if since := time.Since(w.Started); since < -2*time.Second || since > time.Hour {
				t.Fatalf("it was started at %v", w.Started)
			}
			found = append(found, w.PID)
		}
		return slices.Equal(slices.Sorted(slices.Values(found)), slices.Sorted(slices.Values(pids)))
	})
	if now, err := Workers(t.Context(), place.Local{}, mine, syscall.SIGHUP,
		func(string) bool { return false }); err != nil || len(now.Workers) > 0 {
		t.Errorf("those that do not serve: %v, %v", now.Workers, err)
	}
	if _, err := Workers(t.Context(), place.Local{}, "", syscall.SIGHUP, sleeps); !errors.Is(err,
		front.ErrUnreachable) {
		t.Errorf("of nobody: %v", err)
	}
}
