package evidence

import "math"

// Saw follows a number that rises and is swept every now and then, as memory with a collector is, and finds its
// troughs: by those such numbers are compared, since how it rises between two of them is no growth. Its fields are
// there to be written and read back. The zero value has seen nothing.
type Saw struct {
	Seen    int     `json:"seen,omitempty"` // readings, up to as many as it takes to know how much it changes
	Last    float64 `json:"last,omitempty"`
	Noise   float64 `json:"noise,omitempty"` // by how much it changes from one reading to the next, usually
	High    float64 `json:"high,omitempty"`  // since the last trough
	Low     float64 `json:"low,omitempty"`   // since it began to fall
	Falling bool    `json:"falling,omitempty"`
	Drops   int     `json:"drops,omitempty"`  // times that it was swept
	Trough  float64 `json:"trough,omitempty"` // the last one, once Drops is above zero and it does not fall
	Found   bool    `json:"found,omitempty"`  // there is one
}

const (
	steep  = 8  // times the usual change from reading to reading is a fall, and so is twice the least that matters
	learns = 12 // readings that it takes to know the usual change
	recent = 60 // and over how many it is taken
)

// Rest takes in a reading at a time at which what falls was not swept: the load has just changed, or there is none.
func (s *Saw) Rest(value float64) { s.Last, s.High, s.Falling = value, value, false }

// Add takes in a reading, of which a fall by less than an amount is none. It reports whether a trough has just ended.
func (s *Saw) Add(value, least float64) bool {
	if s.Seen == 0 {
		*s = Saw{Seen: 1, Last: value, High: value}
		return false
	}
	change, up := math.Abs(value-s.Last), value >= s.Last
	fall := max(2*least, steep*s.Noise)
	s.Last = value
	if s.Seen < learns || change < fall {
		s.Seen = min(s.Seen+1, recent)
		s.Noise += (change - s.Noise) / float64(s.Seen-1)
	}
	switch {
	case s.Seen < learns:
		s.High = value
	case !s.Falling && s.High-value > fall:
		s.Falling, s.Low = true, value
		s.Drops++
	case !s.Falling:
		s.High = max(s.High, value)
	case !up:
		s.Low = min(s.Low, value)
	default: // it rises again
		s.Falling, s.High, s.Trough, s.Found = false, value, s.Low, true
		return true
	}
	return false
}
