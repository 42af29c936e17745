package fleet

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"vaiven/lab/testkit"
)

// ferries is the company's fleet: search and booking need the fares, the board needs all.
func ferries() *Fleet {
	needs := func(list ...string) (edges []Edge) {
		for _, to := range list {
			edges = append(edges, Edge{To: to})
		}
		return edges
	}
	return &Fleet{Name: "ferries", AtOnce: 2, Stops: StopsAll, Members: []Member{
		{Name: "board", Needs: needs("sailings", "berths")}, {Name: "sailings", Needs: needs("fares")},
		{Name: "bookings", Needs: needs("fares")}, {Name: "berths"}, {Name: "fares"}, {Name: "manifests"}}}
}

func names(c Course) (list []string) {
	for _, t := range c.Turns {
		list = append(list, t.Name)
	}
	return list
}

var minutes = map[string]time.Duration{"board": time.Minute, "sailings": 10 * time.Minute, "bookings": 2 * time.Minute,
	"berths": 3 * time.Minute, "fares": 5 * time.Minute, "manifests": time.Minute}

// What others need crosses before them, and what has the longest way to go first.
func TestCourse(t *testing.T) {
	f := ferries()
	c := f.Course(f.Names(), minutes)
	if got := strings.Join(names(c), " "); got != "fares berths manifests sailings bookings board" {
		t.Errorf("they cross in the order %s", got)
	}
	if c.Total != 16*time.Minute || c.Longest != 16*time.Minute || strings.Join(c.Path, " ") != "fares sailings board" {
		t.Errorf("it takes %v, at best %v by %v", c.Total, c.Longest, c.Path)
	}
	if m := c.Turns[2]; m.Name != "manifests" || m.Begins != 3*time.Minute || !m.Waits {
		t.Errorf("the third is %+v", m)
	}
	f.AtOnce = 0
	if c := f.Course(f.Names(), minutes); c.Total != 16*time.Minute || c.Turns[1].Begins != 0 ||
		c.Turns[2].Begins != 0 {
		t.Errorf("with room for all: %+v", c)
	}
	f.AtOnce = 1
	if c := f.Course(f.Names(), minutes); c.Total != 22*time.Minute {
		t.Errorf("one after the other it takes %v", c.Total)
	}
	// What does not cross is there already, and who waits for it waits for what is before it.
	if c := f.Course([]string{"board", "fares"}, minutes); strings.Join(names(c), " ") != "fares board" ||
		c.Turns[1].Begins != 5*time.Minute {
		t.Errorf("of two: %+v", c)
	}
	f.Before = []Before{{First: "manifests", Then: "fares"}}
	if c := f.Course(f.Names(), minutes); c.Turns[0].Name != "manifests" || c.Longest != 17*time.Minute {
		t.Errorf("by a rule: %+v", c)
	}
	if c := f.Course(nil, minutes); len(c.Turns) != 0 || c.Total != 0 {
		t.Errorf("of none: %+v", c)
	}
	if c := f.Course(f.Names(), nil); len(c.Turns) != 6 || c.Total != 0 {
		t.Errorf("in no time: %+v", c)
	}
}

func TestRing(t *testing.T) {
	f := ferries()
	if ring := f.Ring(); ring != nil {
		t.Errorf("there is %v", ring)
	}
	f.Before = []Before{{First: "board", Then: "fares"}}
	if ring := strings.Join(f.Ring(), " "); ring != "board fares sailings board" {
		t.Errorf("there is %s", ring)
	}
	f.Before = []Before{{First: "berths", Then: "berths"}}
	if ring := strings.Join(f.Ring(), " "); ring != "berths berths" {
		t.Errorf("there is %s", ring)
	}
}

func TestDependents(t *testing.T) {
	f := ferries()
	for name, want := range map[string]string{"fares": "board sailings bookings", "berths": "board", "board": ""} {
		if got := strings.Join(f.Dependents(name), " "); got != want {
			t.Errorf("on %s depend %s", name, got)
		}
	}
}

// Whatever depends on what, each crosses once, after all that it waits for, never more at once than may, and never
// while there is room for one that could go.
func TestEveryCourse(t *testing.T) {
	r := testkit.Rand(t)
	for range 2000 {
		f := &Fleet{AtOnce: r.IntN(5)}
		takes := map[string]time.Duration{}
		for n := range 1 + r.IntN(12) {
			m := Member{Name: fmt.Sprint("s", n)}
			for before := range n {
				if r.IntN(4) == 0 {
					m.Needs = append(m.Needs, Edge{To: fmt.Sprint("s", before)})
				}
			}
			f.Members = append(f.Members, m)
			takes[m.Name] = time.Duration(r.IntN(5)) * time.Minute
		}
		r.Shuffle(len(f.Members), func(i, j int) { f.Members[i], f.Members[j] = f.Members[j], f.Members[i] })
		if ring := f.Ring(); ring != nil {
			t.Fatalf("a ring: %v", ring)
		}
		which := slices.DeleteFunc(f.Names(), func(string) bool { return r.IntN(5) == 0 })
		c := f.Course(which, takes)
		if len(c.Turns) != len(which) {
			t.Fatalf("%d of %d cross", len(c.Turns), len(which))
		}
		ends := map[string]time.Duration{}
		for _, turn := range c.Turns {
			ends[turn.Name] = turn.Ends()
		}
		for _, turn := range c.Turns {
			under := 0
			for _, other := range c.Turns {
				if other.Begins <= turn.Begins && other.Ends() > turn.Begins {
					under++
				}
			}
			if f.AtOnce > 0 && under > f.AtOnce {
				t.Fatalf("%d at once at %v, and %d may: %+v", under, turn.Begins, f.AtOnce, c)
			}
			for _, before := range turn.After {
				if ends[before] > turn.Begins {
					t.Fatalf("%s begins before %s has arrived: %+v", turn.Name, before, c)
				}
			}
			if ends[turn.Name] > c.Total {
				t.Fatalf("%s ends after all: %+v", turn.Name, c)
			}
		}
		if c.Longest > c.Total {
			t.Fatalf("the longest way is longer than all: %+v", c)
		}
	}
}
