package tool

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/front/told"
	"vaiven/internal/world/external"
	"vaiven/internal/world/place"
)

// Protocol is the version of what is said to the command.
const Protocol = 1

// Request is what the command reads.
type Request struct {
	Protocol  int        `json:"protocol"`
	Do        string     `json:"do"` // read, foresee, set, home, instances or count
	Service   string     `json:"service"`
	Listen    string     `json:"listen"`                // the front's, as the plan has it
	Key       string     `json:"key"`                   // what a request is placed by, as the plan has it
	Share     *float64   `json:"share,omitempty"`       // foresee, set: on green, in percent
	Side      string     `json:"side,omitempty"`        // home, instances
	Instances []Instance `json:"instances,omitempty"`   // instances: all of the side
	If        string     `json:"if_revision,omitempty"` // set, instances: what a reading said last
	By        string     `json:"by,omitempty"`          // home: who
	Why       string     `json:"why,omitempty"`         // home
	Force     bool       `json:"force,omitempty"`       // home: even to a side with nobody while the other has somebody
}

// Instance is one instance behind the front.
type Instance struct {
	Name    string `json:"name"`
	Address string `json:"address"` // host:port
	Version string `json:"version,omitempty"`
	Out     bool   `json:"out,omitempty"` // it gets no new requests while others can take them
}

// Answer is what it writes.
type Answer struct {
	Error   string `json:"error,omitempty"`       // it was not done
	Changed bool   `json:"changed,omitempty"`     // because somebody else has changed it since that revision
	Nobody  bool   `json:"nobody,omitempty"`      // because the side has no instances and the other has
	Away    bool   `json:"unreachable,omitempty"` // because what the command steers does not answer

	// read
	Revision string `json:"revision,omitempty"` // another one whenever something has changed
	// on green in percent, as it is in force; none if nobody gets anything. Of foresee, the one that will be
	Share   *float64   `json:"share,omitempty"`
	Blue    []Instance `json:"blue,omitempty"`
	Green   []Instance `json:"green,omitempty"`
	Notice  string     `json:"notice,omitempty"`  // what a person should know
	Pending bool       `json:"pending,omitempty"` // something was accepted that is not in force yet, or not read
	Counts  bool       `json:"counts,omitempty"`  // it can be asked to count

	// foresee
	Steps []string `json:"steps,omitempty"`
	Notes []string `json:"notes,omitempty"`

	// set, home, instances: when the last of those who ask goes by it, where that is later than now.
	Everywhere time.Time `json:"everywhere,omitzero"`

	// count, by address
	Counted map[string]Count `json:"counted,omitempty"`
	Lost    [2]int64         `json:"lost,omitzero"` // by side, blue first: requests that got no instance's answer
}

// Count is what an instance answered since the front knows it.
type Count struct {
	Open     int64    `json:"open"`
	Requests int64    `json:"requests"`
	Status   [6]int64 `json:"status"` // by class: [5] is 500 to 599
	Failures int64    `json:"failures"`
}

// The limits of a command.
const (
	readLimit   = 5 * time.Second
	changeLimit = front.ChangeLimit
	readAgain   = 100 * time.Millisecond // until a reading shows what was asked for
)

// Driver asks the command. It is safe for concurrent use.
type Driver struct {
	service string
	front   plan.Front
	words   []string
	hide    func(string) string

	steering told.Remote[Answer]

	mu    sync.Mutex // protects what follows
	later time.Time  // when the last change is in force everywhere
}

// New makes a driver. The command is not started yet.
func New(on place.Machine, service string, f plan.Front, hide func(string) string) *Driver {
	if hide == nil {
		hide = func(text string) string { return text }
	}
	d := &Driver{service: service, front: f, words: f.Settings.(*Settings).Command, hide: hide}
	d.steering = told.Remote[Answer]{
		Look: d.look, Share: d.share, Print: Answer.print, Work: d.work, Blind: d.home, Most: 1,
		Mark: front.NewOrderFile(on, f.Order),
		Has:  func(a Answer, side split.Side) int { return len(a.of(side)) },
	}
	return d
}

// ask asks for something, within a limit.
func (d *Driver) ask(ctx context.Context, q Request, limit time.Duration) (Answer, error) {
	q.Protocol, q.Service, q.Listen, q.Key = Protocol, d.service, d.front.Listen, d.front.Key.String()
	a, err := external.Ask[Answer](ctx, d.words, q.Do, q, limit, d.hide)
	switch {
	case a.Changed:
		return a, fmt.Errorf("%w: %s says: %s", front.ErrChanged, d.words[0], d.hide(a.Error))
	case a.Nobody:
		return a, fmt.Errorf("%w: %s says: %s", front.ErrNobody, d.words[0], d.hide(a.Error))
	case a.Away, a.Error != "" && (q.Do == "read" || q.Do == "count"):
		return a, fmt.Errorf("%w: %s %s: %s", front.ErrUnreachable, d.words[0], q.Do, d.hide(a.Error))
	case a.Error != "":
		return a, fmt.Errorf("%w: %s %s: %s", front.ErrRefused, d.words[0], q.Do, d.hide(a.Error))
	case err != nil:
		return a, fmt.Errorf("%w: %w", front.ErrUnreachable, err)
	}
	return a, nil
}

