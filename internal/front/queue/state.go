package queue

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/world/broker"
)

// names are what Vaiven's own things at the broker are called, for one service.
type names struct {
	first, next, mix, held, notes, lock string
	across                              string    // queue of what is on its way to another broker
	to                                  [2]string // exchanges that lead to a side's queue, whatever the key
}

func named(service string) names {
	n := names{first: "vaiven." + service}
	n.next, n.mix, n.held, n.notes, n.lock = n.first+".next", n.first+".mix", n.first+".held", n.first+".notes",
		n.first+".lock"
	n.across = n.first + ".across"
	n.to = [2]string{n.first + ".to-blue", n.first + ".to-green"}
	return n
}

// ours reports whether an exchange is one of them.
func (n names) ours(exchange string) bool {
	return exchange == n.first || strings.HasPrefix(exchange, n.first+".")
}

// What is noted beside the exchanges, by the key of the binding that has it.
const (
	orderNote  = "order"
	pausedNote = "paused"
	noteIn     = "note" // the argument that it stands in
)

// paused is that all messages are held.
type paused struct {
	Share split.Share `json:"share"` // that was in force before
	By    string      `json:"by,omitempty"`
	At    time.Time   `json:"at"`
}

// state is what a broker has of a front, at one moment.
type state struct {
	first   bool        // blue's queue gets everything
	next    bool        // else green's does
	weights [2][]string // else both do by these: the keys of each side's bindings
	strange []string    // what else leads somewhere, in words
	notes   []broker.Binding
	order   reading.Order
	paused  *paused
	known   front.Known
	divides bool  // messages can be divided between the queues, by the plan's key
	damaged error // that there is nothing of Vaiven's, or that it cannot be read
}

