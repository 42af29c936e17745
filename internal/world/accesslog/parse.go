package accesslog

import (
	"bytes"
	"strconv"
	"time"
)

// Entry is one line. Its texts are parts of the line, valid until the next is read.
type Entry struct {
	Time    time.Time // zero if the line does not say
	Client  []byte    // address
	Method  []byte
	Path    []byte
	Status  int // 0 if the line does not say
	Referer []byte
	Agent   []byte
	fields  []field // of a JSON line; what follows the Combined format, in quotes
}

type field struct{ name, value []byte }

// Field is a named field of a JSON line, or nil. Behind a line in the Combined format
// the quoted texts are the fields 1, 2 and so on.
func (e *Entry) Field(name string) []byte {
	for _, f := range e.fields {
		if string(f.name) == name {
			return f.value
		}
	}
	return nil
}

// Parser keeps what one line has in common with the next. The zero value is ready. It
// is not safe for concurrent use.
type Parser struct {
	stamp []byte // the last time as it was written
	time  time.Time
	names [9][]byte
}

// Parse reads a line, and reports whether it is one of an access log.
func (p *Parser) Parse(line []byte, e *Entry) bool {
	line = bytes.TrimSpace(line)
	*e = Entry{fields: e.fields[:0]}
	if len(line) > 0 && line[0] == '{' {
		return p.json(line, e)
	}
	return p.combined(line, e)
}

// combined reads: client identity user [time] "method path protocol" status bytes
// "referer" "agent" and whatever quoted texts follow.
func (p *Parser) combined(line []byte, e *Entry) bool {
	at := bytes.IndexByte(line, ' ')
	open := bytes.IndexByte(line, '[')
	if at <= 0 || open < at {
		return false
	}
	end := bytes.IndexByte(line[open:], ']')
	if end < 0 {
		return false
	}
	e.Client = line[:at]
	t, ok := p.at(line[open+1:open+end], clfTime)
	if !ok {
		return false
	}
	e.Time = t
	request, rest, ok := quoted(line[open+end+1:])
	if !ok {
		return false
	}
	if method, target, ok := bytes.Cut(request, []byte{' '}); ok {
		e.Method = method
		e.Path, _, _ = bytes.Cut(target, []byte{' '})
	}
	rest = bytes.TrimLeft(rest, " ")
	status, rest, _ := bytes.Cut(rest, []byte{' '})
	if e.Status, ok = number(status); !ok || len(status) != 3 {
		return false
	}
	if e.Referer, rest, ok = quoted(rest); !ok {
		return true
	}
	if e.Agent, rest, ok = quoted(rest); !ok {
		return true
	}
	for n := range p.names {
		var value []byte
		if value, rest, ok = quoted(rest); !ok {
			break
		}
		if p.names[n] == nil {
			p.names[n] = strconv.AppendInt(nil, int64(n+1), 10)
		}
		e.fields = append(e.fields, field{p.names[n], value})
	}
	return true
}

// quoted cuts the first text in quotes out of a line. Escaped quotes belong to it.
func quoted(line []byte) (text, rest []byte, ok bool) {
	open := bytes.IndexByte(line, '"')
	if open < 0 {
		return nil, line, false
	}
	for at := open + 1; at < len(line); at++ {
		switch line[at] {
		case '\\':
			at++
		case '"':
			return line[open+1 : at], line[at+1:], true
		}
	}
	return nil, line, false
}

func number(text []byte) (int, bool) {
	n := 0
	for _, c := range text {
		if c < '0' || c > '9' || n > 1<<30 {
			return 0, false
		}
		n = 10*n + int(c-'0')
	}
	return n, len(text) > 0
}

// at reads a time that is often the one of the line before.
func (p *Parser) at(text []byte, read func([]byte) (time.Time, bool)) (time.Time, bool) {
	if bytes.Equal(text, p.stamp) && len(text) > 0 {
		return p.time, true
	}
	t, ok := read(text)
	if ok {
		p.stamp, p.time = append(p.stamp[:0], text...), t
	}
	return t, ok
}

func clfTime(text []byte) (time.Time, bool) {
	t, err := time.Parse("02/Jan/2006:15:04:05 -0700", string(text))
	return t, err == nil
}

