package split

import (
	"fmt"
	"math/bits"
	"strconv"
	"strings"
)

// Side is one of the two stacks of a service. Neither is "the old one": the
// sides take turns at being live.
type Side uint8

// The sides, in the order in which they are drawn: blue left, green right.
const (
	Blue Side = iota
	Green
)

// Sides lists both, blue first.
var Sides = [2]Side{Blue, Green}

// Other is the opposite side.
func (s Side) Other() Side { return s ^ 1 }

// String is "blue" or "green".
func (s Side) String() string {
	if s == Green {
		return "green"
	}
	return "blue"
}

// MarshalText makes a Side readable in JSON, also as the key of an object.
func (s Side) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText accepts what MarshalText writes and nothing else.
func (s *Side) UnmarshalText(text []byte) error {
	side, err := ParseSide(string(text))
	if err != nil {
		return err
	}
	*s = side
	return nil
}

// ParseSide reads "blue" or "green".
func ParseSide(text string) (Side, error) {
	switch text {
	case "blue":
		return Blue, nil
	case "green":
		return Green, nil
	}
	return Blue, fmt.Errorf("%q is not a side: want blue or green", text)
}

// Share is the part of all requests that goes to green, in basis points: 0 is
// none, [Whole] is all of them. Integers keep every share that a plan can name
// exact.
type Share int

// Units of a share.
const (
	BasisPoint Share = 1
	Percent    Share = 100
	Whole      Share = 10_000
)

// Valid reports whether the share lies between 0 and 100 %.
func (s Share) Valid() bool { return s >= 0 && s <= Whole }

// Coarse is how far a share may lie from the one that was asked for, because a front knows weights alone.
const Coarse = 5 * Percent

// Near reports whether a share can be the nearest that a front can do for another: weights are coarse, but not that
// coarse, and exact at both ends.
func (s Share) Near(asked Share) bool {
	if asked == 0 || asked == Whole {
		return s == asked
	}
	return max(s-asked, asked-s) <= Coarse
}

// Of is the share of requests that the given side gets when s go to green.
func (s Share) Of(side Side) Share {
	if side == Green {
		return s
	}
	return Whole - s
}

// Toward is the share on green when the given side gets part of all requests.
// It is the inverse of [Share.Of].
func Toward(side Side, part Share) Share { return part.Of(side) }

// Alone is the side that all requests go to, and false if they are split.
func (s Share) Alone() (Side, bool) {
	switch s {
	case 0:
		return Blue, true
	case Whole:
		return Green, true
	}
	return 0, false
}

// Fraction is the share as a number between 0 and 1.
func (s Share) Fraction() float64 { return float64(s) / float64(Whole) }

// String is the share in percent with as many decimals as it needs: "25 %",
// "0.5 %", "12.34 %".
func (s Share) String() string {
	sign := ""
	if s < 0 {
		sign, s = "-", -s
	}
	text := strconv.Itoa(int(s / Percent))
	if rest := int(s % Percent); rest != 0 {
		text += strings.TrimRight(fmt.Sprintf(".%02d", rest), "0")
	}
	return sign + text + " %"
}

// ParseShare reads a share as people write it: "5 %", "12.5%", or "1 in 20".
// A percentage has at most two decimals, so that nothing is rounded.
func ParseShare(text string) (Share, error) {
	t := strings.TrimSpace(text)
	if part, whole, ok := strings.Cut(t, " in "); ok {
		return parseOneIn(strings.TrimSpace(part), strings.TrimSpace(whole), text)
	}
	number, ok := strings.CutSuffix(t, "%")
	if !ok {
		return 0, fmt.Errorf("%q is not a share: want a percentage like \"5 %%\" or a part like \"1 in 20\"", text)
	}
	number = strings.TrimSpace(number)
	units, decimals, _ := strings.Cut(number, ".")
	if len(decimals) > 2 {
		return 0, fmt.Errorf("%q is finer than a hundredth of a percent", text)
	}
	digits := units + (decimals + "00")[:2]
	value, err := strconv.ParseUint(digits, 10, 32)
	if err != nil || units == "" {
		return 0, fmt.Errorf("%q is not a share: want a percentage like \"5 %%\" or a part like \"1 in 20\"", text)
	}
	if value > uint64(Whole) {
		return 0, fmt.Errorf("%q is more than 100 %%", text)
	}
	return Share(value), nil
}

func parseOneIn(part, whole, text string) (Share, error) {
	p, errPart := strconv.ParseUint(part, 10, 32)
	w, errWhole := strconv.ParseUint(whole, 10, 32)
	if errPart != nil || errWhole != nil || w == 0 {
		return 0, fmt.Errorf("%q is not a part: want whole numbers like \"1 in 20\"", text)
	}
	share, err := FromWeights(w-min(p, w), p)
	if p > w || err != nil {
		return 0, fmt.Errorf("%q is more than the whole", text)
	}
	return share, nil
}

// FromWeights is the share on green that two relative weights stand for,
// rounded to the nearest basis point. Weights mean nothing but their ratio, so
// two zeros are an error.
func FromWeights(blue, green uint64) (Share, error) {
	if blue == 0 && green == 0 {
		return 0, fmt.Errorf("both weights are zero: at least one side needs a weight")
	}
	sum, carry := bits.Add64(blue, green, 0)
	if carry != 0 {
		return 0, fmt.Errorf("weights %d and %d are too large to add", blue, green)
	}
	hi, lo := bits.Mul64(green, uint64(Whole))
	lo, carry = bits.Add64(lo, sum/2, 0)
	quotient, _ := bits.Div64(hi+carry, lo, sum)
	return Share(quotient), nil
}

// Place is where a key falls in [0, 1), as a 64-bit fraction.
type Place uint64

// PlaceOf hashes a key to its place: FNV-1a over the bytes, then the finaliser
// of SplitMix64 (Steele, Lea, Flood 2014), which spreads keys that differ only
// in their last characters over the whole range. The result is the same in
// every process and on every machine; it must never change, or clients would
// change sides.
func PlaceOf(key string) Place {
	const offset, prime = 14695981039346656037, 1099511628211
	h := uint64(offset)
	for i := range len(key) {
		h = (h ^ uint64(key[i])) * prime
	}
	h = (h ^ h>>30) * 0xbf58476d1ce4e5b9
	h = (h ^ h>>27) * 0x94d049bb133111eb
	return Place(h ^ h>>31)
}

// Point is a place in basis points, 0 to 9999: it is on green while the share is larger.
func Point(p Place) Share {
	point, _ := bits.Mul64(uint64(p), uint64(Whole))
	return Share(point)
}

// Side is green if the place lies below the share on green, else blue.
func (p Place) Side(onGreen Share) Side {
	if Point(p) < onGreen {
		return Green
	}
	return Blue
}
