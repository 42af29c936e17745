package logbook

import (
	"cmp"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"vaiven/internal/core/crossing"
)

// Read opens a logbook to read it, also while a keeper writes: nothing is changed, and nothing that is read takes long
// enough to hold up an entry. Close it after.
func Read(file string) (*Book, error) {
	b, err := readable(file)
	var code *sqlite.Error
	if errors.As(err, &code) && slices.Contains([]int{sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN},
		code.Code()&0xff) {
		return readCopy(file) // a keeper that was killed left something half written, and only who may write undoes it
	}
	if err != nil {
		return nil, fmt.Errorf("read the logbook %s: %w", file, told(err))
	}
	return b, nil
}

func readable(file string) (*Book, error) {
	info, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	if info.Size() == 0 {
		return nil, fmt.Errorf("%w: %w", ErrDamaged, errEmpty)
	}
	db, err := sql.Open("sqlite", source(file, "ro"))
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	b := &Book{db: db}
	var app, version int
	err = db.QueryRow(`SELECT (SELECT application_id FROM pragma_application_id),
		(SELECT user_version FROM pragma_user_version)`).Scan(&app, &version)
	switch {
	case err != nil:
	case app != appID:
		err = errNotOurs
	case version > len(migrations):
		err = errNewer(version)
	}
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return b, nil
}

// readCopy opens a copy, which goes with the book.
func readCopy(file string) (*Book, error) {
	dir, err := os.MkdirTemp("", "vaiven-logbook-")
	if err != nil {
		return nil, err
	}
	to := filepath.Join(dir, filepath.Base(file))
	// What is half written first, so that it is never later than the rest.
	for _, end := range []string{"-journal", ""} {
		data, errRead := os.ReadFile(file + end)
		if errRead == nil {
			errRead = os.WriteFile(to+end, data, 0o600)
		}
		if errRead != nil && !(end != "" && errors.Is(errRead, os.ErrNotExist)) {
			err = errors.Join(err, errRead)
		}
	}
	if err == nil {
		var b *Book
		if b, err = openFile(to); err == nil {
			b.drop = func() error { return os.RemoveAll(dir) }
			return b, nil
		}
	}
	return nil, errors.Join(err, os.RemoveAll(dir))
}

// Everything is all events that can be read, in their order, and what is between them that cannot, "" for nothing. They
// are read some at a time.
func (b *Book) Everything(ctx context.Context) (events []crossing.Event, unread string, err error) {
	seen := int64(0)
	for {
		p, err := b.some(ctx, `seq > ?`, "ASC", seen)
		events = append(events, p.events...)
		seen = max(seen, p.last)
		if err == nil && p.rows < someAtATime {
			return events, missing(events), nil
		}
		if err != nil {
			if err = told(err); !errors.Is(err, ErrDamaged) {
				return nil, "", fmt.Errorf("read the logbook: %w", err)
			}
			break
		}
	}
	// Past what cannot be read there may be more, from the end.
	var later []crossing.Event
	for last := int64(math.MaxInt64); last > seen+1; {
		p, err := b.some(ctx, `seq < ?`, "DESC", last)
		for _, e := range p.events {
			if int64(e.Seq) > seen {
				later = append(later, e)
			}
		}
		if err != nil || p.rows < someAtATime {
			break
		}
		last = p.last
	}
	slices.Reverse(later)
	events = append(events, later...)
	return events, cmp.Or(missing(events), fmt.Sprintf("what is after event %d cannot be read", seen)), nil
}

// missing says which events are not there though later ones are, "" for none.
func missing(events []crossing.Event) string {
	gaps, text := 0, ""
	for n := 1; n < len(events); n++ {
		from, to := events[n-1].Seq+1, events[n].Seq-1
		if from > to {
			continue
		}
		if gaps++; gaps == 1 {
			text = fmt.Sprintf("events %d to %d cannot be read", from, to)
			if from == to {
				text = fmt.Sprintf("event %d cannot be read", from)
			}
		}
	}
	if gaps > 1 {
		text += fmt.Sprintf(", nor others in %d places more", gaps-1)
	}
	return text
}

// someAtATime is how many rows are read at once: whoever writes waits no longer than for these.
const someAtATime = 200

// some is some rows of the book, as far as they can be read.
type some struct {
	events []crossing.Event // of those that are entries
	rows   int
	last   int64 // sequence number of the last row, 0 for none
}

// some are the rows that a condition chooses.
func (b *Book) some(ctx context.Context, where, order string, from int64) (p some, err error) {
	rows, err := b.db.QueryContext(ctx, `SELECT seq, event FROM events WHERE `+where+` ORDER BY seq `+order+` LIMIT ?`,
		from, someAtATime)
	if err != nil {
		return p, err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		var seq int64
		var text []byte
		if err := rows.Scan(&seq, &text); err != nil {
			return p, err
		}
		p.rows, p.last = p.rows+1, seq
		var e crossing.Event
		if json.Unmarshal(text, &e) == nil && int64(e.Seq) == seq {
			p.events = append(p.events, e)
		}
	}
	return p, rows.Err()
}

// Digest is the SHA-256 of a crossing's events up to one, each as it is in the book with a newline after it, and how
// many they are.
func (b *Book) Digest(ctx context.Context, number int, upTo uint64) (sum string, events int, err error) {
	rows, err := b.db.QueryContext(ctx, `SELECT event FROM events WHERE crossing = ? AND seq <= ? ORDER BY seq`, number,
		int64(upTo))
	if err != nil {
		return "", 0, fmt.Errorf("read crossing %d: %w", number, told(err))
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	all := sha256.New()
	for rows.Next() {
		var text []byte
		if err := rows.Scan(&text); err != nil {
			return "", 0, fmt.Errorf("read crossing %d: %w", number, told(err))
		}
		all.Write(append(text, '\n'))
		events++
	}
	if events == 0 && rows.Err() == nil {
		return "", 0, fmt.Errorf("%w: %d", ErrNoCrossing, number)
	}
	return hex.EncodeToString(all.Sum(nil)), events, rows.Err()
}
