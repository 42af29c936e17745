package engine

import (
	"fmt"
	"slices"

	"vaiven/internal/core/proof"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// passed are, by side, the instances whose last proof beside a crossing passed, nil if none did.
type passed [2][]string

// Proved takes in what a proof beside a crossing came to, for the instances that were there.
func (w *world) Proved(side split.Side, p proof.Proof, list []reading.Instance) {
	w.passed[side] = nil
	if len(p.Results) > 0 && len(p.Open(nil)) == 0 {
		w.passed[side] = started(slices.DeleteFunc(slices.Clone(list),
			func(i reading.Instance) bool { return !i.Running }))
	}
}

// proven reports whether the last proof of a side passed and its instances are the same as then.
func (w *world) proven(side split.Side) bool {
	return w.passed[side] != nil && slices.Equal(w.passed[side], started(w.Running(side)))
}

// started names instances by when they were started.
func started(list []reading.Instance) []string {
	names := []string{}
	for _, i := range list {
		names = append(names, fmt.Sprintf("%s %s %s %d", i.Part, i.Name, i.Version, i.Started.Unix()))
	}
	slices.Sort(names)
	return names
}
