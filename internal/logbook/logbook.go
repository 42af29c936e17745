package logbook

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"time"

	_ "modernc.org/sqlite" // the driver

	"vaiven/internal/core/crossing"
)

// appID marks the file as a logbook, so that no other database is written to.
const appID = 0x7661_6976

// migrations bring the schema from each version to the next. They are only ever
// added to.
var migrations = []string{
	`CREATE TABLE crossings (
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
		crossing INTEGER NOT NULL REFERENCES crossings(number),
		seq      INTEGER NOT NULL,
		at       TEXT NOT NULL,
		event    TEXT NOT NULL CHECK (json_valid(event)),
		effects  TEXT NOT NULL CHECK (json_valid(effects)),
		PRIMARY KEY (crossing, seq)
	) STRICT;`,
	`CREATE TABLE acts (
		number  INTEGER PRIMARY KEY,
		at      TEXT NOT NULL,
		"by"    TEXT NOT NULL,
		what    TEXT NOT NULL,
		did     TEXT NOT NULL DEFAULT '[]' CHECK (json_valid(did)),
		ended   TEXT,
		outcome TEXT NOT NULL DEFAULT '',
		failed  INTEGER NOT NULL DEFAULT 0
	) STRICT;`,
}

// Book is an open logbook. It is safe for concurrent use.
type Book struct {
	db *sql.DB
}

// Open opens the logbook in a file, making or migrating it as needed. Every
// commit is on disk when it returns (write-ahead log, synchronous full).
func Open(file string) (*Book, error) {
	dsn := url.URL{Scheme: "file", Opaque: (&url.URL{Path: file}).EscapedPath(), RawQuery: url.Values{
		"_pragma": {"journal_mode(WAL)", "synchronous(FULL)", "busy_timeout(2000)", "foreign_keys(1)"},
		"_txlock": {"immediate"},
	}.Encode()}
	db, err := sql.Open("sqlite", dsn.String())
	if err != nil {
		return nil, fmt.Errorf("open the logbook: %w", err)
	}
	db.SetMaxOpenConns(1) // one writer, and readers that wait for it
	b := &Book{db}
	if err := b.migrate(); err != nil {
		return nil, errors.Join(fmt.Errorf("open the logbook %s: %w", file, err), db.Close())
	}
	return b, nil
}

// Close closes the file.
func (b *Book) Close() error { return b.db.Close() }

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
			return errors.New("this database is not a logbook of Vaiven")
		case version > len(migrations):
			return fmt.Errorf("it has version %d, and this Vaiven knows up to %d: use a newer one", version, len(migrations))
		case version == len(migrations):
			return nil
		}
		for _, script := range migrations[version:] {
			if _, err := tx.Exec(script); err != nil {
				return err
			}
		}
		_, err := tx.Exec(fmt.Sprintf("PRAGMA application_id = %d; PRAGMA user_version = %d", appID, len(migrations)))
		return err
	})
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

// Append records an event with the state and the effects that it led to. When it
// returns nil, the record is on disk.
func (b *Book) Append(ctx context.Context, s crossing.State, e crossing.Event, effects []crossing.Effect) error {
	event, err := json.Marshal(e)
	if err != nil {
		return fmt.Errorf("record %q: %w", e.What.Kind(), err)
	}
	if effects == nil {
		effects = []crossing.Effect{}
	}
	todo, err := json.Marshal(effects)
	if err != nil {
		return fmt.Errorf("record %q: %w", e.What.Kind(), err)
	}
	err = b.inTx(ctx, func(tx *sql.Tx) error {
		var ended any
		if s.Stage.Over() {
			ended = stamp(s.Since)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO crossings (number, service, target, version, build, begun, stage, ended, why)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (number) DO UPDATE SET build = excluded.build, stage = excluded.stage, ended = excluded.ended, why = excluded.why`,
			s.Number, s.Service, s.Target.String(), s.Version, s.Build, stamp(e.At), s.Stage, ended, s.Why); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO events (crossing, seq, at, event, effects)
			VALUES (?, (SELECT coalesce(max(seq), 0) + 1 FROM events WHERE crossing = ?), ?, ?, ?)`,
			s.Number, s.Number, stamp(e.At), string(event), string(todo))
		return err
	})
	if err != nil {
		return fmt.Errorf("record %q: %w", e.What.Kind(), err)
	}
	return nil
}

