package fleet

import (
	"cmp"
	"slices"
	"time"
)

// Turn is when a member's crossing is to begin and to end, from the beginning of the fleet's.
type Turn struct {
	Name   string        `json:"name"`
	After  []string      `json:"after,omitempty"` // what it waits for, of those that cross
	Begins time.Duration `json:"begins"`
	Takes  time.Duration `json:"takes"`
	Waits  bool          `json:"waits,omitempty"` // for others to make room, and not only for what it needs
}

// Ends is when it has arrived.
func (t Turn) Ends() time.Duration { return t.Begins + t.Takes }

// Course is the order in which members cross.
type Course struct {
	Turns []Turn        `json:"turns"` // in the order in which they begin
	Total time.Duration `json:"total"`
	// the longest chain of members that wait for each other: the total, were there room for all
	Path []string `json:"path"`
	// how long that takes
	Longest time.Duration `json:"longest"`
}

// Course is the order in which some members cross, given how long each takes: each begins as soon as all that it waits
// for have arrived and there is room; where there is not room for all, the one with the longest way still to go after
// it is first. Members that do not cross are there already. The fleet must have no [Fleet.Ring].
func (f *Fleet) Course(which []string, takes map[string]time.Duration) Course {
	crosses := slices.DeleteFunc(f.Names(), func(n string) bool { return !slices.Contains(which, n) })
	after := map[string][]string{}
	for _, name := range crosses {
		after[name] = f.before(name, crosses)
	}
	way := map[string]time.Duration{} // from a member's beginning until the last of those that wait for it has arrived
	then := map[string]string{}       // the first step of that way
	var wayOf func(string) time.Duration
	wayOf = func(name string) time.Duration {
		if known, ok := way[name]; ok {
			return known
		}
		best := time.Duration(-1)
		for _, next := range crosses {
			if slices.Contains(after[next], name) && wayOf(next) > best {
				best, then[name] = wayOf(next), next
			}
		}
		way[name] = takes[name] + max(best, 0)
		return way[name]
	}
	for _, name := range crosses {
		wayOf(name)
	}
	var c Course
	turns := map[string]Turn{}
	room := max(f.AtOnce, 1)
	if f.AtOnce <= 0 {
		room = len(crosses)
	}
	now := time.Duration(0)
	for len(turns) < len(crosses) {
		var ready []string
		under, next := 0, time.Duration(-1)
		for _, t := range turns {
			if t.Ends() > now {
				under++
				if next < 0 || t.Ends() < next {
					next = t.Ends()
				}
			}
		}
		for _, name := range crosses {
			if _, begun := turns[name]; begun {
				continue
			}
			there := !slices.ContainsFunc(after[name], func(b string) bool {
				t, ok := turns[b]
				return !ok ||
					t.Ends() > now
			})
			if there {
				ready = append(ready, name)
			}
		}
		slices.SortStableFunc(ready, func(a, b string) int { return cmp.Compare(way[b], way[a]) })
		for _, name := range ready[:min(len(ready), room-under)] {
			t := Turn{Name: name, After: after[name], Begins: now, Takes: takes[name]}
			could := time.Duration(0)
			for _, b := range t.After {
				could = max(could, turns[b].Ends())
			}
			t.Waits = now > could
			turns[name] = t
			c.Turns = append(c.Turns, t)
			c.Total = max(c.Total, t.Ends())
			if next < 0 || t.Ends() < next {
				next = t.Ends()
			}
		}
		now = max(next, now) // something is under way: there is no ring
	}
	for _, name := range crosses {
		if way[name] > c.Longest || len(c.Path) == 0 {
			c.Longest, c.Path = way[name], []string{name}
		}
	}
	for len(c.Path) > 0 {
		next, ok := then[c.Path[len(c.Path)-1]]
		if !ok {
			break
		}
		c.Path = append(c.Path, next)
	}
	return c
}

// before are the members of some that one waits for, also by way of others that do not cross.
func (f *Fleet) before(name string, crosses []string) []string {
	found := map[string]bool{}
	var look func(string)
	look = func(n string) {
		for _, b := range f.After(n) {
			if found[b] {
				continue
			}
			found[b] = true
			if !slices.Contains(crosses, b) {
				look(b)
			}
		}
	}
	look(name)
	return slices.DeleteFunc(slices.Clone(crosses), func(n string) bool { return n == name || !found[n] })
}

// Names are the members in the order in which they cross.
func (c Course) Names() (names []string) {
	for _, t := range c.Turns {
		names = append(names, t.Name)
	}
	return names
}
