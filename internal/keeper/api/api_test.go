package api

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/keeper"
	"vaiven/lab/testkit"
)

// What a client sees is what the keeper shows, whole, however it came there.
func TestViewsAreWhatTheKeeperShows(t *testing.T) {
	s := serve(t, 3)
	c := s.dial("marit")
	snapshots := c.Snapshots(t.Context())
	testkit.Eventually(t, "both show the same", func() bool {
		got := <-snapshots
		want := (<-s.keeper.Snapshots(t.Context()))
		if !want.At.Equal(got.At) {
			return false
		}
		a, errA := json.Marshal(want)
		b, errB := json.Marshal(got)
		if errA != nil || errB != nil {
			t.Fatal(errA, errB)
		}
		// Who watches changes with who looks.
		if string(a) != string(b) {
			t.Errorf("the keeper shows\n%s\nand the client\n%s", a, b)
		}
		return len(got.Track) > 0 && reflect.DeepEqual(len(got.Track), len(want.Track))
	})
	now, err := c.View(t.Context())
	if err != nil || now.Crossing.Number != 4 || len(now.Sides[1].Instances) != 3 {
		t.Errorf("a view alone: %+v, %v", now.Crossing, err)
	}
}

// raw reads lines of a stream, as any program could.
func (s *served) raw(path string) (next func() map[string]json.RawMessage, stop func()) {
	s.t.Helper()
	client := http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn,
		error) {
		return new(net.Dialer).DialContext(ctx, "unix", s.socket)
	}}}
	r, err := http.NewRequestWithContext(s.t.Context(), http.MethodGet, "http://keeper"+path, nil)
	if err != nil {
		s.t.Fatal(err)
	}
	w, err := client.Do(r)
	if err != nil {
		s.t.Fatal(err)
	}
	lines := bufio.NewReader(w.Body)
	return func() map[string]json.RawMessage {
		s.t.Helper()
		for {
			line, err := lines.ReadBytes('\n')
			if err != nil {
				s.t.Fatal(err)
			}
			if len(line) < 2 {
				continue // a beat
			}
			var m map[string]json.RawMessage
			if err := json.Unmarshal(line, &m); err != nil {
				s.t.Fatalf("%s: %v", line, err)
			}
			return m
		}
	}, func() { _ = w.Body.Close() }
}

// What has not changed is not sent again, also to who comes again with a cursor; a cursor of
// another keeper is good for nothing.
func TestOnlyWhatChangedIsSent(t *testing.T) {
	s := serve(t, 200)
	partsOf := func(line map[string]json.RawMessage) (map[string]json.RawMessage, string) {
		var parts map[string]json.RawMessage
		var cursor string
		if err := errors.Join(json.Unmarshal(line["parts"], &parts),
			json.Unmarshal(line["cursor"], &cursor)); err != nil {
			t.Fatal(err)
		}
		return parts, cursor
	}
	next, stop := s.raw("/v1/views")
	first, _ := partsOf(next())
	for _, name := range []string{"crossing", "planned", "sides.blue.instances", "sides.green.figures", "door",
		"proof"} {
		if first[name] == nil {
			t.Errorf("the first view has no %s", name)
		}
	}
	cursor, sent := "", 0
	last := first
	for range 20 {
		line := next()
		var parts map[string]json.RawMessage
		parts, cursor = partsOf(line)
		if parts["planned"] != nil || parts["service"] != nil {
			t.Fatal("what never changes is sent again")
		}
		for name, part := range parts {
			if bytes.Equal(part, last[name]) {
				t.Errorf("%s has not changed, and is sent again", name)
			}
			last[name] = part
			sent++
		}
	}
	if sent == 0 {
		t.Error("nothing is sent")
	}
	stop()
	next, stop = s.raw("/v1/views?since=" + cursor)
	again, _ := partsOf(next())
	stop()
	if again["planned"] != nil || len(again) == 0 {
		t.Errorf("who comes again gets %d parts", len(again))
	}
	next, stop = s.raw("/v1/views?since=other-7")
	other, _ := partsOf(next())
	stop()
	if other["planned"] == nil {
		t.Error("a cursor of another keeper was believed")
	}
}

