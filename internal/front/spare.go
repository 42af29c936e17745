package front

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"strings"
	"sync"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/world/durable"
	"vaiven/internal/world/section"
)

// Spare is the spare side's own door as a front has it. The zero value is closed.
type Spare struct {
	Secret string     `json:"secret"` // whoever has it is let through; "" lets nobody
	Side   split.Side `json:"side"`
}

// At is the door when green has a share: it leads to the side that has nothing, and in between to where it led before.
func (s Spare) At(share split.Share) Spare {
	switch share {
	case 0:
		s.Side = split.Green
	case split.Whole:
		s.Side = split.Blue
	}
	return s
}

// Open has the door of a front with a share on green be what a plan wants: it keeps its secret, and gets one where it
// had none. Going home keeps what there is instead, and asks nothing of this machine's disk. The error wraps
// [ErrRefused].
func (s Spare) Open(d plan.SpareDoor, share split.Share) (Spare, error) {
	switch {
	case !d.Asks():
		return Spare{}, nil
	case s.Secret == "":
		var err error
		s = Minor(share)
		if s.Secret, err = SpareSecret(d.File); err != nil {
			return s, fmt.Errorf("%w: the secret of the spare side's own door: %w", ErrRefused, err)
		}
	}
	return s.At(share), nil
}

// Renewed is an open door with another secret: nobody is on the spare side any more, so who knew the way there has to
// be told anew.
func (s Spare) Renewed(d plan.SpareDoor) Spare {
	var err error
	if s.Secret, err = RenewSpareSecret(d.File, s.Secret); err != nil {
		slog.Warn("the new secret of the spare side's door could not be written", "err", err)
	}
	return s
}

// Minor is the door of a front that had none, when green has a share: it leads to the side that has less.
func Minor(share split.Share) Spare {
	if share > split.Whole/2 {
		return Spare{Side: split.Blue}
	}
	return Spare{Side: split.Green}
}

// NoSpareAddress refuses a door with an address of its own, which a proxy would have to listen at: nil if it has none.
func NoSpareAddress(d plan.SpareDoor) error {
	if d.Listen == "" {
		return nil
	}
	return section.Mistake{What: "only the embedded front listens for the spare side at an address of its own",
		Try: `write "header: NAME" or "cookie: NAME"`}
}

// renewing keeps several fronts of this process from renewing a secret at once.
var renewing sync.Mutex

// SpareSecret is the secret in a file, which is made if it is not there.
func SpareSecret(file string) (string, error) {
	renewing.Lock()
	defer renewing.Unlock()
	return spareSecret(file, "")
}

// RenewSpareSecret is another secret than one that was, also in the file: one that is there already, so that all fronts
// of a plan have the same, or a new one. The secret is new also where it could not be written.
func RenewSpareSecret(file, was string) (string, error) {
	renewing.Lock()
	defer renewing.Unlock()
	return spareSecret(file, was)
}

func spareSecret(file, was string) (string, error) {
	data, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return rand.Text(), err
	}
	if secret := strings.TrimSpace(string(data)); isSecret(secret) && secret != was {
		return secret, nil
	}
	secret := rand.Text()
	return secret, durable.WriteFile(file, []byte(secret+"\n"))
}

// isSecret reports whether a text is one that was made here: it can stand in every configuration as it is.
func isSecret(text string) bool {
	return len(text) >= 20 && strings.Trim(text, "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567") == ""
}
