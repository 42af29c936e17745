package logbook

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"vaiven/internal/core/crossing"
	"vaiven/internal/world/durable"
)

// ErrDamaged is wrapped when the file is not, or not wholly, what was written into it.
var ErrDamaged = errors.New("the logbook is damaged")

// ErrFull is wrapped when the disk that the logbook is on takes nothing more.
var ErrFull = errors.New("its disk is full")

// ErrBusy is wrapped when another process is writing it, and does not end that: it may be frozen in the middle.
var ErrBusy = errors.New("another process is in the middle of writing it")

// told gives an error of the database the name of what it means for whoever keeps the book.
func told(err error) error {
	var code *sqlite.Error
	if !errors.As(err, &code) {
		return err
	}
	switch code.Code() & 0xff { // the rest says more
	case sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB:
		return fmt.Errorf("%w: %w", ErrDamaged, err)
	case sqlite3.SQLITE_FULL:
		return ErrFull // which says all
	case sqlite3.SQLITE_BUSY:
		return fmt.Errorf("%w: %w", ErrBusy, err)
	}
	return err
}

// Rest is what is left of a damaged logbook.
type Rest struct {
	Wrong  string         // "" if nothing is
	Events int            // that can be read
	Last   time.Time      // when the last of them was; zero for none
	Number int            // of the last crossing that can be read of, 0 for none,
	Ended  crossing.State // and how far it was, as far as that can be read
}

// Look says what of a logbook can be read. It changes nothing, and needs no lock.
func Look(ctx context.Context, file string) (Rest, error) {
	info, err := os.Stat(file)
	if err != nil {
		return Rest{}, fmt.Errorf("look through the logbook: %w", err)
	}
	if info.Size() == 0 {
		return Rest{Wrong: errEmpty.Error()}, nil
	}
	r := Rest{}
	db, err := sql.Open("sqlite", source(file, "ro"))
	if err != nil {
		return r, err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	b := &Book{db: db}
	var app, version int
	if err := told(db.QueryRowContext(ctx,
		`SELECT (SELECT application_id FROM pragma_application_id), (SELECT user_version FROM pragma_user_version)`).Scan(&app, &version)); err != nil {
		if errors.Is(err, ErrDamaged) {
			r.Wrong, err = err.Error(), nil
		}
		return r, err
	}
	if app != appID {
		return r, errNotOurs
	}
	if version > len(migrations) {
		return r, errNewer(version)
	}
	if err := b.whole(ctx); err != nil {
		r.Wrong = err.Error()
	}
	r.read(ctx, b)
	return r, nil
}

// whole is what is wrong with the file or an entry, nil for nothing.
func (b *Book) whole(ctx context.Context) error {
	var said string
	if err := b.db.QueryRowContext(ctx, `PRAGMA integrity_check(1)`).Scan(&said); err != nil {
		return told(err)
	}
	if said != "ok" {
		return fmt.Errorf("%w: %s", ErrDamaged, said)
	}
	_, _, err := b.Load(ctx)
	return err
}

// read takes in what can be read: from the beginning and, past what cannot, from the end.
func (r *Rest) read(ctx context.Context, b *Book) {
	seen := map[uint64]bool{}
	for _, order := range []string{"ASC", "DESC"} {
		rows, err := b.db.QueryContext(ctx, `SELECT event FROM events ORDER BY seq `+order)
		if err != nil {
			continue // nothing can be read from this end
		}
		for rows.Next() {
			var text []byte
			var e crossing.Event
			if rows.Scan(&text) != nil || json.Unmarshal(text, &e) != nil || seen[e.Seq] {
				continue
			}
			seen[e.Seq] = true
			r.Events++
			if e.At.After(r.Last) {
				r.Last = e.At
			}
			r.Number = max(r.Number, e.Crossing)
		}
		_ = rows.Close() // what it stumbled over is known
	}
	if s, _, err := b.Load(ctx); err == nil && s.Number == r.Number {
		r.Ended = s
	}
}

// Mend puts a logbook aside that is damaged or empty, and begins a new one whose first entry says so, and who has
// said so. Nobody may have it open. It says where the old one is.
func Mend(ctx context.Context, file, by string, now time.Time, r Rest) (aside string, err error) {
	aside = file + ".damaged-" + now.UTC().Format("20060102T150405Z")
	if err := os.Link(file, aside); err != nil { // under both names, so that at no time there is none
		return "", fmt.Errorf("put the logbook aside: %w", err)
	}
	fresh := file + ".new"
	if err := remove(fresh); err != nil {
		return "", err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.Remove(aside), remove(fresh))
		}
	}()
	b, err := Open(fresh)
	if err != nil {
		return "", err
	}
	e := crossing.Event{Seq: 1, At: now, By: by, What: crossing.BegunAnew{Aside: aside, Wrong: r.Wrong}}
	if err := errors.Join(b.Append(ctx, crossing.Apply(crossing.State{}, e), []crossing.Event{e}),
		b.Close()); err != nil {
		return "", err
	}
	// What the old one had begun to write belongs to it alone.
	if err := os.Rename(file+"-journal", aside+"-journal"); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("put the logbook aside: %w", err)
	}
	if err := os.Rename(fresh, file); err != nil {
		return "", fmt.Errorf("begin the logbook anew: %w", err)
	}
	return aside, errors.Join(remove(fresh+"-journal"), durable.Sync(filepath.Dir(file)))
}

// Aside puts a logbook aside that is not gone on with, and says where it is. Nobody may have it open.
func Aside(file, why string, now time.Time) (aside string, err error) {
	aside = fmt.Sprintf("%s.%s-%s", file, why, now.UTC().Format("20060102T150405Z"))
	// What it had begun to write belongs to it alone.
	if err := os.Rename(file+"-journal", aside+"-journal"); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("put the logbook aside: %w", err)
	}
	if err := os.Rename(file, aside); err != nil {
		return "", fmt.Errorf("put the logbook aside: %w", err)
	}
	return aside, durable.Sync(filepath.Dir(file))
}

// remove removes a file that may not be there.
func remove(file string) error {
	if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// String is what is left of it in words.
func (r Rest) String() string {
	count := func(n int, what string) string {
		if n == 1 {
			return "1 " + what
		}
		return fmt.Sprintf("%d %ss", n, what)
	}
	last := r.Last.Local().Format("2006-01-02 15:04:05")
	switch {
	case r.Events == 0:
		return "nothing of it can be read"
	case r.Ended.Number > 0:
		return fmt.Sprintf("%s can be read, the last of %s: crossing %d at %q", count(r.Events, "event"), last,
			r.Number, r.Ended.Stage)
	}
	return fmt.Sprintf("%s can be read, the last of %s, of %s", count(r.Events, "event"), last,
		count(r.Number, "crossing"))
}
