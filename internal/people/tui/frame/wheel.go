package frame

import (
	"fmt"

	"vaiven/internal/keeper"
	"vaiven/internal/words"
)

// Wheel says who has the wheel, in texts of falling length. me is the identity of this screen's
// client.
func Wheel(s keeper.Snapshot, me string) []string {
	texts := wheel(s, me)
	if s.Crossing.Waiting.Any() && len(texts) > 0 { // the next one is of interest to whoever watches
		return append([]string{s.Crossing.Waiting.Version + " waits, " + texts[0]}, texts...)
	}
	return texts
}

func wheel(s keeper.Snapshot, me string) []string {
	w := s.Crossing.Wheel
	others := ""
	if s.Watching > 1 {
		others = fmt.Sprintf(", %d watch", s.Watching)
	}
	others += words.Followed(s.Standbys)
	switch since := w.Since.Local().Format("15:04"); {
	case s.At.IsZero():
		return nil
	case w.Vacant():
		return []string{"wheel free" + others, "wheel free"}
	case w.Client == me:
		return []string{"you steer since " + since + others, "you steer"}
	default:
		return []string{words.Person(w.By, w.From) + " steers since " + since + others, w.By + " steers since " + since,
			w.By + " steers"}
	}
}
