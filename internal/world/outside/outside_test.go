package outside

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"vaiven/internal/core/calendar"
)

func write(t *testing.T, text string) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "said")
	if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return name
}

func TestEmbargoes(t *testing.T) {
	until := time.Date(2026, 12, 1, 8, 0, 0, 0, time.UTC)
	for text, want := range map[string]calendar.Embargo{
		"": {On: true}, "\n": {On: true}, "embargo: no\n": {},
		"why: the regatta\nby: harbour office\nuntil: 2026-12-01T08:00:00Z\n": {On: true, Why: "the regatta",
			By: "harbour office", Until: until},
	} {
		if got, err := Embargo(t.Context(), write(t, text)); err != nil || got.On != want.On || got.Why != want.Why ||
			got.By != want.By || !got.Until.Equal(want.Until) {
			t.Errorf("%q is %+v, %v", text, got, err)
		}
	}
	if got, err := Embargo(t.Context(), filepath.Join(t.TempDir(), "none")); err != nil || got.On {
		t.Errorf("without a file: %+v, %v", got, err)
	}
	for _, text := range []string{"closed: yes\n", "until: soon\n", "[", strings.Repeat("#", most+1)} {
		if got, err := Embargo(t.Context(), write(t, text)); err == nil {
			t.Errorf("%.20q is %+v", text, got)
		}
	}
	status, text := http.StatusOK, "why: the regatta"
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		_, _ = w.Write([]byte(text))
	}))
	defer server.Close()
	if got, err := Embargo(t.Context(), server.URL); err != nil || got.Why != "the regatta" {
		t.Errorf("a page: %+v, %v", got, err)
	}
	status = http.StatusNotFound
	if got, err := Embargo(t.Context(), server.URL); err != nil || got.On {
		t.Errorf("no page: %+v, %v", got, err)
	}
	status = http.StatusBadGateway
	if got, err := Embargo(t.Context(), server.URL); err == nil {
		t.Errorf("a page that is ill: %+v", got)
	}
	server.Close()
	if got, err := Embargo(t.Context(), server.URL); err == nil {
		t.Errorf("nobody there: %+v", got)
	}
}

const days = `BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//Linea Vessa//closed days//EN
BEGIN:VEVENT
UID:1
DTSTAMP:20260101T000000Z
DTSTART;VALUE=DATE:20261224
DTEND;VALUE=DATE:20261227
SUMMARY:Christmas
END:VEVENT
BEGIN:VEVENT
UID:2
DTSTAMP:20260101T000000Z
DTSTART;VALUE=DATE:20200602
RRULE:FREQ=YEARLY
SUMMARY:St Elmo
END:VEVENT
BEGIN:VEVENT
UID:3
DTSTAMP:20260101T000000Z
DTSTART;TZID=Europe/Rome:20261130T120000
DTEND;TZID=Europe/Rome:20261130T140000
SUMMARY:the harbour's drill
END:VEVENT
END:VCALENDAR
`

func TestClosedDays(t *testing.T) {
	rome, err := time.LoadLocation("Europe/Rome")
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 11, 29, 8, 0, 0, 0, time.UTC)
	list, err := Closed(t.Context(), write(t, strings.ReplaceAll(days, "\n", "\r\n")), rome, now)
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	for _, c := range list {
		const as = "2006-01-02 15:04"
		got[c.Name] = c.From.In(rome).Format(as) + " to " + c.To.In(rome).Format(as)
	}
	for name, want := range map[string]string{
		"Christmas": "2026-12-24 00:00 to 2026-12-27 00:00", "St Elmo": "2027-06-02 00:00 to 2027-06-03 00:00",
		"the harbour's drill": "2026-11-30 12:00 to 2026-11-30 14:00",
	} {
		if got[name] != want {
			t.Errorf("%s is from %q, want %q", name, got[name], want)
		}
	}
	for _, text := range []string{"", "no calendar", "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"} {
		if list, err := Closed(t.Context(), write(t, text), rome, now); err == nil {
			t.Errorf("%.20q is %+v", text, list)
		}
	}
	if _, err := Closed(t.Context(), "/nowhere.ics", rome, now); err == nil {
		t.Error("without a file no day is closed")
	}
}
