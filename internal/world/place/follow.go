package place

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
)

// Added is what is added to a file. It is not safe for concurrent use.
type Added interface {
	// Next is what was added since the last time, in pieces, with an empty one at the end.
	// The first time it is nothing: what stands in the file already was added before. A
	// file that was cut short, or replaced by another, is read from its beginning; fresh
	// says that the piece begins there.
	Next(ctx context.Context) (piece []byte, fresh bool, err error)
	// Close lets go of the file.
	Close() error
}

// pieceSize is how much of a file is read in one act, at most.
const pieceSize = 256 << 10

// Follow reads what is added to a file of this machine. Nothing is opened yet.
func (Local) Follow(path string) Added { return &followed{path: path} }

type followed struct {
	path string
	now  spot
}

// spot is a place in a file. It is replaced whole, when an act was in time.
type spot struct {
	begun bool
	file  *os.File // nil while there is none
	at    int64
}

type added struct {
	piece []byte
	fresh bool
	then  spot
}

func (f *followed) Next(ctx context.Context) ([]byte, bool, error) {
	now := f.now
	a, err := act(ctx, reads, f.path, func() (added, error) { return now.next(f.path) })
	if err != nil {
		return nil, false, err
	}
	if now.file != nil && a.then.file != now.file {
		_ = now.file.Close()
	}
	f.now = a.then
	return a.piece, a.fresh, nil
}

func (f *followed) Close() error {
	if f.now.file == nil {
		return nil
	}
	return f.now.file.Close()
}

// next is what comes after a spot. The spot itself stays as it is.
func (s spot) next(path string) (added, error) {
	if !s.begun {
		s.begun = true
		file, err := os.Open(path)
		if errors.Is(err, fs.ErrNotExist) {
			return added{then: s}, nil // when it comes, all of it is new
		}
		if err != nil {
			return added{}, err
		}
		info, err := file.Stat()
		if err != nil {
			return added{}, errors.Join(err, file.Close())
		}
		s.file, s.at = file, info.Size()
		return added{then: s}, nil
	}
	fresh := false
	if s.file != nil {
		info, err := s.file.Stat()
		if err != nil {
			return added{}, err
		}
		if info.Size() < s.at { // cut short
			s.at, fresh = 0, true
		}
		if piece, err := s.read(); err != nil || len(piece) > 0 {
			s.at += int64(len(piece))
			return added{piece, fresh, s}, err
		}
	}
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return added{then: s}, nil // between being moved away and being made anew
	}
	if err != nil {
		return added{}, err
	}
	if s.file != nil {
		if now, err := s.file.Stat(); err == nil && os.SameFile(info, now) {
			return added{then: s, fresh: fresh}, nil
		}
	}
	if s.file, err = os.Open(path); err != nil {
		return added{}, err
	}
	s.at = 0
	piece, err := s.read()
	s.at = int64(len(piece))
	return added{piece, true, s}, err
}

func (s spot) read() ([]byte, error) {
	piece := make([]byte, pieceSize)
	n, err := s.file.ReadAt(piece, s.at)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return piece[:n], err
}