// Who comes after a time in which nobody watched sees what is so now, and not what was then.
func TestNothingOldIsShown(t *testing.T) {
	s := serve(t, 1)
	for range 3 {
		ctx, leave := context.WithCancel(t.Context())
		c := s.dial("marit")
		first := <-c.Snapshots(ctx)
		if now := (<-s.keeper.Snapshots(ctx)); now.At.Sub(first.At) > time.Second {
			t.Fatalf("at %v the view of %v is shown", now.At, first.At)
		}
		leave()
		testkit.Eventually(t, "nobody watches", func() bool { return s.keeper.Watching() == 0 })
		before := (<-s.keeper.Snapshots(t.Context())).At
		testkit.Eventually(t, "time has passed",
			func() bool { return (<-s.keeper.Snapshots(t.Context())).At.Sub(before) > 2*time.Second })
	}
}

// A client that loses its keeper for a while misses no event and gets none twice.
func TestEventsOverABreak(t *testing.T) {
	s := serve(t, 1)
	c := s.dial("marit")
	events := c.Events(t.Context(), keeper.FromNow)
	seen := []uint64{}
	take := func(until uint64) {
		for len(seen) == 0 || seen[len(seen)-1] < until {
			e := <-events
			seen = append(seen, e.Seq)
		}
	}
	seq, err := c.Do(t.Context(), keeper.Command{Act: crossing.Resume{}, Seen: 1 << 40})
	if err != nil {
		t.Fatal(err)
	}
	take(seq)
	s.stop()
	if err := os.Remove(s.socket); err != nil && !errors.Is(err, os.ErrNotExist) {
		t.Fatal(err)
	}
	s.start()
	last := <-s.keeper.Snapshots(t.Context())
	take(last.Crossing.Seq)
	for n := 1; n < len(seen); n++ {
		if seen[n] != seen[n-1]+1 {
			t.Fatalf("the events are %v", seen)
		}
	}
	// From the beginning, by another client: the logbook's and those at hand, each once.
	all := s.dial("ines").Events(t.Context(), 40)
	for want := uint64(41); want <= last.Crossing.Seq; want++ {
		if e := <-all; e.Seq != want {
			t.Fatalf("event %d came, not %d", e.Seq, want)
		}
	}
}

// A refusal stays one on its way, with its kind, its facts and its sentence.
func TestRefusalsKeepTheirKind(t *testing.T) {
	s := serve(t, 1)
	c := s.dial("marit")
	_, err := c.Do(t.Context(), keeper.Command{Act: crossing.Yes{Question: 99}})
	r, ok := crossing.Refused[crossing.OtherQuestion](err)
	if !errors.Is(err, crossing.ErrNotNow) || !ok ||
		!strings.Contains(err.Error(), "nothing is asked any more") {
		t.Errorf("refused as %v, %+v", err, r)
	}
	for body, want := range map[string]string{`{"do": "fly"}`: `no act "fly"`,
		`{"do": "freeze", "share": 5}`: `freeze has no field "share"`,
		`{"do": "back", "frce": true}`: `back has no field "frce"`} {
		err := c.call(t.Context(), http.MethodPost, "/v1/commands", json.RawMessage(body), nil)
		if err == nil || errors.Is(err, crossing.ErrNotNow) || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", body, err)
		}
	}
	if _, err := c.Foresee(t.Context(), -1); err == nil || !strings.Contains(err.Error(), "basis points") {
		t.Errorf("no share: %v", err)
	}
	if ch, err := c.Foresee(t.Context(), 5000); err != nil || ch.Reached != 5000 {
		t.Errorf("%+v, %v", ch, err)
	}
	if offers, err := c.Versions(t.Context()); err != nil || len(offers) != 1 || offers[0].Versions[0].Name != "4.4.0" {
		t.Errorf("%+v, %v", offers, err)
	}
	if r, err := c.Rehearse(t.Context()); err != nil || len(r.Steps) != 1 || r.At.IsZero() {
		t.Errorf("%+v, %v", r, err)
	}
	if _, _, err := c.Tryout(t.Context()); err == nil || !strings.Contains(err.Error(), "names no access log") {
		t.Errorf("%v", err)
	}
}

