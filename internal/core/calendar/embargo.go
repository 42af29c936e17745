package calendar

import "time"

// Embargo is a company's word that nothing is to leave home, whoever's service it is. The zero value is none.
type Embargo struct {
	On    bool
	Why   string
	By    string
	Until time.Time // zero for until it is taken back
}

// At reports whether it holds at a time.
func (e Embargo) At(at time.Time) bool { return e.On && (e.Until.IsZero() || at.Before(e.Until)) }
