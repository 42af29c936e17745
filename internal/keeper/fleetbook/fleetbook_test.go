package fleetbook

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"vaiven/internal/core/fleet"
)

var begun = fleet.Event{At: time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC), Kind: fleet.Begun, Number: 1, By: "marit",
	Fleet:    &fleet.Fleet{Name: "ferries", Members: []fleet.Member{{Name: "fares"}, {Name: "sailings"}}},
	Versions: map[string]string{"fares": "5.0", "sailings": "4.3.0"}, Turns: []string{"fares", "sailings"}}

// What was recorded is there after the process that wrote it was killed, and what was cut off costs its line alone.
func TestItIsThereAgain(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "ferries.fleet.vaiven")
	if events, err := Read(dir); len(events) > 0 || err != nil {
		t.Fatalf("before it was written there is %v, %v", events, err)
	}
	b, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	if b.Last().UnderWay() {
		t.Error("something is under way, and nothing was begun")
	}
	if err := b.Append(begun, fleet.Event{At: begun.At, Kind: fleet.Begins, Name: "fares"}); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir); !errors.Is(err, ErrInUse) || !InUse(dir) {
		t.Errorf("a second process has it too: %v", err)
	}
	if err := b.Close(); err != nil || InUse(dir) {
		t.Fatalf("it is closed, and in use: %v", err)
	}
	cut, err := os.OpenFile(filepath.Join(dir, logIn), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	_, err = cut.WriteString(`{"what":"begun","number":2}` + "\n" + `{"at":"2026-11-29T12:01`) // and one that is damaged
	if err := errors.Join(err, cut.Close()); err != nil {
		t.Fatal(err)
	}
	if b, err = Open(dir); err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	if p, ok := b.Last().Part("fares"); !ok || p.Stage != fleet.Crosses || p.Version != "5.0" {
		t.Errorf("there is %+v", b.Last())
	}
	if err := b.Append(fleet.Event{At: begun.At, Kind: fleet.Is, Name: "fares", Stage: fleet.Arrived}); err != nil {
		t.Fatal(err)
	}
	events, err := Read(dir)
	if err != nil || len(events) != 3 || events[2].Stage != fleet.Arrived {
		t.Errorf("there is %v, %v", events, err)
	}
}

// What cannot be recorded is said.
func TestADiskThatTakesNothing(t *testing.T) {
	b, err := Open(filepath.Join(t.TempDir(), "ferries.fleet.vaiven"))
	if err != nil {
		t.Fatal(err)
	}
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	b.file.Close()
	b.file = full
	if err := b.Append(begun); err == nil {
		t.Error("it is recorded where nothing can be")
	}
	if err := b.Close(); err != nil {
		t.Fatal(err)
	}
}