// Who did something is what they say, and beside it what the socket knows.
func TestWhoItWas(t *testing.T) {
	s := serve(t, 1)
	c := s.dial("marit")
	events := c.Events(t.Context(), keeper.FromNow)
	if _, err := c.Do(t.Context(), keeper.Command{Act: crossing.Freeze{},
		Peer: crossing.Peer{Name: "somebody else"}}); err != nil {
		t.Fatal(err)
	}
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	for e := range events {
		if e.By != "marit" {
			continue
		}
		if e.Peer.Name != me.Username || e.Peer.User != os.Getuid() || e.Peer.Host == "" {
			t.Errorf("marit was %+v", e.Peer)
		}
		break
	}
}

// One steers, as many as like watch, and whoever is gone for long has left the wheel.
func TestTheWheelOverTheWire(t *testing.T) {
	s := serve(t, 1)
	a, b := s.dial("marit"), s.dial("ines")
	watch, leave := context.WithCancel(t.Context())
	ofA := a.Snapshots(watch)
	<-ofA
	<-b.Snapshots(t.Context())
	if _, err := a.Do(t.Context(), keeper.Command{Act: crossing.Freeze{}}); err != nil {
		t.Fatal(err)
	}
	_, err := b.Do(t.Context(), keeper.Command{Act: crossing.Resume{}, Seen: 1 << 40})
	r, ok := crossing.Refused[crossing.NotAtWheel](err)
	if !ok || r.Wheel.By != "marit" || r.Wheel.From != "quay2" ||
		r.Wheel.Client != a.Identity() {
		t.Fatalf("steered past whoever has the wheel: %v, %+v", err, r)
	}
	if _, err := b.Do(t.Context(), keeper.Command{Act: crossing.TakeWheel{}}); err != nil {
		t.Fatal(err)
	}
	told := false
	for range 100 {
		if s := <-ofA; s.Crossing.Wheel.By == "ines" && s.Watching == 2 && len(s.Present) == 2 {
			told = true
			break
		}
	}
	if !told {
		t.Error("who lost the wheel was not told")
	}
	leave()
	if err := b.Close(); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "the wheel is left",
		func() bool { return (<-s.keeper.Snapshots(t.Context())).Crossing.Wheel.Vacant() })
	// Going home needs none.
	if _, err := a.Do(t.Context(), keeper.Command{Act: crossing.Resume{}, Seen: 1 << 40}); err != nil {
		t.Fatal(err)
	}
	alone := Dial(Config{By: "per", Alone: true, Dial: a.Dial})
	if _, err := alone.Do(t.Context(), keeper.Command{Act: crossing.Freeze{}}); !errors.Is(err, crossing.ErrNotNow) {
		t.Errorf("a command alone steered past the wheel: %v", err)
	}
	if _, err := alone.Do(t.Context(), keeper.Command{Act: crossing.Back{}}); err != nil {
		t.Errorf("going back: %v", err)
	}
}

