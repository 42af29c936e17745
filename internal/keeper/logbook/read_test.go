package logbook

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/past"
	"vaiven/internal/words"
)

// calledOff ends a crossing that moved no traffic.
var calledOff = []func(crossing.State) crossing.Input{
	func(crossing.State) crossing.Input { return crossing.Back{Stands: true, Read: true} },
	func(s crossing.State) crossing.Input {
		return crossing.Report{Fact: crossing.Retired{Task: s.Task.ID, Side: s.Task.Side}}
	},
}

// long writes a logbook of some crossings with many events.
func long(t *testing.T, crossings, each int) (file string, last crossing.State) {
	t.Helper()
	file = filepath.Join(t.TempDir(), "logbook.db")
	b := open(t, file)
	s := crossing.State{}
	for n := range crossings {
		s = write(t, b, s, begin(n+1))
		for range each {
			s = write(t, b, s, always(crossing.Freeze{}), always(crossing.Resume{}))
		}
		s = write(t, b, s, calledOff...)
	}
	b.Close()
	return file, s
}

// readAll reads a logbook, and says what its events come to in words, which has to do whatever is missing.
func readAll(t *testing.T, file string) (events []crossing.Event, unread string) {
	t.Helper()
	b, err := Read(file)
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	if events, unread, err = b.Everything(t.Context()); err != nil {
		t.Fatal(err)
	}
	var s crossing.State
	var book past.Book
	for _, e := range events {
		s = crossing.Apply(s, e)
		_ = words.Event(e, s)
		book.Add(e)
	}
	for _, c := range book.Crossings(nil, start) {
		_, _, _ = words.Met(c), words.SmallTrack(c, 12, start), words.EndedWhy(c)
	}
	return events, unread
}

// Who reads holds nobody up who writes, however slow he is, and changes nothing.
func TestReadingBesideAKeeper(t *testing.T) {
	file, s := long(t, 1, 150)
	before, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	events, unread := readAll(t, file)
	if after, _ := os.ReadFile(file); unread != "" || uint64(len(events)) != s.Seq || !bytes.Equal(before, after) {
		t.Errorf("%d events of %d, %q", len(events), s.Seq, unread)
	}
	writer := open(t, file)
	readers, stop := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() {
		for readers.Err() == nil {
			b, err := Read(file)
			if err == nil {
				_, _, err = b.Everything(t.Context())
				err = errors.Join(err, b.Close())
			}
			if err != nil {
				done <- err
				return
			}
		}
		done <- nil
	}()
	for range 40 {
		s = write(t, writer, s, append([]func(crossing.State) crossing.Input{begin(s.Number + 1)}, calledOff...)...)
	}
	stop()
	if err := <-done; err != nil {
		t.Errorf("the reader: %v", err)
	}
	if _, err := Read(filepath.Join(t.TempDir(), "none.db")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("one that is not there: %v", err)
	}
}

// Of a logbook that is damaged in the middle what is before and after can be read, and what is not is said.
func TestDamagedInTheMiddle(t *testing.T) {
	file, s := long(t, 4, 120)
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	const page = 4096
	said, least := 0, len(data)
	for at := 3 * page; at+page <= len(data); at += page { // each page but those with the tables' names
		spoilt := bytes.Clone(data)
		copy(spoilt[at:], bytes.Repeat([]byte{0x5a}, page))
		if err := os.WriteFile(file, spoilt, 0o600); err != nil {
			t.Fatal(err)
		}
		events, unread := readAll(t, file)
		least = min(least, len(events))
		if missing := s.Seq - uint64(len(events)); (missing > 0) != (unread != "") {
			t.Errorf("page %d: %d events are missing, and it says %q", at/page, missing, unread)
		}
		if unread != "" {
			said++
		}
		for n := 1; n < len(events); n++ {
			if events[n].Seq <= events[n-1].Seq {
				t.Fatalf("page %d: event %d comes after %d", at/page, events[n].Seq, events[n-1].Seq)
			}
		}
	}
	spoilt := bytes.ReplaceAll(data, []byte(`"seq":5,`), []byte(`"seq"!5,`))
	if err := os.WriteFile(file, spoilt, 0o600); err != nil {
		t.Fatal(err)
	}
	if events, unread := readAll(t, file); len(events) != int(s.Seq)-1 || unread != "event 5 cannot be read" {
		t.Errorf("with one entry that is none there are %d of %d, and it says %q", len(events), s.Seq, unread)
	}
	if said < 5 || least < int(s.Seq)/2 {
		t.Errorf("%d pages cost something, and of %d events as few as %d are left", said, s.Seq, least)
	}
}

