package recording

import (
	"testing"
	"time"
)

// A crossing of many hours with 500 instances stays within two mebibytes an hour.
func TestItStaysWithinItsBounds(t *testing.T) {
	in, v := open(t), newVoyage(t, 250)
	w := NewWriter(in, 0, quietly())
	const span = 5*time.Minute + 5*time.Second // all is written anew once
	for range int(span / time.Second) {
		w.Take(v.second())
		for len(w.out) > waiting/2 { // seconds pass faster than disks write
			time.Sleep(time.Millisecond)
		}
	}
	finish(t, w)
	data, err := Find(in, 3)
	if err != nil {
		t.Fatal(err)
	}
	hour := len(data) * int(time.Hour/time.Second) / int(span/time.Second)
	t.Logf("%d KiB an hour", hour>>10)
	if hour > hourMost {
		t.Errorf("%d bytes an hour, and %d are meant", hour, hourMost)
	}
	if r := readOf(t, in, 3); !r.To().Equal(v.now) {
		t.Errorf("it ends at %v, and %v was the last", r.To(), v.now)
	}
}

// BenchmarkTake is what a second of a recording costs a keeper, all that goes to the disk included: the part of a core.
func BenchmarkTake(b *testing.B) {
	for name, each := range map[string]int{"4 instances": 2, "500 instances": 250} {
		b.Run(name, func(b *testing.B) {
			in, v := open(b), newVoyage(b, each)
			w := NewWriter(in, 0, quietly())
			spent := time.Duration(0)
			for b.Loop() {
				s, p := v.second()
				begun := time.Now()
				w.Take(s, p)
				for len(w.out) > 0 {
					time.Sleep(10 * time.Microsecond)
				}
				spent += time.Since(begun)
			}
			finish(b, w)
			b.ReportMetric(100*spent.Seconds()/float64(b.N), "%core")
		})
	}
}

// BenchmarkFiveHours is how large the recording of a crossing of five hours with 500 instances is, by the hour.
func BenchmarkFiveHours(b *testing.B) {
	in, v := open(b), newVoyage(b, 250)
	for b.Loop() {
		w := NewWriter(in, 0, quietly())
		const span = 5 * time.Hour
		for range int(span / time.Second) {
			w.Take(v.second())
			for len(w.out) > waiting/2 {
				time.Sleep(100 * time.Microsecond)
			}
		}
		finish(b, w)
		data, err := Find(in, 3)
		if err != nil {
			b.Fatal(err)
		}
		if r := readOf(b, in, 3); r.Lost > 0 || !r.To().Equal(v.now) {
			b.Fatalf("%d members are lost, and it ends at %v", r.Lost, r.To())
		}
		b.ReportMetric(float64(len(data))/1024/span.Hours(), "KiB/h")
	}
}