// A keeper that hangs or is gone does not keep anybody from going home.
func TestHomeWithoutAKeeper(t *testing.T) {
	hangs, err := net.Listen("unix", t.TempDir()+"/s")
	if err != nil {
		t.Fatal(err)
	}
	defer hangs.Close()
	for name, dial := range map[string]func(context.Context) (net.Conn, error){
		"hangs": func(ctx context.Context) (net.Conn, error) {
			return new(net.Dialer).DialContext(ctx, "unix", hangs.Addr().String())
		},
		"is gone": func(context.Context) (net.Conn, error) {
			return nil,
				&net.OpError{Op: "dial", Err: os.ErrNotExist}
		},
	} {
		went := ""
		c := Dial(Config{By: "marit", Dial: dial,
			Home: func(_ context.Context, _ crossing.Back, why string) error { went = why; return nil }})
		if _, err := c.Do(t.Context(), keeper.Command{Act: crossing.Back{}, Why: "it smells"}); !errors.Is(err,
			ErrPast) || went != "it smells" {
			t.Errorf("a keeper that %s: %v, %+v", name, err, went)
		}
	}
}

// Who speaks another version is told what to do, and nonsense is answered or cut off, while
// others are served.
func TestNonsense(t *testing.T) {
	s := serve(t, 1)
	send := func(text string) string {
		c, err := net.Dial("unix", s.socket)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		_ = c.SetDeadline(time.Now().Add(20 * time.Second))
		_, _ = io.WriteString(c, text)
		data, _ := io.ReadAll(io.LimitReader(c, 64<<10))
		return string(data)
	}
	r := testkit.Rand(t)
	for name, c := range map[string]struct{ send, says string }{
		"another protocol": {"GET /v1/keeper HTTP/1.1\r\nHost: k\r\nVaiven-Protocol: 2\r\nConnection: " +
			"close\r\n\r\n", "vaiven keep PLAN --take-over"},
		"no such thing":  {"GET /v2/keeper HTTP/1.1\r\nHost: k\r\nConnection: close\r\n\r\n", "404"},
		"another method": {"DELETE /v1/view HTTP/1.1\r\nHost: k\r\nConnection: close\r\n\r\n", "405"},
		"a body that is none": {"POST /v1/commands HTTP/1.1\r\nHost: k\r\nConnection: close\r\nContent-Length: " +
			"5\r\n\r\n{{{{{", `"kind":"wrong"`},
		"an unknown field": {"POST /v1/commands HTTP/1.1\r\nHost: k\r\nConnection: close\r\nContent-Length: " +
			"13\r\n\r\n" + `{"steal":"x"}`, `"kind":"wrong"`},
		"nobody's command": {"POST /v1/commands HTTP/1.1\r\nHost: k\r\nConnection: close\r\nContent-Length: " +
			"15\r\n\r\n" + `{"do":"freeze"}`, "who asks for it"},
		"two values": {"POST /v1/commands HTTP/1.1\r\nHost: k\r\nConnection: close\r\nContent-Length: " +
			"32\r\n\r\n" + `{"do":"freeze"} {"do":"freeze"} `, `"kind":"wrong"`},
		"a cursor that is none": {"GET /v1/views?since=%00 HTTP/1.1\r\nHost: k\r\nConnection: close\r\n\r\n",
			"is no cursor"},
		"no number": {"GET /v1/events?since=-1 HTTP/1.1\r\nHost: k\r\nConnection: close\r\n\r\n",
			"is no sequence number"},
		"no time": {"GET /v1/track?after=noon HTTP/1.1\r\nHost: k\r\nConnection: close\r\n\r\n",
			"is no time"},
		"too long a head": {"GET /v1/view HTTP/1.1\r\nHost: k\r\nX: " + strings.Repeat("x", 40<<10) + "\r\n\r\n",
			"431"},
		"no HTTP": {"EHLO ferry\r\n\r\n", "400"},
	} {
		if got := send(c.send); !strings.Contains(got, c.says) {
			t.Errorf("%s: %q", name, got)
		}
	}
	for range 50 {
		noise := make([]byte, 1+r.IntN(2000))
		for n := range noise {
			noise[n] = byte(r.UintN(256))
		}
		send(string(noise) + "\r\n\r\n")
	}
	if _, err := s.dial("marit").View(t.Context()); err != nil {
		t.Errorf("after all that: %v", err)
	}
}

