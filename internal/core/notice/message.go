package notice

import (
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
)

// Message is a letter as it is sent. As JSON it is the data of a webhook's event, and what a command gets.
type Message struct {
	ID       string     `json:"id"` // the same however often it is sent
	About    plan.About `json:"about"`
	Service  string     `json:"service"`
	Crossing int        `json:"crossing,omitempty"`
	At       time.Time  `json:"at"` // when what it is about happened
	Late     bool       `json:"late,omitempty"`
	Host     string     `json:"host"`     // of the keeper
	Plan     string     `json:"plan"`     // its file there
	Subject  string     `json:"subject"`  // all of it in one line
	Happened []string   `json:"happened"` // one line for each event
	Users    string     `json:"users"`    // what it means for them
	Stands   string     `json:"stands"`   // what is so now
	Do       []string   `json:"do,omitempty"`
	Question uint64     `json:"question,omitempty"` // that is asked
	Link     string     `json:"link,omitempty"`     // to a page that answers it
	Token    string     `json:"token,omitempty"`    // that answers it
	Until    time.Time  `json:"until,omitzero"`     // link and token are good
	// of all events of a crossing that has ended, up to its end: vaiven log PLAN N --verify compares
	Digest string `json:"digest,omitempty"`
	// as the logbook has them
	Events []crossing.Event `json:"events"`
}
