package accesslog

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
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

// Tail reads what is added to a file, from when it is made on. A file that was cut
// short, or replaced by another, is read from its beginning. It is not safe for
// concurrent use.
type Tail struct {
	name string
	file *os.File
	at   int64
	rest []byte // of a line that is not whole yet
}

// NewTail begins at the end of a file. One that is not there yet is read from its
// beginning when it comes.
func NewTail(name string) *Tail {
	t := &Tail{name: name}
	if f, err := os.Open(name); err == nil {
		if info, err := f.Stat(); err == nil {
			t.file, t.at = f, info.Size()
			return t
		}
		_ = f.Close()
	}
	return t
}

// Read calls back with each whole line that was added since the last time.
func (t *Tail) Read(each func(line []byte)) error {
	if t.file != nil {
		if err := t.read(each); err != nil {
			return err
		}
	}
	info, err := os.Stat(t.name)
	if errors.Is(err, os.ErrNotExist) {
		return nil // between being moved away and being made anew
	}
	if err != nil {
		return err
	}
	if t.file != nil {
		if now, err := t.file.Stat(); err == nil && os.SameFile(info, now) {
			return nil
		}
		_ = t.file.Close()
	}
	if t.file, err = os.Open(t.name); err != nil {
		t.file = nil
		return err
	}
	t.at, t.rest = 0, nil
	return t.read(each)
}

func (t *Tail) read(each func(line []byte)) error {
	info, err := t.file.Stat()
	if err != nil {
		return err
	}
	if info.Size() < t.at {
		t.at, t.rest = 0, nil // cut short
	}
	buf := make([]byte, 64<<10)
	for {
		n, err := t.file.ReadAt(buf, t.at)
		t.at += int64(n)
		data := append(t.rest, buf[:n]...)
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
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		}
	}
}

// Close lets go of the file.
func (t *Tail) Close() error {
	if t.file == nil {
		return nil
	}
	return t.file.Close()
}
