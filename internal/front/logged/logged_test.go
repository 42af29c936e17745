package logged

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front/fronttest"
	"vaiven/internal/place"
	"vaiven/internal/place/placetest"
)

// What a line says is counted for who answered, who was tried before, and the side that
// lost it.
func TestWhatALineCountsFor(t *testing.T) {
	sides := [2][]reading.Server{{{Name: "blue-1", Address: "127.0.0.1:1"}, {Name: "blue-2", Address: "127.0.0.1:2"}}, {{Name: "green-1", Address: "127.0.0.1:3"}}}
	// Requests and failures of blue-1, blue-2 and green-1, and what blue and green lost.
	type counts struct {
		requests, failures [3]int64
		lost               [2]int64
		left               int64 // of green-1
	}
	for _, c := range []struct {
		name, line string
		want       counts
	}{
		{"answered", `{"status":"200","side":"green","upstream":"127.0.0.1:3","statuses":"200","times":"0.012"}`, counts{requests: [3]int64{0, 0, 1}}},
		{"an error of the instance", `{"status":"503","side":"blue","upstream":"127.0.0.1:1","statuses":"503","times":"0.012"}`, counts{requests: [3]int64{1}}},
		{"tried at two", `{"status":"200","side":"blue","upstream":"127.0.0.1:1, 127.0.0.1:2","statuses":"502, 200","times":"-, 0.010"}`,
			counts{requests: [3]int64{0, 1}, failures: [3]int64{1}}},
		{"passed on within the proxy", `{"status":"200","side":"blue","upstream":"127.0.0.1:1 : 127.0.0.1:2","statuses":"502 : 200","times":"- : 0.010"}`,
			counts{requests: [3]int64{0, 1}, failures: [3]int64{1}}},
		{"nobody answered", `{"status":"502","side":"green","upstream":"127.0.0.1:3","statuses":"502","times":"-"}`,
			counts{failures: [3]int64{0, 0, 1}, lost: [2]int64{0, 1}}},
		{"the client left", `{"status":"499","side":"green","upstream":"127.0.0.1:3","statuses":"-","times":"-"}`, counts{left: 1}},
		{"nobody was asked", `{"status":"503","side":"green","upstream":"-","statuses":"-","times":"-"}`, counts{lost: [2]int64{1, 1}}},
		{"a page of the proxy's own", `{"status":"404","side":"green","upstream":"-","statuses":"-","times":"-"}`, counts{}},
		{"with the worker's name", `{"status":"200","route":"green-1","upstream":"http://127.0.0.1:3","statuses":"200","us":"12000"}`, counts{requests: [3]int64{0, 0, 1}}},
		{"another server", `{"status":"200","side":"green","upstream":"192.0.2.1:80","statuses":"200","times":"0.1"}`, counts{}},
	} {
		c.line = `{"at":"1795430400.125","client":"192.0.2.1","method":"GET","path":"/",` + c.line[1:]
		t.Run(c.name, func(t *testing.T) {
			log := filepath.Join(t.TempDir(), "access.log")
			// From before, which is not counted, and half a line, which is not yet.
			if err := os.WriteFile(log, []byte(c.line+"\n"), 0o600); err != nil {
				t.Fatal(err)
			}
			tally := New(place.Local{}, log)
			tally.Count(t.Context(), &reading.Front{}, sides) // it has begun now
			fronttest.Append(t, log, c.line+"\n"+c.line[:20])
			var r reading.Front
			if notice := tally.Count(t.Context(), &r, sides); notice != "" {
				t.Errorf("it says %q", notice)
			}
			var got counts
			for n, i := range append(r.Sides[split.Blue].Instances, r.Sides[split.Green].Instances...) {
				got.requests[n], got.failures[n] = i.Requests, i.Failures
				if i.Requests > 0 && len(i.Latency) == 0 {
					t.Errorf("%s has no times", i.Name)
				}
			}
			got.lost, got.left = [2]int64{r.Sides[0].Lost, r.Sides[1].Lost}, r.Sides[1].Instances[0].Left
			if got != c.want {
				t.Errorf("counted %+v, want %+v", got, c.want)
			}
			fronttest.Append(t, log, c.line[20:]+"\n")
			tally.Count(t.Context(), &r, sides)
			again := r.Sides[0].Instances[0].Requests + r.Sides[0].Instances[1].Requests + r.Sides[1].Instances[0].Requests
			if want := 2 * (c.want.requests[0] + c.want.requests[1] + c.want.requests[2]); again != want {
				t.Errorf("with the other half of a line %d requests, want %d", again, want)
			}
		})
	}
}

// A log that cannot be counted is said, and why.
func TestALogThatSaysNothing(t *testing.T) {
	var r reading.Front
	if notice := New(place.Local{}, "").Count(t.Context(), &r, [2][]reading.Server{}); !strings.Contains(notice, "name an access log") {
		t.Errorf("without a log it says %q", notice)
	}
	log := filepath.Join(t.TempDir(), "access.log")
	if err := os.WriteFile(log, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	tally := New(place.Local{}, log)
	tally.Count(t.Context(), &r, [2][]reading.Server{})
	fronttest.Append(t, log, `192.0.2.1 - - [23/Nov/2026:10:00:00 +0000] "GET / HTTP/1.1" 200 12`+"\n")
	if notice := tally.Count(t.Context(), &r, [2][]reading.Server{}); !strings.Contains(notice, "do not name upstream servers") {
		t.Errorf("of a log in another format it says %q", notice)
	}
}

// A log on a disk that hangs holds up nobody, and is said.
func TestALogThatHangs(t *testing.T) {
	log := filepath.Join(t.TempDir(), "access.log")
	if err := os.WriteFile(log, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	hang := make(chan struct{})
	defer close(hang)
	on := &placetest.Elsewhere{Root: "/", Before: func(act, _ string) error {
		if act == "follow" {
			<-hang
		}
		return nil
	}}
	var r reading.Front
	if notice := New(on, log).Count(t.Context(), &r, [2][]reading.Server{}); !strings.Contains(notice, "does not answer") || r.Blind == "" {
		t.Errorf("of a log that hangs it says %q, %q", notice, r.Blind)
	}
}
