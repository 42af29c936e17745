package front

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/world/place"
)

// Errors that callers branch on.
var (
	// ErrUnreachable is wrapped when the front does not answer at all. Whether it does, or the machine that it stands
	// on, is asked by [Unreachable].
	ErrUnreachable error = silent{}
	// ErrNotMade is wrapped, beside [ErrUnreachable], when the file by which the front is steered is not there yet.
	ErrNotMade = errors.New("there is no file of Vaiven's yet")
	// ErrNotIncluded is wrapped when the configuration of the proxy does not include that file.
	ErrNotIncluded = errors.New("the proxy's configuration does not include the file of Vaiven's")
	// ErrChanged is wrapped when the split has another revision than expected:
	// somebody else changed it. Nothing was done.
	ErrChanged = errors.New("front was changed by somebody else")
	// ErrNewer is wrapped when somebody went home since the generation that was expected.
	// Nothing was done, or what was is overruled by that.
	ErrNewer = errors.New("all traffic was sent home meanwhile")
	// ErrTaken is wrapped when another keeper took over since the term that was expected.
	// Nothing was done.
	ErrTaken = errors.New("another keeper has taken over")
	// ErrNobody is wrapped when all requests would go to a side that has no instances,
	// while the other one serves. Nothing was done.
	ErrNobody = errors.New("nobody is there")
	// ErrClosed is wrapped when requests would go to a side that is closed. Nothing was done.
	ErrClosed = errors.New("the side is closed")
	// ErrNotLoaded is wrapped when a going home stands in the configuration and the proxy
	// has not loaded it. It is to be tried again.
	ErrNotLoaded = errors.New("not loaded yet")
	// ErrRefused is wrapped when the front will not do what was asked, because
	// requests would be lost. Nothing was done.
	ErrRefused = errors.New("front refuses")
)

// silent is a front that does not answer: to whoever branches it is as a machine that does not.
type silent struct{}

func (silent) Error() string { return "front does not answer" }
func (silent) Unwrap() error { return place.ErrUnreachable }

// Unreachable reports whether an error says that a front does not answer, or the machine on which it stands.
func Unreachable(err error) bool { return errors.Is(err, place.ErrUnreachable) }

// Driver is what every front can do; what only some can are abilities, below, which are found by [Can], and what they
// tell is said by what they read ([reading.Capabilities]). Its errors wrap those of this package. Its methods
// may be called at the same time, and none but Set and SetInstances waits for another.
type Driver interface {
	// Read is the split in force, the last order of going home, and the counts so far.
	Read(context.Context) (reading.Front, error)
	// Foresee is what Set would do; nothing is done.
	Foresee(context.Context, split.Share) (Change, error)
	// Set puts a share on green in force, as near as the front can, if the front still is
	// as expected at the moment of taking effect. A going home that comes meanwhile, from
	// whatever process, cancels it; what was done of it is not undone over that.
	Set(ctx context.Context, share split.Share, e Expect) (Done, error)
	// Home sends all requests to a side, whatever the front has. It waits for no other
	// change, cancels the one that is under way in this process, and confirms by reading
	// back. It raises the order's generation, and what has to last is written after it
	// is in force.
	Home(context.Context, Homing) (Done, error)
	// Rehearse does everything of going home to a side but the last act, and says how long each
	// step took. It changes nothing, and waits for no change but as going home would. The error has
	// the system's own words, file and line; the steps until then are there beside it.
	Rehearse(ctx context.Context, side split.Side) ([]wayback.Step, error)
	// SetInstances replaces the instances of a side.
	SetInstances(context.Context, split.Side, []reading.Server) error
	// NewTerm begins another term, and changes nothing else: changes of an earlier one are refused from
	// then on, and where the front can compare, also those that are on their way. It is nobody's going home.
	// Its number is larger than that of any term which the front knows of, and than the one it is to come after:
	// a front may have forgotten.
	NewTerm(ctx context.Context, after uint64) (term uint64, err error)
}

// Expect is what a front has to have for a change to be made.
type Expect struct {
	Revision   uint64 // of the split, as read by this driver
	Generation uint64 // of the order of going home, from whatever process
	Term       uint64 // of whoever keeps the service
}

// AsRead is that a front still is as it was read.
func AsRead(r reading.Front) Expect {
	return Expect{Revision: r.Split.Revision, Generation: r.Order.Generation, Term: r.Order.Term}
}

