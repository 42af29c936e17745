package fleetbook

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"vaiven/internal/core/fleet"
	"vaiven/internal/world/state"
)

// logIn is the file in the folder.
const logIn = "fleet.jsonl"

// ErrInUse is a logbook that another process writes.
var ErrInUse = errors.New("another process takes this fleet across")

// Folder is where a fleet's record is: beside its file.
func Folder(file, name string) string {
	return filepath.Join(filepath.Dir(file), name+".fleet.vaiven") // the ending tells it from plans' folders
}

// Book is a fleet's record that is written. Its methods are for one goroutine at a time.
type Book struct {
	folder *state.Folder
	file   *os.File
	last   fleet.Crossing
}

// Open opens the record in a folder to write it, and makes it if there is none. One process has it at a time: the error
// wraps [ErrInUse] for another one.
func Open(folder string) (*Book, error) {
	in, err := state.Open(folder)
	if err != nil {
		return nil, err
	}
	file, err := in.OpenFile(logIn, os.O_CREATE|os.O_RDWR|os.O_APPEND)
	if err != nil {
		return nil, errors.Join(err, in.Close())
	}
	b := &Book{folder: in, file: file}
	if err := b.begin(); err != nil {
		return nil, errors.Join(err, b.Close())
	}
	return b, nil
}

// lookedAt is how long somebody may look whether the record is in use, who has it for that long.
const lookedAt = 300 * time.Millisecond

func (b *Book) begin() error {
	begun := time.Now()
	for {
		err := syscall.Flock(int(b.file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
		if err == nil {
			break
		}
		if time.Since(begun) > lookedAt {
			return fmt.Errorf("%w (%s: %w)", ErrInUse, b.file.Name(), err)
		}
		time.Sleep(lookedAt / 10)
	}
	data, err := io.ReadAll(b.file)
	if err != nil {
		return err
	}
	for _, e := range read(data) {
		b.last = fleet.Apply(b.last, e)
	}
	if len(data) > 0 && data[len(data)-1] != '\n' { // a line that was cut off
		_, err = b.file.Write([]byte{'\n'})
	}
	return err
}

// Last is the last crossing as it stood when the record was opened; its number is 0 if there was none.
func (b *Book) Last() fleet.Crossing { return b.last }

// Append writes events, and returns when they are on the disk.
func (b *Book) Append(events ...fleet.Event) error {
	var text bytes.Buffer
	for _, e := range events {
		if err := json.NewEncoder(&text).Encode(e); err != nil {
			return err
		}
	}
	if _, err := b.file.Write(text.Bytes()); err != nil {
		return fmt.Errorf("the fleet's record cannot be written: %w", err)
	}
	if err := b.file.Sync(); err != nil {
		return fmt.Errorf("the fleet's record cannot be written: %w", err)
	}
	return nil
}

// Close lets another process have it.
func (b *Book) Close() error { return errors.Join(b.file.Close(), b.folder.Close()) }

// InUse reports whether a process has the record in a folder open to write it.
func InUse(folder string) bool {
	in, err := state.Look(folder)
	if err != nil {
		return false
	}
	defer in.Close()
	file, err := in.OpenFile(logIn, os.O_RDONLY)
	if err != nil {
		return false
	}
	defer file.Close()
	return errors.Is(syscall.Flock(int(file.Fd()), syscall.LOCK_SH|syscall.LOCK_NB), syscall.EWOULDBLOCK)
}

// Read reads the record in a folder, oldest event first; there are none if it was never written.
func Read(folder string) ([]fleet.Event, error) {
	in, err := state.Look(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	data, err := in.ReadFile(logIn)
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return read(data), errors.Join(err, in.Close())
}

// read reads events. A line that was cut off or damaged is left out: what it said of a member is seen again.
func read(data []byte) (events []fleet.Event) {
	for line := range bytes.Lines(data) {
		var e fleet.Event
		if json.Unmarshal(line, &e) == nil && e.Kind != "" && (e.Kind != fleet.Begun || e.Fleet != nil) {
			events = append(events, e)
		}
	}
	return events
}
