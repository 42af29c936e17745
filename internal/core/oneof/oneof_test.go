package oneof

import (
	"encoding/json"
	"testing"
)

type boat interface{ boat() string }

type (
	ferry struct {
		Cars int `json:"cars"`
	}
	rowing struct{}
	newer  struct{ Newer }
	fleet  struct{}
	berth  = One[boat, fleet]
)

func (ferry) boat() string   { return "ferry" }
func (rowing) boat() string  { return "rowing boat" }
func (n newer) boat() string { return n.Called }

var boats = New("kind", boat.boat, func(n Newer) boat { return newer{n} }, boat(ferry{}), boat(rowing{}))

func (fleet) Set() *Set[boat] { return boats }

// What is written is read, whatever it is; what nobody knows is kept as it came.
func TestRoundTrip(t *testing.T) {
	for text, want := range map[string]boat{
		`{"kind":"ferry","cars":40}`:         ferry{40},
		`{"kind":"rowing boat"}`:             rowing{},
		`{}`:                                 nil,
		`{"kind":"sub","depth":[3,{"m":1}]}`: newer{Newer{"sub", `{"kind":"sub","depth":[3,{"m":1}]}`}},
	} {
		var b berth
		if err := json.Unmarshal([]byte(text), &b); err != nil || b.Is != want {
			t.Errorf("%s is %+v, %v", text, b, err)
		}
		if data, err := json.Marshal(b); err != nil || string(data) != text {
			t.Errorf("%+v is written as %s, %v, and was %s", b, data, err, text)
		}
	}
	for _, bad := range []string{`[]`, `{"kind":7}`, `{"kind":"ferry","cars":"many"}`, `{"kind":`} {
		var b berth
		if err := json.Unmarshal([]byte(bad), &b); err == nil {
			t.Errorf("%s is read as %+v", bad, b)
		}
	}
}

func TestHeld(t *testing.T) {
	b := berth{Is: ferry{3}}
	if !IsA[ferry](b) || IsA[rowing](b) || As[ferry](b).Cars != 3 || IsA[ferry](berth{}) ||
		As[ferry](berth{}).Cars != 0 {
		t.Errorf("%+v is taken for something else", b)
	}
	if b.Kind() != "ferry" || (berth{}).Kind() != "" || b.String() != "ferry" || len(b.Types()) != 2 ||
		b.Head() != nil {
		t.Errorf("%v: kind %q of %v", b, b.Kind(), b.Types())
	}
	if list := boats.Zeroes(); len(list) != 2 || list[0] != (ferry{}) {
		t.Errorf("the types are %v", list)
	}
}

func TestFlat(t *testing.T) {
	data, err := Flat(struct{}{}, ferry{2}, struct {
		Side string `json:"side,omitempty"`
	}{}, map[string]int{"berth": 4})
	if err != nil || string(data) != `{"cars":2,"berth":4}` {
		t.Errorf("%s, %v", data, err)
	}
	if _, err := Flat(make(chan int)); err == nil {
		t.Error("a channel is written")
	}
}
