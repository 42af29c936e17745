package tryout

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
)

// log writes a log in the Combined format or as JSON.
func log(r *rand.Rand, w io.Writer, lines, clients int, asJSON bool) {
	b := bufio.NewWriterSize(w, 64<<10)
	start := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	for n := range lines {
		at := start.Add(time.Duration(n) * 20 * time.Millisecond)
		c := r.IntN(clients)
		if asJSON {
			fmt.Fprintf(b, `{"time":%q,"client":"10.%d.%d.%d","status":200,"path":"/sailings","cookie_passenger":"p%d"}`+"\n", at.Format(time.RFC3339Nano), c>>16, c>>8&255, c&255, c%97)
		} else {
			fmt.Fprintf(b, "10.%d.%d.%d - - [%s] \"GET /sailings HTTP/1.1\" 200 512 \"-\" \"browser %d\"\n", c>>16,
				c>>8&255, c&255, at.Format("02/Jan/2006:15:04:05 -0700"), c%7)
		}
	}
	b.Flush()
}

func keys(t *testing.T, texts ...string) []Key {
	t.Helper()
	var list []Key
	for _, text := range texts {
		k, err := ParseKey(text)
		if err != nil || k.String() != text {
			t.Fatalf("%q is read as %q, %v", text, k, err)
		}
		list = append(list, k)
	}
	return list
}

func TestKeysOnALog(t *testing.T) {
	rnd := testkit.Rand(t)
	for _, asJSON := range []bool{false, true} {
		var text strings.Builder
		log(rnd, &text, 20_000, 600, asJSON)
		text.WriteString("something else\n")
		r, err := Read(t.Context(), "access.log", strings.NewReader(text.String()),
			keys(t, "random", "client", "client /24", "clock", "cookie passenger", "header User-Agent"),
			[]split.Share{2500, 5000})
		if err != nil || r.Lines != 20_000 || r.Unread != 1 || len(r.Keys) != 6 {
			t.Fatalf("%+v, %v", r, err)
		}
		by := map[string]KeyReport{}
		for _, k := range r.Keys {
			by[k.Key] = k
		}
		// What each client gets is known: the same place that a front finds.
		on := 0.0
		for c := range 600 {
			if split.PlaceOf(fmt.Sprintf("10.%d.%d.%d", c>>16, c>>8&255, c&255)).Side(2500) == split.Green {
				on++
			}
		}
		if got := by["client"].Shares[0]; math.Abs(got.Achieved-on/600) > 0.02 || got.Split != 0 ||
			by["client"].Clients != 600 {
			t.Errorf("client: %+v, want about %.3f on green", got, on/600)
		}
		if got := by["random"].Shares[0]; math.Abs(got.Achieved-0.25) > 0.02 || got.Split < 500 || got.Bursts > 0 {
			t.Errorf("random: %+v", got)
		}
		if got := by["clock"].Shares[1]; got.Bursts != time.Second {
			t.Errorf("clock: %+v", got)
		}
		if got := by["client /24"].Clients; got != 600 {
			t.Errorf("client /24: %d clients", got)
		}
		if got, want := by["cookie passenger"], int64(97); asJSON && (got.Missing != 0 || got.Clients != want) ||
			!asJSON && got.Missing != 20_000 {
			t.Errorf("cookie: %d missing, %d clients", got.Missing, got.Clients)
		}
	}
}

func TestWhatIsNoLog(t *testing.T) {
	if _, err := Read(t.Context(), "x", strings.NewReader("one\ntwo\n"), keys(t, "random"),
		[]split.Share{1}); !errors.Is(err, ErrNoLog) {
		t.Errorf("no log: %v", err)
	}
	if r, err := Read(t.Context(), "x", strings.NewReader(""), keys(t, "random"), []split.Share{1}); err != nil ||
		r.Lines != 0 {
		t.Errorf("an empty log: %+v, %v", r, err)
	}
	for _, text := range []string{"", "dice", "field ", "cookie", "client /99"} {
		if k, err := ParseKey(text); err == nil {
			t.Errorf("%q is the key %v", text, k)
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	var text strings.Builder
	log(testkit.Rand(t), &text, 2*checkEvery, 5, false)
	if _, err := Read(ctx, "x", strings.NewReader(text.String()), keys(t, "random"), []split.Share{1}); !errors.Is(err,
		context.Canceled) {
		t.Errorf("cancelled: %v", err)
	}
}

// A million lines a round, with the usual keys; the log is made as it is read.
func BenchmarkRead(b *testing.B) {
	var text strings.Builder
	log(rand.New(rand.NewPCG(1, 1)), &text, 100_000, 20_000, false)
	var list []Key
	for _, name := range Usual {
		k, _ := ParseKey(name)
		list = append(list, k)
	}
	b.SetBytes(int64(text.Len()))
	b.ReportAllocs()
	for b.Loop() {
		if _, err := Read(b.Context(), "x", strings.NewReader(text.String()), list,
			[]split.Share{500, 2500, 5000}); err != nil {
			b.Fatal(err)
		}
	}
}

// Of a log that has grown large the end is read.
func TestClientsOfALargeLog(t *testing.T) {
	name := filepath.Join(t.TempDir(), "access.log")
	f, err := os.Create(name)
	if err != nil {
		t.Fatal(err)
	}
	w := bufio.NewWriter(f)
	line := func(client string, n int) {
		fmt.Fprintf(w, "%s - - [23/Nov/2026:21:%02d:%02d +0000] \"GET /sailings HTTP/1.1\" 200 5 \"-\" \"%s\"\n",
			client, n/60%60, n%60, strings.Repeat("x", 2000))
	}
	for range 4000 {
		line("192.0.2.1", 0)
	}
	for n := range 20_000 {
		line(fmt.Sprintf("198.51.100.%d", n%100), n/40)
	}
	if err := errors.Join(w.Flush(), f.Close()); err != nil {
		t.Fatal(err)
	}
	got, err := Clients(t.Context(), name)
	if err != nil || got.Of != 100 || len(got.Asks) != 100 {
		t.Errorf("%d clients, %d of them with what they ask, %v", got.Of, len(got.Asks), err)
	}
	if _, err := Clients(t.Context(), name+".none"); err == nil {
		t.Error("a log that is not there has clients")
	}
}
