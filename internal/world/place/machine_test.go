package place_test

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"syscall"
	"testing"
	"time"

	"vaiven/internal/world/place"
	"vaiven/internal/world/place/distant"
	"vaiven/lab/linktest"
	"vaiven/lab/placetest"
	"vaiven/lab/testkit"
)

// machines are this one and one whose names are others.
func machines(t *testing.T, each func(t *testing.T, m place.Machine, dir string)) {
	t.Run("here", func(t *testing.T) { each(t, place.Local{}, t.TempDir()) })
	t.Run("elsewhere", func(t *testing.T) { each(t, &placetest.Elsewhere{Root: t.TempDir()}, "/") })
	t.Run("over SSH", func(t *testing.T) {
		me, err := user.Current()
		if err != nil {
			t.Fatal(err)
		}
		s := linktest.Start(t, t.TempDir())
		m := distant.At(me.Username, s.Address, s.Identity, s.KnownHosts)
		t.Cleanup(m.End)
		each(t, distant.Place{Machine: m}, t.TempDir())
	})
}

// Whoever sweeps has the last word: a candidate that was written before cannot take its
// place after.
func TestASweptCandidateTakesNoPlace(t *testing.T) {
	machines(t, func(t *testing.T, m place.Machine, dir string) {
		s := place.Slot{On: m, Path: filepath.Join(dir, "split[1]*.conf"), Mode: 0o644}
		write := func(s place.Slot, text string) place.Candidate {
			t.Helper()
			c, err := s.Candidate(t.Context(), []byte(text))
			if err != nil {
				t.Fatal(err)
			}
			return c
		}
		late, home := write(s, "25 %"), write(s, "home")
		other := write(place.Slot{On: m, Path: filepath.Join(dir, "split1x.conf"), Mode: 0o644}, "another slot's")
		if err := home.Put(t.Context()); err != nil {
			t.Fatal(err)
		}
		if err := s.Sweep(t.Context()); err != nil {
			t.Fatal(err)
		}
		if err := late.Put(t.Context()); !errors.Is(err, place.ErrSwept) {
			t.Errorf("a candidate that was swept away: %v", err)
		}
		late.Discard(t.Context())
		if got, err := m.ReadFile(t.Context(), s.Path); err != nil || string(got) != "home" {
			t.Errorf("it is %q, %v", got, err)
		}
		if err := other.Put(t.Context()); err != nil {
			t.Errorf("another slot's candidate was swept away: %v", err)
		}
		if names, err := m.Glob(t.Context(), filepath.Join(dir, "*")); err != nil || len(names) != 2 {
			t.Errorf("the folder has %v, %v", names, err)
		}
		if info, err := m.Stat(t.Context(), s.Path); err != nil || info.Mode().Perm() != 0o644 {
			t.Errorf("mode %v, %v", info.Mode(), err)
		}
	})
}

// A candidate that is swept away while it is being written is one that takes no place, and no failure.
func TestACandidateIsSweptWhileItIsWritten(t *testing.T) {
	machines(t, func(t *testing.T, m place.Machine, dir string) {
		s := place.Slot{On: m, Path: filepath.Join(dir, "split.conf"), Mode: 0o644}
		ctx, stop := context.WithCancel(t.Context())
		swept := make(chan struct{})
		go func() {
			defer close(swept)
			for ctx.Err() == nil {
				_ = s.Sweep(ctx) // it may find what another is about to take away
			}
		}()
		for range 100 {
			c, err := s.Candidate(t.Context(), make([]byte, 64<<10))
			if err != nil {
				t.Error(err)
				break
			}
			c.Discard(t.Context())
		}
		stop()
		<-swept
	})
}

// A lock keeps others out until it is given back, and who waits for it does so no longer
// than they want to.
func TestLock(t *testing.T) {
	machines(t, func(t *testing.T, m place.Machine, dir string) {
		file := filepath.Join(dir, "lock")
		unlock, err := m.Lock(t.Context(), file)
		if err != nil {
			t.Fatal(err)
		}
		enough := errors.New("it takes too long")
		short, cancel := context.WithTimeoutCause(t.Context(), 30*time.Millisecond, enough)
		defer cancel()
		if _, err := m.Lock(short, file); !errors.Is(err, enough) {
			t.Errorf("while it is taken: %v", err)
		}
		got := make(chan error, 1)
		go func() {
			unlock, err := m.Lock(context.Background(), file)
			if err == nil {
				unlock()
			}
			got <- err
		}()
		unlock()
		if err := <-got; err != nil {
			t.Errorf("after it was given back: %v", err)
		}
		if _, err := m.Lock(t.Context(), filepath.Join(dir, "nowhere", "lock")); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("in a folder that is not there: %v", err)
		}
	})
}

