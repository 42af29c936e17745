package api

import (
	"io"
	"net"
	"syscall"
	"testing"
	"time"
)

// used is the processor time of this process so far.
func used(b *testing.B) time.Duration {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		b.Fatal(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// BenchmarkWatchers is what ten who watch a crossing of 500 instances cost, beside nobody: the
// reading ends count too.
func BenchmarkWatchers(b *testing.B) {
	const span = 10 * time.Second
	s := serve(b, 250)
	for b.Loop() {
		begun := used(b)
		time.Sleep(span)
		alone := used(b) - begun
		var size int64
		var conns []net.Conn
		counted := make(chan int64)
		for range 10 {
			c, err := net.Dial("unix", s.socket)
			if err != nil {
				b.Fatal(err)
			}
			conns = append(conns, c)
			if _, err := io.WriteString(c,
				"GET /v1/views HTTP/1.1\r\nHost: k\r\nVaiven-Client: w\r\n\r\n"); err != nil {
				b.Fatal(err)
			}
			go func() {
				n, _ := io.Copy(io.Discard, c)
				counted <- n
			}()
		}
		begun = used(b)
		time.Sleep(span)
		watched := used(b) - begun
		for _, c := range conns {
			c.Close()
			size += <-counted
		}
		b.ReportMetric(100*(watched-alone).Seconds()/span.Seconds(), "%core/10watchers")
		b.ReportMetric(float64(size)/10/span.Seconds()/1024, "KiB/s/watcher")
	}
}
