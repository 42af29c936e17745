package clients

import (
	"maps"
	"sync"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// Kept are the sessions that keep somebody on a side. The zero value has none. It is safe for concurrent use.
type Kept struct {
	mu    sync.Mutex              // protects what follows
	sides [2]map[uint64]time.Time // when each was used last
}

// Came takes in that somebody came to a side by a session of a number. Beyond a hundred thousand no more are told
// apart.
func (k *Kept) Came(side split.Side, number uint64, at time.Time) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.sides[side] == nil {
		k.sides[side] = map[uint64]time.Time{}
	}
	if _, known := k.sides[side][number]; known || len(k.sides[side]) < most {
		k.sides[side][number] = at
	}
}

// Count is how many were used within [reading.KeptFor].
func (k *Kept) Count(side split.Side, now time.Time) int64 {
	k.mu.Lock()
	defer k.mu.Unlock()
	maps.DeleteFunc(k.sides[side], func(_ uint64, at time.Time) bool { return now.Sub(at) > reading.KeptFor })
	return int64(len(k.sides[side]))
}

// Release forgets the sessions on a side.
func (k *Kept) Release(side split.Side) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.sides[side] = nil
}
