package logbook

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/past"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/words"
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

// write records inputs as a keeper does, and returns the state that they led to.
func write(t *testing.T, b *Book, s crossing.State, inputs ...func(crossing.State) crossing.Input) crossing.State {
	t.Helper()
	for n, in := range inputs {
		events, err := crossing.Decide(s,
			crossing.Moment{At: start.Add(time.Duration(n) * time.Second), By: "marit", Seen: s.Seq}, in(s))
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range events {
			s = crossing.Apply(s, e)
		}
		if err := b.Append(t.Context(), s, events); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

func always(in crossing.Input) func(crossing.State) crossing.Input {
	return func(crossing.State) crossing.Input { return in }
}

func begin(number int) func(crossing.State) crossing.Input {
	return always(crossing.Begin{
		Service: "sailings", Number: number, Target: split.Green,
		Choices: []raise.Choice{{Part: "web", Version: "4.3.0", Build: "b92f"}},
		Route:   route.Route{{Part: 500, Dwell: time.Minute}, {Part: split.Whole}},
	})
}

func raised(s crossing.State) crossing.Input {
	return crossing.Report{Fact: crossing.Raised{Task: s.Task.ID, Instances: []string{"green-1"},
		Times: map[string]time.Duration{"green-1": 3 * time.Second}}}
}

func proved(s crossing.State) crossing.Input {
	return crossing.Report{Fact: crossing.Proved{Task: s.Task.ID,
		Proof: proof.Proof{Results: []proof.Result{{Check: "search", Pass: true}}}}}
}

func inForce(s crossing.State) crossing.Input {
	return crossing.Report{Fact: crossing.TookEffect{Task: s.Task.ID, Nearest: s.Task.Share, Share: s.Task.Share,
		Took: 3 * time.Millisecond, Did: []string{"split"}}}
}

func atHome(s crossing.State) crossing.Input {
	return crossing.Report{Fact: crossing.Returned{Task: s.Task.ID, Share: s.Home(), Generation: s.Generation + 1}}
}

var back = always(crossing.Back{Why: "it looks wrong"})

func TestWhatWasAppendedIsThereAgain(t *testing.T) {
	file := filepath.Join(t.TempDir(), "with a ? and a # log.db")
	b := open(t, file)
	if s, _, err := b.Load(t.Context()); s.Seq != 0 || err != nil {
		t.Errorf("an empty book ends with %v, %v", s, err)
	}
	s := write(t, b, crossing.State{}, begin(1), raised, proved, inForce, back, atHome)
	s = write(t, b, s, always(crossing.Shift{Share: 500, Proven: [2]bool{true, true}}), inForce,
		always(crossing.Shift{Share: 0}), func(s crossing.State) crossing.Input {
			return crossing.Report{Fact: crossing.Failed{Task: s.Task.ID,
				Trouble: crossing.Went(crossing.TroubleFront{Said: "no answer"})}}
		}, always(crossing.Shift{Share: 0}), inForce)
	want := write(t, b, s, begin(2), raised, proved, inForce, back, atHome)
	if err := b.Close(); err != nil {
		t.Fatal(err)
	}
	b = open(t, file)
	got, unknown, err := b.Load(t.Context())
	if err != nil || got.String() != want.String() || got.Seq != want.Seq || got.Stage != crossing.RolledBack ||
		unknown != 0 {
		t.Errorf("loaded: %v (%d), %d unknown, %v\nwant %v (%d)", got, got.Seq, unknown, err, want, want.Seq)
	}
	events, err := b.Events(t.Context(), 1)
	if err != nil || len(events) != 11 || !events[0].At.Equal(start) || events[7].By != "marit" {
		t.Errorf("events %v, %v", events, err)
	}
	all, unread, err := b.Everything(t.Context())
	var of past.Book
	for _, e := range all {
		of.Add(e)
	}
	list := of.Crossings(nil, start)
	if err != nil || unread != "" || len(list) != 2 {
		t.Fatalf("crossings %v, %q, %v", list, unread, err)
	}
	if c := list[0]; c.Number != 2 || c.Version != "4.3.0" || c.Build != "b92f" || c.Target != split.Green ||
		c.Stage != crossing.RolledBack || words.Cause(c.Cause, crossing.State{}) != "it looks wrong" ||
		!c.Begun.Equal(start) || !c.Ended.Equal(start.Add(5*time.Second)) {
		t.Errorf("the newest is %+v", c)
	}
	acts := words.Acts(of.Hand())
	if len(acts) != 3 {
		t.Fatalf("acts %+v", acts)
	}
	if a := acts[1]; a.What != "shift to 0 % on green" || !a.Failed || a.Outcome != "front: no answer" ||
		a.By != "marit" {
		t.Errorf("the one that failed is %+v", a)
	}
	if a := acts[2]; a.What != "shift to 5 % on green" || a.Failed ||
		!strings.Contains(a.Outcome, "5 % on green, in 3.0 ms") || len(a.Did) != 1 {
		t.Errorf("the first is %+v", a)
	}
	if times, err := b.Raises(t.Context()); err != nil || len(times) != 2 || times[0] != 3*time.Second {
		t.Errorf("raises took %v, %v", times, err)
	}
	if past, err := b.Past(t.Context()); err != nil || len(past) != 2 || past[0].Number != 2 ||
		past[0].Stage != crossing.RolledBack {
		t.Errorf("past: %+v, %v", past, err)
	}
	for _, number := range []int{0, 7} {
		if _, err := b.Events(t.Context(), number); !errors.Is(err, ErrNoCrossing) {
			t.Errorf("crossing %d: %v", number, err)
		}
	}
}

// Two that write do not overwrite each other: the second one's numbers are taken.
func TestOneWriter(t *testing.T) {
	b := open(t, filepath.Join(t.TempDir(), "log.db"))
	s := write(t, b, crossing.State{}, begin(1))
	events, err := crossing.Decide(s, crossing.Moment{At: start}, raised(s))
	if err != nil {
		t.Fatal(err)
	}
	if err := b.Append(t.Context(), s, events); err != nil {
		t.Fatal(err)
	}
	// Nobody heard that it was done: it can be tried again.
	if err := b.Append(t.Context(), s, events); err != nil {
		t.Errorf("the same once more: %v", err)
	}
	events[1].By = "ada"
	if err := b.Append(t.Context(), s, events); !errors.Is(err, ErrWritten) {
		t.Errorf("a number was given twice: %v", err)
	}
	if got, err := b.Events(t.Context(), 1); err != nil || len(got) != 4 {
		t.Errorf("it has %d events, %v", len(got), err)
	}
}

// What a newer Vaiven wrote is kept and passed over.
func TestAnEventOfANewerVaiven(t *testing.T) {
	b := open(t, filepath.Join(t.TempDir(), "log.db"))
	s := write(t, b, crossing.State{}, begin(1))
	const strange = `{"seq":3,"crossing":1,"at":"2026-11-23T21:02:18Z","event":"teleported","to":"mars"}`
	if _, err := b.db.Exec(`INSERT INTO events VALUES (3, 1, '2026-11-23T21:02:18Z', ?)`, strange); err != nil {
		t.Fatal(err)
	}
	got, unknown, err := b.Load(t.Context())
	if err != nil || unknown != 1 || got.Seq != 3 || got.Stage != s.Stage || got.Task.ID != s.Task.ID {
		t.Fatalf("loaded %v with %d unknown, %v", got, unknown, err)
	}
	write(t, b, got, raised)
	events, err := b.Events(t.Context(), 1)
	if err != nil || len(events) != 5 {
		t.Fatalf("events %v, %v", events, err)
	}
	if kept, err := json.Marshal(events[2]); err != nil || string(kept) != strange {
		t.Errorf("kept as %s, %v", kept, err)
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
		{filepath.Join(dir, "nowhere", "log.db"), "no such file"},
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
	if err := b.db.QueryRow("PRAGMA journal_mode").Scan(&mode); err != nil || mode != "truncate" {
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
	events, err := crossing.Decide(crossing.State{}, crossing.Moment{At: start}, begin(1)(crossing.State{}))
	if err != nil {
		t.Fatal(err)
	}
	if err := b.Append(ctx, crossing.State{}, events); err == nil {
		t.Fatal("an entry was made although its time was over")
	}
	if s, _, err := b.Load(t.Context()); s.Seq != 0 || err != nil {
		t.Errorf("it left %v, %v", s, err)
	}
}

func BenchmarkAppend(b *testing.B) {
	book, err := Open(filepath.Join(b.TempDir(), "log.db"))
	if err != nil {
		b.Fatal(err)
	}
	defer book.Close()
	e := crossing.Event{At: start, What: crossing.AcceptedTheirs{}}
	b.ReportAllocs()
	for b.Loop() {
		e.Seq++
		if err := book.Append(context.Background(), crossing.State{}, []crossing.Event{e}); err != nil {
			b.Fatal(err)
		}
	}
}

// A process that is frozen in the middle of writing holds the book: whoever opens it is told so.
func TestABookThatIsHeld(t *testing.T) {
	file := filepath.Join(t.TempDir(), "logbook.db")
	b, err := Open(file)
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	tx, err := b.db.BeginTx(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	if other, err := Open(file); !errors.Is(err, ErrBusy) {
		t.Errorf("opened: %v, %v", other, err)
	}
	if err := tx.Rollback(); err != nil {
		t.Fatal(err)
	}
	other, err := Open(file)
	if err != nil {
		t.Fatal(err)
	}
	other.Close()
}
