package split

import (
	"strings"
	"testing"
)

// What people type is the new side's while something crosses, the named side's always, and nobody's otherwise.
func TestSided(t *testing.T) {
	for _, c := range []struct {
		text            string
		toGreen, toBlue Share
		alone           Share // with no crossing; -1 if it is refused
	}{
		{"25", 2500, 7500, -1}, {"25 %", 2500, 7500, -1}, {"1 in 4", 2500, 7500, -1}, {"12.5", 1250, 8750, -1},
		{"5 % on green", 500, 500, 500}, {"5 on blue", 9500, 9500, 9500}, {"1 in 10 on blue", 9000, 9000, 9000},
		{"green", Whole, Whole, Whole}, {"blue", 0, 0, 0}, {" 100 ", Whole, 0, -1}, {"0", 0, Whole, -1},
	} {
		s, err := ParseSided(c.text)
		if err != nil {
			t.Errorf("%q: %v", c.text, err)
			continue
		}
		if got, err := s.OnGreen(Green, true); got != c.toGreen || err != nil {
			t.Errorf("%q on the way to green is %v, %v", c.text, got, err)
		}
		if got, err := s.OnGreen(Blue, true); got != c.toBlue || err != nil {
			t.Errorf("%q on the way to blue is %v, %v", c.text, got, err)
		}
		got, err := s.OnGreen(Green, false)
		if (err != nil) != (c.alone < 0) || err == nil && got != c.alone {
			t.Errorf("%q with no crossing is %v, %v", c.text, got, err)
		}
	}
	s, _ := ParseSided("25")
	if _, err := s.OnGreen(Green, false); !strings.Contains(err.Error(), `"25 % on green" (75 % on blue)`) ||
		!strings.Contains(err.Error(), `"25 % on blue" (75 % on green)`) {
		t.Errorf("both readings are not said: %v", err)
	}
	for _, text := range []string{"", "much", "25 % on red", "on green", "101", "-5", "5 % at green", "% on green"} {
		if s, err := ParseSided(text); err == nil {
			t.Errorf("%q is read as %+v", text, s)
		}
	}
}
