package asked

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/world/place"
)

// An instance that does not tell once is not one that has answered nothing, and what the others tell is known all the
// same.
func TestOneThatDoesNotTell(t *testing.T) {
	page := func(ill *bool) string {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			if *ill {
				w.WriteHeader(http.StatusServiceUnavailable)
				return
			}
			_, _ = w.Write([]byte("sailings_total{code=\"200\"} 40\nsailings_total{code=\"500\"} 2\nsailings_open 3\n"))
		}))
		t.Cleanup(s.Close)
		return strings.TrimPrefix(s.URL, "http://")
	}
	var ill, never bool
	one, other := page(&ill), page(&never)
	c := New(place.Local{}, Counts{Path: "/metrics", Requests: "sailings_total", Label: "code", Open: "sailings_open"})
	count := func() (a, b reading.Count, blind string) {
		r := reading.Front{}
		r.Sides[split.Blue].Instances = []reading.Count{{Server: reading.Server{Name: "blue-1", Address: one}},
			{Server: reading.Server{Name: "blue-2", Address: other}}}
		c.Count(t.Context(), &r)
		return r.Sides[split.Blue].Instances[0], r.Sides[split.Blue].Instances[1], r.Blind
	}
	for _, ill = range []bool{false, true, false} {
		a, b, blind := count()
		if a.Untold != ill || !ill && (a.Requests != 42 || a.Status[5] != 2 || a.Open != 3) ||
			ill != strings.Contains(blind, "blue-1 does not tell what it answers") {
			t.Errorf("ill %v: it tells %+v, %q", ill, a, blind)
		}
		if b.Untold || b.Requests != 42 {
			t.Errorf("ill %v: the other one tells %+v", ill, b)
		}
	}
}
