package evidence

import "time"

// Swings is what one side answered as a whole, block by block, to see whether its rate wanders: by more than
// independent answers make it, up and down again, time after time. Its fields are there to be written and read
// back. The zero value has seen nothing.
type Swings struct {
	Seen  []Count   `json:"seen,omitempty"`
	Block Count     `json:"block,omitzero"` // that is not full yet
	Until time.Time `json:"until,omitzero"` // when it is
}

const (
	// Swing is how long a block is.
	Swing = 30 * time.Second
	// mostSwings is how many blocks are kept: of the last two hours.
	mostSwings = 240
	// leastWaves is how often a rate has to have come up and gone down again to be taken for one that wanders: what
	// did so once or twice was an incident.
	leastWaves = 3
)

// Learn takes in what the side answered in a step that ended at a moment. Moments only grow.
func (s *Swings) Learn(at time.Time, step Count) {
	if at.After(s.Until) {
		if s.Block.Of > 0 {
			s.Seen = append(s.Seen[max(0, len(s.Seen)-mostSwings+1):len(s.Seen):len(s.Seen)], s.Block)
		}
		s.Block, s.Until = Count{}, at.Add(Swing)
	}
	s.Block = s.Block.Plus(step)
}

// Highest is the highest rate that the side has had in a block, if it wanders, and zero if it does not: if it has come
// up at least three times by more than chance makes it, and has gone down to its mean or below between.
func (s *Swings) Highest() float64 {
	var all Count
	for _, block := range s.Seen {
		all = all.Plus(block)
	}
	if all.Bad == 0 {
		return 0
	}
	mean, waves, up, highest := all.Rate(), 0, false, 0.0
	usual := Bursts{Usual: mean}
	for _, block := range s.Seen {
		switch rate := block.Rate(); {
		case rate <= mean:
			up = false
		case usual.Bad(block):
			if !up {
				waves++
			}
			up, highest = true, max(highest, rate)
		}
	}
	if waves < leastWaves {
		return 0
	}
	return highest
}
