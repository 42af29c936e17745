package script

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/split"
	"vaiven/lab/testkit"
)

type inner struct {
	Took  time.Duration `json:"took"`
	Stage crossing.Stage
}

type sample struct {
	inner
	Share   split.Share        `json:"share"`
	Part    split.Share        `json:"part"`
	Side    split.Side         `json:"side"`
	Both    [2]split.Share     `json:"both"`
	At      time.Time          `json:"at"`
	Empty   string             `json:"empty,omitempty"`
	Waits   []time.Duration    `json:"waits"`
	Names   map[string]float64 `json:"names"`
	Hidden  int                `json:"-"`
	Nothing *inner             `json:"nothing"`
	Raw     json.RawMessage    `json:"raw"`
	private int
}

func TestOneUnitPerKindOfValue(t *testing.T) {
	v := sample{
		inner: inner{1500 * time.Millisecond, crossing.RolledBack}, Share: 2500, Part: 2500,
		Both: [2]split.Share{7500, 2500}, Waits: []time.Duration{time.Minute},
		At: time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC), Names: map[string]float64{"b": 2, "a": 1},
		Raw: json.RawMessage(`{"x":1}`),
	}
	got, err := Marshal("sample", split.Blue, v)
	want := `{"schema":1,"kind":"sample","share_green":25,"share_new":75,"part_new":25,"side":"blue","both":{"blue_green":75,"blue_new":25,"green_green":25,"green_new":75},` +
		`"at":"2026-11-23T21:00:00Z","waits":[60],"names":{"a":1,"b":2},"nothing":null,"raw":{"x":1}}`
	if err != nil || string(got) != want {
		t.Errorf("%s, %v, want\n%s", got, err, want)
	}
	if _, err := Marshal("text", split.Blue, "alone"); err == nil {
		t.Error("a text was written as an object")
	}
}

func TestEvents(t *testing.T) {
	at := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	for want, e := range map[string]crossing.Event{
		`{"schema":1,"kind":"event","event":"took_effect","seq":7,"crossing":3,"at":"2026-11-23T21:00:00Z","by":"front",`: {Seq: 7, Crossing: 3, At: at, By: "front", What: crossing.TookEffect{Share: 2500, Took: 2 * time.Millisecond}},
		`"share_green":25,"share_new":25,"took_s":0.002`:                                                                  {Seq: 7, What: crossing.TookEffect{Share: 2500, Took: 2 * time.Millisecond}},
		`"event":"flown","seq":8,"by":"","data":{"x":1}}`:                                                                 {Seq: 8, What: crossing.Unknown{Newer: oneof.Newer{Called: "flown", Data: `{"x":1}`}}},
	} {
		if got, err := Marshal("event", split.Green, e); err != nil || !strings.Contains(string(got), want) {
			t.Errorf("%s, %v, want %s", got, err, want)
		}
	}
}

// The schema fits what is written, and nothing else.
func TestTheSchemaFits(t *testing.T) {
	made, err := Schema(map[string]any{"sample": sample{}, "event": crossing.Event{}})
	if err != nil {
		t.Fatal(err)
	}
	s, err := testkit.NewSchema(made)
	if err != nil {
		t.Fatal(err)
	}
	good, _ := Marshal("sample", split.Green, sample{At: time.Now()})
	event, _ := Marshal("event", split.Green, crossing.Event{At: time.Now(), What: crossing.Stopping{Cut: 3}})
	for _, data := range [][]byte{good, event} {
		if err := s.Validate(data); err != nil {
			t.Errorf("%v in %s", err, data)
		}
	}
	for _, change := range [][2]string{
		{`"schema":1`, `"schema":2`}, {`"kind":"sample"`, `"kind":"other"`}, {`"share_green":0`, `"share_green":"0 %"`},
		{`"share_green":0,`, ``}, {`"side":"blue"`, `"side":"red"`},
		{`"waits":[]`, `"waits":["1s"]`}, {`"part_new"`, `"part_old"`}, {`"at":"`, `"at":"about `},
	} {
		bad := strings.Replace(string(good), change[0], change[1], 1)
		if bad == string(good) || s.Validate([]byte(bad)) == nil {
			t.Errorf("fits: %s", bad)
		}
	}
}
