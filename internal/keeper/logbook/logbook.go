package logbook

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"syscall"
	"time"

	_ "modernc.org/sqlite" // the driver

	"vaiven/internal/core/crossing"
	"vaiven/internal/words"
)

// appID marks the file as a logbook, so that no other database is written to.
const appID = 0x7661_6e31

// migrations bring the schema from each version to the next. They are only ever
// added to.
var migrations = []func(*sql.Tx) error{
	script(`CREATE TABLE crossings (
		number  INTEGER PRIMARY KEY,
		service TEXT NOT NULL,
		target  TEXT NOT NULL,
		version TEXT NOT NULL,
		build   TEXT NOT NULL DEFAULT '',
		begun   TEXT NOT NULL,
		stage   TEXT NOT NULL,
		ended   TEXT,
		why     TEXT NOT NULL DEFAULT ''
	) STRICT;
	CREATE TABLE events (
		seq      INTEGER PRIMARY KEY,
		crossing INTEGER NOT NULL, -- 0: outside of one
		at       TEXT NOT NULL,
		event    TEXT NOT NULL CHECK (json_valid(event))
	) STRICT;
	CREATE INDEX events_of ON events (crossing, seq);
	CREATE TABLE tried ( -- whether the book can be written
		one INTEGER PRIMARY KEY CHECK (one = 1),
		at  TEXT NOT NULL
	) STRICT;`),
}

func script(text string) func(*sql.Tx) error {
	return func(tx *sql.Tx) error {
		_, err := tx.Exec(text)
		return err
	}
}

// Book is an open logbook. It is safe for concurrent use.
type Book struct {
	db   *sql.DB
	drop func() error // what goes with it; nil for nothing
}

// Open opens the logbook in a file, making or migrating it as needed. Every
// commit is on disk when it returns (synchronous full). There is no write-ahead log, whose
// index is mapped into memory: a disk that hangs in a page fault holds up the whole process,
// and in a call only who calls.
//
// The error wraps [ErrDamaged] if the file is not what was written, or was emptied, [ErrFull] if its disk is full,
// and [ErrBusy] if another process is in the middle of writing it.
func Open(file string) (*Book, error) {
	info, err := os.Lstat(file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		err = create(file)
	case err == nil && info.Mode().IsRegular() && info.Size() == 0:
		err = fmt.Errorf("%w: %w", ErrDamaged, errEmpty)
	}
	if err != nil {
		return nil, fmt.Errorf("open the logbook %s: %w", file, err)
	}
	return openFile(file)
}

var errEmpty = errors.New("it is empty")

// create makes a logbook that is not there, in one step: one that is empty was another thing once.
func create(file string) error {
	fresh := fmt.Sprintf("%s.%d", file, os.Getpid())
	b, err := openFile(fresh)
	if err == nil {
		err = b.Close()
	}
	if err == nil {
		if err = os.Link(fresh, file); errors.Is(err, fs.ErrExist) {
			err = nil // somebody else was faster
		}
	}
	return errors.Join(err, remove(fresh), remove(fresh+"-journal"))
}

func openFile(file string) (*Book, error) {
	if err := private(file); err != nil {
		return nil, fmt.Errorf("open the logbook: %w", err)
	}
	db, err := sql.Open("sqlite", source(file, ""))
	if err != nil {
		return nil, fmt.Errorf("open the logbook: %w", err)
	}
	db.SetMaxOpenConns(1) // one writer, and readers that wait for it
	b := &Book{db: db}
	if err := b.migrate(); err != nil {
		return nil, errors.Join(fmt.Errorf("open the logbook %s: %w", file, told(err)), db.Close())
	}
	return b, nil
}

// source names the file to the driver, in a mode; "" for one to write.
func source(file, mode string) string {
	values := url.Values{
		"_pragma": {"journal_mode(TRUNCATE)", "synchronous(FULL)", "busy_timeout(2000)", "foreign_keys(1)"},
		"_txlock": {"immediate"},
	}
	if mode != "" {
		values = url.Values{"mode": {mode}, "_pragma": {"busy_timeout(2000)"}}
	}
	return (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: file}).EscapedPath(), RawQuery: values.Encode()}).String()
}

