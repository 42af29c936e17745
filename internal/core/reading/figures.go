package reading

import (
	"time"

	"vaiven/internal/core/split"
)

// Figures are what the instances of the front's part told of themselves at one moment, those of both sides
// beside each other.
type Figures struct {
	At time.Time `json:"at"`
	Of []Told    `json:"of"`
}

// Told is what one instance told.
type Told struct {
	Name    string             `json:"name"`
	Side    split.Side         `json:"side"`
	Started time.Time          `json:"started"`
	Values  map[string]float64 `json:"values,omitempty"` // by figure; those that it did not tell are not there
	Said    string             `json:"said,omitempty"`   // why it told nothing
}
