package headless

import (
	"strings"
	"testing"

	"vaiven/internal/core/reading"
)

// What came and is nowhere is put down to what a broker does not count when a consumer ends, as far as that goes, and
// not beyond.
func TestWhatABrokerDoesNotCount(t *testing.T) {
	for says, q := range map[string]reading.Queue{
		"all that was published is done, died or is still there\n": {Published: 145, Done: 140, Dead: 2,
			Ready: 3, Redelivered: 8},
		"but for 6: as many were given out again to others": {Published: 145, Done: 139,
			Redelivered: 8},
		"the numbers do not agree": {Published: 145, Done: 139,
			Redelivered: 5},
		"differ by 0 at blue and -1 at green: messages expired or were purged": {Published: 145, Done: 146,
			Redelivered: 8},
	} {
		var text strings.Builder
		tally := Tally{Still: true}
		tally.take(reading.Front{Sides: [2]reading.Side{{Queue: &reading.Queue{}}, {Queue: &q}}})
		if err := tally.Print(&text); err != nil {
			t.Fatal(err)
		}
		if !tally.Agrees {
			text.WriteString(tally.Because())
		}
		if !strings.Contains(text.String(), says) {
			t.Errorf("of %+v it is said: %s; want %s", q, text.String(), says)
		}
	}
}
