package reading

import "time"

// Queue is what the instances of a side take messages from. What is counted begins when the broker's counters do.
type Queue struct {
	Name  string `json:"name"`
	Ready int64  `json:"ready"` // messages that wait to be taken
	// that were taken, and of which it is not said yet that they are done
	Unacked     int64         `json:"unacked"`
	Consumers   int           `json:"consumers"`   // that take from it
	Published   int64         `json:"published"`   // messages that have come
	Done        int64         `json:"done"`        // that have gone for good
	Carried     int64         `json:"carried"`     // that were carried elsewhere by whoever reads this
	Redelivered int64         `json:"redelivered"` // that were given out once more
	Dead        int64         `json:"dead"`        // that were given up: the queue of dead letters has them
	In          float64       `json:"in"`          // messages a second, lately
	Out         float64       `json:"out"`         // likewise
	Oldest      time.Duration `json:"oldest"`      // how long the oldest has been there, in nanoseconds
}

// There is how many messages it has.
func (q Queue) There() int64 { return q.Ready + q.Unacked }
