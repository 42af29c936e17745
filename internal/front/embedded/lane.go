package embedded

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math"
	"net"
	"net/http"
	"net/textproto"
	"runtime/debug"
	"strings"
	"syscall"
	"time"

	"vaiven/internal/front"
)

// lane is the connection of one client. It carries requests by one goroutine and
// without taking them apart further than it has to, which costs about half of what the
// library's server, reverse proxy and transport do together. It carries what needs no
// judgement: HTTP/1.1, a plain path, one host, a body that came with its head or none.
// At anything else the library's server takes the connection over, so that there is one
// way of reading what is unusual, and it is not ours.
type lane struct {
	*lanes
	conn    net.Conn
	socket  *socket
	address string // the client's, without a port

	buf             []byte
	start, end      int // of what was read and not yet carried
	out             []byte
	readBy, writeBy time.Time // deadlines
	broke           bool      // the client left, or did not take its answer

	// The request that is under way, and its answer.
	pass     passage
	request  head
	asking   asking
	reached  *wire // that the answer comes over
	answer   head
	rest     int64 // bytes of the answer's body that were not yet passed on
	keepWire bool
	library  *http.Response // the answer, if it had to be read by the library
}

// asking is what of a request is passed on.
type asking struct {
	method, target, body []byte
	keep                 bool // the connection, afterwards
}

const laneBuffer = 4 << 10 // bytes of a request

func newLane(s *lanes, conn net.Conn) *lane {
	address := conn.RemoteAddr().String()
	if host, _, err := net.SplitHostPort(address); err == nil {
		address = host
	}
	l := &lane{lanes: s, conn: conn, socket: socketOf(conn), address: address, buf: make([]byte, laneBuffer)}
	l.pass.left = func() bool { return l.broke }
	return l
}

// run carries requests until the client leaves or the library takes over.
func (l *lane) run() {
	handed := false
	defer func() {
		// One connection's mishap must not end all others.
		if p := recover(); p != nil {
			slog.Error("a request broke its connection", "panic", p, "stack", string(debug.Stack()))
		}
		l.remove(l)
		if !handed {
			_ = l.conn.Close()
		}
	}()
	for l.read() {
		if !l.take() {
			handed = true
			_ = l.conn.SetDeadline(time.Time{})
			l.over.hand(l.conn, l.buf[l.start:l.end])
			return
		}
		if !l.carry() {
			return
		}
		l.crowd.note(l.conn, http.StateIdle)
	}
}

// wake ends the wait for a request.
func (l *lane) wake() { _ = l.conn.SetReadDeadline(time.Unix(1, 0)) }

// read waits for a request's head, or for as much as says that it is not for us. It
// reports whether anything is to be done.
func (l *lane) read() bool {
	if l.start == l.end {
		l.start, l.end = 0, 0
		limit := l.idle
		if l.pass.begun.IsZero() { // who has just come is to say something
			limit = l.headTime
		}
		extend(l.conn.SetReadDeadline, &l.readBy, limit)
		if l.closing.Load() || !l.more() { // in this order: closing is set before lanes are woken
			return false
		}
	}
	l.crowd.note(l.conn, http.StateActive)
	if whole(l.buf[l.start:l.end]) {
		return true
	}
	copy(l.buf, l.buf[l.start:l.end])
	l.start, l.end = 0, l.end-l.start
	extend(l.conn.SetReadDeadline, &l.readBy, l.headTime)
	for upperChars[l.buf[0]] && !whole(l.buf[:l.end]) && l.end < l.most {
		if !l.more() {
			return false
		}
	}
	return true
}

func (l *lane) more() bool {
	n, err := l.conn.Read(l.buf[l.end:])
	l.end += n
	return n > 0 || err == nil
}

