package embedded

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"sync"
	"syscall"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
)

// A front is replaced by another process without a refused connection. The new process asks for the
// listeners over the admin socket and gets them with the table in force; once it accepts, the old one
// does not, and finishes its requests and tunnels. Until it ends there are two who send requests: the
// new one tells the old one every table, says that it is in force when both have it, and adds what the
// old one counts to its own. If the new one dies the old one accepts again.
//
// Both ends speak JSON values over one connection ([link]).

// message is what one end says to the other; what is not set is not meant.
type message struct {
	Table     *kept          `json:"table,omitempty"` // to be put in place, if it is newer
	Number    uint64         `json:"number,omitempty"`
	Done      uint64         `json:"done,omitempty"`      // the table with this number is in place
	Accepting time.Duration  `json:"accepting,omitempty"` // the new one accepts; the old one has so long to finish
	Read      uint64         `json:"read,omitempty"`      // asks for what the old one counts
	Answer    uint64         `json:"answer,omitempty"`    // is that, to the question with this number
	Reading   *reading.Front `json:"reading,omitempty"`
	Last      bool           `json:"last,omitempty"` // and there will be no other
}

// handed is what the old one hands over, beside the listeners.
type handed struct {
	Process   int      `json:"process"`
	Listeners []string `json:"listeners"` // their names, in the order of their descriptors
	Table     kept     `json:"table"`
	Secret    []byte   `json:"secret,omitempty"` // that sessions are signed with
	Known     []byte   `json:"known,omitempty"`  // which clients were bad lately
}

// The names of listeners.
const (
	mainListener    = "main"
	spareListener   = "spare"
	controlListener = "control"
)

// errReplaced is what a front says that was replaced: its successor is asked at the same socket.
var errReplaced = errors.New("another process has taken over this front: ask again")

// link is one end of the connection between the two. It is safe for concurrent use.
type link struct {
	conn net.Conn
	in   *json.Decoder

	writing sync.Mutex // held while something is written

	mu     sync.Mutex // protects what follows
	out    []message  // to be sent
	wake   chan struct{}
	sent   uint64 // tables sent so far
	done   uint64 // the last that the other end has in place
	asked  uint64 // questions for counts so far
	share  split.Share
	last   *reading.Front // of the other end, nil if it has told none
	answer uint64         // the question that last answers
	news   chan struct{}  // closed with whatever comes
	gone   chan struct{}  // closed when the other end is
}

func newLink(conn net.Conn, in io.Reader) *link {
	return &link{conn: conn, in: json.NewDecoder(in), wake: make(chan struct{}, 1), news: make(chan struct{}),
		gone: make(chan struct{})}
}

// send has a message sent behind those before it. It waits for nothing.
func (l *link) send(m message) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.out = append(l.out, m)
	select {
	case l.wake <- struct{}{}:
	default:
	}
}

// tell has a table sent, and returns its number.
func (l *link) tell(t *table) uint64 {
	k := keep(t)
	l.mu.Lock()
	l.sent++
	n := l.sent
	l.share = t.split.Share
	l.mu.Unlock()
	l.send(message{Table: &k, Number: n})
	return n
}

// write sends what is to be sent until the connection ends.
func (l *link) write() {
	for {
		select {
		case <-l.wake:
			l.flush()
		case <-l.gone:
			return
		}
	}
}

// flush sends what is to be sent now.
func (l *link) flush() {
	l.writing.Lock()
	defer l.writing.Unlock()
	l.mu.Lock()
	list := l.out
	l.out = nil
	l.mu.Unlock()
	out := json.NewEncoder(l.conn)
	for _, m := range list {
		if out.Encode(m) != nil {
			_ = l.conn.Close() // who reads finds out
			return
		}
	}
}

// read hands on what comes until the connection ends.
func (l *link) read(take func(message)) {
	go l.write()
	for {
		var m message
		if l.in.Decode(&m) != nil {
			_ = l.conn.Close()
			l.mu.Lock()
			close(l.gone)
			l.mu.Unlock()
			return
		}
		take(m)
		l.mu.Lock()
		l.done = max(l.done, m.Done)
		if m.Reading != nil {
			l.last, l.answer = m.Reading, max(l.answer, m.Answer)
		}
		close(l.news)
		l.news = make(chan struct{})
		l.mu.Unlock()
	}
}