// of are a side's instances.
func (a Answer) of(side split.Side) []Instance {
	if side == split.Blue {
		return a.Blue
	}
	return a.Green
}

// print is what is in force as a text.
func (a Answer) print() string {
	share := "nobody"
	if a.Share != nil {
		share = fmt.Sprint(*a.Share)
	}
	return fmt.Sprintf("%s %s %v %v", a.Revision, share, a.Blue, a.Green)
}

func (d *Driver) look(ctx context.Context) (Answer, error) {
	a, err := d.ask(ctx, Request{Do: "read"}, readLimit)
	if err == nil && a.Revision == "" {
		err = fmt.Errorf("%w: %s read: it says no revision", front.ErrUnreachable, d.words[0])
	}
	if err == nil && a.Share != nil && (*a.Share < 0 || *a.Share > 100) {
		err = fmt.Errorf("%w: %s read: %g is no share in percent", front.ErrUnreachable, d.words[0], *a.Share)
	}
	return a, err
}

func (d *Driver) share(a Answer) (split.Share, error) {
	if a.Share == nil {
		return 0, fmt.Errorf("%w: nobody gets any requests", front.ErrRefused)
	}
	return share(*a.Share), nil
}

// share is one in percent, to the basis point.
func share(percent float64) split.Share { return split.Share(percent*100 + 0.5) }

func percent(s split.Share) *float64 {
	p := float64(s) / 100
	return &p
}

// Read is the split in force and what was counted.
func (d *Driver) Read(ctx context.Context) (reading.Front, error) {
	since := d.steering.ChangeMark()
	a, err := d.look(ctx)
	if err != nil {
		return reading.Front{}, err
	}
	known := d.steering.Instances()
	r := reading.Front{At: time.Now(), Notice: a.Notice,
		Tells: reading.Capabilities{Counts: a.Counts, Both: d.front.Key.From != plan.KeyClient}}
	if r.Split, r.Order, err = d.steering.Known(since, a); err != nil {
		return reading.Front{}, err
	}
	var counted Answer
	if a.Counts {
		if counted, err = d.ask(ctx, Request{Do: "count"}, readLimit); err != nil {
			r.Blind = err.Error()
		}
	}
	for _, side := range split.Sides {
		s := reading.Side{Instances: []reading.Count{}, Lost: counted.Lost[side]}
		for _, i := range a.of(side) {
			c := counted.Counted[i.Address]
			s.Open += c.Open
			s.Instances = append(s.Instances, reading.Count{
				Server: reading.Server{Name: i.Name, Address: i.Address, Version: i.Version, Out: i.Out}, Open: c.Open,
				Requests: c.Requests, Status: c.Status, Failures: c.Failures,
				Untold: r.Blind != "",
			})
		}
		known.Sort(side, s.Instances)
		r.Sides[side] = s
	}
	return r, nil
}

// work is a change of the share: the command accepts it, and readings show when it is made.
func (d *Driver) work(a Answer, to split.Share, home *reading.Order) (told.Work, error) {
	if home != nil { // once more: that it may be was found out before
		return d.home(front.Homing{Side: home.Side, By: home.By, Why: home.Why, Force: true}), nil
	}
	for _, side := range split.Sides {
		if to.Of(side) > 0 && len(a.of(side)) == 0 {
			return told.Work{}, fmt.Errorf("%w: %v has no instances to send requests to", front.ErrRefused, side)
		}
	}
	f, err := d.ask(context.Background(), Request{Do: "foresee", Share: percent(to)}, readLimit) // what it would do
	if err != nil {
		return told.Work{}, err
	}
	reached := to
	if f.Share != nil {
		reached = share(*f.Share)
	}
	w := told.Work{Steps: f.Steps, Notes: f.Notes,
		Weights: split.Weights{Reached: []split.Share{split.Whole - reached, reached}}}
	if len(w.Steps) == 0 {
		w.Steps = []string{fmt.Sprintf("%s set %v on green", d.words[0], to)}
	}
	w.Do = func(ctx context.Context) error {
		return d.change(ctx, Request{Do: "set", Share: percent(to), If: a.Revision})
	}
	w.Wait = func(ctx context.Context) error {
		return d.until(ctx, fmt.Sprintf("%v on green", reached), func(now Answer) (bool, error) {
			got, err := d.share(now)
			switch {
			case err == nil && got == reached:
				return true, nil
			case now.Revision != a.Revision: // it was made, and then another change
				return false, fmt.Errorf("%w: %s says %s now, not %v on green", front.ErrChanged, d.words[0],
					now.print(), reached)
			}
			return false, nil
		})
	}
	return w, nil
}