// take reads the request that the buffer begins with, and reports whether it is one for
// a lane.
func (l *lane) take() bool {
	buf := l.buf[l.start:l.end]
	h := &l.request
	if !h.read(buf) || h.size > l.most {
		return false
	}
	method, target, ok := h.request()
	keep, okKeep := h.keeps()
	if !ok || !okKeep {
		return false
	}
	hosts, size := 0, int64(0)
	for n := range h.fields {
		switch f := &h.fields[n]; f.kind {
		case odd:
			return false
		case host:
			if hosts++; hosts > 1 || len(f.value) == 0 || !all(f.value, hostChars) {
				return false
			}
		case length:
			if size = lengthOf(f); size < 0 || size > int64(len(buf)-h.size) {
				return false
			}
		}
	}
	if hosts == 0 {
		return false
	}
	l.asking = asking{method: method, target: target, body: buf[h.size : h.size+int(size)], keep: keep}
	l.start += h.size + int(size)
	return true
}

// carry passes the request on and its answer back. It reports whether the connection
// goes on.
func (l *lane) carry() bool {
	p, pass := l.proxy, &l.pass
	*pass = passage{left: pass.left}
	p.begin(pass, l)
	defer pass.leave()
	l.prepare()
	err := p.through(pass, l.ask)
	if l.closing.Load() {
		l.asking.keep = false // and the client is told so
	}
	if err == nil {
		if err = l.reply(); err != nil {
			pass.brokeOff()
		}
		return err == nil && l.asking.keep
	}
	if l.broke {
		return false
	}
	status := p.lost(pass, err)
	text := http.StatusText(status) + "\n"
	return l.say(&http.Response{
		StatusCode: status, Header: http.Header{"Content-Type": {"text/plain; charset=utf-8"}, "X-Content-Type-Options": {"nosniff"}},
		Body: io.NopCloser(strings.NewReader(text)), ContentLength: int64(len(text)),
		Request: &http.Request{Method: string(l.asking.method)},
	}) == nil && l.asking.keep
}

// header is the first of the request's fields with a name.
func (l *lane) header(name string) string {
	for _, f := range l.request.fields {
		if same(f, name) {
			return string(f.value)
		}
	}
	return ""
}

// cookie is the value of a cookie of the request's.
func (l *lane) cookie(name string) string {
	r := http.Request{Header: http.Header{}}
	for _, f := range l.request.fields {
		if same(f, "Cookie") {
			r.Header.Add("Cookie", string(f.value))
		}
	}
	return library{&r}.cookie(name)
}

func (l *lane) client() string { return l.address }

// prepare makes what is sent to an instance.
func (l *lane) prepare() {
	a := &l.asking
	out := append(l.out[:0], a.method...)
	out = append(out, ' ')
	out = append(out, a.target...)
	out = append(out, " HTTP/1.1\r\n"...)
	for _, f := range l.request.fields {
		switch f.kind {
		case ordinary, host, date, length, mark:
			out = appendField(out, f)
		}
	}
	out = append(out, "X-Forwarded-For: "...)
	for _, f := range l.request.fields {
		if f.kind == forwardedFor {
			out = append(append(out, f.value...), ", "...)
		}
	}
	out = append(out, l.address...)
	out = append(out, "\r\nX-Forwarded-Host: "...)
	out = append(out, l.request.first(host).value...)
	out = append(out, "\r\nX-Forwarded-Proto: http\r\n"...)
	if l.pass.probe {
		out = append(out, front.ProbeHeader+": yes\r\n"...)
	}
	out = append(out, "\r\n"...)
	l.out = append(out, a.body...)
}

func appendField(out []byte, f field) []byte {
	out = append(append(out, f.name...), ": "...)
	return append(append(out, f.value...), "\r\n"...)
}

// repeatable are the methods that change nothing, so that a request may be sent again
// when a kept connection turns out to have been closed (RFC 9110 section 9.2.2).
func repeatable(method []byte) bool {
	switch string(method) {
	case http.MethodGet, http.MethodHead, http.MethodOptions, http.MethodTrace:
		return true
	}
	return false
}

