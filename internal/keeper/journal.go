package keeper

import (
	"context"
	"log/slog"
	"sync/atomic"
)

// journal passes lines on to the program's log, which may be on a disk that hangs. It
// never waits for it: what does not fit is dropped, and the number of lines is said.
type journal struct {
	to      *slog.Logger
	lines   chan line
	dropped atomic.Int64 // since the last that was passed on
}

type line struct {
	level slog.Level
	text  string
	args  []any
}

// journalLength is how many lines may wait.
const journalLength = 256

func newJournal(to *slog.Logger) *journal {
	if to == nil {
		to = slog.Default()
	}
	return &journal{to: to, lines: make(chan line, journalLength)}
}

func (j *journal) debug(text string, args ...any) { j.put(line{slog.LevelDebug, text, args}) }
func (j *journal) info(text string, args ...any)  { j.put(line{slog.LevelInfo, text, args}) }
func (j *journal) warn(text string, args ...any)  { j.put(line{slog.LevelWarn, text, args}) }

func (j *journal) put(l line) {
	select {
	case j.lines <- l:
	default:
		j.dropped.Add(1)
	}
}

// run passes lines on until the context ends.
func (j *journal) run(ctx context.Context) {
	for {
		select {
		case l := <-j.lines:
			if n := j.dropped.Swap(0); n > 0 {
				l.args = append(l.args, "dropped before", n)
			}
			j.to.Log(context.WithoutCancel(ctx), l.level, l.text, l.args...)
		case <-ctx.Done():
			return
		}
	}
}