// look reads the bindings and the notes, which are as they are at this moment.
func (d *Driver) look(ctx context.Context) (state, error) {
	var s state
	var from [4][]broker.Binding
	var into [2][]broker.Binding
	group, asking := errgroup.WithContext(ctx)
	for n, exchange := range []string{d.names.first, d.names.next, d.names.mix, d.names.notes} {
		group.Go(func() (err error) {
			from[n], err = d.broker.From(asking, exchange)
			return err
		})
	}
	for side, queue := range d.ends {
		group.Go(func() (err error) {
			if into[side], err = d.broker.Into(asking, queue); errors.Is(err, broker.ErrMissing) {
				err = nil // what leads there is made with it
			}
			return err
		})
	}
	if d.config.Shares {
		group.Go(func() error {
			kind, arguments, err := d.broker.TypeOf(asking, d.names.mix)
			s.divides = kind == hashing
			for name, value := range hashes(d.key) {
				s.divides = s.divides && arguments[name] == value
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		if errors.Is(err, broker.ErrMissing) {
			err = fmt.Errorf("%w: %w", front.ErrNotMade, err)
			s.damaged = translated(err)
			return s, nil
		}
		return s, translated(err)
	}
	for side, list := range into {
		for _, b := range list {
			if !d.names.ours(b.Source) {
				s.strange = append(s.strange,
					fmt.Sprintf("%s leads to %s past Vaiven's exchange", b.Source, d.ends[side]))
			}
		}
	}
	for n, list := range from[:3] {
		for _, b := range list {
			side := slices.Index(d.ends[:], b.Destination)
			switch {
			case n == 0 && b.Kind == broker.ToQueue && side == int(split.Blue):
				s.first = true
			case n == 1 && b.Kind == broker.ToQueue && side == int(split.Green):
				s.next = true
			case n == 2 && b.Kind == broker.ToQueue && side >= 0:
				s.weights[side] = append(s.weights[side], b.Key)
			default:
				s.strange = append(s.strange, fmt.Sprintf("%s leads to %s as well", b.Source, b.Destination))
			}
		}
	}
	slices.Sort(s.strange)
	s.notes = from[3]
	d.readNotes(&s)
	return s, nil
}

// readNotes takes the notes apart. Of several of a kind the latest counts.
func (d *Driver) readNotes(s *state) {
	var ordered bool
	for _, b := range s.notes {
		text, _ := b.Arguments[noteIn].(string)
		var err error
		switch side, errSide := split.ParseSide(b.Key); {
		case errSide == nil:
			if json.Unmarshal([]byte(text), &s.known[side]) != nil {
				s.known[side] = nil // the next who tells of its instances writes it anew
			}
		case b.Key == orderNote:
			var o reading.Order
			err = json.Unmarshal([]byte(text), &o)
			term := max(o.Term, s.order.Term)
			if err == nil && (!ordered || o.Generation > s.order.Generation ||
				o.Generation == s.order.Generation && o.At.After(s.order.At)) {
				s.order, ordered = o, true
			}
			s.order.Term = term
		case b.Key == pausedNote:
			if s.paused = new(paused); json.Unmarshal([]byte(text), s.paused) != nil {
				*s.paused = paused{} // who holds them is not known; that they are is
			}
		}
		if err != nil {
			s.damaged = fmt.Errorf("%w: the note %q at exchange %s: %w: go home, which writes it anew",
				front.ErrRefused, b.Key, d.names.notes, err)
		}
	}
	if !ordered && s.damaged == nil {
		s.damaged = fmt.Errorf("%w: %w: the exchange %s has no note of the last going home", front.ErrUnreachable,
			front.ErrNotMade, d.names.notes)
	}
}

// print is the same text as long as the same is in force.
func (s state) print() string {
	return fmt.Sprint(s.first, s.next, s.weights, s.strange, s.order, s.paused != nil, s.known)
}

// sum is the weight of a side.
func (s state) sum(side split.Side) (sum int64) {
	for _, key := range s.weights[side] {
		if n, err := strconv.ParseInt(key, 10, 64); err == nil && n > 0 {
			sum += n
		}
	}
	return sum
}

// share is on green.
func (d *Driver) share(s state) (split.Share, error) {
	blue, green := s.sum(split.Blue), s.sum(split.Green)
	switch {
	case s.damaged != nil:
		return 0, s.damaged
	case len(s.strange) > 0:
		return 0, s.besides()
	case s.first:
		return 0, nil
	case s.next:
		return split.Whole, nil
	case blue+green > 0:
		return reached(blue, green), nil
	case s.paused != nil:
		return s.paused.Share, nil
	}
	return 0, fmt.Errorf("%w: no queue gets any messages: they wait in %s", front.ErrRefused, d.names.held)
}

// besides is an error if messages come to a queue by another way, or go elsewhere from here.
func (s state) besides() error {
	if len(s.strange) == 0 {
		return nil
	}
	return fmt.Errorf("%w: %s", front.ErrRefused, strings.Join(s.strange, "; "))
}

func reached(blue, green int64) split.Share {
	return split.Share(math.Round(float64(green) / float64(blue+green) * float64(split.Whole)))
}

// blueWeight is blue's part of what is weighed, and never changes: so the more green gets, the more keys go over, and
// none comes back. It makes 5, 25, 50, 75 and 95 % exact. The broker keeps a place for each unit of weight, so that
// green's is bounded.
const (
	blueWeight      = 3 * 5 * 19
	greenWeightMost = 99 * blueWeight
)

// greenWeight is green's for a share between nothing and everything, and the share that it comes to.
func greenWeight(share split.Share) (weight int64, is split.Share) {
	part := share.Fraction()
	weight = min(max(int64(math.Round(blueWeight*part/(1-part))), 1), greenWeightMost)
	return weight, reached(blueWeight, weight)
}

// The bindings by which everything comes to a side.
func (d *Driver) whole(side split.Side) broker.Binding {
	if side == split.Blue {
		return broker.Binding{Source: d.names.first, Destination: d.ends[split.Blue], Kind: broker.ToQueue}
	}
	return broker.Binding{Source: d.names.next, Destination: d.ends[split.Green], Kind: broker.ToQueue}
}

func (d *Driver) weighed(side split.Side, key string) broker.Binding {
	return broker.Binding{Source: d.names.mix, Destination: d.ends[side], Kind: broker.ToQueue, Key: key}
}

// toward are the acts that bring a share in force, coming from a state, and what it comes to. After each of them
// every message has one queue to go to.
func (d *Driver) toward(s state, share split.Share) (acts []broker.Act, words []string, is split.Share) {
	bind := func(b broker.Binding) {
		acts, words = append(acts, broker.Bind(b)), append(words, inWords("bind", b))
	}
	unbind := func(b broker.Binding) {
		acts, words = append(acts, broker.Unbind(b)), append(words, inWords("unbind", b))
	}
	switch side, whole := share.Alone(); {
	case whole && side == split.Blue:
		bind(d.whole(split.Blue))
		return acts, words, share
	case whole:
		bind(d.whole(split.Green))
		unbind(d.whole(split.Blue))
		return acts, words, share
	}
	weight, is := greenWeight(share)
	wanted := [2]string{strconv.Itoa(blueWeight), strconv.FormatInt(weight, 10)}
	has := func(side split.Side) bool { return slices.Equal(s.weights[side], []string{wanted[side]}) }
	for _, side := range split.Sides { // one is there, or nobody is led to here yet, while the other's changes
		if has(side) {
			continue
		}
		for _, key := range s.weights[side] {
			unbind(d.weighed(side, key))
		}
		bind(d.weighed(side, wanted[side]))
	}
	if s.next {
		unbind(d.whole(split.Green))
	}
	if s.first {
		unbind(d.whole(split.Blue))
	}
	return acts, words, is
}

func inWords(verb string, b broker.Binding) string {
	text := fmt.Sprintf("%s %s to %s", verb, b.Destination, b.Source)
	if b.Key != "" {
		text += " with weight " + b.Key
	}
	return text
}

// note is the acts that write something beside the exchanges in place of what is there; nil for nothing in its place.
func (d *Driver) note(s state, kind string, value any) ([]broker.Act, error) {
	var acts []broker.Act
	b := broker.Binding{Source: d.names.notes, Destination: d.names.notes, Kind: broker.ToExchange, Key: kind}
	if value != nil {
		text, err := json.Marshal(value)
		if err != nil {
			return nil, err
		}
		b.Arguments = map[string]any{noteIn: string(text)}
		acts = append(acts, broker.Bind(b))
	}
	for _, old := range s.notes {
		if old.Key == kind && old.Arguments[noteIn] != b.Arguments[noteIn] {
			acts = append(acts, broker.Unbind(old))
		}
	}
	return acts, nil
}

// translated wraps what callers of a front branch on.
func translated(err error) error {
	switch {
	case err == nil || errors.Is(err, front.ErrRefused) || front.Unreachable(err) ||
		errors.Is(err, front.ErrNobody):
		return err
	case errors.Is(err, broker.ErrRefused):
		return fmt.Errorf("%w: %w", front.ErrRefused, err)
	case errors.Is(err, broker.ErrMissing):
		return fmt.Errorf("%w: %w: vaiven front makes it anew", front.ErrRefused, err)
	}
	return fmt.Errorf("%w: %w", front.ErrUnreachable, err)
}

// hashes are the arguments by which an exchange that hashes places messages.
func hashes(k plan.Key) map[string]any {
	if k.From == plan.KeyHeader {
		return map[string]any{"hash-header": k.Name}
	}
	return map[string]any{"hash-property": "message_id"}
}
