package logbook

import (
	"context"
	"database/sql"
	"errors"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

func open(t *testing.T, file string) *Book {
	t.Helper()
	b, err := Open(file)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.Close() })
	return b
}

var start = time.Date(2026, 11, 23, 21, 2, 17, 123456789, time.UTC)

// write records a crossing that is rolled back, and returns its last state.
func write(t *testing.T, b *Book, number int) crossing.State {
	t.Helper()
	var s crossing.State
	for n, what := range []crossing.Fact{
		crossing.Begun{
			Service: "sailings", Number: number, Target: split.Green, Version: "4.3.0", Build: "b92f",
			Route: route.Route{{Part: 500, Dwell: time.Minute}, {Part: split.Whole}},
		},
		crossing.Raised{Effect: 1, Instances: []string{"green-1"}},
		crossing.Proved{Effect: 2, Pass: true},
		crossing.Applied{Effect: 3, Share: 500, Took: 3 * time.Millisecond},
		crossing.BackAsked{Why: "it looks wrong"},
		crossing.Applied{Effect: 4, Share: 0},
	} {
		e := crossing.Event{At: start.Add(time.Duration(n) * time.Second), By: "marit", What: what}
		next, effects, err := crossing.Step(s, e)
		if err != nil {
			t.Fatal(err)
		}
		if err := b.Append(t.Context(), next, e, effects); err != nil {
			t.Fatal(err)
		}
		s = next
	}
	return s
}

func TestWhatWasAppendedIsThereAgain(t *testing.T) {
	file := filepath.Join(t.TempDir(), "with a ? and a # log.db")
	b := open(t, file)
	if n, err := b.Last(t.Context()); n != 0 || err != nil {
		t.Errorf("an empty book ends with %d, %v", n, err)
	}
	write(t, b, 1)
	want := write(t, b, 2)
	if err := b.Close(); err != nil {
		t.Fatal(err)
	}
	b = open(t, file)
	if n, err := b.Last(t.Context()); n != 2 || err != nil {
		t.Errorf("the last crossing is %d, %v", n, err)
	}
	got, err := b.Replay(t.Context(), 2)
	if err != nil || got.String() != want.String() || got.Stage != crossing.RolledBack {
		t.Errorf("replayed: %v, %v\nwant %v", got, err, want)
	}
	events, err := b.Events(t.Context(), 1)
	if err != nil || len(events) != 6 || !events[0].At.Equal(start) || events[4].By != "marit" {
		t.Errorf("events %v, %v", events, err)
	}
	list, err := b.Crossings(t.Context())
	if err != nil || len(list) != 2 {
		t.Fatalf("crossings %v, %v", list, err)
	}
	if c := list[0]; c.Number != 2 || c.Stage != crossing.RolledBack || c.Why != "it looks wrong" || !c.Begun.Equal(start) ||
		!c.Ended.Equal(start.Add(5*time.Second)) {
		t.Errorf("the newest is %+v", c)
	}
	if _, err := b.Events(t.Context(), 7); !errors.Is(err, ErrNoCrossing) {
		t.Errorf("a crossing that never was: %v", err)
	}
}

func TestForeignAndNewerFilesAreLeftAlone(t *testing.T) {
	dir := t.TempDir()
	prepare := func(name, script string) string {
		file := filepath.Join(dir, name)
		db, err := sql.Open("sqlite", file)
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		if _, err := db.Exec(script); err != nil {
			t.Fatal(err)
		}
		return file
	}
	for _, c := range []struct{ file, want string }{
		{prepare("foreign.db", "CREATE TABLE berths (n INTEGER)"), "not a logbook"},
		{prepare("newer.db", "PRAGMA application_id = 1986095478; PRAGMA user_version = 99"), "use a newer one"},
		{filepath.Join(dir, "nowhere", "log.db"), "unable to open"},
	} {
		if b, err := Open(c.file); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, %v, want %q", c.file, b, err, c.want)
		}
	}
}

func TestEveryEntryIsOnDisk(t *testing.T) {
	b := open(t, filepath.Join(t.TempDir(), "log.db"))
	var mode string
	var synchronous int
	if err := b.db.QueryRow("PRAGMA journal_mode").Scan(&mode); err != nil || mode != "wal" {
		t.Errorf("journal mode %q, %v", mode, err)
	}
	if err := b.db.QueryRow("PRAGMA synchronous").Scan(&synchronous); err != nil || synchronous != 2 {
		t.Errorf("synchronous %d, %v, want 2 (full)", synchronous, err)
	}
}

func TestAnEntryThatFailsLeavesNothing(t *testing.T) {
	b := open(t, filepath.Join(t.TempDir(), "log.db"))
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	s := crossing.State{Number: 1, Service: "sailings", Version: "4.3.0"}
	if err := b.Append(ctx, s, crossing.Event{At: start, What: crossing.Tick{}}, nil); err == nil {
		t.Fatal("an entry was made although its time was over")
	}
	if n, err := b.Last(t.Context()); n != 0 || err != nil {
		t.Errorf("it left crossing %d, %v", n, err)
	}
}

func BenchmarkAppend(b *testing.B) {
	book, err := Open(filepath.Join(b.TempDir(), "log.db"))
	if err != nil {
		b.Fatal(err)
	}
	defer book.Close()
	s := crossing.State{Number: 1, Service: "sailings", Version: "4.3.0"}
	b.ReportAllocs()
	for b.Loop() {
		if err := book.Append(context.Background(), s, crossing.Event{At: start, What: crossing.Tick{}}, nil); err != nil {
			b.Fatal(err)
		}
	}
}
