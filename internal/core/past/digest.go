package past

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/guard"
)

// Digest names the events of a crossing up to one: who changes one, leaves one out or adds one has another digest.
type Digest struct {
	Crossing int    `json:"crossing"`
	UpTo     uint64 `json:"up_to"`  // sequence number of the last of them
	Events   int    `json:"events"` // how many they are
	// of each as the logbook has it, with a newline after it, in their order
	SHA256 string `json:"sha256"`
}

// String is the digest as reports and notices have it: [DigestIn] finds it there.
func (d Digest) String() string {
	return fmt.Sprintf("crossing %d, %d events up to number %d, SHA-256 %s", d.Crossing, d.Events, d.UpTo, d.SHA256)
}

var (
	digested = regexp.MustCompile(`crossing (\d+), (\d+) events up to number (\d+), SHA-256 ([0-9a-f]{64})`)
	// softly is how mail breaks a line that is too long (RFC 2045, 6.7)
	softly = regexp.MustCompile(`=\r?\n`)
)

// ErrNoDigest says that there is none in a text.
var ErrNoDigest = errors.New("no digest of a crossing's events is in it")

// DigestIn is the digest in a report or a notice.
func DigestIn(text []byte) (d Digest, err error) {
	found := digested.FindSubmatch(softly.ReplaceAll(text, nil))
	if found == nil {
		return d, ErrNoDigest
	}
	d.SHA256 = string(found[4])
	var errN, errE, errU error
	d.Crossing, errN = strconv.Atoi(string(found[1]))
	d.Events, errE = strconv.Atoi(string(found[2]))
	d.UpTo, errU = strconv.ParseUint(string(found[3]), 10, 64)
	return d, errors.Join(errN, errE, errU)
}

// Strong is a guard at the moment at which there was most evidence that the new side is worse.
type Strong struct {
	At time.Time `json:"at"`
	guard.Status
}

// Notice is what became of a letter about a crossing.
type Notice struct {
	At     time.Time       `json:"at"`
	Letter crossing.Letter `json:"letter"`
	Tries  int             `json:"tries"`
	Failed string          `json:"failed,omitempty"` // why it was given up, "" if it was delivered
}