// await waits until something holds that depends on what came, and reports whether it does; not if
// the other end is gone or the context ends before.
func (l *link) await(ctx context.Context, holds func() bool) bool {
	for {
		l.mu.Lock()
		ok, news := holds(), l.news
		l.mu.Unlock()
		if ok {
			return true
		}
		select {
		case <-news:
		case <-l.gone:
			return false
		case <-ctx.Done():
			return false
		}
	}
}

// counts is what the other end counts, as it says now or, where it does not answer in a moment, as it
// said last; nil if it never did.
func (l *link) counts(ctx context.Context) *reading.Front {
	l.mu.Lock()
	l.asked++
	n := l.asked
	l.mu.Unlock()
	l.send(message{Read: n})
	ctx, cancel := context.WithTimeout(ctx, 100*time.Millisecond)
	defer cancel()
	l.await(ctx, func() bool { return l.answer >= n })
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.last
}

// isGone reports whether the other end is.
func (l *link) isGone() bool {
	select {
	case <-l.gone:
		return true
	default:
		return false
	}
}

// predecessor is the process that was replaced, as long as it is there.
type predecessor struct {
	*link
	process int
}

// takenOver is what was got from the process that is to be replaced.
type takenOver struct {
	handed
	listeners map[string]net.Listener
	link      *link
}

// askedFor is the longest that the process that is to be replaced may take for its answer.
const askedFor = 5 * time.Second

// takeOver asks the front that runs at a socket for its listeners. The error wraps
// [front.ErrUnreachable] if none runs there.
func takeOver(socket string) (t *takenOver, err error) {
	conn, err := net.DialUnix("unix", nil, &net.UnixAddr{Name: socket, Net: "unix"})
	if err != nil {
		return nil, fmt.Errorf("%w: no front to take over from at %s: %w", front.ErrUnreachable, socket, err)
	}
	defer func() {
		if err != nil {
			_ = conn.Close()
			err = fmt.Errorf("take over the front at %s: %w", socket, err)
		}
	}()
	_ = conn.SetDeadline(time.Now().Add(askedFor))
	if _, err = io.WriteString(conn, "POST /hand-over HTTP/1.1\r\nHost: front\r\nConnection: Upgrade\r\nUpgrade: "+
		handOverProtocol+"\r\nContent-Length: 0\r\n\r\n"); err != nil {
		return nil, err
	}
	// Nothing is buffered beyond the head: the other end waits for a byte before it goes on.
	answer, err := http.ReadResponse(bufio.NewReader(conn), nil)
	if err != nil {
		return nil, err
	}
	if answer.StatusCode != http.StatusSwitchingProtocols {
		body, _ := io.ReadAll(io.LimitReader(answer.Body, 64<<10))
		if answer.StatusCode == http.StatusNotFound || answer.StatusCode == http.StatusMethodNotAllowed {
			return nil, errors.New("it is of a Vaiven that cannot be replaced without an outage: stop it, then start " +
				"this one")
		}
		return nil, refused(answer.StatusCode, body)
	}
	if _, err = conn.Write([]byte{'?'}); err != nil {
		return nil, err
	}
	one, rights := make([]byte, 1), make([]byte, syscall.CmsgSpace(8*4))
	_, n, _, _, err := conn.ReadMsgUnix(one, rights)
	if err != nil {
		return nil, err
	}
	fds, err := descriptors(rights[:n])
	if err != nil {
		return nil, err
	}
	t = &takenOver{listeners: map[string]net.Listener{}, link: newLink(conn, conn)}
	defer func() {
		if err != nil {
			t.close()
		}
	}()
	if err := t.link.in.Decode(&t.handed); err != nil {
		return nil, err
	}
	for n, fd := range fds {
		f := os.NewFile(uintptr(fd), "listener")
		l, err := net.FileListener(f)
		_ = f.Close() // the listener has its own
		if err == nil && n >= len(t.Listeners) {
			err = errors.New("it handed over more listeners than it named")
		}
		if err != nil {
			return nil, err
		}
		t.listeners[t.Listeners[n]] = l
	}
	_ = conn.SetDeadline(time.Time{})
	return t, nil
}

