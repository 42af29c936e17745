package calendar

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Hours are spans of the week. The zero value is always.
type Hours struct {
	Zone  *time.Location
	Spans []Span
}

// Span is from one time of day to another, on some days of the week. One that ends no later than it begins ends on the
// next day.
type Span struct {
	Days     [7]bool // by [time.Weekday]
	From, To time.Duration
}

// Closed is a time in which nothing moves, such as a holiday.
type Closed struct {
	Name     string
	From, To time.Time // the last not included
}

// Limited reports whether there is any time that is not of them.
func (h Hours) Limited() bool { return len(h.Spans) > 0 }

var names = []string{"Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"}

// ParseSpan reads "Mon-Fri 09:00-16:30", "Sat 10:00-12:00" and "Mon, Wed 22:00-02:00".
func ParseSpan(text string) (Span, error) {
	wrong := fmt.Errorf("%q is no span of a week: want such as \"Mon-Fri 09:00-16:30\" or \"Mon, Wed 22:00-02:00\"", text)
	at := strings.LastIndex(text, " ")
	if at < 0 {
		return Span{}, wrong
	}
	var s Span
	for part := range strings.SplitSeq(text[:at], ",") {
		first, last, several := strings.Cut(strings.TrimSpace(part), "-")
		from := slices.Index(names, first)
		to := from
		if several {
			to = slices.Index(names, last)
		}
		if from < 0 || to < 0 {
			return Span{}, wrong
		}
		for day := from; ; day = (day + 1) % 7 {
			if s.Days[day] = true; day == to {
				break
			}
		}
	}
	from, to, ok := strings.Cut(text[at+1:], "-")
	var errFrom, errTo error
	s.From, errFrom = ofDay(from)
	s.To, errTo = ofDay(to)
	if !ok || errFrom != nil || errTo != nil {
		return Span{}, wrong
	}
	return s, nil
}

// ofDay reads "09:30", and "24:00".
func ofDay(text string) (time.Duration, error) {
	if text == "24:00" {
		return 24 * time.Hour, nil
	}
	at, err := time.Parse("15:04", text)
	return time.Duration(at.Hour())*time.Hour + time.Duration(at.Minute())*time.Minute, err
}

// String is as ParseSpan reads it.
func (s Span) String() string {
	var days []string
	for n := range 7 {
		if day := (n + 1) % 7; s.Days[day] { // from Monday on
			days = append(days, names[day])
		}
	}
	of := func(d time.Duration) string {
		return fmt.Sprintf("%02d:%02d", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%s %s-%s", strings.Join(days, ", "), of(s.From), of(s.To))
}

// reach is how far it is looked for the next time of them.
const reach = 400

// Open reports whether a time is of them. If it is not, until is when they begin again, zero where they do not within a
// year, and why names a closed day, "" where there is none.
func (h Hours) Open(at time.Time, closed []Closed) (open bool, until time.Time, why string) {
	if why = h.closedAt(at, closed); why == "" && h.within(at) {
		return true, time.Time{}, ""
	}
	day := at.In(h.zone())
	for n := range reach {
		for _, s := range h.begins(day.AddDate(0, 0, n), closed) {
			if s.After(at) && h.within(s) && h.closedAt(s, closed) == "" {
				return false, s, why
			}
		}
	}
	return false, time.Time{}, why
}

// begins are the times of a day at which something may begin, in order: spans, and the ends of what is closed.
func (h Hours) begins(day time.Time, closed []Closed) (list []time.Time) {
	year, month, date := day.Date()
	for _, s := range h.Spans {
		if s.Days[day.Weekday()] {
			list = append(list, clock(year, month, date, s.From, h.zone()))
		}
	}
	for _, c := range closed {
		if y, m, d := c.To.In(h.zone()).Date(); y == year && m == month && d == date {
			list = append(list, c.To)
		}
	}
	if len(h.Spans) == 0 && len(list) == 0 {
		list = append(list, clock(year, month, date, 0, h.zone()))
	}
	slices.SortFunc(list, time.Time.Compare)
	return list
}

// clock is a time of day as clocks there show it, also where they were set that day.
func clock(year int, month time.Month, date int, of time.Duration, zone *time.Location) time.Time {
	return time.Date(year, month, date, int(of.Hours()), int(of.Minutes())%60, 0, 0, zone)
}

// within reports whether a time is in a span, whatever is closed.
func (h Hours) within(at time.Time) bool {
	if len(h.Spans) == 0 {
		return true
	}
	at = at.In(h.zone())
	for _, s := range h.Spans {
		for _, back := range []int{0, 1} { // it may have begun the day before
			day := at.AddDate(0, 0, -back)
			if !s.Days[day.Weekday()] {
				continue
			}
			year, month, date := day.Date()
			from, to := clock(year, month, date, s.From, h.zone()), clock(year, month, date, s.To, h.zone())
			if s.To <= s.From {
				to = clock(year, month, date+1, s.To, h.zone())
			}
			if !at.Before(from) && at.Before(to) {
				return true
			}
		}
	}
	return false
}

// closedAt is the name of what is closed at a time, "" if nothing is.
func (h Hours) closedAt(at time.Time, closed []Closed) string {
	for _, c := range closed {
		if !at.Before(c.From) && at.Before(c.To) {
			if c.Name == "" {
				return "closed"
			}
			return c.Name
		}
	}
	return ""
}

func (h Hours) zone() *time.Location {
	if h.Zone == nil {
		return time.UTC
	}
	return h.Zone
}