// A thousand connections that do nothing, and streams that nobody reads, hold nobody up.
func TestManyAndSlow(t *testing.T) {
	s := serve(t, 100)
	for n := range 1000 {
		c, err := net.Dial("unix", s.socket)
		if err != nil {
			t.Fatalf("connection %d: %v", n, err)
		}
		t.Cleanup(func() { _ = c.Close() })
		if n%50 == 0 { // asks, and does not read
			_, _ = io.WriteString(c, "GET /v1/views HTTP/1.1\r\nHost: k\r\nVaiven-Client: slow"+fmt.Sprint(n)+
				"\r\n\r\n")
		}
	}
	c := s.dial("marit")
	snapshots := c.Snapshots(t.Context())
	first := <-snapshots
	testkit.Eventually(t, "views come all the same", func() bool { return (<-snapshots).At.After(first.At) })
	if _, err := c.Do(t.Context(), keeper.Command{Act: crossing.Freeze{}}); err != nil {
		t.Error(err)
	}
	testkit.Eventually(t, "those that do not read are let go", func() bool { return s.keeper.Watching() == 1 })
}

// socketVariable is the environment variable with the socket that another user is to try.
const socketVariable = "VAIVEN_FOREIGN_SOCKET"

// Another user does not get in, though the socket be open to all.
func TestAForeignUser(t *testing.T) {
	if socket := os.Getenv(socketVariable); socket != "" {
		c, err := net.Dial("unix", socket)
		if err != nil {
			t.Fatalf("the socket is to be open to all: %v", err)
		}
		defer c.Close()
		_, _ = io.WriteString(c, "GET /v1/view HTTP/1.1\r\nHost: k\r\nConnection: close\r\n\r\n")
		if data, _ := io.ReadAll(c); len(data) > 0 {
			t.Errorf("it was answered: %.100s", data)
		}
		return
	}
	s := serve(t, 1)
	if _, err := s.dial("marit").Info(t.Context()); err != nil {
		t.Errorf("our own user: %v", err)
	}
	for _, path := range []string{filepath.Dir(filepath.Dir(s.socket)), filepath.Dir(s.socket), s.socket} {
		if err := os.Chmod(path, 0o777); err != nil {
			t.Fatal(err)
		}
	}
	testkit.AsNobody(t, "^TestAForeignUser$", socketVariable+"="+s.socket)
}

// What takes the keeper longer than a body may take to arrive is not cut off by that.
func TestACommandThatTakesLong(t *testing.T) {
	s := serve(t, 1)
	s.slow(bodyLimit + time.Second)
	if _, err := s.dial("marit").Versions(t.Context()); err != nil {
		t.Errorf("versions that take long: %v", err)
	}
	_, err := s.dial("marit").Do(t.Context(), keeper.Command{Act: crossing.Begin{Version: "4.4.0"}})
	var r *crossing.Refusal
	if !errors.As(err, &r) { // it is refused for what it is, when it has been looked up
		t.Errorf("a beginning that takes long: %v", err)
	}
}

// Points of the track are asked for by time.
func TestTheTrack(t *testing.T) {
	s := serve(t, 1)
	var points []engine.Point
	testkit.Eventually(t, "there are three points", func() bool {
		var err error
		points, err = s.dial("marit").track(t.Context(), time.Time{})
		return err == nil && len(points) >= 3
	})
	later, err := s.dial("marit").track(t.Context(), points[1].At)
	if err != nil || len(later) < 1 || !later[0].At.Equal(points[2].At) {
		t.Errorf("after %v: %+v, %v", points[1].At, later, err)
	}
}

func TestEnding(t *testing.T) {
	s := serve(t, 1)
	c := s.dial("marit")
	m, err := c.HandOver(t.Context())
	if err != nil || m.Engine.At.IsZero() || m.Engine.Left == 0 {
		t.Errorf("handed over: %+v, %v", m.Engine.At, err)
	}
	if err := c.End(t.Context()); err != nil {
		t.Error(err)
	}
	<-s.ended
}
