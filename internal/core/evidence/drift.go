package evidence

import (
	"math"
	"slices"
)

// Drift is the evidence that a number stands higher than a margin allows, or grows faster: the
// difference, say, of what the instances of both sides hold in memory. Make it with [NewDrift]. Its
// fields are there to be written and read back.
//
// Readings follow from each other, so they are taken together into batches, whose length doubles when there are many:
// of each counts its mean, or how fast that has grown since the one before, so that what is swept every now and then
// comes to nothing in the end. Of those, x with the margin taken off, it is the evidence that their mean is above
// zero whatever their variance (Lai's test by a mixture over the size of the effect; see Wang and Ramdas,
// "Anytime-valid t-tests and confidence sequences for Gaussian means with unknown variance", Sequential Analysis 44,
// 2025):
//
//	√(c²/(n+c²)) · ((n+c²)·V / ((n+c²)·V − S²))^(n/2)    S = Σx, V = Σx²
//
// That is exact for independent normal batches, and good for long ones as the means of what was read are
// about normal then (Waudby-Smith et al., "Time-uniform central limit theory and asymptotic confidence
// sequences", Annals of Statistics 52, 2024). What neighbours still have in common is taken off their number.
type Drift struct {
	Margin  float64    `json:"margin"`
	Growth  bool       `json:"growth,omitempty"` // it is about how fast the number grows, a minute
	Length  int        `json:"length"`           // readings of a batch
	Batches []Readings `json:"batches,omitempty"`
	Beside  Spread     `json:"beside,omitzero"` // of the same on the live side, where that is known: see [NewTroughs]
}

// Spread is how values differ among themselves: the sum of their squared distances from their mean, and how many
// degrees of freedom those have. The zero value is of none.
type Spread struct {
	Of      float64 `json:"of"`
	Mean    float64 `json:"mean"`
	Squared float64 `json:"squared"`
}

// Add takes in a value (Welford, "Note on a method for calculating corrected sums of squares and products",
// Technometrics 4, 1962).
func (s *Spread) Add(value float64) {
	s.Of++
	from := value - s.Mean
	s.Mean += from / s.Of
	s.Squared += from * (value - s.Mean)
}

// freedom is the degrees of freedom, 0 for so few that they say nothing.
func (s Spread) freedom() float64 {
	if s.Of < leastBeside {
		return 0
	}
	return s.Of - 1
}

// leastBeside is how many values of the live side it takes to know how they spread.
const leastBeside = 6

// Readings are the sums of those of a batch.
type Readings struct {
	Of    int     `json:"of"`
	Time  float64 `json:"time"` // minutes
	Value float64 `json:"value"`
}

const (
	mostBatches = 32
	shortLevel  = 2 // readings of the first batches of a number
	shortGrowth = 4 // and of how it grows
	effect      = 1 // c² above: effects of about one deviation are bet on
)

// NewDrift makes evidence that has seen nothing, for a margin in the number's unit, or in it a minute.
func NewDrift(margin float64, growth bool) *Drift {
	d := &Drift{Margin: margin, Growth: growth, Length: shortLevel}
	if growth {
		d.Length = shortGrowth
	}
	return d
}

// NewTroughs is the same of what is told once in a while, as a saw's troughs are: each reading is a batch, and these
// are independent of each other. There are few, so that how they spread is taken from the live side's as well: with V
// the sum of the squares of both, and n in the exponent above so many more as those have degrees of freedom, the
// evidence is that of two samples of one variance.
func NewTroughs(margin float64, growth bool) *Drift {
	return &Drift{Margin: margin, Growth: growth, Length: 1}
}

// Add takes in a reading, at so many minutes.
func (d *Drift) Add(minutes, value float64) {
	if math.IsNaN(value) || math.IsInf(value, 0) {
		return
	}
	one := Readings{Of: 1, Time: minutes, Value: value}
	if last := len(d.Batches) - 1; last >= 0 && d.Batches[last].Of < d.Length {
		d.Batches[last] = d.Batches[last].plus(one)
		return
	}
	if len(d.Batches) == mostBatches {
		for n := range mostBatches / 2 {
			d.Batches[n] = d.Batches[2*n].plus(d.Batches[2*n+1])
		}
		d.Batches = slices.Clip(d.Batches[:mostBatches/2])
		d.Length *= 2
	}
	d.Batches = append(d.Batches, one)
}

