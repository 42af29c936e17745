package figures

import (
	"cmp"
	"slices"
	"time"

	"vaiven/internal/core/evidence"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// Served is what one instance answered lately.
type Served struct {
	Name    string  `json:"name"`    // as the front has it
	Address string  `json:"address"` // host:port
	Rate    float64 `json:"rate"`    // answers a second, over the last seconds
	Failing int64   `json:"failing"` // of them, with status 500 and above, or given up by their clients
	History []int64 `json:"history"` // answers of the last seconds, one by one, oldest first
}

// Bad reports whether so much of what it answered lately fails that somebody should look: a twentieth, and three or
// more.
func (s Served) Bad() bool {
	all := int64(0)
	for _, n := range s.History {
		all += n
	}
	return s.Failing >= 3 && 20*s.Failing >= all
}

// lately is how far back the answers of single instances reach.
const lately = 8 * time.Second

// note keeps what an instance has answered since the reading before.
func (s *Series) note(k counter, before, now reading.Count, at time.Time) {
	if s.each == nil {
		s.each = map[counter][]answered{}
	}
	a := answered{to: at, from: at, requests: grown(before.Requests, now.Requests),
		failing: grown(before.Status[5], now.Status[5]) + grown(before.Left, now.Left)}
	if n := len(s.steps); n > 0 {
		a.from = s.steps[n-1].to
	}
	list := append(s.each[k], a)
	for len(list) > 1 && at.Sub(list[0].from) > lately+time.Second {
		list = list[1:]
	}
	s.each[k] = list
	if s.whole == nil {
		s.whole = map[counter]evidence.Count{}
	}
	s.whole[k] = s.whole[k].Plus(evidence.Count{Bad: a.failing, Of: a.requests})
}

// Instances is what every instance of a side has answered, by address, since it was first seen here, and how much of
// that failed.
func (s *Series) Instances(side split.Side) map[string]evidence.Count {
	list := map[string]evidence.Count{}
	for k, c := range s.whole {
		if k.side == side {
			list[k.address] = list[k.address].Plus(c)
		}
	}
	return list
}

// Each is what every instance of a side that the front has answered in the last seconds
// before a time, by address.
func (s *Series) Each(side split.Side, at time.Time) []Served {
	var list []Served
	for k, steps := range s.each {
		if k.side != side {
			continue
		}
		v := Served{Name: k.name, Address: k.address, History: make([]int64, lately/time.Second)}
		var span time.Duration
		var requests int64
		for _, a := range steps {
			second := int(at.Sub(a.to) / time.Second)
			if second < 0 || second >= len(v.History) {
				continue
			}
			v.History[len(v.History)-1-second] += a.requests
			requests += a.requests
			v.Failing += a.failing
			span += a.to.Sub(a.from)
		}
		if span > 0 {
			v.Rate = float64(requests) / span.Seconds()
		}
		list = append(list, v)
	}
	slices.SortFunc(list, func(a,
		b Served) int {
		return cmp.Or(cmp.Compare(a.Address, b.Address), cmp.Compare(a.Name, b.Name))
	})
	return list
}
