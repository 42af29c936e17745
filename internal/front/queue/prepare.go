package queue

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/world/broker"
)

// hashing is the type of exchange that divides messages by weights.
const hashing = "x-consistent-hash"

// Prepare makes what is missing: the exchanges of Vaiven's, the queue of the side that has none, alike the other's,
// and the bindings that lead through them in place of those to the queues. A message that comes meanwhile goes where
// it went before, once.
func (d *Driver) Prepare(ctx context.Context, sides front.Known) (made bool, err error) {
	s, err := d.look(ctx)
	if err != nil {
		return false, err
	}
	made = errors.Is(s.damaged, front.ErrNotMade)
	if s.damaged != nil && !made {
		return false, s.damaged
	}
	divided := !d.config.Shares || s.divides
	queues, err := d.both(ctx)
	if err != nil {
		return false, translated(err)
	}
	if gone := queues[split.Blue].Name == "" ||
		queues[split.Green].Name == ""; !made && len(s.strange) == 0 && divided && !gone {
		return false, nil
	}
	if !made && !divided {
		if share, err := d.share(s); err != nil || share > 0 && share < split.Whole {
			return false, fmt.Errorf("%w: the exchange %s can be made anew while one side gets all messages",
				front.ErrRefused, d.names.mix)
		}
		if err := d.broker.Do(ctx, broker.Remove(d.names.mix)); err != nil { // it leads nowhere now
			return false, translated(err)
		}
	}
	if err := d.queues(ctx, queues, sides.Live()); err != nil {
		return false, translated(err)
	}
	if err := d.exchanges(ctx); err != nil {
		return false, translated(err)
	}
	if !made {
		return false, translated(d.through(ctx))
	}
	if err := d.broker.Do(ctx, broker.Bind(d.whole(sides.Live()))); err != nil {
		return false, translated(err)
	}
	if err := errors.Join(d.through(ctx), d.publishers(ctx)); err != nil {
		return false, translated(err)
	}
	var acts []broker.Act // what says that it is made comes last
	for kind, value := range map[string]any{orderNote: reading.Order{}, split.Blue.String(): noted(sides[split.Blue]),
		split.Green.String(): noted(sides[split.Green])} {
		written, err := d.note(s, kind, value)
		if err != nil {
			return false, err
		}
		acts = append(acts, written...)
	}
	return true, translated(d.broker.Do(ctx, acts...))
}

func noted(list []reading.Server) []reading.Server {
	if list == nil {
		return []reading.Server{}
	}
	return list
}

// exchanges makes those of Vaiven's, each of which hands on to the next what it leads nowhere.
func (d *Driver) exchanges(ctx context.Context) error {
	kind, arguments := "fanout", map[string]any{"alternate-exchange": d.names.held}
	if d.config.Shares {
		types, err := d.broker.Types(ctx)
		if err != nil {
			return err
		}
		if !slices.Contains(types, hashing) {
			return fmt.Errorf("%w: the broker has no exchanges of the type %s, which divide messages: "+
				"rabbitmq-plugins enable rabbitmq_consistent_hash_exchange, or write \"shares: no\"", broker.ErrRefused,
				hashing)
		}
		kind = hashing
		maps.Copy(arguments, hashes(d.key))
	}
	n := d.names
	acts := []broker.Act{
		broker.Exchange(n.held, "fanout", true, nil),
		broker.Declare(n.held, nil),
		broker.Bind(broker.Binding{Source: n.held, Destination: n.held, Kind: broker.ToQueue}),
		broker.Exchange(n.mix, kind, true, arguments),
		broker.Exchange(n.next, "fanout", true, map[string]any{"alternate-exchange": n.mix}),
		broker.Exchange(n.first, "fanout", false, map[string]any{"alternate-exchange": n.next}),
		broker.Exchange(n.notes, "headers", true, nil),
	}
	if d.across != nil {
		acts = append(acts, broker.Declare(n.across, nil))
	}
	if err := d.broker.Do(ctx, acts...); err != nil {
		return err
	}
	for _, side := range split.Sides {
		err := d.at[side].Do(ctx, broker.Exchange(n.to[side], "fanout", false, nil),
			broker.Bind(broker.Binding{Source: n.to[side], Destination: d.config.Queues[side], Kind: broker.ToQueue}))
		if err != nil {
			return err
		}
	}
	return nil
}

// both are the queues of both sides; one that is not there has no name.
func (d *Driver) both(ctx context.Context) (queues [2]broker.Queue, err error) {
	for side, name := range d.config.Queues {
		if queues[side], err = d.at[side].Queue(ctx, name); there(err) != nil {
			return queues, err
		}
		if queues[side].Type == "stream" {
			return queues, fmt.Errorf("%w: %s is a stream: whoever reads it takes nothing away, so that nothing is ever done, or "+
				"left over to be carried; name a classic queue, or a quorum queue", front.ErrRefused, name)
		}
	}
	return queues, nil
}

// queues makes the queue that is missing alike the one that is there, the live side's if both are.
func (d *Driver) queues(ctx context.Context, there [2]broker.Queue, live split.Side) error {
	pattern := there[live]
	if pattern.Name == "" {
		pattern = there[live.Other()]
	}
	if pattern.Name == "" { // neither is there
		pattern.Arguments = map[string]any{}
	}
	for _, side := range split.Sides {
		if d.config.Dead[side] != "" {
			if err := d.at[side].Do(ctx, broker.Declare(d.config.Dead[side], nil)); err != nil &&
				!errors.Is(err, broker.ErrRefused) {
				return err
			}
		}
		if there[side].Name != "" {
			continue
		}
		if err := d.at[side].Do(ctx,
			broker.Declare(d.config.Queues[side], d.forSide(side, pattern.Arguments, true))); err != nil {
			return err
		}
		if err := d.alike(ctx, side, pattern); err != nil {
			return err
		}
	}
	return nil
}

