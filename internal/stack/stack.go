package stack

import (
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"iter"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/world/place"
)

// Name is what the instance of a part with the given number is called: "green-2",
// or "green-worker-2" in a part behind the first.
func Name(part *plan.Part, first bool, side split.Side, number int) string {
	if first {
		return fmt.Sprintf("%v-%d", side, number)
	}
	return fmt.Sprintf("%v-%s-%d", side, part.Name, number)
}

// Names are what so many instances of a part are called.
func Names(part *plan.Part, first bool, side split.Side, n int) map[string]bool {
	names := map[string]bool{}
	for number := range n {
		names[Name(part, first, side, number+1)] = true
	}
	return names
}

// Compare orders instances by their names, green-2 before green-10.
func Compare(a, b reading.Instance) int {
	return cmp.Or(len(a.Name)-len(b.Name), strings.Compare(a.Name, b.Name))
}

// Build is what a part is raised from.
type Build struct {
	Version string
	ID      string // its identity: a digest or a commit

	Instances int      // how many; 0 for what the plan says
	Like      Settings // what the live side runs with, where the plan takes after it
}

// Number is how many instances a stack is raised with.
func (b Build) Number(s plan.Stack) int { return cmp.Or(b.Instances, s.Planned()) }

// Settings are what instances run with beside what the plan says, which comes before it. They may hold secrets, and are
// written down nowhere.
type Settings struct {
	Environment map[string]string
	Memory      int64   // limit of a container, bytes; 0 for none
	CPUs        float64 // limit of a container; 0 for none
}

// Environment is that of an instance: the plan's, each value filled in, over what the live side runs with.
func (b Build) Environment(planned map[string]string, fill func(value string) string) map[string]string {
	all := map[string]string{}
	maps.Copy(all, b.Like.Environment)
	for name, value := range planned {
		all[name] = fill(value)
	}
	return all
}

// Made reports whether an instance was started from the build.
func (b Build) Made(i reading.Instance) bool { return i.Version == b.Version && i.Build == b.ID }

// FreeAddress is one of the stack's addresses on this machine, on loopback where it names none, with a port of its
// range, that was not given away and on which nobody listens.
func FreeAddress(s plan.Stack, taken map[string]bool) (string, error) {
	hosts := s.Addresses
	if len(hosts) == 0 {
		hosts = []string{"127.0.0.1"}
	}
	for port := s.FirstPort; port <= s.LastPort; port++ {
		for _, host := range hosts {
			address := net.JoinHostPort(host, strconv.Itoa(port))
			if taken[address] {
				continue
			}
			if l, err := net.Listen("tcp", address); err == nil {
				return address, l.Close()
			}
		}
	}
	if len(s.Addresses) > 0 {
		return "", fmt.Errorf("every port from %d to %d of %d addresses is in use", s.FirstPort, s.LastPort, len(hosts))
	}
	return "", fmt.Errorf("every port from %d to %d is in use", s.FirstPort, s.LastPort)
}

// Description is what can be seen of an instance beside its state. What a driver
// cannot see is nil.
type Description struct {
	Command     []string
	Environment map[string]string
	Limits      map[string]string
	Given       map[string]string // of a container: what of the environment is not its image's own
	Memory      int64             // limit of a container, bytes; 0 for none
	CPUs        float64           // limit of a container; 0 for none
}

// Alike is what instances run with that are described, without what belongs to one of them alone: what differs between
// them, and what holds a name, address, version or side of theirs.
func Alike(of []reading.Instance, described []Description) Settings {
	var s Settings
	for n, d := range described {
		environment := d.Given
		if environment == nil {
			environment = d.Environment
		}
		own := owner(of[n])
		if n == 0 {
			s = Settings{Environment: maps.Clone(environment), Memory: d.Memory, CPUs: d.CPUs}
		}
		maps.DeleteFunc(s.Environment, func(name, value string) bool {
			other, there := environment[name]
			return !there || other != value || among(unlike, name) || own(value)
		})
		s.Memory, s.CPUs = max(s.Memory, d.Memory), max(s.CPUs, d.CPUs)
	}
	return s
}

// unlike are variables that say where something runs, and not how.
var unlike = []string{"PATH", "HOME", "HOSTNAME", "USER", "LOGNAME", "PORT", "PID", "LISTEN_*", "NOTIFY_SOCKET",
	"WATCHDOG_*", "CREDENTIALS_DIRECTORY"}

