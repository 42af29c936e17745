package crossing

import "time"

// Counted is what users met with while a crossing was under way, as far as somebody watched.
type Counted struct {
	Requests int64 `json:"requests"` // that the side crossed to answered, or lost
	Failed   int64 `json:"failed"`   // of them
	All      int64 `json:"all"`      // requests of both sides
	// of all of them
	AllFailed int64 `json:"all_failed"`
	Asked     int64 `json:"asked"` // requests of the prober at the front door
	Lost      int64 `json:"lost"`  // of them, got no answer
	// between two good answers to the prober, nanoseconds
	LongestGap time.Duration `json:"longest_gap"`
	Unwatched  time.Duration `json:"unwatched,omitempty"` // in which nobody watched, nanoseconds
}
