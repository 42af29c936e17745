package service

import (
	"encoding/json"
	"errors"
	"os"

	"vaiven/internal/core/engine"
	"vaiven/internal/world/state"
)

// trail keeps the evidence in the state folder.
type trail struct{ in *state.Folder }

// gatheredIn is the file with the evidence, in a state folder.
const gatheredIn = "evidence.json"

// Gathered is the evidence that was kept last.
func (t trail) Gathered() (g engine.Gathered, err error) {
	data, err := t.in.ReadFile(gatheredIn)
	if errors.Is(err, os.ErrNotExist) {
		return g, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &g)
	}
	return g, err
}

// Keep replaces it.
func (t trail) Keep(data []byte) error { return t.in.WriteFile(gatheredIn, data) }
