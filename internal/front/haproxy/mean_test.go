package haproxy

import (
	"errors"
	"math"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/world/place"
	"vaiven/lab/fronttest"
	"vaiven/lab/testkit"
)

// What answers took is told of averages in whole milliseconds, as HAProxy keeps them: its own sum, in its own
// arithmetic.
func TestTook(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 1))
	var sum, answered uint64
	var truth, late float64
	var told took
	var base, before time.Duration
	for reading := range 600 {
		for range 1 + r.IntN(40) {
			x := uint64(5 + r.ExpFloat64()*9)
			if reading >= 300 && r.Float64() < 0.05 {
				x += 2000
			}
			sum = sum - (sum+window-1)/window*min(1, answered/window) + x
			answered++
			if reading > 0 {
				truth += float64(x)
			}
			if reading >= 300 {
				late += float64(x)
			}
		}
		samples := min(answered, window)
		all := told.add(int64(answered), float64((sum+samples-1)/samples))
		switch reading {
		case 0:
			base = all
		case 299:
			before = all
		}
	}
	if got := (told.add(int64(answered), 0) - base).Seconds() * 1000; math.Abs(got-truth) > 0.05*truth {
		t.Errorf("%.0f ms of %.0f", got, truth)
	}
	got := (time.Duration(told.all*float64(time.Millisecond)) - before).Seconds() * 1000
	if math.Abs(got-late) > 0.05*late {
		t.Errorf("since some were slow %.0f ms of %.0f", got, late)
	}
}

// A server that was started again begins anew, and nothing is made up.
func TestTookAgain(t *testing.T) {
	var told took
	for n := range int64(10) {
		told.add(100+50*n, 20)
	}
	before := told.all
	if told.add(40, 500); told.all != before {
		t.Errorf("%.0f ms more than before", told.all-before)
	}
}

// What HAProxy says of its servers comes to what their answers took, by whoever answered.
func TestTookOfARealOne(t *testing.T) {
	w := fronttest.NewWorld(t)
	f, _, _ := start(t, w, setup{mapped: true})
	d := New(place.Local{}, f)
	var truth atomic.Int64 // µs
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		begun := time.Now()
		took := time.Duration(5+rand.IntN(20)) * time.Millisecond
		if rand.Float64() < 0.05 {
			took += 200 * time.Millisecond
		}
		time.Sleep(took) // that is what is measured
		w.WriteHeader(http.StatusOK)
		truth.Add(time.Since(begun).Microseconds())
	}))
	t.Cleanup(srv.Close)
	if err := d.SetInstances(t.Context(), split.Blue,
		[]reading.Server{{Name: "blue-1", Address: srv.Listener.Addr().String(), Version: "1"}}); err != nil {
		t.Fatal(err)
	}
	testkit.Until(t, "an answer", func() error {
		r, err := http.Get("http://" + w.Listen)
		if err == nil {
			_ = r.Body.Close()
		}
		if err == nil && r.StatusCode != http.StatusOK {
			err = errors.New(r.Status)
		}
		return err
	})
	read := func() (took time.Duration, of int64) {
		t.Helper()
		r, err := d.Read(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		c := r.Sides[split.Blue].Instances[0]
		return c.Took, c.Requests
	}
	for range 5 {
		at := truth.Load()
		var clients atomic.Int64 // µs
		before, n := read()
		var wait sync.WaitGroup
		for range 20 {
			wait.Go(func() {
				for range 30 {
					begun := time.Now()
					if r, err := http.Get("http://" + w.Listen); err == nil {
						_ = r.Body.Close()
					}
					clients.Add(time.Since(begun).Microseconds())
				}
			})
			read()
		}
		wait.Wait()
		after, m := read()
		// HAProxy waits for the instance, and clients wait for HAProxy, on however busy a machine. Its mean is of the
		// last 1,024 answers: a tenth is for those before.
		got := (after - before).Seconds() / float64(m-n)
		least, most := float64(truth.Load()-at)/1e6/float64(m-n), float64(clients.Load())/1e6/float64(m-n)
		t.Logf("%d answers took %.1f to %.1f ms on average, told are %.1f ms", m-n, 1000*least, 1000*most, 1000*got)
		if got < 0.9*least-0.001 || got > 1.1*most+0.001 {
			t.Errorf("told are %.1f ms, and it was between %.1f and %.1f ms", 1000*got, 1000*least, 1000*most)
		}
	}
}
