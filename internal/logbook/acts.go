package logbook

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// Act is what somebody did by hand, outside of a crossing.
type Act struct {
	At      time.Time `json:"at"`
	By      string    `json:"by"`
	What    string    `json:"what"` // such as "shift to 25 %"
	Did     []string  `json:"did"`  // commands, or lines of a file's difference
	Ended   time.Time `json:"ended,omitzero"`
	Outcome string    `json:"outcome,omitempty"` // in words; "" while it is under way, or if it was cut off
	Failed  bool      `json:"failed,omitempty"`
}

// Act does something that a person asked for. It is recorded before, and not done if it
// cannot be; what it came to is recorded after.
func (b *Book) Act(ctx context.Context, by, what string, do func() (did []string, outcome string, err error)) error {
	inserted, err := b.db.ExecContext(ctx, `INSERT INTO acts (at, "by", what) VALUES (?, ?, ?)`, stamp(time.Now()), by, what)
	var number int64
	if err == nil {
		number, err = inserted.LastInsertId()
	}
	if err != nil {
		return fmt.Errorf("the logbook cannot be written, so nothing was done: %w", err)
	}
	did, outcome, errDo := do()
	if errDo != nil {
		outcome = errDo.Error()
	}
	if did == nil {
		did = []string{}
	}
	text, err := json.Marshal(did)
	if err == nil {
		_, err = b.db.ExecContext(context.WithoutCancel(ctx), `UPDATE acts SET did = ?, ended = ?, outcome = ?, failed = ? WHERE number = ?`,
			string(text), stamp(time.Now()), outcome, errDo != nil, number)
	}
	if err != nil {
		err = fmt.Errorf("what it came to is not in the logbook: %w", err)
	}
	return errors.Join(errDo, err)
}

// Acts are all acts, the newest first.
func (b *Book) Acts(ctx context.Context) (list []Act, err error) {
	defer func() {
		if err != nil {
			err = fmt.Errorf("list what was done by hand: %w", err)
		}
	}()
	rows, err := b.db.QueryContext(ctx, `SELECT at, "by", what, did, coalesce(ended, ''), outcome, failed FROM acts ORDER BY number DESC`)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		var a Act
		var at, ended string
		var did []byte
		if err := rows.Scan(&at, &a.By, &a.What, &did, &ended, &a.Outcome, &a.Failed); err != nil {
			return nil, err
		}
		if a.At, err = time.Parse(time.RFC3339Nano, at); err != nil {
			return nil, err
		}
		if ended != "" {
			if a.Ended, err = time.Parse(time.RFC3339Nano, ended); err != nil {
				return nil, err
			}
		}
		if err := json.Unmarshal(did, &a.Did); err != nil {
			return nil, err
		}
		list = append(list, a)
	}
	return list, rows.Err()
}
