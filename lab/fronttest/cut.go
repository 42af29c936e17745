package fronttest

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"testing"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
)

// Pages of an instance that do not end as they begin.
const (
	cutPage  = "/cut"  // names a length, and breaks off at half of it
	longPage = "/long" // takes longer than its client waits
)

const (
	cutLength  = 8_000
	longLength = 8_000_000
)

// breaksOff answers a page with less than the length that it names, or with more than anybody waits for.
func (i *Instance) breaksOff(w http.ResponseWriter, length int) {
	w.Header().Set(nameHeader, i.Name)
	w.Header().Set("Content-Length", strconv.Itoa(length))
	if length == longLength {
		_, _ = w.Write(make([]byte, length))
		return
	}
	_, _ = w.Write(make([]byte, length/2))
	_ = http.NewResponseController(w).Flush()
	panic(http.ErrAbortHandler)
}

// leave asks for a page and is gone when the answer has begun.
func (w *World) leave(path string) error {
	conn, err := net.DialTimeout("tcp", w.Listen, patience)
	if err != nil {
		return err
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(patience))
	if _, err := fmt.Fprintf(conn, "GET %s HTTP/1.1\r\nHost: sailings.test\r\n\r\n", path); err != nil {
		return err
	}
	_, err = io.ReadFull(conn, make([]byte, 100))
	_ = conn.(*net.TCPConn).SetLinger(0)
	return err
}

// short is how many answers a side is said not to have given, or not whole.
func short(r reading.Front, side split.Side) (n int64) {
	for _, i := range r.Sides[side].Instances {
		n += i.Cut
	}
	return n + r.Sides[side].Lost
}

// cutInTheMiddle breaks answers off, and leaves others: only the first are the side's.
func cutInTheMiddle(t *testing.T, c *scene) {
	const asked = 20
	var before reading.Front
	testkit.Until(t, "a reading with counts", func() error {
		if before = c.read(); !before.Tells.Counts || before.Blind != "" {
			return fmt.Errorf("it counts, and says %+v, %q", before.Tells, before.Blind)
		}
		return nil
	})
	for range asked {
		if o := (&client{world: c.w}).ask(cutPage); o.err == nil {
			t.Error("half an answer came whole")
		}
	}
	testkit.Until(t, "what was cut", func() error {
		if n := short(c.read(), split.Blue) - short(before, split.Blue); n < asked {
			return fmt.Errorf("%d of %d are told", n, asked)
		}
		return nil
	})
	before = c.read()
	for range asked {
		if err := c.w.leave(longPage); err != nil {
			t.Error(err)
		}
	}
	answered := c.load.Answers[split.Blue].Load()
	testkit.Until(t, "what was answered since", func() error {
		if n := c.load.Answers[split.Blue].Load(); n < answered+3*asked {
			return fmt.Errorf("%d", n-answered)
		}
		r := c.read()
		var n, was int64
		for k, i := range r.Sides[split.Blue].Instances {
			n, was = n+i.Requests, was+before.Sides[split.Blue].Instances[k].Requests
		}
		if n < was+3*asked {
			return fmt.Errorf("%d counted", n-was)
		}
		if more := short(r, split.Blue) - short(before, split.Blue); more > 0 {
			t.Errorf("%d of %d answers that their clients left are held against the side", more, asked)
		}
		return nil
	})
}