// handOverProtocol is what the admin connection becomes.
const handOverProtocol = "vaiven-front-hand-over"

// descriptors are those that came with a message.
func descriptors(rights []byte) ([]int, error) {
	list, err := syscall.ParseSocketControlMessage(rights)
	if err != nil || len(list) == 0 {
		return nil, errors.Join(errors.New("it handed over no listeners"), err)
	}
	fds, err := syscall.ParseUnixRights(&list[0])
	for _, fd := range fds {
		syscall.CloseOnExec(fd)
	}
	return fds, err
}

// close gives up what was got.
func (t *takenOver) close() {
	for _, l := range t.listeners {
		_ = l.Close()
	}
	_ = t.link.conn.Close()
}

// listener is the one with a name, nil if there is none.
func (t *takenOver) listener(name string) net.Listener {
	if t == nil || t.listeners[name] == nil {
		return nil
	}
	l := t.listeners[name]
	delete(t.listeners, name)
	return l
}

// fits is an error if what was got listens elsewhere than it is to: that takes a restart.
func (t *takenOver) fits(wanted map[string]string) error {
	for _, name := range []string{mainListener, spareListener} {
		switch l := t.listeners[name]; {
		case l == nil:
		case wanted[name] == "":
			return fmt.Errorf("the front that runs also listens at %s, which the plan does not have any more: a "+
				"change of addresses takes a restart", l.Addr())
		case !listensAt(l, wanted[name]):
			return fmt.Errorf("the front that runs listens at %s, and the plan says %s: a change of addresses takes "+
				"a restart", l.Addr(), wanted[name])
		}
	}
	return nil
}

// listensAt reports whether a listener is at an address, as a plan or a socket's path names it.
func listensAt(l net.Listener, wanted string) bool {
	tcp, ok := l.Addr().(*net.TCPAddr)
	if !ok {
		return l.Addr().String() == wanted
	}
	want, err := net.ResolveTCPAddr("tcp", wanted)
	if err != nil || want.Port != tcp.Port {
		return false
	}
	everywhere := func(ip net.IP) bool { return len(ip) == 0 || ip.IsUnspecified() }
	return want.IP.Equal(tcp.IP) || everywhere(want.IP) && everywhere(tcp.IP)
}

// serveHandOver hands the listeners over to whoever asks, who can only be of the same user.
func (s *Server) serveHandOver(w http.ResponseWriter, r *http.Request) {
	if r.Header.Get("Upgrade") != handOverProtocol {
		reply(w, nil, fmt.Errorf("%w: ask with Upgrade: %s", front.ErrRefused, handOverProtocol))
		return
	}
	if !s.handing.CompareAndSwap(false, true) {
		reply(w, nil, fmt.Errorf("%w: another process is taking over already", front.ErrRefused))
		return
	}
	conn, _, err := http.NewResponseController(w).Hijack()
	if err != nil {
		s.handing.Store(false)
		reply(w, nil, err)
		return
	}
	s.handOver(conn)
	s.handing.Store(false)
}

// handOver hands the listeners over, and follows the new process until that is gone.
func (s *Server) handOver(conn net.Conn) {
	defer conn.Close()
	to, ok := conn.(*net.UnixConn)
	if !ok {
		return
	}
	_ = to.SetDeadline(time.Now().Add(askedFor))
	if _, err := io.WriteString(to, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: "+
		handOverProtocol+"\r\n\r\n"); err != nil {
		return
	}
	if _, err := to.Read(make([]byte, 1)); err != nil {
		return
	}
	l := newLink(to, to)
	// From here on only going home changes anything, and what goes home here is told to the new one.
	s.change.Lock()
	s.successor = l
	t := s.proxy.current()
	s.change.Unlock()
	defer func() {
		s.change.Lock()
		defer s.change.Unlock()
		s.successor = nil
	}()
	all := s.listeners()
	h := handed{Process: os.Getpid(), Table: keep(t), Secret: s.config.Secret}
	if s.proxy.clients != nil {
		h.Known = s.proxy.clients.Export()
	}
	var fds []int
	for _, name := range []string{mainListener, controlListener, spareListener} {
		c, ok := all[name].(syscall.Conn)
		if !ok {
			continue
		}
		raw, err := c.SyscallConn()
		if err == nil {
			err = raw.Control(func(fd uintptr) { fds = append(fds, int(fd)) })
		}
		if err != nil {
			slog.Error("listener cannot be handed over", "listener", name, "err", err)
			return
		}
		h.Listeners = append(h.Listeners, name)
	}
	if _, _, err := to.WriteMsgUnix([]byte{'!'}, syscall.UnixRights(fds...), nil); err != nil {
		return
	}
	if json.NewEncoder(to).Encode(h) != nil {
		return
	}
	_ = to.SetWriteDeadline(time.Time{}) // until the new one accepts it has no more time
	l.read(func(m message) { s.hear(l, m) })
	if s.proxy.retiring.Load() && !s.finished() {
		slog.Error("the process that took over is gone: this one accepts connections again")
		s.proxy.retiring.Store(false)
		s.latch.open(s.sockets()...)
		s.doors.closed.open(s.sockets()...)
		s.store.resume(s.proxy.current())
	}
}

