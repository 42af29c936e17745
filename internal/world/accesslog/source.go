package accesslog

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"vaiven/internal/world/place"
)

// longestLine is how many bytes of a line are read; the rest of a longer one is passed
// over.
const longestLine = 64 << 10

// Open opens a log: a file, one packed with gzip, or "-" for standard input.
func Open(name string, stdin io.Reader) (io.ReadCloser, error) {
	var from io.ReadCloser
	if name == "-" {
		from = io.NopCloser(stdin)
	} else {
		f, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		from = f
	}
	buffered := bufio.NewReaderSize(from, 256<<10)
	magic, err := buffered.Peek(2)
	if err == nil && magic[0] == 0x1f && magic[1] == 0x8b {
		unpacked, err := gzip.NewReader(buffered)
		if err != nil {
			return nil, errors.Join(fmt.Errorf("%s: %w", name, err), from.Close())
		}
		return &source{unpacked, from}, nil
	}
	return &source{buffered, from}, nil
}

type source struct {
	io.Reader
	file io.Closer
}

func (s *source) Close() error { return s.file.Close() }

// Lines calls back with every line, until one of them returns an error.
func Lines(r io.Reader, each func(line []byte) error) error {
	b := bufio.NewReaderSize(r, longestLine)
	for {
		line, err := b.ReadSlice('\n')
		for long := err; errors.Is(long, bufio.ErrBufferFull); {
			// What is there is looked at, what follows is passed over: the slice is kept.
			line = append([]byte(nil), line...)
			_, long = b.ReadSlice('\n')
			err = long
		}
		if len(line) > 0 {
			if errEach := each(line); errEach != nil {
				return errEach
			}
		}
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		}
	}
}

// Tail reads the lines that are added to a log. It is not safe for concurrent use.
type Tail struct {
	added place.Added
	rest  []byte // of a line that is not whole yet
}

// NewTail reads what is added to a log from the first reading on. One that is not there by
// then is read from its beginning when it comes.
func NewTail(on place.Machine, name string) *Tail { return &Tail{added: on.Follow(name)} }

// Read calls back with each whole line that was added since the last time.
func (t *Tail) Read(ctx context.Context, each func(line []byte)) error {
	for {
		piece, fresh, err := t.added.Next(ctx)
		if err != nil {
			return err
		}
		if fresh {
			t.rest = nil
		}
		if len(piece) == 0 {
			return nil
		}
		data := append(t.rest, piece...)
		for {
			end := bytes.IndexByte(data, '\n')
			if end < 0 {
				break
			}
			each(data[:end])
			data = data[end+1:]
		}
		if len(data) > longestLine {
			data = nil
		}
		t.rest = append([]byte(nil), data...)
	}
}

// Close lets go of the file.
func (t *Tail) Close() error { return t.added.Close() }
