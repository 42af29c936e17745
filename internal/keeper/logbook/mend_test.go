package logbook

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"vaiven/internal/core/crossing"
	"vaiven/internal/words"
)

// A logbook that is damaged in any way is known for one, what can be read of it is said, and after a person's word
// there is a new one, with the old one beside it.
func TestMend(t *testing.T) {
	for _, c := range []struct {
		name   string
		spoil  func([]byte) []byte
		events bool // some can be read
	}{
		{"empty", func([]byte) []byte { return nil }, false},
		{"something else", func([]byte) []byte { return []byte(strings.Repeat("not a book at all ", 300)) }, false},
		{"the beginning overwritten", func(b []byte) []byte { copy(b, make([]byte, 100)); return b }, false},
		{"cut in half", func(b []byte) []byte { return b[:len(b)/2/4096*4096] }, false},
		{"an entry overwritten", func(b []byte) []byte {
			return bytes.Replace(b, []byte(`"seq":5,`), []byte(`"seq"!5,`), -1)
		}, true},
		{"a page overwritten", func(b []byte) []byte {
			copy(b[len(b)-4096:],
				bytes.Repeat([]byte{0xaa}, 4096))
			return b
		}, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "logbook.db")
			b := open(t, file)
			s := write(t, b, crossing.State{}, begin(1))
			for range 30 {
				s = write(t, b, s, always(crossing.Freeze{}), always(crossing.Resume{}))
			}
			if r, err := Look(t.Context(), file); err != nil || r.Wrong != "" || r.Number != 1 || r.Events < 60 ||
				r.Ended.Stage != crossing.Raising {
				t.Fatalf("whole it is %+v, %v", r, err)
			}
			b.Close()
			data, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(file, c.spoil(data), 0o600); err != nil {
				t.Fatal(err)
			}
			spoilt, _ := os.ReadFile(file)
			r, err := Look(t.Context(), file)
			if err != nil || r.Wrong == "" || (r.Events > 0) != c.events {
				t.Fatalf("it is %+v, %v", r, err)
			}
			if opened, err := Open(file); err == nil {
				_, _, err = opened.Load(t.Context())
				opened.Close()
				if err == nil && c.name != "a page overwritten" { // which is one of long ago
					t.Error("it is read as if nothing were wrong")
				}
			} else if !errors.Is(err, ErrDamaged) {
				t.Errorf("it is opened with %v", err)
			}
			aside, err := Mend(t.Context(), file, "marit", start, r)
			if err != nil {
				t.Fatal(err)
			}
			if kept, err := os.ReadFile(aside); err != nil || !bytes.Equal(kept, spoilt) {
				t.Errorf("of the old one %d bytes are kept, %v", len(kept), err)
			}
			fresh := open(t, file)
			s, _, err = fresh.Load(t.Context())
			all, _, errActs := fresh.Everything(t.Context())
			acts := words.Acts(all)
			if err != nil || errActs != nil || s.Number != 0 || len(acts) != 1 || acts[0].By != "marit" ||
				!strings.Contains(acts[0].Outcome, aside) {
				t.Errorf("the new one has %+v, %v, %v", acts, err, errActs)
			}
			write(t, fresh, s, begin(1))
			fresh.Close()
			left, _ := filepath.Glob(filepath.Join(filepath.Dir(file), "*"))
			for _, name := range left {
				if name != file && name != aside && !strings.HasSuffix(name, "logbook.db-journal") &&
					name != aside+"-journal" {
					t.Errorf("%s is left", name)
				}
			}
		})
	}
	if _, err := Mend(t.Context(), filepath.Join(t.TempDir(), "none.db"), "marit", start,
		Rest{Wrong: "gone"}); err == nil {
		t.Error("one that is not there was mended")
	}
}