func (r Readings) plus(o Readings) Readings {
	return Readings{Of: r.Of + o.Of, Time: r.Time + o.Time, Value: r.Value + o.Value}
}

// values are what the batches that are over come to.
func (d *Drift) values() []float64 {
	var values []float64
	for n, b := range d.Batches {
		if b.Of < d.Length {
			break // the last one
		}
		mean := b.Value / float64(b.Of)
		switch {
		case !d.Growth:
			values = append(values, mean)
		case n > 0:
			before, of := d.Batches[n-1], float64(d.Length)
			if took := (b.Time - before.Time) / of; took > 0 {
				values = append(values, (mean-before.Value/of)/took)
			}
		}
	}
	return values
}

// summary is the mean of values, the deviation of one, and how many they count for: none if there are too few.
func (d *Drift) summary(values []float64) (mean, deviation, n float64) {
	if len(values) < d.fewest() {
		return 0, 0, 0
	}
	n = float64(len(values))
	for _, v := range values {
		mean += v / n
	}
	squared, together := 0.0, 0.0
	for k, v := range values {
		squared += (v - mean) * (v - mean)
		if k > 0 {
			together += (v - mean) * (values[k-1] - mean)
		}
	}
	deviation = math.Sqrt(squared / n)
	if deviation > 1e-9*math.Abs(mean) && d.Beside.freedom() == 0 { // else it is rounding, or they are independent
		// The estimate of an autocorrelation is too low by about 2/n where there is some.
		r := min(max(together/squared+2/n, 0), 0.95)
		n *= (1 - r) / (1 + r)
	}
	return mean, deviation, n
}

// fewest is how many batches it takes to say anything.
func (d *Drift) fewest() int {
	if d.Beside.freedom() > 0 {
		return 2
	}
	return 3
}

// above is the logarithm of the evidence that the mean of values is above the margin, 0 where there is none either way.
func (d *Drift) above(values []float64) float64 {
	mean, deviation, n := d.summary(values)
	if n == 0 {
		return 0
	}
	x := mean - d.Margin
	start := math.Log(effect/(n+effect)) / 2
	if x <= 1e-9*math.Abs(mean) { // or it is rounding
		return start
	}
	if deviation == 0 {
		deviation = 1e-9 * x
	}
	s, v := n*x, n*(deviation*deviation+x*x)
	if free := d.Beside.freedom(); free > 0 {
		v += d.Beside.Squared
		return start + (n+free)/2*math.Log((n+effect)*v/((n+effect)*v-s*s))
	}
	return start + n/2*math.Log((n+effect)*v/((n+effect)*v-s*s))
}

// Log is the logarithm of the evidence, 0 where there is none either way. What begins later has half of it, in equal
// parts for each batch that it may begin with.
func (d *Drift) Log() float64 {
	log, _ := d.log()
	return log
}

// log is the evidence, and the batch from which on there is most.
func (d *Drift) log() (log float64, from int) {
	values := d.values()
	if len(values) < d.fewest() {
		return 0, 0
	}
	later := math.Log(0.5 / mostBatches)
	whole := d.above(values)
	log, most := whole+math.Log(0.5), whole+math.Log(0.5)
	for k := 1; k < mostBatches; k++ {
		begun := later
		if k+d.fewest() <= len(values) {
			begun += d.above(values[k:])
		}
		if log = logPlus(log, begun); begun > most && begun > later {
			most, from = begun, k
		}
	}
	return logPlus(log, later), from
}

// Known reports whether there are enough batches to say anything.
func (d *Drift) Known() bool { return len(d.values()) >= d.fewest() }

// Range is the mean of what was read, since there is most evidence, and the range that it lies in whenever one looks,
// at a level such as 0.05; one of all as long as too little is known.
func (d *Drift) Range(level float64) (mean float64, in Interval) {
	all := Interval{math.Inf(-1), math.Inf(1)}
	values := d.values()
	_, from := d.log()
	if from > 0 { // it was chosen among so many
		values, level = values[from:], level/mostBatches
	}
	mean, deviation, n := d.summary(values)
	if n == 0 {
		if len(values) > 0 {
			mean = values[len(values)-1]
		}
		return mean, all
	}
	// The means for which the evidence against them is below 1/level.
	q := 1 - math.Pow(math.Sqrt(effect/(n+effect))*level, 2/n)
	rest := n/(n+effect) - q
	if rest <= 0 {
		return mean, all
	}
	wide := deviation * math.Sqrt(q/rest)
	return mean, Interval{mean - wide, mean + wide}
}
