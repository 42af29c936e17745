package evidence

import (
	"gonum.org/v1/gonum/stat/distuv"
)

// Clumps is what single instances of one side answered, block by block, to see whether bad answers come one by one or
// in bursts. Its field is there to be written and read back. The zero value has seen nothing.
type Clumps struct {
	Seen []Count `json:"seen,omitempty"`
}

const (
	mostSeen = 2048
	// outside is the chance that independent answers make a block a burst.
	outside = 1e-5
	// leastBursts is how many it takes to know that they are no chance.
	leastBursts = 10
	someBursts  = 2
	// rounds is how often the usual rate is taken anew.
	rounds = 4
)

// Learn takes in what one instance answered in a block.
func (c *Clumps) Learn(block Count) {
	if block.Of > 0 {
		c.Seen = append(c.Seen[max(0, len(c.Seen)-mostSeen+1):len(c.Seen):len(c.Seen)], block)
	}
}

// Bursts is how bad answers come in bursts.
type Bursts struct {
	Usual float64 `json:"usual"` // the rate between them
	Of    Count   `json:"of"`    // blocks of an instance, and of them those that were bursts
}

// Bursts is what was seen.
func (c *Clumps) Bursts() Bursts {
	if len(c.Seen) == 0 {
		return Bursts{}
	}
	var b Bursts
	for range rounds { // without what was a burst by the rate before
		var calm Count
		of := Count{Of: int64(len(c.Seen))}
		for _, block := range c.Seen {
			if b.Usual > 0 && b.Bad(block) {
				of.Bad++
			} else {
				calm = calm.Plus(block)
			}
		}
		b = Bursts{Usual: (float64(calm.Bad) + 0.5) / (float64(calm.Of) + 1), Of: of}
	}
	return b
}

// Some reports whether there were any that are hardly chance, though they may be too few to go by.
func (b Bursts) Some() bool { return b.Of.Bad >= someBursts }

// Known reports whether there are enough of them to go by.
func (b Bursts) Known() bool { return b.Of.Bad >= leastBursts }

// Bad reports whether a block has more bad answers than those that come one by one make, but for a chance in a hundred
// thousand.
func (b Bursts) Bad(block Count) bool {
	if block.Bad < 2 {
		return false
	}
	usual := distuv.Poisson{Lambda: max(b.Usual*float64(block.Of), 1e-9)}
	return 1-usual.CDF(float64(block.Bad-1)) < outside
}
