package crossing

import (
	"maps"
	"slices"
	"time"
)

// Durations are how long tasks took, from the order to the end, of those that ended well. The zero value has none. It
// belongs to one goroutine.
type Durations struct {
	begun Event // the last order
	took  map[TaskKind][]time.Duration
}

// durationsMost is over how many of the last a usual time is taken, and durationsLeast how many there have to be.
const (
	durationsMost  = 20
	durationsLeast = 2
)

// ends is the task that a fact ends well, 0 for none.
func ends(f Fact) uint64 {
	switch f := f.(type) {
	case Raised:
		return f.Task
	case Proved:
		return f.Task
	case TookEffect:
		return f.Task
	case Returned:
		return f.Task
	case Retired:
		return f.Task
	}
	return 0
}

// Add takes in an event, the next one of a service, and says how long the task took that it ended; 0 if it ended none.
func (d *Durations) Add(e Event) (took time.Duration) {
	if o, ordered := e.What.(Ordered); ordered {
		if !o.Task.More { // it takes as long as there is to add
			d.begun = e
		}
		return 0
	}
	order, _ := d.begun.What.(Ordered)
	if id := ends(e.What); id == 0 || id != d.begun.Seq {
		return 0
	}
	took = e.At.Sub(d.begun.At)
	if d.took == nil {
		d.took = map[TaskKind][]time.Duration{}
	}
	list := append(slices.Clone(d.took[order.Task.Do]), took)
	d.took[order.Task.Do] = list[max(0, len(list)-durationsMost):]
	return took
}

// Usual is the median of each kind, of those that were done more than once.
func (d *Durations) Usual() map[TaskKind]time.Duration {
	usual := map[TaskKind]time.Duration{}
	for kind, list := range maps.All(d.took) {
		if list = slices.Sorted(slices.Values(list)); len(list) >= durationsLeast {
			usual[kind] = list[len(list)/2]
		}
	}
	return usual
}