// owner reports of a value whether it is an instance's own.
func owner(i reading.Instance) func(value string) bool {
	host, port, _ := net.SplitHostPort(i.Address)
	return func(value string) bool {
		for _, part := range []string{i.Name, i.Address, i.Version, i.Side.String()} {
			if part != "" && strings.Contains(value, part) {
				return true
			}
		}
		return value != "" && (value == port || value == host || value == i.Build ||
			strings.HasSuffix(value, ":"+port) && port != "")
	}
}

// Driver starts, lists and stops the instances of one part. It is safe for
// concurrent use within one process; of several processes only one may start or
// stop at a time. A driver restarts nothing by itself that ends.
type Driver interface {
	// Raise makes the side consist of the planned number of instances of a build.
	// What runs of it already under one of their [Names] stays; everything else of the side is stopped, and what
	// is missing is started. On an error, which names each instance that was not
	// started, the others run: a second Raise completes them, and Stop removes them.
	// The other side is never touched. Before anything is stopped, and before each start, it asks whether it may
	// ([permit.Ask]).
	Raise(ctx context.Context, side split.Side, b Build) error
	// List is every instance of the side, by name, also those that ended and were
	// not stopped, each with the last lines of its output as far as they stand in
	// [OutputTail]. What could be read is there beside an error, which names what could not.
	List(ctx context.Context, side split.Side) ([]reading.Instance, error)
	// Stop ends all instances of the side: it asks each to stop, and after the plan's
	// grace time makes it. It goes on with the others when one resists, and leaves
	// nothing behind of those that are gone. It stops them in [Waves], and asks before each whether it may: where it
	// may not, those that are left run on, and the error says why.
	Stop(ctx context.Context, side split.Side) error
	// Place is where an instance stands.
	Place(ctx context.Context, i reading.Instance) (place.Place, error)
	// Describe says what an instance runs with.
	Describe(ctx context.Context, i reading.Instance) (Description, error)
}

// Again is how an instance that has ended is started again.
type Again struct {
	Like Settings // what the plan takes over for it
	Even bool     // from whatever stands in the place of its build: nobody of its side would serve otherwise
}

// Restarted is what is another thing than when an instance was started before.
type Restarted struct {
	Environment bool   // that the plan gives it
	Build       string // what differs of what was delivered, "" if nothing does
	Copy        bool   // for that it runs from a copy which was kept when it was delivered
}

// Restarter is a driver that can start again what has ended.
type Restarter interface {
	// Restart starts an instance again that has ended: from the same build, under the same name
	// and at the same address. Its output goes on. One that runs stays. Where what was delivered of its build is not
	// there as it was, nor a copy of it, the error wraps [delivered.ErrOther], unless it is to be started even so.
	Restart(ctx context.Context, i reading.Instance, a Again) (Restarted, error)
}

// Reacher is a driver whose instances are not reached from this machine as others are.
type Reacher interface {
	// From is where connections to instances of a side are made from. Commands are run there, and files read, as on
	// this machine.
	From(split.Side) place.Place
}

// Rotator is a driver that keeps what instances print itself, and keeps it from growing.
type Rotator interface {
	// Rotate puts output aside that has become larger than the plan wants.
	Rotate(ctx context.Context, side split.Side) error
}

// ErrNoRestart is wrapped by what cannot start an instance again.
var ErrNoRestart = errors.New("what has ended is not started again")

// KeyIn is the file in the state folder with the key for digests of what may be secret.
const KeyIn = "digest.key"

// Digest names an environment without saying what it is.
func Digest(key []byte, environment map[string]string) string {
	h := hmac.New(sha256.New, key)
	for _, name := range slices.Sorted(maps.Keys(environment)) {
		fmt.Fprintf(h, "%d %s=%d %s\n", len(name), name, len(environment[name]), environment[name])
	}
	return hex.EncodeToString(h.Sum(nil)[:12])
}

// ErrUnreachable is wrapped when a host or an engine does not answer. What runs
// there may well go on.
var ErrUnreachable = place.ErrUnreachable

// OutputTail is how many bytes a driver reads of the end of an instance's output.
const OutputTail = 8 << 10

// Lines are the lines of a text of output.
func Lines(text []byte) []string {
	trimmed := strings.TrimRight(strings.ToValidUTF8(string(text), "?"), "\n")
	if trimmed == "" {
		return nil
	}
	return strings.Split(trimmed, "\n")
}

// Waves are a list in parts, each twice as long as the one before: one at first, then two, then four. A side is
// stopped so, and before each wave it is asked whether it still may be.
func Waves[T any](list []T) iter.Seq[[]T] {
	return func(yield func([]T) bool) {
		for n := 1; len(list) > 0; n *= 2 {
			wave := list[:min(n, len(list))]
			list = list[len(wave):]
			if !yield(wave) {
				return
			}
		}
	}
}
