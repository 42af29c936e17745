package recording

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"slices"
	"strconv"
	"sync/atomic"
	"time"

	"vaiven/internal/core/engine"
	"vaiven/internal/keeper"
	"vaiven/internal/world/state"
)

// The folder in a state folder, and the files in it: one for each crossing, and two for the track while nothing is
// under way, the one that grows and the one before.
const (
	folder  = "recordings"
	ending  = ".jsonl.gz"
	thinned = ".thin" + ending // of what is left of one
	restIn  = folder + "/rest" + ending
	restOld = folder + "/rest.before" + ending
)

func fileOf(number int, ending string) string {
	if number == 0 {
		return restIn
	}
	return folder + "/" + strconv.Itoa(number) + ending
}

// The times and sizes of writing.
const (
	writeEvery = 5 * time.Second  // what was seen since is written together,
	restEvery  = 30 * time.Second // and while nothing is under way
	lasting    = time.Minute      // for so long what is over is recorded
	trackSpan  = time.Hour        // of the track that a keeper begins with
	waiting    = 4                // batches that wait for the disk, and
	heldMost   = 4 << 20          // bytes beside them, until they are given up
	restMost   = 128 << 10        // bytes of the track: more than an hour
	hourMost   = 7 << 18          // bytes of an hour, from which on only every tenth moment is written
	sparsely   = 10 * Every
	closeLimit = 200 * time.Millisecond
	readLimit  = 2 * Every // for what is held to be written,
	lookEvery  = 20 * time.Millisecond
	// room that is left for the logbook, and which part of a small disk it is at most
	roomLeft, roomPart = 64 << 20, 20
)

// Writer records what a keeper sees. Take and Close are for one goroutine, the rest for many.
type Writer struct {
	in   *state.Folder
	keep time.Duration
	log  *slog.Logger

	taker  taker
	number int            // of the crossing that is recorded, 0 for none
	taken  time.Time      // the last moment
	points []engine.Point // since then
	held   batch
	since  time.Time // when something was handed over last

	out    chan batch
	done   chan struct{}
	again  atomic.Bool // it is not known what the file has: all is to be written anew
	sparse atomic.Bool // the hour has had its share

	// of those who read what is being recorded: they wait for what is not written yet
	grows  atomic.Int64 // number of the crossing that is recorded
	asked  atomic.Bool
	writes atomic.Int64 // how often what was asked for has been written
}

// batch is what is written together.
type batch struct {
	number int
	at     time.Time // of the last moment in it
	pieces []piece
	size   int
	over   bool // nothing follows
	asked  bool // somebody waits for it
}

// piece is lines, of which the first has all parts if it is anew.
type piece struct {
	anew bool
	text []byte
}

// NewWriter makes a writer to a service's state folder. What is older than keep is thinned.
func NewWriter(in *state.Folder, keep time.Duration, log *slog.Logger) *Writer {
	w := &Writer{in: in, keep: keep, log: log, out: make(chan batch, waiting), done: make(chan struct{})}
	go w.write()
	return w
}

// Take records a moment: what is known, and the points of the track that are new. It waits for no disk.
func (w *Writer) Take(s keeper.Snapshot, points []engine.Point) {
	if number := recorded(s); number != w.number {
		w.send(true)
		w.number = number
		w.grows.Store(int64(number))
		w.taker.forget()
	}
	w.points = append(w.points, points...)
	every := writeEvery
	if w.number == 0 {
		every = restEvery
	}
	if w.number == 0 && s.At.Sub(w.taken) < restEvery || w.sparse.Load() && s.At.Sub(w.taken) < sparsely {
		return
	}
	w.taken = s.At
	if w.again.Swap(false) || w.held.size > heldMost {
		w.held = batch{} // it waits for what is not there
		w.taker.forget()
	}
	text, anew, err := w.line(s)
	if err != nil {
		w.log.Warn("a moment is not recorded", "err", err)
		return
	}
	w.points = nil
	if p := w.held.pieces; len(p) == 0 || anew {
		w.held.pieces = append(p, piece{anew: anew})
	}
	last := &w.held.pieces[len(w.held.pieces)-1]
	last.text = append(last.text, text...)
	w.held.size += len(text)
	w.held.at = s.At
	if w.held.asked = w.asked.Swap(false) || w.held.asked; w.held.asked || s.At.Sub(w.since) >= every {
		w.since = s.At
		w.send(false)
	}
}

