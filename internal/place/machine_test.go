package place_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"vaiven/internal/place"
	"vaiven/internal/place/placetest"
)

// machines are this one and one whose names are others.
func machines(t *testing.T, each func(t *testing.T, m place.Machine, dir string)) {
	t.Run("here", func(t *testing.T) { each(t, place.Local{}, t.TempDir()) })
	t.Run("elsewhere", func(t *testing.T) { each(t, &placetest.Elsewhere{Root: t.TempDir()}, "/") })
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

// A command that leaves something behind has ended all the same, and what it left goes on.
func TestACommandThatLeavesSomethingBehind(t *testing.T) {
	out, err := place.Local{}.Run(t.Context(), place.Command{Words: []string{"/bin/sh", "-c", "echo started; exec sleep 2 &"}})
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
		if _, err := (place.Local{}).ReadFile(short(), hung); !errors.Is(err, place.ErrHangs) || !errors.Is(err, enough) {
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
