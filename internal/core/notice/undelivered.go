package notice

import (
	"slices"
	"time"

	"vaiven/internal/core/crossing"
)

// Undelivered are those of the letters that some events come to, and of which the same events do not say that they were
// delivered or given up. What happened before a time, or before notices began, nobody is told any more.
func Undelivered[T any](events []crossing.Event, began crossing.Noticing, since time.Time, letters []T,
	of func(T) Letter) (list []T) {
	type told struct {
		to   string
		seq  uint64
		late bool
	}
	done := map[told]bool{}
	mark := func(l crossing.Letter) {
		for _, seq := range l.Of {
			done[told{l.To, seq, l.Late}] = true
		}
	}
	for _, e := range events {
		switch f := e.What.(type) {
		case crossing.NoticeSent:
			mark(f.Letter)
		case crossing.NoticeFailed:
			mark(f.Letter)
		}
	}
	for _, letter := range letters {
		l := of(letter)
		last := l.Events[len(l.Events)-1]
		open := slices.ContainsFunc(l.Of, func(seq uint64) bool { return !done[told{l.To, seq, l.Late}] })
		if open && began.On && last.Seq > began.From && !last.At.Before(since) {
			list = append(list, letter)
		}
	}
	return list
}