// ask sends the request to an instance, and returns the status when its answer's head
// has begun.
func (l *lane) ask(i *instance) (int, error) {
	for {
		w, kept, err := l.proxy.wires.get(i.Address)
		if err != nil {
			return 0, err
		}
		w.there = l.there
		status, begun, err := l.exchange(w)
		if err == nil {
			l.reached = w
			return status, nil
		}
		_ = w.conn.Close()
		// The instance closed it just as it was used: there are others, and at last a new one.
		if !kept || begun || l.broke || !repeatable(l.asking.method) {
			return 0, err
		}
	}
}

// there reports whether the client still is: it may leave while it waits.
func (l *lane) there() bool {
	if said, err := l.socket.peek(); said == 0 && err != syscall.EAGAIN {
		l.broke = true
	}
	return !l.broke
}

// exchange sends the request over a wire, and waits for the head of its answer. begun
// says whether a byte of that came.
func (l *lane) exchange(w *wire) (status int, begun bool, err error) {
	if err := w.write(l.out); err != nil {
		return 0, false, err
	}
	if _, err := w.in.Peek(1); err != nil {
		return 0, false, err
	}
	w.limit.N = mostHeader
	defer func() { w.limit.N = math.MaxInt64 }()
	for range mostInterim {
		buf, _ := w.in.Peek(w.in.Buffered())
		if status, ok := l.takeAnswer(buf); ok {
			l.library = nil
			return status, true, nil
		}
		l.library, err = http.ReadResponse(w.in, &http.Request{Method: string(l.asking.method)})
		switch {
		case err != nil:
			return 0, true, err
		case l.library.StatusCode == http.StatusSwitchingProtocols:
			return 0, true, errUnasked
		case l.library.StatusCode >= 200:
			return l.library.StatusCode, true, nil
		}
		if err := l.interim(l.library); err != nil {
			return 0, true, err
		}
	}
	return 0, true, errors.New("the instance does not come to an answer")
}

// takeAnswer reads the head of an answer that can be passed on as it stands.
func (l *lane) takeAnswer(buf []byte) (status int, ok bool) {
	if !l.answer.read(buf) {
		return 0, false
	}
	if status, ok = l.answer.status(); !ok {
		return 0, false
	}
	if l.keepWire, ok = l.answer.keeps(); !ok {
		return 0, false
	}
	l.rest = 0
	for n := range l.answer.fields {
		switch f := &l.answer.fields[n]; f.kind {
		case odd:
			return 0, false
		case length:
			if l.rest = lengthOf(f); l.rest < 0 {
				return 0, false
			}
		}
	}
	if status == http.StatusNoContent || status == http.StatusNotModified || string(l.asking.method) == http.MethodHead {
		l.rest = 0
		return status, true
	}
	return status, l.answer.first(length) != nil
}

// reply passes the answer on.
func (l *lane) reply() (err error) {
	w := l.reached
	keep := false
	defer func() {
		if err == nil && keep && w.in.Buffered() == 0 {
			l.proxy.wires.put(w)
		} else {
			_ = w.conn.Close()
		}
	}()
	if l.library != nil {
		keep = !l.library.Close
		return l.say(l.library)
	}
	keep = l.keepWire
	return l.replyAsItStands(w)
}

