package service

import (
	"bufio"
	"bytes"
	"encoding/json"
	"os"
	"time"

	"vaiven/internal/core/engine"
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
	oldest := time.Now().Add(-trailSpan)
	var points []engine.Point
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 2*trailMost)
	for lines.Scan() {
		var p engine.Point
		if json.Unmarshal(lines.Bytes(), &p) == nil && p.At.After(oldest) {
			points = append(points, p)
		}
	}
	return points, nil
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
