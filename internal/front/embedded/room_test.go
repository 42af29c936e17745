package embedded

import (
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"testing"
	"time"
)

// standing is a connection from an address, in use, as old and with as many bytes in the last minute.
func standing(t *testing.T, m *room, address string, age time.Duration, bytes int64) *caller {
	t.Helper()
	ours, theirs := net.Pipe()
	t.Cleanup(func() { ours.Close(); theirs.Close() })
	c := newCaller(ours, time.Minute)
	c.peer = netip.MustParseAddr(address)
	c.since = time.Now().Add(-age)
	if !m.admit(c) {
		t.Fatalf("%s is not let in", address)
	}
	c.bytes.Store(bytes)
	m.note(c, http.StateActive)
	return c
}

// in reports whether a connection still is there.
func in(m *room, c *caller) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	_, there := m.callers[c]
	return there
}

// another is a connection that asks to be let in.
func another(t *testing.T, address string) *caller {
	ours, theirs := net.Pipe()
	t.Cleanup(func() { ours.Close(); theirs.Close() })
	c := newCaller(ours, time.Minute)
	c.peer = netip.MustParseAddr(address)
	return c
}

// One address does not take every connection; of IPv6 that is a /64. A trusted proxy stands for many.
func TestOneAddressHasALimit(t *testing.T) {
	for _, addresses := range [][4]string{{"192.0.2.1", "192.0.2.1", "192.0.2.1", "192.0.2.2"},
		{"2001:db8::1", "2001:db8::2", "2001:db8::ffff:0:0:3", "2001:db8:0:1::1"}} {
		m := newRoom(10, 2, &denials{})
		old := standing(t, m, addresses[0], time.Minute, 100)
		standing(t, m, addresses[1], 0, 1000)
		if !m.admit(another(t, addresses[2])) || in(m, old) {
			t.Errorf("%s: a connection on which little moves does not make room for another of its address",
				addresses[2])
		}
		for c := range m.callers { // all are young and in use from now on
			c.since = time.Now()
			m.note(c, http.StateActive)
		}
		if m.admit(another(t, addresses[2])) {
			t.Errorf("%s has more connections than it may", addresses[2])
		}
		if !m.admit(another(t, addresses[3])) {
			t.Errorf("%s is shut out by another address", addresses[3])
		}
		many := another(t, addresses[2])
		if many.many = true; !m.admit(many) {
			t.Error("a trusted proxy has the limit of one client")
		}
		_ = many.Close()
		_ = many.Close() // twice is once
		if n := m.of[household(many.peer)]; n != 2 {
			t.Errorf("%s has %d connections by the count, want 2", addresses[2], n)
		}
		if n := m.denied.read()[reasonNames[perClient]]; n != 1 {
			t.Errorf("%d are counted as too many of one address, want 1", n)
		}
	}
}

// Where there is no room, who is without a request goes first, then of the address that uses the most
// whoever moved the fewest bytes in the last minute. Nobody waits.
func TestWhoMakesRoom(t *testing.T) {
	m := newRoom(6, 6, &denials{})
	slow := standing(t, m, "192.0.2.1", time.Hour, 240)
	busy := standing(t, m, "192.0.2.1", time.Hour, 1<<20)
	quiet := standing(t, m, "192.0.2.2", time.Hour, 0) // one who waits for an answer, alone
	fresh := standing(t, m, "192.0.2.1", time.Second, 0)
	idle := standing(t, m, "192.0.2.3", time.Second, 1<<20)
	m.note(idle, http.StateIdle)
	standing(t, m, "192.0.2.1", time.Second, 0)
	for _, want := range []*caller{idle, slow, busy} {
		c := standing(t, m, "192.0.2.9", time.Second, 0)
		_ = c
		if in(m, want) {
			t.Errorf("%s with %d bytes stays", want.peer, want.bytes.Load())
		}
		if !in(m, quiet) || !in(m, fresh) {
			t.Error("one who uses little, or has just come, goes")
		}
	}
	// A minute later what moved before counts for nothing.
	m = newRoom(2, 2, &denials{})
	was, is := standing(t, m, "192.0.2.1", time.Hour, 1<<20), standing(t, m, "192.0.2.1", time.Hour, 0)
	for range windows {
		m.turn()
	}
	is.bytes.Add(10)
	if standing(t, m, "192.0.2.2", 0, 0); in(m, was) || !in(m, is) {
		t.Error("what moved more than a minute ago counts")
	}
}

// Requests over HTTP/2 count where descriptors are used: each beyond a connection's first.
func TestRequestsOverHTTP2TakeRoom(t *testing.T) {
	m := newRoom(10, 5, &denials{})
	one := standing(t, m, "192.0.2.1", time.Hour, 0)
	for n := range 5 {
		if !m.enter(one) {
			t.Fatalf("request %d is refused", n)
		}
	}
	if m.enter(one) {
		t.Error("an address has more requests under way than it may")
	}
	other := standing(t, m, "192.0.2.2", time.Hour, 1)
	for range 4 {
		m.enter(other)
	}
	if m.used != 9 {
		t.Errorf("%d units are used, want 9", m.used)
	}
	m.exit(one)
	m.exit(other)
	m.exit(other)
	if m.used != 6 || m.of[household(one.peer)] != 4 {
		t.Errorf("%d units are used, %d by one of them", m.used, m.of[household(one.peer)])
	}
	// In a front that is full, who uses the most gets no more, and makes room for others.
	m = newRoom(4, 4, &denials{})
	most := standing(t, m, "192.0.2.1", time.Hour, 0)
	for range 3 {
		m.enter(most)
	}
	little := standing(t, m, "192.0.2.2", time.Hour, 0)
	m.enter(little)
	if m.enter(most) {
		t.Error("who uses the most gets more in a front that is full")
	}
	if !m.enter(little) || in(m, most) {
		t.Error("who uses little gets no room from who uses the most")
	}
	m.exit(most) // it was taken out with all it had
	if m.used != 2 {
		t.Errorf("%d units are used, want 2", m.used)
	}
}

// All heads together have a bound, beyond what each may have in any case.
func TestHeadsHaveABoundTogether(t *testing.T) {
	m := newRoom(10_000, 10_000, &denials{})
	var list []*caller
	for n := 0; ; n++ {
		c := another(t, fmt.Sprintf("192.0.%d.%d", n/250, n%250))
		m.admit(c)
		if !m.takeHead(c, 60<<10) {
			break
		}
		if list = append(list, c); len(list) > 5000 {
			t.Fatal("there is no bound")
		}
	}
	if got, want := len(list), headRoom/(60<<10); got != want {
		t.Errorf("%d heads of 60 KiB are let in, want %d", got, want)
	}
	if c := list[0]; !m.takeHead(c, 0) {
		t.Error("a small head is refused")
	}
	m.giveHead(list[0], 60<<10)
	if !m.takeHead(list[1], 60<<10) {
		t.Error("what was given back is not there")
	}
	for _, c := range list {
		_ = c.Close()
	}
	if m.heads != 0 {
		t.Errorf("with everybody gone %d bytes are counted", m.heads)
	}
}
