package reading

import (
	"strings"
	"time"

	"vaiven/internal/core/split"
)

// Instance is one instance of a side as its driver finds it.
type Instance struct {
	Name    string     `json:"name"` // "green-1"
	Part    string     `json:"part"`
	Side    split.Side `json:"side"`
	Version string     `json:"version"`
	Build   string     `json:"build"`           // identity of what it was started from
	Address string     `json:"address"`         // host:port
	Place   string     `json:"place,omitempty"` // the host or container that it is on, "" for this machine
	Started time.Time  `json:"started"`
	Running bool       `json:"running"`
	Exit    string     `json:"exit,omitempty"`   // how it ended, in words; "" while it runs
	Waits   string     `json:"waits,omitempty"`  // for what, where it is still to run, in words
	Output  []string   `json:"output,omitempty"` // its last lines
	// identity of the state folder that it was started from; "" if it is not known
	Folder string `json:"folder,omitempty"`
	Other  string `json:"other,omitempty"` // what of its build is not as it was delivered, in words; "" if all is
	// of the environment that it was started with, under a key; "" if it is not known
	Digest string `json:"digest,omitempty"`
}

// Values are what the placeholders of a plan stand for at an instance of a service.
func (i Instance) Values(service string) map[string]string {
	host, port := i.Address, ""
	at := strings.LastIndexByte(host, ':')
	if bracketed := strings.HasSuffix(host[:max(at, 0)], "]"); at >= 0 && (bracketed || strings.Count(host, ":") == 1) {
		host, port = strings.Trim(host[:at], "[]"), host[at+1:]
	}
	return map[string]string{
		"service": service, "part": i.Part, "side": i.Side.String(), "version": i.Version, "build": i.Build,
		"instance": i.Name, "address": i.Address, "host": host, "port": port,
	}
}

// Health is how an instance is.
type Health string

// How an instance can be.
const (
	Starting  Health = "starting"  // runs, and says nothing yet
	Answering Health = "answering" // says something, but was never healthy
	Healthy   Health = "healthy"
	Failing   Health = "failing" // was healthy, and runs
	Exited    Health = "exited"
)

// Condition is an instance with its health as last read.
type Condition struct {
	Instance
	State  Health        `json:"state"`
	Since  time.Time     `json:"since"` // of the state
	At     time.Time     `json:"at"`    // of the reading
	Took   time.Duration `json:"took"`
	Said   string        `json:"said,omitempty"`   // what is wrong, "" if nothing is
	Answer string        `json:"answer,omitempty"` // the bad reading's, in full
	// times of the last readings in milliseconds, oldest first; -1 for a bad one
	History []float64 `json:"history,omitempty"`
}