// Allows is an error if somebody went home, or took over, since what is expected, or if a share on green would send
// something to a side that is closed.
func (e Expect) Allows(share split.Share, o reading.Order) error {
	switch {
	case o.Generation > e.Generation:
		return fmt.Errorf("%w: %s sent all of it to %v", ErrNewer, cmp.Or(o.By, "somebody"), o.Side)
	case o.Term > e.Term:
		return fmt.Errorf("%w: what is ordered in term %d counts no more, it is term %d", ErrTaken, e.Term, o.Term)
	case o.Closed && share.Of(o.Side.Other()) > 0:
		return closed(o)
	}
	return nil
}

// closed is that requests would go to the side that an order closes.
func closed(o reading.Order) error {
	return fmt.Errorf("%w: %v was evacuated by %s at %s; vaiven reopen opens it again", ErrClosed, o.Side.Other(),
		cmp.Or(o.By, "somebody"), o.At.Local().Format("15:04:05 on 2 January"))
}

// Homing is a going home.
type Homing struct {
	Side  split.Side
	By    string
	Why   string
	Force bool // also to a side that has nobody, while the other one serves

	Folder string // identity of the state folder of whoever says so, "" if it is not known
	Close  bool   // the other side is evacuated, and closed
	Reopen bool   // a side that is closed is opened again
}

// Next is the order that a going home is under, after another one. The error wraps [ErrClosed] if it is to a side that
// is closed: then nothing is to be done.
func (h Homing) Next(before reading.Order, at time.Time) (reading.Order, error) {
	if before.Closes(h.Side) && !h.Reopen {
		return before, closed(before)
	}
	return reading.Order{Generation: before.Generation + 1, Term: before.Term, Side: h.Side, At: at.UTC(), By: h.By,
		Why: h.Why, Folder: h.Folder, Closed: h.Close || before.Closes(h.Side.Other()) && !h.Reopen}, nil
}

// Done is what is in force after a change, as read back.
type Done struct {
	reading.Split
	Nearest split.Share   // to the share asked for that the front can do, on green
	Order   reading.Order // the last going home
	// Everywhere is when the last of those who ask goes by it, where that is later than now.
	Everywhere time.Time
	Did        []string // the commands carried out, or lines of the file's difference
}

// Name tells a front that knows nobody of a side which instances of a part run there, and how many those are.
func Name(ctx context.Context, d interface {
	SetInstances(context.Context, split.Side, []reading.Server) error
}, side split.Side, list []reading.Instance, part string) (int, error) {
	var servers []reading.Server
	for _, i := range list {
		if i.Running && i.Part == part {
			servers = append(servers, reading.Server{Name: i.Name, Address: i.Address, Version: i.Version})
		}
	}
	if len(servers) == 0 {
		return 0, nil
	}
	return len(servers), d.SetInstances(ctx, side, servers)
}

// Can is an ability of a front, by its own type or by that of the driver that it is made of: one that adds something to
// another driver and has none of that one's abilities itself says by Unwrap which that is.
func Can[Ability any](d Driver) (Ability, bool) {
	for {
		if a, ok := d.(Ability); ok {
			return a, true
		}
		w, ok := d.(interface{ Unwrap() Driver })
		if !ok {
			var none Ability
			return none, false
		}
		d = w.Unwrap()
	}
}

// Drainer is a front that can be told that a side is given up, or that knows better than by
// what it reads what the side is still answering.
type Drainer interface {
	Drain(context.Context, split.Side) (Left, error)
}

// Left is what a side that is given up still has to do.
type Left struct {
	Open  int64 // requests that it answers: they get the side's grace time
	Waits int64 // messages that wait for it, or are being done by it: it is there for as long as there are any
	// beside an error: until when clients may still come that go by what was before the last change. The side's grace
	// time begins then.
	Until time.Time
	Taken int64 // of the messages, those that its instances have taken and are not done with
}

// Drain gives up a side without a share, and says what it still has to do.
func Drain(ctx context.Context, d Driver, side split.Side) (Left, error) {
	if d, ok := Can[Drainer](d); ok {
		return d.Drain(ctx, side)
	}
	r, err := Quieted(ctx, d, side)
	return Left{Open: r.Sides[side].Open}, err
}

// Quieted is what a front reads, and an error if a side gets a part of the requests.
func Quieted(ctx context.Context, d Driver, side split.Side) (reading.Front, error) {
	r, err := d.Read(ctx)
	if err == nil {
		err = Quiet(side, r.Sends(side))
	}
	return r, err
}

// Quiet is an error if a side gets a part of the requests.
func Quiet(side split.Side, of split.Share) error {
	if of == 0 {
		return nil
	}
	return fmt.Errorf("%w: %v gets %v of the requests", ErrRefused, side, of)
}