// stamp is a time as the logbook has it: UTC, with nanoseconds, and in the order
// of time when sorted as text.
func stamp(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05.000000000Z") }

// Crossing is one line of the list.
type Crossing struct {
	Number  int            `json:"number"`
	Service string         `json:"service"`
	Target  string         `json:"target"`
	Version string         `json:"version"`
	Build   string         `json:"build,omitempty"`
	Begun   time.Time      `json:"begun"`
	Stage   crossing.Stage `json:"stage"`
	Ended   time.Time      `json:"ended,omitzero"`
	Why     string         `json:"why,omitempty"`
}

// Crossings are all crossings, the newest first.
func (b *Book) Crossings(ctx context.Context) (list []Crossing, err error) {
	rows, err := b.db.QueryContext(ctx, `SELECT number, service, target, version, build, begun, stage, coalesce(ended, ''), why
		FROM crossings ORDER BY number DESC`)
	if err != nil {
		return nil, fmt.Errorf("list crossings: %w", err)
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		var c Crossing
		var begun, ended string
		if err := rows.Scan(&c.Number, &c.Service, &c.Target, &c.Version, &c.Build, &begun, &c.Stage, &ended, &c.Why); err != nil {
			return nil, fmt.Errorf("list crossings: %w", err)
		}
		if c.Begun, err = time.Parse(time.RFC3339Nano, begun); err != nil {
			return nil, fmt.Errorf("crossing %d: %w", c.Number, err)
		}
		if ended != "" {
			if c.Ended, err = time.Parse(time.RFC3339Nano, ended); err != nil {
				return nil, fmt.Errorf("crossing %d: %w", c.Number, err)
			}
		}
		list = append(list, c)
	}
	return list, rows.Err()
}

// ErrNoCrossing is wrapped when there is no crossing with the number asked for.
var ErrNoCrossing = errors.New("no such crossing")

// Events are the events of a crossing in their order.
func (b *Book) Events(ctx context.Context, number int) (events []crossing.Event, err error) {
	rows, err := b.db.QueryContext(ctx, `SELECT event FROM events WHERE crossing = ? ORDER BY seq`, number)
	if err != nil {
		return nil, fmt.Errorf("read crossing %d: %w", number, err)
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		var text []byte
		if err := rows.Scan(&text); err != nil {
			return nil, fmt.Errorf("read crossing %d: %w", number, err)
		}
		var e crossing.Event
		if err := json.Unmarshal(text, &e); err != nil {
			return nil, fmt.Errorf("read crossing %d: event %d: %w", number, len(events)+1, err)
		}
		events = append(events, e)
	}
	if err := rows.Err(); err != nil {
		return nil, fmt.Errorf("read crossing %d: %w", number, err)
	}
	if len(events) == 0 {
		return nil, fmt.Errorf("%w: %d", ErrNoCrossing, number)
	}
	return events, nil
}

// Last is the number of the newest crossing, 0 if there is none.
func (b *Book) Last(ctx context.Context) (number int, err error) {
	err = b.db.QueryRowContext(ctx, `SELECT coalesce(max(number), 0) FROM crossings`).Scan(&number)
	if err != nil {
		return 0, fmt.Errorf("read the last crossing: %w", err)
	}
	return number, nil
}

// Past are all crossings in few words, the newest first.
func (b *Book) Past(ctx context.Context) ([]crossing.Past, error) {
	all, err := b.Crossings(ctx)
	past := make([]crossing.Past, len(all))
	for n, c := range all {
		past[n] = crossing.Past{Number: c.Number, Version: c.Version, Build: c.Build, Stage: c.Stage, Begun: c.Begun}
	}
	return past, err
}

// raisesKept is how many of the last raises count for how long one takes.
const raisesKept = 20

// Raises is how long instances took until they were healthy, in the last raises
// that succeeded.
func (b *Book) Raises(ctx context.Context) (times []time.Duration, err error) {
	rows, err := b.db.QueryContext(ctx, `SELECT event FROM events WHERE json_extract(event, '$.event') = ?
		ORDER BY crossing DESC, seq DESC LIMIT ?`, crossing.Raised{}.Kind(), raisesKept)
	if err != nil {
		return nil, fmt.Errorf("read how long raises took: %w", err)
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		var text []byte
		if err := rows.Scan(&text); err != nil {
			return nil, fmt.Errorf("read how long raises took: %w", err)
		}
		var e crossing.Event
		if err := json.Unmarshal(text, &e); err != nil {
			return nil, fmt.Errorf("read how long raises took: %w", err)
		}
		if raised, ok := e.What.(crossing.Raised); ok {
			for _, took := range raised.Times {
				times = append(times, took)
			}
		}
	}
	return times, rows.Err()
}

// Replay is the state of a crossing as its recorded events make it.
func (b *Book) Replay(ctx context.Context, number int) (crossing.State, error) {
	events, err := b.Events(ctx, number)
	if err != nil {
		return crossing.State{}, err
	}
	var s crossing.State
	for n, e := range events {
		if s, _, err = crossing.Step(s, e); err != nil {
			return crossing.State{}, fmt.Errorf("replay crossing %d: event %d, %q: %w", number, n+1, e.What.Kind(), err)
		}
	}
	return s, nil
}
