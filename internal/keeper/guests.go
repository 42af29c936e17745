package keeper

import (
	"cmp"
	"maps"
	"slices"
	"sync"
	"time"
)

// guests are those who watch, by the identity of their clients. The zero value is ready.
type guests struct {
	mu sync.Mutex // protects what follows
	by map[string]*guest
	// how many standbys follow from a place
	standbys map[string]int
}

type guest struct {
	Person
	links int // streams that it reads
}

// Attend says that somebody watches, until leave is called, by any number of streams. Many
// goroutines may call it.
func (k *Keeper) Attend(p Person) (leave func()) {
	g := &k.guests
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.by == nil {
		g.by = map[string]*guest{}
	}
	one := g.by[p.Client]
	if one == nil {
		p.Since = time.Now()
		one = &guest{Person: p}
		g.by[p.Client] = one
	}
	one.links++
	return sync.OnceFunc(func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		if one.links--; one.links == 0 {
			delete(g.by, p.Client)
		}
	})
}

// Watching is how many clients watch.
func (w *watcher) Watching() int {
	_, n := w.guests.list()
	return n
}

func (g *guests) here(client string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.by[client] != nil
}

// follows says that a standby at a place follows, until leave is called.
func (g *guests) follows(from string) (leave func()) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.standbys == nil {
		g.standbys = map[string]int{}
	}
	g.standbys[from]++
	return sync.OnceFunc(func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		if g.standbys[from]--; g.standbys[from] == 0 {
			delete(g.standbys, from)
		}
	})
}

// following are the places of standbys that follow.
func (g *guests) following() []string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.Sorted(maps.Keys(g.standbys))
}

// list is who watches, those that came first in front, and how many do.
func (g *guests) list() ([]Person, int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	var all []Person
	for _, one := range g.by {
		all = append(all, one.Person)
	}
	slices.SortFunc(all, func(a, b Person) int {
		return cmp.Or(a.Since.Compare(b.Since), cmp.Compare(a.Client, b.Client))
	})
	return all[:min(len(all), PresentMost)], len(all)
}
