package calendar

import (
	"fmt"
	"time"
)

// Clock is a time of every day in a zone. The zero value is none.
type Clock struct {
	Zone *time.Location
	At   time.Duration // since midnight
}

// Any reports whether there is one.
func (c Clock) Any() bool { return c.Zone != nil }

// After is the first such time that is not before another; that one itself where there is none. A time that a day does
// not have, because its clocks are put forward, is as much later.
func (c Clock) After(t time.Time) time.Time {
	if !c.Any() {
		return t
	}
	y, m, d := t.In(c.Zone).Date()
	at := clock(y, m, d, c.At, c.Zone)
	for n := 1; at.Before(t); n++ {
		at = clock(y, m, d+n, c.At, c.Zone)
	}
	return at
}

// ParseClock reads a time of day such as "22:30".
func ParseClock(text string) (time.Duration, error) {
	at, err := ofDay(text)
	if err == nil && at >= 24*time.Hour {
		err = fmt.Errorf("%q is no time of day: want such as 22:30", text)
	}
	return at, err
}