// private makes the file, for its owner alone to read, if it is not there. A link is not
// followed.
func private(file string) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0o600)
	if err != nil {
		return err
	}
	return f.Close()
}

// Close closes the file.
func (b *Book) Close() error {
	err := b.db.Close()
	if b.drop != nil {
		err = errors.Join(err, b.drop())
	}
	return err
}

func (b *Book) migrate() error {
	return b.inTx(context.Background(), func(tx *sql.Tx) error {
		var app, version, tables int
		row := tx.QueryRow(`SELECT (SELECT application_id FROM pragma_application_id),
			(SELECT user_version FROM pragma_user_version), (SELECT count(*) FROM sqlite_schema)`)
		if err := row.Scan(&app, &version, &tables); err != nil {
			return err
		}
		switch {
		case app != appID && tables > 0:
			return errNotOurs
		case version > len(migrations):
			return errNewer(version)
		case version == len(migrations):
			return nil
		}
		for _, step := range migrations[version:] {
			if err := step(tx); err != nil {
				return err
			}
		}
		_, err := tx.Exec(fmt.Sprintf("PRAGMA application_id = %d; PRAGMA user_version = %d", appID, len(migrations)))
		return err
	})
}

var errNotOurs = errors.New("this database is not a logbook of Vaiven")

func errNewer(version int) error {
	return fmt.Errorf("it has version %d, and this Vaiven knows up to %d: use a newer one", version, len(migrations))
}