// The arguments that say where dead letters go.
var (
	deadArguments = []string{"x-dead-letter-exchange", "x-dead-letter-routing-key"}
	deadPolicy    = []string{"dead-letter-exchange", "dead-letter-routing-key"}
)

// forSide is what a queue is made with, or what a policy defines, for a side: its own dead letters where the plan
// names them.
func (d *Driver) forSide(side split.Side, from map[string]any, argument bool) map[string]any {
	of := maps.Clone(from)
	keys := deadPolicy
	if argument {
		keys = deadArguments
	}
	_, has := of[keys[0]]
	if dead := d.config.Dead[side]; dead != "" && (has || argument && len(from) == 0) {
		of[keys[0]], of[keys[1]] = "", dead
	}
	return of
}

// alike has the policy that is in force for one queue be in force for a side's as well.
func (d *Driver) alike(ctx context.Context, side split.Side, pattern broker.Queue) error {
	if len(pattern.Effective) == 0 {
		return nil
	}
	q, err := d.at[side].Queue(ctx, d.config.Queues[side])
	if err != nil {
		return err
	}
	wanted := d.forSide(side, pattern.Effective, false)
	if reflect.DeepEqual(q.Effective, wanted) {
		return nil
	}
	return d.at[side].SetPolicy(ctx, broker.Policy{
		Name: d.names.first + "." + side.String(), Pattern: "^" + regexp.QuoteMeta(d.config.Queues[side]) + "$",
		Apply: "queues", Priority: policyPriority, Definition: wanted,
	})
}

// policyPriority comes before what people usually write.
const policyPriority = 100

// through leads what leads to the queues past Vaiven's exchanges through them: first one way more, then the old one
// less. A broker puts a message that comes to a queue by two ways into it once.
func (d *Driver) through(ctx context.Context) error {
	found := false
	for _, queue := range d.ends {
		list, err := d.broker.Into(ctx, queue)
		if err != nil {
			return err
		}
		for _, b := range list {
			if d.names.ours(b.Source) {
				continue
			}
			found = true
			way := b
			way.Destination, way.Kind = d.names.first, broker.ToExchange
			if err := d.broker.Do(ctx, broker.Bind(way), broker.Unbind(b)); err != nil {
				return err
			}
		}
	}
	if found {
		return nil
	}
	if _, _, err := d.broker.TypeOf(ctx, d.config.Exchange); errors.Is(err, broker.ErrMissing) {
		if err := d.broker.Do(ctx, broker.Exchange(d.config.Exchange, "topic", false, nil)); err != nil {
			return err
		}
	}
	list, err := d.broker.From(ctx, d.config.Exchange)
	switch {
	case err != nil:
		return err
	case slices.ContainsFunc(list, func(b broker.Binding) bool { return b.Destination == d.names.first }):
		return nil
	}
	key := d.config.Key
	if key == "" {
		key = "#" // everything, of a topic exchange
	}
	return d.broker.Do(ctx, broker.Bind(broker.Binding{Source: d.config.Exchange, Destination: d.names.first,
		Kind: broker.ToExchange, Key: key}))
}

// publishers makes, at the other broker, the exchange that publishers publish to, with the ways that lead to blue's
// queue here: for when they are told to move.
func (d *Driver) publishers(ctx context.Context) error {
	if d.across == nil {
		return nil
	}
	kind, arguments, err := d.broker.TypeOf(ctx, d.config.Exchange)
	if err != nil {
		return err
	}
	list, err := d.broker.From(ctx, d.config.Exchange)
	acts := []broker.Act{broker.Exchange(d.config.Exchange, kind, false, arguments)}
	for _, b := range list {
		if b.Destination == d.names.first {
			b.Destination, b.Kind = d.config.Queues[split.Green], broker.ToQueue
			acts = append(acts, broker.Bind(b))
		}
	}
	if err != nil {
		return err
	}
	return d.at[split.Green].Do(ctx, acts...)
}

// unlike are the differences between both sides' queues.
func (d *Driver) unlike(ctx context.Context) ([]string, error) {
	queues, err := d.both(ctx)
	if err != nil {
		return nil, translated(err)
	}
	return d.differences(queues), nil
}

func (d *Driver) differences(queues [2]broker.Queue) []string {
	var list []string
	for side, q := range queues {
		if q.Name == "" {
			list = append(list, fmt.Sprintf("the queue %s is not there: vaiven front makes it anew",
				d.config.Queues[side]))
		}
	}
	if len(list) > 0 {
		return list
	}
	for what, of := range map[string][2]map[string]any{
		"argument": {queues[0].Arguments, queues[1].Arguments}, "policy": {queues[0].Effective, queues[1].Effective},
	} {
		names := map[string]bool{}
		for _, m := range of {
			for name := range m {
				names[name] = true
			}
		}
		for _, name := range slices.Sorted(maps.Keys(names)) {
			a, b := of[split.Blue][name], of[split.Green][name]
			if reflect.DeepEqual(a, b) ||
				d.config.Dead[split.Blue] != "" && slices.Contains(append(deadArguments, deadPolicy...), name) {
				continue
			}
			list = append(list, fmt.Sprintf("%s and %s differ in the %s %s: %s, %s", queues[0].Name, queues[1].Name,
				what, name, orNone(a), orNone(b)))
		}
	}
	if queues[0].Durable != queues[1].Durable {
		list = append(list, fmt.Sprintf("of %s and %s one is durable alone", queues[0].Name, queues[1].Name))
	}
	slices.Sort(list)
	return list
}

func orNone(value any) string {
	if value == nil {
		return "none"
	}
	return strings.TrimSpace(fmt.Sprint(value))
}