// replyAsItStands passes on an answer that was taken by [lane.takeAnswer].
func (l *lane) replyAsItStands(w *wire) error {
	out := append(append(l.out[:0], l.answer.line...), "\r\n"...)
	dated := false
	for _, f := range l.answer.fields {
		switch f.kind {
		case connection, mark:
			continue
		case date:
			dated = true
		}
		out = appendField(out, f)
	}
	if !dated {
		out = time.Now().UTC().AppendFormat(append(out, "Date: "...), http.TimeFormat)
		out = append(out, "\r\n"...)
	}
	for name, values := range l.proxy.marks(&l.pass) {
		for _, v := range values {
			out = appendField(out, field{name: []byte(name), value: []byte(v)})
		}
	}
	if !l.asking.keep {
		out = append(out, "Connection: close\r\n"...)
	}
	out = append(out, "\r\n"...)
	have := int(min(l.rest, int64(w.in.Buffered()-l.answer.size)))
	buf, _ := w.in.Peek(l.answer.size + have)
	l.out = append(out, buf[l.answer.size:]...)
	_, _ = w.in.Discard(len(buf))
	if _, err := l.Write(l.out); err != nil {
		return err
	}
	if l.rest -= int64(have); l.rest == 0 {
		return nil
	}
	piece := l.proxy.buffers.Get()
	defer l.proxy.buffers.Put(piece)
	for l.rest > 0 {
		n, err := w.in.Read(piece[:min(l.rest, int64(len(piece)))])
		l.rest -= int64(n)
		if _, err := l.Write(piece[:n]); err != nil {
			return err
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// say passes an answer on that the library has read, or one of our own.
func (l *lane) say(answer *http.Response) error {
	h := answer.Header
	withoutHops(h)
	l.proxy.mark(h, &l.pass)
	if h.Get("Date") == "" {
		h.Set("Date", time.Now().UTC().Format(http.TimeFormat))
	}
	answer.ProtoMajor, answer.ProtoMinor, answer.Close = 1, 1, !l.asking.keep
	if answer.ContentLength < 0 && string(l.asking.method) != http.MethodHead {
		answer.TransferEncoding = []string{"chunked"}
	}
	out := bufio.NewWriterSize(l, wireBufferSize)
	answer.Body = &flushing{answer.Body, out}
	// Not the writer itself, which would hand its buffer to the body to be filled.
	return errors.Join(answer.Write(struct{ io.Writer }{out}), out.Flush())
}

// interim passes on that there will be an answer (RFC 9110 section 15.2).
func (l *lane) interim(answer *http.Response) error {
	var b bytes.Buffer
	withoutHops(answer.Header)
	fmt.Fprintf(&b, "HTTP/1.1 %s\r\n", answer.Status)
	_ = answer.Header.Write(&b)
	b.WriteString("\r\n")
	_, err := l.Write(b.Bytes())
	return err
}

// Write writes to the client, which has to take something within the idle time.
func (l *lane) Write(data []byte) (int, error) {
	total := 0
	for total < len(data) {
		// A piece at a time: a client that is slow is one that moves.
		piece := data[total:min(len(data), total+bufferSize)]
		extend(l.conn.SetWriteDeadline, &l.writeBy, l.idle)
		n, err := l.conn.Write(piece)
		total += n
		if err != nil {
			l.broke = true
			return total, err
		}
	}
	return total, nil
}

// extend sets a deadline to the limit from now. Deadlines are not free, and one that is
// a little early does no harm.
func extend(set func(time.Time) error, by *time.Time, limit time.Duration) {
	want := time.Now().Add(limit)
	if early := want.Sub(*by); early < 0 || early > limit/20 {
		*by = want
		_ = set(want)
	}
}

// flushing is the body of an answer that is passed on before more of it is waited for,
// so that streams flow.
type flushing struct {
	io.ReadCloser
	out *bufio.Writer
}

func (f *flushing) Read(data []byte) (int, error) {
	if err := f.out.Flush(); err != nil {
		return 0, err
	}
	return f.ReadCloser.Read(data)
}

// withoutHops takes away the fields that are about one connection (RFC 9110 section
// 7.6.1). The trailer is announced anew by who writes the answer.
func withoutHops(h http.Header) {
	for _, value := range h["Connection"] {
		for name := range strings.SplitSeq(value, ",") {
			h.Del(textproto.TrimString(name))
		}
	}
	for name := range h {
		if k := kindOf([]byte(name)); k == odd || k == connection {
			delete(h, name)
		}
	}
}
