package fleet

// Stand is what is known of the side that a service goes to when the other one is evacuated.
type Stand struct {
	Read      bool // the front could be asked
	Instances int  // that the front has of it,
	Answer    int  // that answer, as far as they can be asked from here,
	Refuse    int  // and that do not run: their machines say so
	Beside    int  // instances of the side that is evacuated
	Unproven  bool // a crossing to it has begun, and it has not passed its proof
	Closed    bool // it is closed itself
}

// Bar is what is in the way of evacuating a side.
type Bar string

// What can be in the way.
const (
	Clear       Bar = ""
	Nobody      Bar = "nobody"      // nobody stands on the other side
	Shut        Bar = "closed"      // the other side is closed
	Unproven    Bar = "not proven"  // the other side has not passed its proof
	Few         Bar = "too few"     // fewer than half as many answer there as the side that is evacuated has
	Unreachable Bar = "unreachable" // the front does not answer
)

// Forced reports whether a second word goes past it. Where nobody stands nothing goes, whoever says so.
func (b Bar) Forced() bool { return b != Nobody && b != Shut }

// Bar is what is in the way, the worst of it. Of instances that cannot be asked from here no more is known than that
// the front has them: they count as if they answered.
func (s Stand) Bar() Bar {
	answer := max(s.Answer, s.Instances-s.Refuse)
	switch {
	case !s.Read:
		return Unreachable
	case s.Closed:
		return Shut
	case answer == 0:
		return Nobody
	case s.Unproven:
		return Unproven
	case 2*answer < s.Beside:
		return Few
	}
	return Clear
}
