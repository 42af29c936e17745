package service

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"os"
	"time"

	"vaiven/internal/core/engine"
	"vaiven/internal/core/plan"
	"vaiven/internal/world/state"
)

// The file of the track, and how large it may become: two hours and more.
const (
	trailIn   = "track.jsonl"
	trailMost = 2 << 20
	trailSpan = time.Hour
)

// trail keeps the track in the state folder, a line for every second.
type trail struct{ in *state.Folder }

// Load is the track of the last hour. Lines that cannot be read are passed over: one may have
// been cut off.
func (t trail) Load() ([]engine.Point, error) {
	f, err := t.in.OpenFile(trailIn, os.O_CREATE|os.O_RDWR)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return pointsIn(f, time.Now().Add(-trailSpan)), nil
}

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

// Observed is the track since a time as far as a service's state folder has it, which may be less: it holds some hours.
func Observed(p *plan.Plan, since time.Time) ([]engine.Point, error) {
	in, err := state.Look(p.State)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	data, err := in.ReadFile(trailIn)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return pointsIn(bytes.NewReader(data), since), nil
}

// pointsIn are the points in a track's file that are later than a time, as far as it can be read.
func pointsIn(f io.Reader, oldest time.Time) []engine.Point {
	var points []engine.Point
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 2*trailMost)
	for lines.Scan() {
		var p engine.Point
		if json.Unmarshal(lines.Bytes(), &p) == nil && p.At.After(oldest) {
			points = append(points, p)
		}
	}
	return points
}

// Append adds points.
func (t trail) Append(points []engine.Point) error {
	f, err := t.in.OpenFile(trailIn, os.O_CREATE|os.O_APPEND|os.O_RDWR)
	if err != nil {
		return err
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil && info.Size() > trailMost {
		hour, err := t.Load()
		if err == nil {
			err = t.in.WriteFile(trailIn, linesOf(append(hour, points...)))
		}
		return err
	}
	_, err = f.Write(linesOf(points))
	return err
}

// linesOf is a line for each point.
func linesOf(points []engine.Point) []byte {
	var text bytes.Buffer
	encoder := json.NewEncoder(&text)
	for _, p := range points {
		_ = encoder.Encode(p) // to memory, of numbers and times
	}
	return text.Bytes()
}
