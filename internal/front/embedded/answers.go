package embedded

import (
	"bytes"
	"net/http"
)

// answers follows the bytes of an instance's connection from answer to answer (RFC 9112, section 6), so
// that it is known where one ends: what comes behind it answers nobody. It reads as the library does,
// and what could be read in two ways is an error. The zero value waits for an answer's head.
type answers struct {
	at      part
	line    []byte // of one that has not ended yet
	left    int64  // bytes of the body, or of the chunk
	status  int
	old     bool  // HTTP/1.0
	length  int64 // Content-Length, -1 if there is none
	chunked bool
	sized   bool // the field before says a length
}

// longestAnswerLine bounds a line of a head, in bytes; the library bounds heads.
const longestAnswerLine = mostHeader

// begin waits for the next answer.
func (a *answers) begin() { *a = answers{line: a.line[:0]} }

// take goes on with what was read. end is where the answer is complete, or len(data); whether it is,
// is whole.
func (a *answers) take(data []byte) (end int, whole bool, err error) {
	for n := 0; n < len(data); {
		switch a.at {
		case anything:
			return len(data), false, nil
		case bodyBytes, chunkBytes:
			piece := min(int64(len(data)-n), a.left)
			n, a.left = n+int(piece), a.left-piece
			if a.left > 0 {
				continue
			}
			if a.at == bodyBytes {
				return n, true, nil
			}
			a.at = chunkEnd
			continue
		}
		lf := bytes.IndexByte(data[n:], '\n')
		if lf < 0 {
			if a.line = append(a.line, data[n:]...); len(a.line) > longestAnswerLine {
				return n, false, tooLong
			}
			return len(data), false, nil
		}
		line := data[n : n+lf+1]
		n += lf + 1
		if len(a.line) > 0 {
			a.line = append(a.line, line...)
			line = a.line
		}
		whole, err := a.takeLine(line)
		a.line = a.line[:0]
		if err != nil || whole {
			return n, whole, err
		}
	}
	return len(data), false, nil
}

// takeLine takes a line with its end, and reports whether the answer is complete with it.
func (a *answers) takeLine(line []byte) (whole bool, err error) {
	text := bytes.TrimSuffix(line[:len(line)-1], []byte("\r"))
	switch a.at {
	case requestLine:
		return false, a.takeStatus(text)
	case fieldLine:
		if len(text) > 0 {
			return false, a.takeField(text)
		}
		return a.takeEnd(), nil
	case trailerLine:
		return len(text) == 0, nil
	case chunkEnd:
		if len(text) > 0 {
			return false, noChunk
		}
		a.at = chunkLine
		return false, nil
	}
	size, _, _ := bytes.Cut(text, []byte(";"))
	n, ok := number(bytes.TrimRight(size, " \t"), 16)
	switch {
	case !ok || len(text) > longestLine:
		return false, noChunk
	case n == 0:
		a.at = trailerLine
	default:
		a.at, a.left = chunkBytes, n
	}
	return false, nil
}

func (a *answers) takeStatus(text []byte) error {
	rest, ok := bytes.CutPrefix(text, []byte("HTTP/1."))
	if !ok || len(rest) < 5 || rest[1] != ' ' {
		return noHTTP
	}
	status, ok := number(rest[2:5], 10)
	if !ok || len(rest) > 5 && rest[5] != ' ' {
		return noHTTP
	}
	a.at, a.status, a.old, a.length, a.chunked, a.sized = fieldLine, int(status), rest[0] == '0', -1, false, false
	return nil
}

func (a *answers) takeField(text []byte) error {
	if text[0] == ' ' || text[0] == '\t' {
		if a.sized {
			return folded
		}
		return nil
	}
	colon := bytes.IndexByte(text, ':')
	if colon < 1 {
		return noField
	}
	name, value := text[:colon], bytes.Trim(text[colon+1:], " \t")
	a.sized = false
	switch {
	case len(name) == len("Content-Length") && bytes.EqualFold(name, []byte("Content-Length")):
		n, ok := number(value, 10)
		if !ok {
			return noLength
		}
		if a.length >= 0 && a.length != n {
			return twoLengths
		}
		a.length, a.sized = n, true
	case len(name) == len("Transfer-Encoding") && bytes.EqualFold(name, []byte("Transfer-Encoding")):
		if !bytes.EqualFold(value, []byte("chunked")) || a.chunked {
			return otherCoding
		}
		a.chunked, a.sized = true, true
	}
	return nil
}

// takeEnd is the empty line behind a head.
func (a *answers) takeEnd() (whole bool) {
	switch {
	case a.status == http.StatusSwitchingProtocols:
		a.at = anything
	case a.status < 200: // one that comes before the one that counts
		a.at = requestLine
	case a.bodiless():
		return true
	case a.chunked && !a.old:
		a.at = chunkLine
	case a.length > 0:
		a.at, a.left = bodyBytes, a.length
	case a.length == 0:
		return true
	default: // until the connection ends
		a.at = anything
	}
	return false
}

// bodiless reports whether the answer has no body by its status.
func (a *answers) bodiless() bool {
	return a.status == http.StatusNoContent || a.status == http.StatusNotModified
}