// hear does what the new process says.
func (s *Server) hear(l *link, m message) {
	switch {
	case m.Table != nil:
		var number uint64
		s.change.Lock()
		before := s.before
		if t := s.proxy.current(); m.Table.Order.Generation >= t.order.Generation {
			number = s.swap(m.Table.table(t))
		}
		s.change.Unlock()
		go func() { // there may be one before this one, too
			if s.everywhere(context.Background(), before, number) == nil {
				l.send(message{Done: m.Number})
			}
		}()
	case m.Read > 0:
		r := s.reading(context.Background())
		l.send(message{Answer: m.Read, Reading: &r})
	case m.Accepting > 0:
		_ = l.conn.SetReadDeadline(time.Time{})
		s.proxy.retiring.Store(true)
		s.doors.closed.close(s.sockets()...)
		s.latch.close(s.sockets()...)
		s.store.pause()
		slog.Info("another process has taken over; this one finishes its requests", "within", m.Accepting)
		go s.finish(l, m.Accepting)
	}
}

// finish waits until all clients have left, for at most a time, and has the front end.
func (s *Server) finish(l *link, within time.Duration) {
	limit := time.NewTimer(within)
	defer limit.Stop()
	ticker := time.NewTicker(50 * time.Millisecond)
	defer ticker.Stop()
	for {
		select {
		case <-ticker.C:
			if all, _ := s.room.left(); all > 0 {
				continue
			}
		case <-limit.C:
		case <-l.gone:
			return
		}
		break
	}
	s.ended.Do(func() { close(s.replaced) })
}

// finished reports whether the front ends because it was replaced.
func (s *Server) finished() bool {
	select {
	case <-s.replaced:
		return true
	default:
		return false
	}
}

// listeners are those that are handed over, by name.
func (s *Server) listeners() map[string]net.Listener {
	m := map[string]net.Listener{mainListener: s.main}
	if s.extra != nil {
		m[spareListener] = s.extra
	}
	s.sockMu.Lock()
	defer s.sockMu.Unlock()
	m[controlListener] = s.admin
	return m
}

// sockets are the same in a list.
func (s *Server) sockets() (list []net.Listener) {
	for _, l := range s.listeners() {
		list = append(list, l)
	}
	return list
}

// begin says to the process that was replaced that this one accepts, and follows it until it is gone.
func (p *predecessor) begin(s *Server, within time.Duration) {
	p.send(message{Accepting: within})
	go func() {
		p.read(func(m message) {
			switch {
			case m.Table != nil: // it was sent home there before this one accepted
				s.change.Lock()
				if t := s.proxy.current(); m.Table.Order.Generation > t.order.Generation {
					next := m.Table.table(t)
					s.proxy.swap(next)
					s.store.wentHome(next)
				}
				s.change.Unlock()
				p.send(message{Done: m.Number})
			case m.Last:
				_ = p.conn.SetReadDeadline(time.Now().Add(askedFor)) // it goes now
			}
		})
		p.mu.Lock()
		last := p.last
		p.mu.Unlock()
		s.change.Lock()
		s.before = nil
		if last != nil {
			s.proxy.absorb(*last)
		}
		s.change.Unlock()
		slog.Info("the process before has ended", "process", p.process)
	}()
}