// Preparer is a front that needs something before it can be steered: a file that a proxy is started with, records,
// exchanges.
type Preparer interface {
	// Prepare makes it with the instances that there are, by side, and all requests on the side that has
	// some: on blue, if both have. made is false if it was there.
	Prepare(ctx context.Context, sides Known) (made bool, err error)
}

// Lacker is a front that can say what its configuration lacks.
type Lacker interface {
	Lacks(context.Context) ([]string, error)
}

// Includer is a front that is steered by a file which its configuration has to include.
type Includer interface {
	// Included wraps [ErrNotIncluded] if nothing does.
	Included(context.Context) error
}

// Included reports whether a front's configuration includes the file that it is steered by, if there is one.
func Included(ctx context.Context, d Driver) error {
	if i, ok := Can[Includer](d); ok {
		return i.Included(ctx)
	}
	return nil
}

// Runner is a front that has something to do as long as somebody sees to the service.
type Runner interface {
	// Run does it until the context ends. Of several who run one front, in whatever processes, none does any harm.
	Run(context.Context)
}

// Run does what a front has to do, if it has anything, until the context ends.
func Run(ctx context.Context, d Driver) {
	if r, ok := Can[Runner](d); ok {
		r.Run(ctx)
	}
}

// Pauser is a front that can hold back everything that comes, so that it waits and nothing of it is lost.
type Pauser interface {
	// Pause holds what comes from now on. What was there before is done.
	Pause(ctx context.Context, by string) error
	// Resume lets everything go on as before, what was held first, and returns when nothing waits any more.
	Resume(context.Context) error
}

// Lister is a front that has more instances of a side in its list than those that it reads as the side's: those
// that get nothing.
type Lister interface {
	Listed(context.Context, split.Side) ([]reading.Server, error)
}

// Probing is a front that can say whether the front itself reaches an instance, from where it stands.
type Probing interface {
	// Reach connects to an address from there, and waits until the front's own check, if it has one, has found it well.
	// The error is why it could not, and wraps [ErrUnknown] if that cannot be told.
	Reach(ctx context.Context, address string) error
}

// Doorkeeper is a front that can say what its door of the spare side's own is.
type Doorkeeper interface {
	// Doors are those of the front, or of each front of several, in their order.
	Doors(context.Context) ([]Spare, error)
}

// Doors are the doors of the spare side's own of a front, or of each of several. One that is closed has no secret.
func Doors(ctx context.Context, d Driver) ([]Spare, error) {
	if k, ok := Can[Doorkeeper](d); ok {
		return k.Doors(ctx)
	}
	return []Spare{{}}, nil
}

// ErrUnknown is wrapped when something cannot be told.
var ErrUnknown = errors.New("not known")

// Reach reports whether a front reaches an address.
func Reach(ctx context.Context, d Driver, address string) error {
	if r, ok := Can[Probing](d); ok {
		return r.Reach(ctx, address)
	}
	return fmt.Errorf("%w: such a front cannot be asked", ErrUnknown)
}

// connectLimit is how long a connection may take.
const connectLimit = 5 * time.Second

// ReachFrom connects to an address from a machine, and lets it go.
func ReachFrom(ctx context.Context, on place.Dialer, address string) error {
	ctx, cancel := context.WithTimeout(ctx, connectLimit)
	defer cancel()
	err := place.Takes(ctx, on, address)
	if errors.Is(err, place.ErrCannot) || errors.Is(err, place.ErrUnreachable) {
		return fmt.Errorf("%w: %w", ErrUnknown, err)
	}
	return err
}

// Listed is what a front lists for a side.
func Listed(ctx context.Context, d Driver, side split.Side) ([]reading.Server, error) {
	if l, ok := Can[Lister](d); ok {
		return l.Listed(ctx, side)
	}
	r, err := d.Read(ctx)
	var list []reading.Server
	for _, c := range r.Sides[side].Instances {
		list = append(list, c.Server)
	}
	return list, err
}

// Headers between the prober, a front that names its sides, and the instances.
const (
	ProbeAgent     = "vaiven-prober"   // its User-Agent, by which an access log shows that it is written
	ProbeHeader    = "Vaiven-Probe"    // request: the secret; the instance sees only that it is a probe
	SideHeader     = "Vaiven-Side"     // answer to a probe: blue or green
	InstanceHeader = "Vaiven-Instance" // answer to a probe: the instance's name
	VersionHeader  = "Vaiven-Version"  // answer to a probe: the instance's version
	LostHeader     = "Vaiven-Lost"     // answer to a probe: why no instance answered
)