// What is done to files is the same on every machine, and so is what an error is.
func TestFiles(t *testing.T) {
	machines(t, func(t *testing.T, m place.Machine, dir string) {
		ctx := t.Context()
		text := "one\n'two' $three `four`\x00\xff\n.\nend" // nothing in it means anything
		name, err := m.Create(ctx, filepath.Join(dir, "a 'file' of [ours]-"), 0o640, []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		info, err := m.Stat(ctx, name)
		if err != nil || info.Size() != int64(len(text)) || info.Mode() != 0o640 || info.IsDir() ||
			time.Since(info.ModTime()).Abs() > time.Minute {
			t.Errorf("it is %+v, %v", info, err)
		}
		if info, err := m.Stat(ctx, dir); err != nil || !info.IsDir() {
			t.Errorf("the folder is %+v, %v", info, err)
		}
		if err := m.Overwrite(ctx, name, []byte("short")); err != nil {
			t.Fatal(err)
		}
		other := filepath.Join(dir, "other.conf")
		if err := errors.Join(m.Rename(ctx, name, other), m.Sync(ctx, other, dir)); err != nil {
			t.Fatal(err)
		}
		if data, err := m.ReadFile(ctx, other); err != nil || string(data) != "short" {
			t.Errorf("it has %q, %v", data, err)
		}
		for pattern, want := range map[string][]string{"*.conf": {other}, "ot[a-z]er.????": {other}, "*.[^c]*": nil,
			`\*.conf`: nil, "nowhere/*": nil} {
			if got, err := m.Glob(ctx, filepath.Join(dir, pattern)); err != nil || !slices.Equal(got, want) {
				t.Errorf("%s matches %q, %v", pattern, got, err)
			}
		}
		none := func(what string, err error) {
			t.Helper()
			if !errors.Is(err, fs.ErrNotExist) {
				t.Errorf("%s a file that is not there: %v", what, err)
			}
		}
		_, err = m.ReadFile(ctx, name)
		none("read", err)
		_, err = m.Stat(ctx, name)
		none("stat", err)
		none("rename", m.Rename(ctx, name, other))
		none("remove", m.Remove(ctx, name))
		none("overwrite", m.Overwrite(ctx, name, nil))
		if err := m.Rename(ctx, other, dir); err == nil {
			t.Error("a file took a folder's name")
		}
		if err := m.Remove(ctx, other); err != nil {
			t.Error(err)
		}
	})
}

// What is added to a file is read once, whatever is done to the file.
func TestFollow(t *testing.T) {
	machines(t, func(t *testing.T, m place.Machine, dir string) {
		file := filepath.Join(dir, "log")
		here := file
		if e, ok := m.(*placetest.Elsewhere); ok {
			here = e.Here(file)
		}
		write := func(flags int, text string) {
			t.Helper()
			f, err := os.OpenFile(here, flags|os.O_CREATE|os.O_WRONLY, 0o644)
			if err == nil {
				_, err = f.WriteString(text)
			}
			if err := errors.Join(err, f.Close()); err != nil {
				t.Fatal(err)
			}
		}
		added := m.Follow(file)
		defer added.Close()
		reads := func(want string, wantFresh bool) {
			t.Helper()
			var got []byte
			fresh := false
			for {
				piece, f, err := added.Next(t.Context())
				if err != nil {
					t.Fatal(err)
				}
				if fresh = fresh || f; len(piece) == 0 {
					break
				}
				got = append(got, piece...)
			}
			if string(got) != want || fresh != wantFresh {
				t.Errorf("added was %q, fresh %v, want %q", got, fresh, want)
			}
		}
		write(os.O_APPEND, "before\n")
		reads("", false)
		write(os.O_APPEND, "one\n")
		reads("one\n", false)
		reads("", false)
		write(os.O_TRUNC, "cut\n")
		reads("cut\n", true)
		if err := os.Rename(here, here+".1"); err != nil {
			t.Fatal(err)
		}
		reads("", false)
		write(os.O_APPEND, "new\nlines\n")
		reads("new\nlines\n", true)
		write(os.O_APPEND, "more\n")
		reads("more\n", false)
	})
}

// Commands run, connections are made, and processes seen, where the machine is.
func TestActs(t *testing.T) {
	machines(t, func(t *testing.T, m place.Machine, dir string) {
		out, err := m.Run(t.Context(), place.Command{Words: []string{"sh", "-c", "echo \"$WORD\"; echo said >&2; " +
			"exit 3"}, Environment: map[string]string{"WORD": "it's $this"}})
		if err != nil || out.Status != 3 || string(out.Output) != "it's $this\nsaid\n" {
			t.Errorf("a command: %+v (%q), %v", out, out.Output, err)
		}
		l, err := net.Listen("unix", filepath.Join(t.TempDir(), "s"))
		if err != nil {
			t.Fatal(err)
		}
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				_, _ = c.Write([]byte("here"))
				_ = c.Close()
			}
		}()
		defer l.Close()
		c, err := m.Dial(t.Context(), "unix", l.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		if data, err := io.ReadAll(c); err != nil || string(data) != "here" {
			t.Errorf("it says %q, %v", data, err)
		}
		if _, err := m.Dial(t.Context(), "tcp", "127.0.0.1:1"); place.CauseOf(err) != place.Refused {
			t.Errorf("where nobody listens: %v", err)
		}
		sleeper := exec.Command("sleep", "600")
		if err := sleeper.Start(); err != nil {
			t.Fatal(err)
		}
		defer sleeper.Wait()
		defer sleeper.Process.Kill()
		testkit.Eventually(t, "the process is seen", func() bool {
			own, err := m.Family(t.Context(), strconv.Itoa(os.Getpid()))
			if err != nil {
				t.Fatal(err)
			}
			return slices.ContainsFunc(own.Children, func(p place.Process) bool {
				return p.PID == strconv.Itoa(sleeper.Process.Pid) && p.Command == "sleep\x00600\x00" &&
					time.Since(p.Started).Abs() < time.Hour
			})
		})
		testkit.Eventually(t, "it waits", func() bool {
			f, err := m.Family(t.Context(), strconv.Itoa(sleeper.Process.Pid))
			return err == nil && f.Waits(syscall.SIGHUP)
		})
		thaw := testkit.Freeze(t, sleeper.Process.Pid)
		if err := sleeper.Process.Signal(syscall.SIGHUP); err != nil {
			t.Fatal(err)
		}
		if f, err := m.Family(t.Context(), strconv.Itoa(sleeper.Process.Pid)); err != nil || f.Waits(syscall.SIGHUP) {
			t.Errorf("a process with a signal on its way waits: %+v, %v", f, err)
		}
		thaw()
		if _, err := m.Family(t.Context(), "0"); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("of nobody: %v", err)
		}
	})
}

