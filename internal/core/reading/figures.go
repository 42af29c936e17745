package reading

import (
	"time"

	"vaiven/internal/core/split"
)

// Figures are what was told at one moment: by the instances of the front's part of themselves, those of both sides
// beside each other; or by a source what one guard asks for.
type Figures struct {
	At     time.Time `json:"at"`              // of the newest sample of the side whose newest is the older one
	Guard  string    `json:"guard,omitempty"` // that asks for it; "" for instances' pages
	Of     []Told    `json:"of"`
	Alerts []Alert   `json:"alerts,omitempty"` // that fire
	Failed string    `json:"failed,omitempty"` // why the source could not be asked
}

// Told is what one instance told, or what a source told of it or of its side.
type Told struct {
	Name    string             `json:"name"`
	Side    split.Side         `json:"side"`
	Started time.Time          `json:"started"`
	Values  map[string]float64 `json:"values,omitempty"` // by figure; those that it did not tell are not there
	Of      map[string]float64 `json:"of,omitempty"`     // of a rate, by figure: how much there is of which the value is bad
	Oldest  time.Time          `json:"oldest,omitzero"`  // of its samples, where that is not when it was asked
	Said    string             `json:"said,omitempty"`   // why it told nothing
}

// Alert is one that fires.
type Alert struct {
	ID      string    `json:"id"` // of this firing: one that ends and begins again has another
	Name    string    `json:"name"`
	Summary string    `json:"summary,omitempty"`
	Since   time.Time `json:"since"` // by the clock of this machine
}

// Said is why nothing was told.
func (f Figures) Said() string {
	if f.Failed != "" {
		return f.Failed
	}
	for _, t := range f.Of {
		if t.Said != "" {
			return t.Said
		}
	}
	return "nobody tells it"
}

// Oldest is when the oldest sample is of.
func (f Figures) Oldest() time.Time {
	oldest := f.At
	for _, t := range f.Of {
		if !t.Oldest.IsZero() && t.Oldest.Before(oldest) {
			oldest = t.Oldest
		}
	}
	return oldest
}
