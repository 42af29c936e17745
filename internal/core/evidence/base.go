package evidence

// The range that an estimated rate is kept within: an alternative of zero or of anything higher
// would lose all at the first surprise.
const (
	leastBase = 1e-5
	mostBase  = 0.25
)

// Base is the live side's rate as estimated from the blocks so far. It forgets slowly, by
// answers and by blocks. The zero value knows nothing.
type Base struct {
	Bad float64 `json:"bad"`
	Of  float64 `json:"of"`
}

// remembered is what part of it an estimate keeps with each block: about the last 500 of them.
const remembered = 0.998

// Learn takes a count of the live side in.
func (b *Base) Learn(c Count) {
	b.Bad = b.Bad*remembered + float64(c.Bad)
	b.Of = b.Of*remembered + float64(c.Of)
}

// Rate is the estimate.
func (b Base) Rate() float64 {
	// Half a bad answer more, as the prior of Jeffreys has it.
	return min(max((b.Bad+0.5)/(b.Of+1), leastBase), mostBase)
}