// What a keeper that was killed has left half written is no reason not to read.
func TestReadingWhatAKilledKeeperLeft(t *testing.T) {
	file, s := long(t, 1, 5)
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	// As it is in the middle of a commit: the journal has what was there before, and the file some of what is new.
	b := open(t, file)
	tx, err := b.db.Begin()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(`PRAGMA cache_size = 1; PRAGMA cache_spill = 1`); err != nil {
		t.Fatal(err)
	}
	for n := range 400 {
		if _, err := tx.Exec(`INSERT INTO events VALUES (?, 1, '', ?)`, 100000+n,
			fmt.Sprintf(`{"seq":%d,"event":"%s"}`, 100000+n, strings.Repeat("x", 500))); err != nil {
			t.Fatal(err)
		}
	}
	left := filepath.Join(t.TempDir(), "logbook.db")
	for _, end := range []string{"-journal", ""} {
		copyFile(t, file+end, left+end)
	}
	if err := tx.Rollback(); err != nil {
		t.Fatal(err)
	}
	if half, err := os.ReadFile(left); err != nil || bytes.Equal(half, data) {
		t.Fatalf("nothing is half written: %v", err)
	}
	events, unread := readAll(t, left)
	if unread != "" || uint64(len(events)) != s.Seq {
		t.Errorf("%d events of %d, %q", len(events), s.Seq, unread)
	}
}

func copyFile(t *testing.T, from, to string) {
	t.Helper()
	in, err := os.Open(from)
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	out, err := os.Create(to)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.Copy(out, in); errors.Join(err, out.Close()) != nil {
		t.Fatal(err)
	}
}

// A digest is of what stands in the book: one event that is changed, gone or added has another.
func TestDigest(t *testing.T) {
	file, s := long(t, 2, 10)
	digest := func(upTo uint64) (string, int) {
		t.Helper()
		b, err := Read(file)
		if err != nil {
			t.Fatal(err)
		}
		defer b.Close()
		sum, n, err := b.Digest(t.Context(), 2, upTo)
		if err != nil {
			t.Fatal(err)
		}
		return sum, n
	}
	whole, n := digest(s.Seq)
	if some, fewer := digest(s.Seq - 1); some == whole || fewer != n-1 {
		t.Errorf("without the last one it is %s of %d", some, fewer)
	}
	for what, change := range map[string]string{
		"a word changed":    `UPDATE events SET event = replace(event, 'marit', 'marin') WHERE seq = ?`,
		"a field added":     `UPDATE events SET event = replace(event, '"seq"', '"note":"","seq"') WHERE seq = ?`,
		"one gone":          `DELETE FROM events WHERE seq = ?`,
		"one of another":    `UPDATE events SET crossing = 1 WHERE seq = ?`,
		"one more, between": `UPDATE events SET crossing = 2 WHERE seq = 5 AND ? > 0`,
	} {
		kept, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		b := open(t, file)
		if _, err := b.db.Exec(change, s.Seq-3); err != nil {
			t.Fatal(err)
		}
		b.Close()
		if sum, _ := digest(s.Seq); sum == whole {
			t.Errorf("%s is not noticed", what)
		}
		if err := os.WriteFile(file, kept, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if sum, _ := digest(s.Seq); sum != whole {
		t.Error("put back, it is another")
	}
	b := open(t, file)
	if _, _, err := b.Digest(t.Context(), 99, s.Seq); !errors.Is(err, ErrNoCrossing) {
		t.Errorf("of none: %v", err)
	}
}
