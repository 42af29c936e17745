package stack

import (
	"maps"
	"reflect"
	"slices"
	"strings"
	"testing"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/world/secret"
)

func TestFromProc(t *testing.T) {
	environ := "REGION=north\x00EMPTY=\x00TERM_PROGRAM=tmux\x00SHELL=/bin/sh\x00SSH_TTY=/dev/pts/1\x00_=/bin/sh\x00" +
		Marker + "=/n\x00LINES=4\x00"
	limits := "Limit                     Soft Limit           Hard Limit           Units     \n" +
		"Max open files            1024                 1048576              files     \n" +
		"Max cpu time              unlimited            unlimited            seconds   \n"
	got := FromProc([]byte("/srv/sailings\x00--listen\x00127.0.0.1:1\x00"), []byte(environ), []byte(limits))
	want := Description{
		Command:     []string{"/srv/sailings", "--listen", "127.0.0.1:1"},
		Environment: map[string]string{"REGION": "north", "EMPTY": ""},
		Limits:      map[string]string{"open files": "1024", "cpu time": "unlimited"},
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("read %+v, want %+v", got, want)
	}
	if empty := FromProc(nil, nil, nil); len(empty.Environment) != 0 {
		t.Errorf("of nothing: %+v", empty)
	}
}

func TestNames(t *testing.T) {
	part := &plan.Part{Name: "worker"}
	if got := Name(part, true, split.Green, 2) + " " +
		Name(part, false, split.Blue, 1); got != "green-2 blue-worker-1" {
		t.Errorf("names %q", got)
	}
	list := []reading.Instance{{Name: "green-10"}, {Name: "green-2"}, {Name: "green-1"}}
	slices.SortFunc(list, Compare)
	if list[0].Name != "green-1" || list[2].Name != "green-10" {
		t.Errorf("in the order %+v", list)
	}
}

func TestTheLastLines(t *testing.T) {
	s := NewSet(&plan.Plan{}, secret.Values{}, nil)
	if got := s.said(strings.Repeat("line\n", 40) + "last\n"); len(got) != outputLines ||
		got[outputLines-1] != "last" {
		t.Errorf("the last lines are %q", got)
	}
	if Lines([]byte("\n\n")) != nil {
		t.Error("nothing has lines")
	}
}

// What a side takes over from the live one is what all of it run with, and nothing that is one instance's own.
func TestAlike(t *testing.T) {
	of := []reading.Instance{
		{Name: "blue-1", Address: "10.1.0.5:8080", Version: "4.2.0", Side: split.Blue},
		{Name: "blue-2", Address: "10.1.0.6:8081", Version: "4.2.0", Side: split.Blue},
	}
	first := map[string]string{
		"REGION": "north", "FARES": "http://fares:80", "NODE": "a", "PATH": "/bin", "LISTEN": "10.1.0.5:8080",
		"WHO": "blue", "RELEASE": "v4.2.0", "PORT": "80", "ONE": "1", "AT": "0.0.0.0:8081",
	}
	second := map[string]string{"REGION": "north", "FARES": "http://fares:80", "NODE": "b", "PATH": "/bin",
		"LISTEN": "10.1.0.5:8080", "WHO": "blue", "RELEASE": "v4.2.0", "PORT": "80", "AT": "0.0.0.0:8081"}
	s := Alike(of, []Description{{Environment: first, Memory: 1 << 20},
		{Environment: map[string]string{"BASE": "1"}, Given: second, Memory: 2 << 20, CPUs: 0.5}})
	if want := map[string]string{"REGION": "north", "FARES": "http://fares:80"}; !maps.Equal(s.Environment, want) ||
		s.Memory != 2<<20 || s.CPUs != 0.5 {
		t.Errorf("they take over %+v, want %v", s, want)
	}
	b := Build{Like: s}
	as := func(value string) string { return value }
	if got := b.Environment(map[string]string{"REGION": "south", "NEW": "1"}, as); got["REGION"] != "south" ||
		got["NEW"] != "1" || got["FARES"] == "" || s.Environment["NEW"] != "" {
		t.Errorf("the plan over that is %v", got)
	}
	if s := Alike(nil, nil); len(s.Environment) > 0 || len((Build{}).Environment(nil, as)) != 0 {
		t.Errorf("of nobody it is %+v", s)
	}
	if n := (Build{}).Number(plan.Stack{Instances: 3}); n != 3 {
		t.Errorf("%d instances where none are chosen", n)
	}
}