// line is a moment's line. While nothing is under way only the track is kept.
func (w *Writer) line(s keeper.Snapshot) (text []byte, anew bool, err error) {
	if w.number > 0 {
		return w.taker.line(s, w.points)
	}
	if anew = w.taker.last == nil; anew {
		w.taker.last = map[string]taken{}
	}
	text, err = json.Marshal(line{At: s.At.Round(0), Anew: true, Points: w.points})
	return append(text, '\n'), anew, err
}

// recorded is of which crossing a snapshot is, 0 if of none.
func recorded(s keeper.Snapshot) int {
	c := s.Crossing
	if c.Stage.UnderWay() || c.Stage.Over() && (s.At.Sub(c.Since) < lasting || c.Task.ID != 0) {
		return c.Number
	}
	return 0
}

// send hands over what is held if whoever writes is ready: else it is held on, unless something else follows.
func (w *Writer) send(over bool) {
	w.held.number, w.held.over = w.number, over
	select {
	case w.out <- w.held:
		w.held = batch{}
	default:
		if over {
			w.held = batch{}
		}
	}
}

// Close writes what is held, and waits for that, though not for long.
func (w *Writer) Close() {
	w.held.number, w.held.over = w.number, true
	limit := time.After(closeLimit)
	select {
	case w.out <- w.held:
	case <-limit:
		close(w.out)
		return
	}
	close(w.out)
	select {
	case <-w.done:
	case <-limit:
	}
}

// Read is the recording of a crossing, as its file has it. Of one that is being recorded what is not written yet is
// waited for, though not for long. The error wraps [keeper.ErrNotRecorded] if there is none.
func (w *Writer) Read(number int) ([]byte, error) {
	if number == int(w.grows.Load()) {
		before := w.writes.Load()
		w.asked.Store(true)
		for end := time.Now().Add(readLimit); w.writes.Load() == before && time.Now().Before(end); {
			time.Sleep(lookEvery)
		}
	}
	return Find(w.in, number)
}

// Find is the recording of a crossing in a state folder, as its file has it. The error wraps [keeper.ErrNotRecorded] if
// there is none.
func Find(in *state.Folder, number int) ([]byte, error) {
	for _, name := range []string{fileOf(number, ending), fileOf(number, thinned)} {
		data, err := in.ReadFile(name)
		if !errors.Is(err, fs.ErrNotExist) {
			return data, err
		}
	}
	return nil, fmt.Errorf("crossing %d: %w", number, keeper.ErrNotRecorded)
}

// Points are the track of the last hour, oldest first, as far as it was kept.
func (w *Writer) Points() ([]engine.Point, error) {
	names, err := w.in.Names(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	oldest := time.Now().Add(-trackSpan)
	var points []engine.Point
	for _, name := range names {
		name = folder + "/" + name
		if at, err := changedAt(w.in, name); err != nil || at.Before(oldest) {
			continue
		}
		if data, err := w.in.ReadFile(name); err == nil {
			if r, err := Read(data); err == nil {
				points = append(points, r.points...)
			}
		}
	}
	points = inOrder(points)
	return slices.DeleteFunc(points, func(p engine.Point) bool { return p.At.Before(oldest) }), err
}

// inOrder are points by their time, each once.
func inOrder(points []engine.Point) []engine.Point {
	slices.SortStableFunc(points, func(a, b engine.Point) int { return a.At.Compare(b.At) })
	return slices.CompactFunc(points, func(a, b engine.Point) bool { return a.At.Equal(b.At) })
}

// changedAt is when a file was written last.
func changedAt(in *state.Folder, name string) (time.Time, error) {
	f, err := in.OpenFile(name, os.O_RDONLY)
	if err != nil {
		return time.Time{}, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return time.Time{}, err
	}
	return info.ModTime(), nil
}