func (b *Book) inTx(ctx context.Context, do func(*sql.Tx) error) (err error) {
	tx, err := b.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = tx.Rollback() // the first error is the one to tell
		}
	}()
	if err := do(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// Append records events in their order, all or none, with the state that they led to.
// When it returns nil, the record is on disk; when it does not, it may be there all the
// same, and can be appended again. A number that another event has is an error: somebody
// else has written.
func (b *Book) Append(ctx context.Context, s crossing.State, events []crossing.Event) error {
	err := b.inTx(ctx, func(tx *sql.Tx) error { return insert(tx, s, events) })
	if err != nil {
		return fmt.Errorf("record %q: %w", events[0].What.Kind(), told(err))
	}
	return nil
}

// ErrWritten is wrapped when somebody else has written into the book.
var ErrWritten = errors.New("somebody else has written into the logbook")

func insert(tx *sql.Tx, s crossing.State, events []crossing.Event) error {
	for _, e := range events {
		text, err := json.Marshal(e)
		if err != nil {
			return err
		}
		if f, ok := e.What.(crossing.Begun); ok {
			if _, err := tx.Exec(`INSERT INTO crossings (number, service, target, begun, version, stage) VALUES (?, ?, ?, ?, '', '') ON CONFLICT (number) DO NOTHING`,
				f.Number, f.Service, f.Target.String(), stamp(e.At)); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(`INSERT INTO events (seq, crossing, at, event) VALUES (?, ?, ?, ?) ON CONFLICT (seq) DO NOTHING`, e.Seq, e.Crossing, stamp(e.At), string(text)); err != nil {
			return err
		}
		var there string
		if err := tx.QueryRow(`SELECT event FROM events WHERE seq = ?`, e.Seq).Scan(&there); err != nil {
			return err
		}
		if there != string(text) {
			return fmt.Errorf("%w: number %d is taken", ErrWritten, e.Seq)
		}
	}
	if s.Number == 0 {
		return nil
	}
	var ended any
	if s.Stage.Over() {
		ended = stamp(s.Since)
	}
	_, err := tx.Exec(`UPDATE crossings SET version = ?, build = ?, stage = ?, ended = ?, why = ? WHERE number = ?`,
		s.Version, s.Build, s.Stage, ended, words.Cause(s.Why, s), s.Number)
	return err
}

// Check writes something of no meaning through to the disk, to see whether events could be
// recorded.
func (b *Book) Check(ctx context.Context) error {
	_, err := b.db.ExecContext(ctx, `INSERT INTO tried VALUES (1, ?) ON CONFLICT (one) DO UPDATE SET at = excluded.at`,
		stamp(time.Now()))
	if err != nil {
		return fmt.Errorf("try the logbook: %w", told(err))
	}
	return nil
}

// stamp is a time as the logbook has it: UTC, with nanoseconds, and in the order
// of time when sorted as text.
func stamp(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05.000000000Z") }

// ErrNoCrossing is wrapped when there is no crossing with the number asked for.
var ErrNoCrossing = errors.New("no such crossing")

// Events are the events of a crossing in their order.
func (b *Book) Events(ctx context.Context, number int) ([]crossing.Event, error) {
	events, err := b.events(ctx, `WHERE crossing = ?`, number)
	if err != nil {
		return nil, fmt.Errorf("read crossing %d: %w", number, told(err))
	}
	if len(events) == 0 || number == 0 {
		return nil, fmt.Errorf("%w: %d", ErrNoCrossing, number)
	}
	return events, nil
}

// Since are events after the one with a sequence number, in their order, at most so many.
func (b *Book) Since(ctx context.Context, seq uint64, most int) ([]crossing.Event, error) {
	events, err := b.events(ctx, `WHERE seq IN (SELECT seq FROM events WHERE seq > ? ORDER BY seq LIMIT ?)`, int64(seq),
		most)
	if err != nil {
		return nil, fmt.Errorf("read the events after %d: %w", seq, err)
	}
	return events, nil
}

// events are those that a condition chooses, in their order.
func (b *Book) events(ctx context.Context, where string, args ...any) (events []crossing.Event, err error) {
	rows, err := b.db.QueryContext(ctx, `SELECT event FROM events `+where+` ORDER BY seq`, args...)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		var text []byte
		var e crossing.Event
		if err := errors.Join(rows.Scan(&text)); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(text, &e); err != nil {
			return nil, fmt.Errorf("%w: an entry is none: %w", ErrDamaged, err)
		}
		events = append(events, e)
	}
	return events, rows.Err()
}

// Load is the state that the book ends with, and how many events on the way to it were written by a newer Vaiven and
// passed over. It reads from the last beginning of a crossing that carries what went on from before; a book that an
// earlier Vaiven wrote has none, and is read whole.
func (b *Book) Load(ctx context.Context) (s crossing.State, unknown int, err error) {
	events, err := b.events(ctx,
		`WHERE seq >= coalesce((SELECT max(seq) FROM events WHERE json_extract(event, '$.event') = ?
			AND json_extract(event, '$.kept.whole')), 0)`,
		crossing.Begun{}.Kind())
	if err != nil {
		return s, 0, fmt.Errorf("read the logbook: %w", told(err))
	}
	for _, e := range events {
		if _, ok := e.What.(crossing.Unknown); ok {
			unknown++
		}
		s = crossing.Apply(s, e)
	}
	return s, unknown, nil
}

// Past are all crossings in few words, the newest first.
func (b *Book) Past(ctx context.Context) (list []crossing.Past, err error) {
	rows, err := b.db.QueryContext(ctx, `SELECT number, version, build, stage, begun FROM crossings ORDER BY number DESC`)
	if err != nil {
		return nil, fmt.Errorf("list crossings: %w", err)
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		var c crossing.Past
		var begun string
		if err := rows.Scan(&c.Number, &c.Version, &c.Build, &c.Stage, &begun); err != nil {
			return nil, fmt.Errorf("list crossings: %w", err)
		}
		if c.Begun, err = time.Parse(time.RFC3339Nano, begun); err != nil {
			return nil, fmt.Errorf("crossing %d: %w", c.Number, err)
		}
		list = append(list, c)
	}
	return list, rows.Err()
}

// raisesKept is how many of the last raises count for how long one takes.
const raisesKept = 20

// Raises is how long instances took until they were healthy, in the last raises
// that succeeded.
func (b *Book) Raises(ctx context.Context) (times []time.Duration, err error) {
	events, err := b.events(ctx,
		`WHERE seq IN (SELECT seq FROM events WHERE json_extract(event, '$.event') = ? ORDER BY seq DESC LIMIT ?)`,
		crossing.Raised{}.Kind(), raisesKept)
	if err != nil {
		return nil, fmt.Errorf("read how long raises took: %w", err)
	}
	for _, e := range events {
		if raised, ok := e.What.(crossing.Raised); ok {
			for _, took := range raised.Times {
				times = append(times, took)
			}
		}
	}
	return times, nil
}
