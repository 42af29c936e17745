package calendar_test

import (
	"testing"
	"time"
	_ "time/tzdata"

	"vaiven/internal/core/calendar"
)

func parsed(t *testing.T, zone string, spans ...string) calendar.Hours {
	t.Helper()
	in, err := time.LoadLocation(zone)
	if err != nil {
		t.Fatal(err)
	}
	h := calendar.Hours{Zone: in}
	for _, text := range spans {
		s, err := calendar.ParseSpan(text)
		if err != nil {
			t.Fatal(err)
		}
		h.Spans = append(h.Spans, s)
	}
	return h
}

func TestWhenTrafficMayMove(t *testing.T) {
	h := parsed(t, "Europe/Rome", "Mon-Fri 09:00-16:30", "Sat 10:00-12:00", "Wed 22:00-02:00")
	holiday := []calendar.Closed{{Name: "St Nicholas", From: day(t, h, "2026-12-07"), To: day(t, h, "2026-12-08")}}
	for at, want := range map[string]string{ // of that week, and until when
		"2026-11-30 09:00": "", "2026-11-30 16:29": "", "2026-11-30 08:59": "2026-11-30 09:00",
		"2026-11-30 16:30": "2026-12-01 09:00", "2026-12-02 23:30": "", "2026-12-03 01:59": "",
		"2026-12-03 02:00": "2026-12-03 09:00", "2026-12-05 11:00": "", "2026-12-05 12:00": "2026-12-08 09:00",
		"2026-12-07 10:00": "2026-12-08 09:00",
	} {
		open, until, why := h.Open(minute(t, h, at), holiday)
		got := ""
		if !open {
			got = until.In(h.Zone).Format("2006-01-02 15:04")
		}
		if got != want || (why == "St Nicholas") != (at == "2026-12-07 10:00") {
			t.Errorf("at %s: until %q (%s), want %q", at, got, why, want)
		}
	}
	if open, _, _ := (calendar.Hours{}).Open(time.Now(), nil); !open {
		t.Error("without hours it is not always")
	}
	if open, until, _ := (calendar.Hours{Zone: h.Zone}).Open(minute(t, h, "2026-12-07 10:00"), holiday); open ||
		!until.Equal(holiday[0].To) {
		t.Errorf("with closed days alone: %v, %v", open, until)
	}
	never := []calendar.Closed{{From: day(t, h, "2026-01-01"), To: day(t, h, "2036-01-01")}}
	if open, until, _ := h.Open(minute(t, h, "2026-12-02 10:00"), never); open || !until.IsZero() {
		t.Errorf("where it never opens: %v, %v", open, until)
	}
}

// On the day on which clocks are set, a time of day is what clocks show.
func TestTheDayOnWhichClocksAreSet(t *testing.T) {
	h := parsed(t, "Europe/Rome", "Sun 09:00-10:00")
	for _, date := range []string{"2026-03-29", "2026-10-25"} {
		if open, _, _ := h.Open(minute(t, h, date+" 09:30"), nil); !open {
			t.Errorf("on %s at half past nine it is closed", date)
		}
		if open, until, _ := h.Open(minute(t, h, date+" 08:30"), nil); open || until.In(h.Zone).Hour() != 9 {
			t.Errorf("on %s at half past eight: %v, %v", date, open, until)
		}
	}
}

func TestWhatIsNoSpan(t *testing.T) {
	for _, text := range []string{"", "Mon", "09:00-10:00", "Mon 9-10", "Mon-Funday 09:00-10:00", "mon 09:00-10:00",
		"Mon 25:00-26:00", "Mon 09:00"} {
		if s, err := calendar.ParseSpan(text); err == nil {
			t.Errorf("%q is %v", text, s)
		}
	}
	if s, err := calendar.ParseSpan("Fri-Mon 00:00-24:00"); err != nil || s.String() != "Mon, Fri, Sat, Sun 00:00-24:00" {
		t.Errorf("it is %v, %v", s, err)
	}
}

func minute(t *testing.T, h calendar.Hours, text string) time.Time {
	t.Helper()
	at, err := time.ParseInLocation("2006-01-02 15:04", text, h.Zone)
	if err != nil {
		t.Fatal(err)
	}
	return at
}

func day(t *testing.T, h calendar.Hours, text string) time.Time { return minute(t, h, text+" 00:00") }