// looseTime reads seconds since 1970, with decimals, or a time of RFC 3339.
func looseTime(text []byte) (time.Time, bool) {
	whole, decimals, _ := bytes.Cut(text, []byte{'.'})
	if len(whole) >= 9 && len(whole) <= 13 {
		if s, err := strconv.ParseInt(string(whole), 10, 64); err == nil {
			if len(whole) == 13 { // milliseconds
				return time.UnixMilli(s), true
			}
			nano := int64(0)
			for n := range 9 {
				nano *= 10
				if n < len(decimals) && decimals[n] >= '0' && decimals[n] <= '9' {
					nano += int64(decimals[n] - '0')
				}
			}
			return time.Unix(s, nano), true
		}
	}
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05Z0700", "02/Jan/2006:15:04:05 -0700"} {
		if t, err := time.Parse(layout, string(text)); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}

// The names under which JSON lines have what the other formats say in order.
var (
	timeNames   = []string{"time", "at", "ts", "timestamp", "@timestamp", "time_iso8601", "time_local", "msec"}
	clientNames = []string{"client", "remote_addr", "client_ip", "remote_ip", "clientip", "ip", "remoteAddr"}
	methodNames = []string{"method", "request_method"}
	pathNames   = []string{"path", "uri", "request_uri", "url"}
	statusNames = []string{"status", "status_code", "code"}
	agentNames  = []string{"agent", "user_agent", "http_user_agent"}
	referNames  = []string{"referer", "http_referer"}
)

func (e *Entry) first(names []string) []byte {
	for _, name := range names {
		if v := e.Field(name); v != nil {
			return v
		}
	}
	return nil
}

// json reads a flat object. Values within values are passed over.
func (p *Parser) json(line []byte, e *Entry) bool {
	if !flat(line, func(name, value []byte) { e.fields = append(e.fields, field{name, value}) }) {
		return false
	}
	e.Client, e.Method, e.Path = e.first(clientNames), e.first(methodNames), e.first(pathNames)
	e.Agent, e.Referer = e.first(agentNames), e.first(referNames)
	e.Status, _ = number(e.first(statusNames))
	if request := e.Field("request"); request != nil && e.Path == nil {
		if method, target, ok := bytes.Cut(request, []byte{' '}); ok {
			e.Method = method
			e.Path, _, _ = bytes.Cut(target, []byte{' '})
		}
	}
	ok := false
	for _, name := range timeNames {
		if text := e.Field(name); text != nil {
			if e.Time, ok = p.at(text, looseTime); ok {
				break
			}
		}
	}
	return ok
}

// flat calls back with each name and scalar of a JSON object, texts without their
// quotes and with their escapes. It reports whether the object is whole.
func flat(line []byte, found func(name, value []byte)) bool {
	at := 1
	skip := func() {
		for at < len(line) && (line[at] == ' ' || line[at] == ',' || line[at] == ':' || line[at] == '\t') {
			at++
		}
	}
	text := func() ([]byte, bool) {
		for end := at + 1; end < len(line); end++ {
			switch line[end] {
			case '\\':
				end++
			case '"':
				t := line[at+1 : end]
				at = end + 1
				return t, true
			}
		}
		return nil, false
	}
	for {
		skip()
		if at >= len(line) {
			return false
		}
		if line[at] == '}' {
			return true
		}
		if line[at] != '"' {
			return false
		}
		name, ok := text()
		if !ok {
			return false
		}
		if skip(); at >= len(line) {
			return false
		}
		switch line[at] {
		case '"':
			value, ok := text()
			if !ok {
				return false
			}
			found(name, value)
		case '{', '[':
			depth := 0
			for ; at < len(line); at++ {
				switch line[at] {
				case '"':
					if _, ok := text(); !ok {
						return false
					}
					at--
					continue
				case '{', '[':
					depth++
				case '}', ']':
					depth--
				}
				if depth == 0 {
					at++
					break
				}
			}
			if depth != 0 {
				return false
			}
		default:
			begin := at
			for at < len(line) && line[at] != ',' && line[at] != '}' && line[at] != ' ' {
				at++
			}
			if at == begin {
				return false
			}
			found(name, line[begin:at])
		}
	}
}
