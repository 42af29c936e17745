package embedded

import (
	"bytes"
	"errors"
)

// framing follows the bytes of a client's connection from request to request, and finds what
// two readers could read in two ways (RFC 9112, sections 2.2, 3, 5, 6 and 11): the library
// reads some of it kindly, and an instance might read it otherwise. It decides nothing else;
// what it lets through is read by the library. The zero value is at the beginning of a
// connection.
type framing struct {
	at      part
	line    []byte // of one that has not ended yet
	head    int    // bytes of the head so far, until the request is through; of its trailer as well
	left    int64  // bytes of the body, or of the chunk
	old     bool   // HTTP/1.0
	length  int64  // Content-Length, -1 if there is none
	coded   bool   // there is a Transfer-Encoding
	chunked bool   // and it is "chunked"
}

// part is what comes next on a connection.
type part int8

const (
	requestLine part = iota
	fieldLine
	bodyBytes
	chunkLine
	chunkBytes
	chunkEnd
	trailerLine
	anything // another protocol, or what the library refuses
)

// longestLine is as much of a chunk's line or a trailer's as is let through, in bytes; heads
// have a limit of their own.
const longestLine = 8 << 10

// unclear is why a request cannot be read in one way only.
type unclear string

func (e unclear) Error() string { return string(e) }

const (
	bareLF       = unclear("a line ends with LF alone")
	bareCR       = unclear("CR stands within a line")
	folded       = unclear("a field goes on in the next line")
	noField      = unclear("a line is not a field")
	twoLengths   = unclear("the length is said in two ways")
	noLength     = unclear("a length is not a number")
	codedOld     = unclear("HTTP/1.0 has no transfer encodings")
	noChunk      = unclear("a chunk is not as it should be")
	noHTTP       = unclear("this is not a request of HTTP/1")
	otherCoding  = unclear("only the transfer encoding chunked is known")
	controlBytes = unclear("a line has control characters")
	tooLong      = unclear("a line is too long")
)

// idle reports whether the connection is between two requests.
func (f *framing) idle() bool { return f.at == requestLine && len(f.line) == 0 }

// headSize is how many bytes of a request's head and trailer there are so far.
func (f *framing) headSize() int { return f.head + len(f.line) }

// take goes on with what was read. If that is unclear, good is how much of it was before
// the line that is.
func (f *framing) take(data []byte) (good int, err error) {
	all := len(data)
	for len(data) > 0 {
		switch f.at {
		case anything:
			return all, nil
		case bodyBytes, chunkBytes:
			n := min(int64(len(data)), f.left)
			data, f.left = data[n:], f.left-n
			if f.left > 0 {
				continue
			}
			if f.at == bodyBytes {
				f.next()
			} else {
				f.at = chunkEnd
			}
			continue
		}
		end := bytes.IndexByte(data, '\n')
		if end < 0 {
			if f.line = append(f.line, data...); len(f.line) > longestLine && f.at != requestLine && f.at != fieldLine {
				return all - len(data), tooLong
			}
			if len(f.line) > mostHeader { // the library refuses it long before
				f.at, f.line = anything, nil
			}
			return all, nil
		}
		line := data[:end+1]
		if len(f.line) > 0 {
			f.line = append(f.line, line...)
			line = f.line
		}
		err := f.takeLine(line)
		f.line = f.line[:0]
		if err != nil {
			return all - len(data), err
		}
		data = data[end+1:]
	}
	return all, nil
}

func (f *framing) next() { *f = framing{line: f.line[:0]} }

// takeLine takes a line with its end.
func (f *framing) takeLine(line []byte) error {
	text, ok := bytes.CutSuffix(line, []byte("\r\n"))
	switch {
	case !ok:
		return bareLF
	case bytes.IndexByte(text, '\r') >= 0:
		return bareCR
	}
	switch f.at {
	case requestLine:
		return f.takeRequest(text)
	case fieldLine, trailerLine:
		if len(text) == 0 {
			return f.takeEnd()
		}
		return f.takeField(text)
	case chunkLine:
		return f.takeChunk(text)
	}
	if len(text) > 0 { // behind a chunk
		return noChunk
	}
	f.at = chunkLine
	return nil
}