// confirmed waits until the process before has a table in place, for a moment.
func (p *predecessor) confirmed(ctx context.Context, number uint64) error {
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	if p.await(ctx, func() bool { return p.done >= number }) || p.isGone() {
		return nil
	}
	return fmt.Errorf("%w: in force in this process; process %d, which is being replaced and finishes its requests, "+
		"does not answer: end it, or try again", front.ErrNotLoaded, p.process)
}

// swap puts a table in place here and has it put in place by the process before, whose number for it
// is returned. The caller holds s.change.
func (s *Server) swap(t *table) (number uint64) {
	s.proxy.swap(t)
	if s.before != nil {
		number = s.before.tell(t)
	}
	return number
}

// everywhere waits until a table that was put in place is so in the process before, if there is one.
func (s *Server) everywhere(ctx context.Context, before *predecessor, number uint64) error {
	if before == nil {
		return nil
	}
	return before.confirmed(ctx, number)
}

// reading is what the front has and counts, with what the process before counts.
func (s *Server) reading(ctx context.Context) reading.Front {
	for {
		s.change.Lock()
		before := s.before
		s.change.Unlock()
		var theirs *reading.Front
		if before != nil {
			theirs = before.counts(ctx)
		}
		r := s.proxy.reading(time.Now())
		s.change.Lock()
		same := s.before == before // else its counts are among this one's by now
		s.change.Unlock()
		if !same {
			continue
		}
		r.Notice = s.store.trouble()
		switch {
		case before == nil:
			return r
		case theirs == nil: // what this one counts alone would be taken for less than there was
			r.Blind = fmt.Sprintf("process %d, which is being replaced, has not said yet what it counts",
				before.process)
			for side := range r.Sides {
				for n := range r.Sides[side].Instances {
					r.Sides[side].Instances[n].Untold = true
				}
			}
			return r
		}
		if theirs.Split.Share != r.Split.Share {
			r.Apart = append(r.Apart,
				reading.Apart{Front: fmt.Sprintf("process %d, which is being replaced", before.process),
					Share: theirs.Split.Share})
		}
		return with(r, *theirs)
	}
}

// with is a reading with the counts of another one added.
func with(r, other reading.Front) reading.Front {
	for _, side := range split.Sides {
		mine, theirs := &r.Sides[side], other.Sides[side]
		mine.Open += theirs.Open
		mine.Lost += theirs.Lost
		mine.Clients = mine.Clients.Plus(theirs.Clients)
		for n := range mine.Instances {
			for _, c := range theirs.Instances {
				if m := &mine.Instances[n]; m.Name == c.Name && m.Address == c.Address && m.Version == c.Version {
					*m = addCount(*m, c)
				}
			}
		}
	}
	for why, n := range other.Refused {
		if r.Refused == nil {
			r.Refused = map[string]int64{}
		}
		r.Refused[why] += n
	}
	return r
}

func addCount(a, b reading.Count) reading.Count {
	a.Open += b.Open
	a.Requests += b.Requests
	a.Failures += b.Failures
	a.Left += b.Left
	a.Probes += b.Probes
	for class := range a.Status {
		a.Status[class] += b.Status[class]
	}
	for n := range a.Waiting {
		if n < len(b.Waiting) {
			a.Waiting[n] += b.Waiting[n]
		}
	}
	a.Latency = addTimes(a.Latency, b.Latency)
	return a
}

// addTimes adds up two histograms of latencies.
func addTimes(a, b []byte) []byte {
	if len(b) == 0 {
		return a
	}
	h, err := reading.Decode(a, "this process")
	other, errOther := reading.Decode(b, "the process before")
	if err != nil || errOther != nil {
		return a
	}
	h.Merge(other)
	return reading.Encode(h)
}

// absorb adds the last counts of a process that is gone to this one's.
func (p *proxy) absorb(last reading.Front) {
	t := p.current()
	for _, side := range split.Sides {
		t.sides[side].tally.lost.Add(last.Sides[side].Lost)
		if p.clients != nil {
			p.clients.Absorb(side, last.Sides[side].Clients)
		}
		for _, i := range t.sides[side].instances {
			for _, c := range last.Sides[side].Instances {
				if i.Name == c.Name && i.Address == c.Address && i.Version == c.Version {
					i.absorb(c)
				}
			}
		}
	}
	p.denied.absorb(last.Refused)
}
