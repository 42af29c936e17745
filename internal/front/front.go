package front

import (
	"context"
	"errors"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
)

// Errors that callers branch on.
var (
	// ErrUnreachable is wrapped when the front does not answer at all.
	ErrUnreachable = errors.New("front does not answer")
	// ErrChanged is wrapped when the split has another revision than expected:
	// somebody else changed it. Nothing was done.
	ErrChanged = errors.New("front was changed by somebody else")
	// ErrRefused is wrapped when the front will not do what was asked, because
	// requests would be lost. Nothing was done.
	ErrRefused = errors.New("front refuses")
)

// Driver is what every front can do. Its errors wrap those of this package.
type Driver interface {
	// Read is the split in force and the counts so far.
	Read(context.Context) (reading.Front, error)
	// Plan is what Set would do; nothing is done.
	Plan(context.Context, split.Share) (Change, error)
	// Set puts a share on green in force, if the split still has the revision.
	Set(ctx context.Context, share split.Share, revision uint64) (reading.Split, error)
	// Home puts a share on green in force whatever the split is.
	Home(ctx context.Context, share split.Share) (reading.Split, error)
	// SetInstances replaces the instances of a side.
	SetInstances(context.Context, split.Side, []reading.Server) error
	// Drain gives up a side without a share, and says how many requests it is
	// still answering.
	Drain(context.Context, split.Side) (open int64, err error)
}

// Headers between the prober, a front that names its sides, and the instances.
const (
	ProbeHeader    = "Vaiven-Probe"          // request: the secret; the instance sees only that it is a probe
	SideHeader     = "Vaiven-Side"           // answer to a probe: blue or green
	InstanceHeader = "Vaiven-reading.Server" // answer to a probe: the instance's name
	VersionHeader  = "Vaiven-Version"        // answer to a probe: the instance's version
	LostHeader     = "Vaiven-Lost"           // answer to a probe: why no instance answered
)
