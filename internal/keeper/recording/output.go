package recording

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"

	"vaiven/internal/core/engine"
	"vaiven/internal/keeper"
)

// output is the file that is written.
type output struct {
	number int
	file   *os.File
	packed *gzip.Writer // nil until something that has all parts is written
	good   int64        // size of what is known to be whole
	hour   time.Time
	spent  int64 // bytes since then
}

// write writes batches one after the other.
func (w *Writer) write() {
	defer close(w.done)
	var o output
	failing := false
	w.thin(0, time.Now())
	for b := range w.out {
		err := w.put(&o, b)
		if err != nil {
			o.drop()
			w.again.Store(true)
			if !failing {
				w.log.Warn("the recording has a hole", "crossing", b.number, "err", err)
			}
		}
		if b.asked {
			w.writes.Add(1)
		}
		if failing = err != nil; b.over {
			number := o.number
			o.close()
			w.thin(number, time.Now())
		}
	}
	o.close()
}

// put appends a batch to its file.
func (w *Writer) put(o *output, b batch) error {
	if len(b.pieces) == 0 {
		return nil
	}
	if o.file == nil || o.number != b.number || b.number == 0 && o.good > restMost {
		if err := w.open(o, b.number); err != nil {
			return err
		}
	}
	if err := o.room(); err != nil {
		return err
	}
	for _, p := range b.pieces {
		if err := o.add(p); err != nil {
			return err
		}
	}
	return w.flush(o, b.at)
}

// open opens the file of a crossing to append to it, or the track's, which is begun anew when it is long enough.
func (w *Writer) open(o *output, number int) error {
	grown := number == 0 && o.number == 0 && o.good > restMost
	o.close()
	if err := w.in.Mkdir(folder); err != nil {
		return err
	}
	name := fileOf(number, ending)
	if grown {
		if err := w.in.Rename(name, restOld); err != nil {
			return err
		}
	}
	file, err := w.in.OpenFile(name, os.O_CREATE|os.O_APPEND|os.O_RDWR)
	if err != nil {
		return err
	}
	info, err := file.Stat()
	if err != nil {
		return errors.Join(err, file.Close())
	}
	*o = output{number: number, file: file, good: info.Size(), hour: o.hour, spent: o.spent}
	return nil
}

// room is an error if the disk is nearly full: what is left is for the logbook.
func (o *output) room() error {
	var fs syscall.Statfs_t
	if err := syscall.Fstatfs(int(o.file.Fd()), &fs); err != nil {
		return err
	}
	size := uint64(fs.Bsize)
	if free, least := fs.Bavail*size, min(roomLeft, fs.Blocks*size/roomPart); free < least {
		return fmt.Errorf("%d MiB are left, for the logbook: %w", free>>20, syscall.ENOSPC)
	}
	return nil
}

// add adds lines, in a member of their own if the first of them has all parts. Before one that has nothing is written.
func (o *output) add(p piece) error {
	if p.anew || o.packed == nil && o.number == 0 { // each line of the track has all
		if o.packed != nil {
			if err := o.packed.Close(); err != nil {
				return err
			}
		}
		o.packed = gzip.NewWriter(o.file)
		o.packed.Extra = ours[2:]
	}
	if o.packed == nil {
		return nil
	}
	_, err := o.packed.Write(p.text)
	return err
}

// flush has all that was added, until a moment, in the file.
func (w *Writer) flush(o *output, at time.Time) error {
	if o.packed == nil {
		return nil
	}
	if err := o.packed.Flush(); err != nil {
		return err
	}
	size, err := o.file.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	if at.Sub(o.hour) >= time.Hour {
		o.hour, o.spent = at, 0
	}
	o.spent += size - o.good
	o.good = size
	w.sparse.Store(o.number > 0 && o.spent > hourMost)
	return nil
}

// close ends the file.
func (o *output) close() {
	if o.packed != nil {
		_ = o.packed.Close() // what was flushed can be read without
	}
	if o.file != nil {
		_ = o.file.Close()
	}
	*o = output{hour: o.hour, spent: o.spent}
}

// drop ends it after something that could not be written, of which nothing stays.
func (o *output) drop() {
	if o.file != nil {
		_ = o.file.Truncate(o.good)
		_ = o.file.Close()
	}
	*o = output{hour: o.hour, spent: o.spent}
}

// thin thins the recordings that are older than they are kept in full, but for the one that may grow.
func (w *Writer) thin(but int, now time.Time) {
	names, err := w.in.Names(folder)
	if err != nil || w.keep <= 0 {
		return
	}
	for _, name := range names {
		number, err := strconv.Atoi(strings.TrimSuffix(name, ending))
		if err != nil || number == but {
			continue
		}
		at, err := changedAt(w.in, fileOf(number, ending))
		if err == nil && now.Sub(at) > w.keep {
			err = w.thinOne(number)
		}
		if err != nil {
			w.log.Warn("a recording is not thinned", "crossing", number, "err", err)
		}
	}
}

func (w *Writer) thinOne(number int) error {
	data, err := w.in.ReadFile(fileOf(number, ending))
	if err != nil {
		return err
	}
	r, err := Read(data)
	if err == nil {
		if data, err = r.thin(); err == nil {
			err = w.in.WriteFile(fileOf(number, thinned), data)
		}
	}
	if err != nil && !errors.Is(err, keeper.ErrNotRecorded) {
		return err
	}
	return w.in.Remove(fileOf(number, ending))
}

// thinTo is how far apart the moments of a recording are that has been thinned, but for those at which something
// happened.
const thinTo = time.Minute

// thin is the recording as a file with fewer moments.
func (r *Recording) thin() ([]byte, error) {
	var file bytes.Buffer
	packed := gzip.NewWriter(&file)
	packed.Extra = ours[2:]
	lines := json.NewEncoder(packed)
	kept := line{Anew: true, Parts: map[string]json.RawMessage{}}
	var last time.Time
	var sum engine.Point
	for n, l := range r.lines {
		maps.Copy(kept.Parts, l.Parts)
		for _, p := range l.Points {
			if sum.At.IsZero() || p.At.Sub(sum.At) >= thinTo || p.Planned != sum.Planned {
				if !sum.At.IsZero() {
					kept.Points = append(kept.Points, sum)
				}
				sum = p
				continue
			}
			sum.Green, sum.All = sum.Green+p.Green, sum.All+p.All
			sum.Failing, sum.GreenFailing = sum.Failing+p.Failing, sum.GreenFailing+p.GreenFailing
		}
		_, happened := l.Parts["crossing"]
		end := n == len(r.lines)-1
		if !end && !happened && l.At.Sub(last) < thinTo {
			continue
		}
		if end && !sum.At.IsZero() {
			kept.Points = append(kept.Points, sum)
		}
		kept.At, last = l.At, l.At
		if err := lines.Encode(kept); err != nil {
			return nil, err
		}
		kept = line{Thin: true, Parts: map[string]json.RawMessage{}}
	}
	err := packed.Close()
	return file.Bytes(), err
}
