package split

import (
	"errors"
	"fmt"
	"strings"
)

// Sided is a share as a person says it: of a side, or of the one that is meant while something crosses.
type Sided struct {
	Part Share // of the requests, on the side
	Side Side  // only if Named
	// the side was said
	Named bool
}

// ParseSided reads "25", "25 %", "1 in 4", "25 % on green", or "blue" for all of them.
func ParseSided(text string) (Sided, error) {
	t := strings.TrimSpace(text)
	if t == "" {
		return Sided{}, errors.New("say a share, such as \"25 % on green\"")
	}
	if side, err := ParseSide(t); err == nil {
		return Sided{Whole, side, true}, nil
	}
	var s Sided
	if part, side, found := strings.Cut(t, " on "); found {
		of, err := ParseSide(strings.TrimSpace(side))
		if err != nil {
			return Sided{}, err
		}
		t, s.Side, s.Named = strings.TrimSpace(part), of, true
	}
	if !strings.ContainsAny(t, "% ") {
		t += " %"
	}
	part, err := ParseShare(t)
	s.Part = part
	return s, err
}

// OnGreen is the share on green. A number alone is the new side's while something crosses to it; with no crossing it
// could be either side's, and is refused.
func (s Sided) OnGreen(target Side, crossing bool) (Share, error) {
	switch {
	case s.Named:
		return Toward(s.Side, s.Part), nil
	case crossing:
		return Toward(target, s.Part), nil
	}
	rest := Whole - s.Part
	return 0, fmt.Errorf("%v of the requests on which side? Nothing is crossing: say \"%[1]v on green\" (%[2]v on "+
		"blue) or "+
		"\"%[1]v on blue\" (%[2]v on green)", s.Part, rest)
}