// home is going home, for which nothing is read before.
func (d *Driver) home(h front.Homing) told.Work {
	to := split.Toward(h.Side, split.Whole)
	return told.Work{
		Steps:   []string{fmt.Sprintf("%s home to %v", d.words[0], h.Side)},
		Weights: split.Weights{Reached: []split.Share{split.Whole - to, to}},
		Do: func(ctx context.Context) error {
			return d.change(ctx, Request{Do: "home", Side: h.Side.String(), By: h.By, Why: h.Why, Force: h.Force})
		},
		Wait: func(ctx context.Context) error {
			return d.until(ctx, fmt.Sprintf("all of it on %v", h.Side), func(now Answer) (bool, error) {
				got, err := d.share(now)
				return err == nil && got == to, nil
			})
		},
	}
}

// change asks for a change. When it is accepted it need not be in force.
func (d *Driver) change(ctx context.Context, q Request) error {
	done, err := d.ask(ctx, q, changeLimit)
	if err == nil {
		d.inForceAt(done.Everywhere)
	}
	return err
}

func (d *Driver) inForceAt(at time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.later = at
}

// until waits until a reading shows what was accepted, or that it never will.
// Readings may lag.
func (d *Driver) until(ctx context.Context, what string, there func(Answer) (bool, error)) error {
	ctx, cancel := context.WithTimeout(ctx, changeLimit)
	defer cancel()
	for {
		now, err := d.look(ctx)
		if err == nil && !now.Pending {
			if is, never := there(now); is || never != nil {
				return never
			}
		}
		select {
		case <-ctx.Done():
			if err == nil {
				err = context.Cause(ctx)
			}
			return fmt.Errorf("%w: it was accepted, and no reading shows %s: %w", front.ErrUnreachable, what, err)
		case <-time.After(readAgain):
		}
	}
}

// Foresee is what Set would do, in the command's own words where it has some.
func (d *Driver) Foresee(ctx context.Context, to split.Share) (front.Change, error) {
	return d.steering.Foresee(ctx, to, front.Change{Usually: time.Second, Connections: "what the system behind the " +
		"command does with them"})
}

// everywhere adds when a change is in force for the last of those who ask.
func (d *Driver) everywhere(done front.Done, err error) (front.Done, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.later.After(time.Now()) {
		done.Everywhere = d.later
	}
	return done, err
}

// Set puts a share on green in force if the front still is as expected.
func (d *Driver) Set(ctx context.Context, to split.Share, e front.Expect) (front.Done, error) {
	return d.everywhere(d.steering.Set(ctx, to, e))
}

// Rehearse does everything of going home but telling the command.
func (d *Driver) Rehearse(ctx context.Context, side split.Side) ([]wayback.Step, error) {
	return d.steering.Rehearse(ctx, side)
}

// Home sends all requests to a side.
func (d *Driver) Home(ctx context.Context, h front.Homing) (front.Done, error) {
	return d.everywhere(d.steering.Home(ctx, h))
}

// NewTerm begins another term.
func (d *Driver) NewTerm(ctx context.Context, after uint64) (uint64, error) {
	return d.steering.NewTerm(ctx, after)
}

// SetInstances gives a side other instances. The share stays.
func (d *Driver) SetInstances(ctx context.Context, side split.Side, wanted []reading.Server) error {
	return d.steering.SetInstances(ctx, side, wanted,
		func(changing context.Context, a Answer, _ front.Known, _ told.Wanted) error {
			q := Request{Do: "instances", Side: side.String(), If: a.Revision, Instances: []Instance{}}
			for _, i := range wanted {
				q.Instances = append(q.Instances,
					Instance{Name: i.Name, Address: i.Address, Version: i.Version, Out: i.Out})
			}
			if err := d.change(changing, q); err != nil {
				return err
			}
			return d.until(changing, "the instances of "+side.String(), func(now Answer) (bool, error) {
				return slices.Equal(sorted(now.of(side)), sorted(q.Instances)), nil
			})
		})
}

func sorted(list []Instance) []Instance {
	return slices.SortedFunc(slices.Values(list),
		func(a, b Instance) int { return strings.Compare(a.Address, b.Address) })
}