func (f *framing) takeRequest(text []byte) error {
	f.length, f.head = -1, len(text)
	f.at = fieldLine
	switch {
	case bytes.HasSuffix(text, []byte(" HTTP/1.1")):
	case bytes.HasSuffix(text, []byte(" HTTP/1.0")):
		f.old = true
	default:
		return noHTTP
	}
	return controls(text)
}

// controls is an error if a text has control characters.
func controls(text []byte) error {
	for _, c := range text {
		if c < ' ' && c != '\t' || c == 0x7f {
			return controlBytes
		}
	}
	return nil
}

func (f *framing) takeField(text []byte) error {
	if text[0] == ' ' || text[0] == '\t' {
		return folded
	}
	f.head += len(text)
	colon := bytes.IndexByte(text, ':')
	if colon < 1 || !token(text[:colon]) {
		return noField
	}
	if err := controls(text[colon+1:]); err != nil {
		return err
	}
	if f.at == trailerLine {
		return nil
	}
	name, value := text[:colon], bytes.Trim(text[colon+1:], " \t")
	switch {
	case bytes.EqualFold(name, []byte("Content-Length")):
		n, ok := number(value, 10)
		if !ok {
			return noLength
		}
		if f.length >= 0 || f.coded {
			return twoLengths
		}
		f.length = n
	case bytes.EqualFold(name, []byte("Transfer-Encoding")):
		switch {
		case f.length >= 0 || f.coded:
			return twoLengths
		case f.old:
			return codedOld
		case !bytes.EqualFold(value, []byte("chunked")):
			return otherCoding
		}
		f.coded, f.chunked = true, true
	}
	return nil
}

// takeEnd is the empty line behind a head, or behind a trailer.
func (f *framing) takeEnd() error {
	switch {
	case f.at == trailerLine:
		f.next()
	case f.chunked:
		f.at = chunkLine
	case f.length > 0:
		f.at, f.left = bodyBytes, f.length
	default:
		f.next()
	}
	return nil
}

func (f *framing) takeChunk(text []byte) error {
	size, _, _ := bytes.Cut(text, []byte(";"))
	n, ok := number(bytes.TrimRight(size, " \t"), 16)
	if !ok || controls(text) != nil {
		return noChunk
	}
	if f.left = n; n == 0 {
		f.at = trailerLine
	} else {
		f.at = chunkBytes
	}
	return nil
}

// number is digits and nothing else, as many as fit.
func number(text []byte, base int64) (n int64, ok bool) {
	if len(text) == 0 || len(text) > 15 {
		return 0, false
	}
	for _, c := range text {
		d := int64(c - '0')
		switch {
		case c >= '0' && c <= '9':
		case base == 16 && c >= 'a' && c <= 'f':
			d = int64(c-'a') + 10
		case base == 16 && c >= 'A' && c <= 'F':
			d = int64(c-'A') + 10
		default:
			return 0, false
		}
		n = base*n + d
	}
	return n, true
}

// tokenBytes may stand in a field's name (RFC 9110, section 5.6.2).
var tokenBytes = func() (set [256]bool) {
	for _, c := range "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789!#$%&'*+-.^_`|~" {
		set[c] = true
	}
	return set
}()

func token(text []byte) bool {
	for _, c := range text {
		if !tokenBytes[c] {
			return false
		}
	}
	return len(text) > 0
}

// errUnclear is what a connection ends with behind that.
var errUnclear = errors.New("the request is unclear")

// malformed is what the library reads in place of an unclear line, and cannot read: the request
// is refused with status 400, after the answers to those before it, or its body ends with an
// error.
var malformed = []byte("\x00\r\n\r\n")
