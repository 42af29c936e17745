package embedded

import (
	"bytes"
	"strings"

	"vaiven/internal/front"
)

// head is the first line and the fields of a message, as they stand in a buffer.
type head struct {
	line   []byte // the first, without its end
	fields []field
	size   int // bytes, with the empty line
}

type field struct {
	name, value []byte
	kind        kind
}

// kind is what a field means to who passes it on.
type kind int8

const (
	ordinary   kind = iota
	odd             // belongs to one connection, or changes how the message is read
	connection      // the only such field that is read
	length
	host
	date
	forwarded    // Forwarded and its like: said anew
	forwardedFor // said anew, after what it said
	probe
	mark // of an answer's side, instance and version
)

// kinds are the fields that are not ordinary, in lower case.
var kinds = map[string]kind{
	"connection": connection, "content-length": length, "host": host, "date": date,
	"forwarded": forwarded, "x-forwarded-host": forwarded, "x-forwarded-proto": forwarded,
	"x-forwarded-for":                  forwardedFor,
	strings.ToLower(front.ProbeHeader): probe,
	strings.ToLower(front.SideHeader):  mark, strings.ToLower(front.InstanceHeader): mark,
	strings.ToLower(front.VersionHeader): mark, strings.ToLower(front.LostHeader): mark,
	"transfer-encoding": odd, "upgrade": odd, "expect": odd, "te": odd, "trailer": odd, "keep-alive": odd,
	"proxy-connection": odd, "proxy-authenticate": odd, "proxy-authorization": odd,
}

// longestKind is as long as the longest name in kinds.
const longestKind = len("proxy-authorization")

func kindOf(name []byte) kind {
	if len(name) > longestKind {
		return ordinary
	}
	var lower [longestKind]byte
	for n, c := range name {
		if 'A' <= c && c <= 'Z' {
			c += 'a' - 'A'
		}
		lower[n] = c
	}
	return kinds[string(lower[:len(name)])]
}

var blankLine = []byte("\r\n\r\n")

// whole reports whether a buffer begins with all of a head, in whatever form.
func whole(buf []byte) bool {
	return bytes.Contains(buf, blankLine[1:]) || bytes.Contains(buf, []byte("\n\n"))
}

// read reads the head that a buffer begins with, and reports whether it needs no
// judgement: it is there to its end, every line ends with CR LF, every field is a token,
// a colon and text without control characters (RFC 9112 section 5), and no length is
// given twice. The head is good until the buffer changes.
func (h *head) read(buf []byte) bool {
	end := bytes.Index(buf, blankLine)
	if end < 0 {
		return false
	}
	h.size = end + len(blankLine)
	h.fields = h.fields[:0]
	rest := buf[:end+2] // with the end of the last line
	at := bytes.IndexByte(rest, '\n')
	if at < 1 || rest[at-1] != '\r' {
		return false
	}
	h.line, rest = rest[:at-1], rest[at+1:]
	lengths := 0
	for len(rest) > 0 {
		at = bytes.IndexByte(rest, '\n') // there is one
		if at < 1 || rest[at-1] != '\r' {
			return false
		}
		line := rest[:at-1]
		rest = rest[at+1:]
		colon := bytes.IndexByte(line, ':')
		if colon < 1 || !all(line[:colon], tokenChars) {
			return false
		}
		f := field{name: line[:colon], value: bytes.Trim(line[colon+1:], " \t")}
		if !all(f.value, textChars) {
			return false
		}
		if f.kind = kindOf(f.name); f.kind == length {
			lengths++
		}
		h.fields = append(h.fields, f)
	}
	return lengths <= 1 && all(h.line, textChars)
}

// first is the first field of a kind, nil if there is none.
func (h *head) first(k kind) *field {
	for n := range h.fields {
		if h.fields[n].kind == k {
			return &h.fields[n]
		}
	}
	return nil
}

// keeps reports whether the connection stays open after the message, by its own fields;
// ok is false if they say anything else.
func (h *head) keeps() (keep, ok bool) {
	keep = true
	for _, f := range h.fields {
		if f.kind != connection {
			continue
		}
		switch {
		case bytes.EqualFold(f.value, []byte("close")):
			keep = false
		case !bytes.EqualFold(f.value, []byte("keep-alive")):
			return false, false
		}
	}
	return keep, true
}

// lengthOf is a Content-Length, -1 if it is none (RFC 9110 section 8.6).
func lengthOf(f *field) int64 {
	if len(f.value) == 0 || len(f.value) > 18 {
		return -1
	}
	n := int64(0)
	for _, c := range f.value {
		if c < '0' || c > '9' {
			return -1
		}
		n = 10*n + int64(c-'0')
	}
	return n
}

// request takes a request's first line apart. ok is false if the target is not a path
// with plain characters, or the version is not 1.1.
func (h *head) request() (method, target []byte, ok bool) {
	method, rest, _ := bytes.Cut(h.line, []byte(" "))
	target, version, _ := bytes.Cut(rest, []byte(" "))
	if string(version) != "HTTP/1.1" || len(method) == 0 || !all(method, upperChars) ||
		len(target) == 0 || target[0] != '/' || !all(target, pathChars) {
		return nil, nil, false
	}
	for n, c := range target {
		if c == '%' && (len(target) < n+3 || !all(target[n+1:n+3], hexChars)) {
			return nil, nil, false
		}
	}
	return method, target, string(method) != "CONNECT"
}

// status takes an answer's first line apart. ok is false if it is not a final answer in
// version 1.1.
func (h *head) status() (code int, ok bool) {
	const prefix = "HTTP/1.1 "
	if len(h.line) < len(prefix)+3 || string(h.line[:len(prefix)]) != prefix {
		return 0, false
	}
	if len(h.line) > len(prefix)+3 && h.line[len(prefix)+3] != ' ' {
		return 0, false
	}
	for _, c := range h.line[len(prefix) : len(prefix)+3] {
		if c < '0' || c > '9' {
			return 0, false
		}
		code = 10*code + int(c-'0')
	}
	return code, 200 <= code && code <= 599
}

// charset is a set of bytes.
type charset [256]bool

func charsOf(chars string) (s charset) {
	for n := range len(chars) {
		s[chars[n]] = true
	}
	return s
}

const (
	uppers  = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
	letters = uppers + "abcdefghijklmnopqrstuvwxyz"
	digits  = "0123456789"
)

var (
	tokenChars = charsOf(letters + digits + "!#$%&'*+-.^_`|~") // RFC 9110 section 5.6.2
	upperChars = charsOf(uppers)
	hexChars   = charsOf(digits + "abcdefABCDEF")
	pathChars  = charsOf(letters + digits + "-._~!$&'()*+,;=:@/?%[]") // RFC 3986 sections 3.3 and 3.4, and what queries hold all the same
	hostChars  = charsOf(letters + digits + "-._:[]")                 // of a host
	textChars  = func() charset {
		s := charsOf("\t")
		for c := ' '; c < 256; c++ {
			s[c] = c != 0x7f
		}
		return s
	}()
)

func all(data []byte, of charset) bool {
	for _, c := range data {
		if !of[c] {
			return false
		}
	}
	return true
}

// same compares a field's name with another.
func same(f field, other string) bool {
	return len(f.name) == len(other) && strings.EqualFold(string(f.name), other)
}
