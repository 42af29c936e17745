package service

import (
	"bytes"
	"errors"
	"os"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/logbook"
	"vaiven/internal/world/state"
)

// What is remembered is read from the files where no keeper runs, and what of them is damaged is told: the rest is
// there.
func TestRememberedByFiles(t *testing.T) {
	p := planOf(t)
	r := reachOf(p)
	if _, _, err := r.Remembered(t.Context()); err == nil {
		t.Error("something is remembered of a service that never was")
	}
	in, err := state.Open(p.State)
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	book, err := logbook.Open(p.Logbook())
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 11, 28, 14, 0, 0, 0, time.UTC)
	events := []crossing.Event{
		{Seq: 1, Crossing: 1, At: now, By: "marit", What: crossing.Begun{Service: "fares", Number: 1,
			Target: split.Green}},
		{Seq: 2, Crossing: 1, At: now, By: "marit", What: crossing.TookWheel{}},
		{Seq: 3, Crossing: 1, At: now, By: "marit", What: crossing.Ended{Stage: crossing.CalledOff}},
	}
	if err := errors.Join(book.Append(t.Context(), crossing.State{}, events), book.Close()); err != nil {
		t.Fatal(err)
	}
	look := func() (keeper.Logbook, keeper.Told) {
		t.Helper()
		of, drop, err := r.Remembered(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		list, errList := of.Logbook(t.Context())
		told, errTold := of.EventsOf(t.Context(), 1, 0)
		_, errNone := of.EventsOf(t.Context(), 7, 0)
		if !errors.Is(errNone, logbook.ErrNoCrossing) {
			t.Errorf("of none: %v", errNone)
		}
		if _, err := of.Recorded(t.Context(), 1); !errors.Is(err, keeper.ErrNotRecorded) {
			t.Errorf("recorded: %v", err)
		}
		if err := errors.Join(errList, errTold, drop()); err != nil {
			t.Fatal(err)
		}
		return list, told
	}
	list, told := look()
	if len(list.Crossings) != 1 || list.Crossings[0].Stage != crossing.CalledOff || list.Unread != "" ||
		len(told.Events) != 3 || told.Digest.Events != 3 || told.Unread != "" {
		t.Errorf("whole it is %+v, %+v", list, told)
	}
	data, err := os.ReadFile(p.Logbook())
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(p.Logbook(), bytes.Replace(data, []byte(`"seq":2,`), []byte(`"seq"!2,`), 1),
		0o600); err != nil {
		t.Fatal(err)
	}
	list, told = look()
	if len(list.Crossings) != 1 || list.Unread != "event 2 cannot be read" || len(told.Events) != 2 ||
		told.Unread != "event 2 cannot be read" || told.Digest.SHA256 != "" {
		t.Errorf("damaged it is %+v, %+v", list, told)
	}
}