// A command that leaves something behind has ended all the same, and what it left goes on.
func TestACommandThatLeavesSomethingBehind(t *testing.T) {
	out, err := place.Local{}.Run(t.Context(),
		place.Command{Words: []string{"/bin/sh", "-c", "echo started; exec sleep 2 &"}})
	if err != nil || out.Status != 0 || string(out.Output) != "started\n" {
		t.Errorf("outcome %+v, %v", out, err)
	}
}

// A disk that hangs holds nobody up for longer than they wait, and nothing piles up on it.
func TestADiskThatHangs(t *testing.T) {
	dir := t.TempDir()
	hung, fine := filepath.Join(dir, "hung"), filepath.Join(t.TempDir(), "fine")
	if err := errors.Join(syscall.Mkfifo(hung, 0o600), os.WriteFile(fine, []byte("well"), 0o600)); err != nil {
		t.Fatal(err)
	}
	enough := errors.New("it takes too long")
	short := func() context.Context {
		ctx, cancel := context.WithTimeoutCause(t.Context(), 20*time.Millisecond, enough)
		t.Cleanup(cancel)
		return ctx
	}
	for range 3 {
		if _, err := (place.Local{}).ReadFile(short(), hung); !errors.Is(err, place.ErrHangs) ||
			!errors.Is(err, enough) {
			t.Fatalf("a file that cannot be opened: %v", err)
		}
	}
	if _, err := (place.Local{}).Stat(short(), filepath.Join(dir, "other")); !errors.Is(err, place.ErrHangs) {
		t.Errorf("another reading in the folder: %v", err)
	}
	if _, err := (place.Local{}).Create(short(), filepath.Join(dir, "new-"), 0o600, nil); err != nil {
		t.Errorf("something written there: %v", err)
	}
	if data, err := (place.Local{}).ReadFile(short(), fine); err != nil || string(data) != "well" {
		t.Errorf("in another folder: %q, %v", data, err)
	}
	w, err := os.OpenFile(hung, os.O_WRONLY, 0) // it answers again; one has waited for it
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	long, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	if _, err := (place.Local{}).Stat(long, filepath.Join(dir, "other")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("when it answers again: %v", err)
	}
}
