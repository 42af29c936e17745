package queue

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"vaiven/internal/core/backlog"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/world/broker"
)

// counter makes figures of what the broker counts. The zero value is ready. It is safe for concurrent use.
type counter struct {
	mu      sync.Mutex // protects what follows
	lines   [2]backlog.Line
	out     [2]map[string]*backlog.Line // by channel: what was given out there and is not done
	paces   [2]struct{ in, out pace }
	done    [2]map[string]broker.Counted // by channel: as counted last
	gone    [2]map[string]broker.Counted // by instance: on channels that are no more
	whose   map[string]string            // by channel: the instance
	rests   [2]rest
	carries [2]carries // what carriers took
	dead    [2]struct {
		known     bool
		last, sum int64
	}
}

// countLimit bounds what is asked of counts: what is in force is known without them.
const countLimit = 1500 * time.Millisecond

// rest is since when a side has nothing left.
type rest struct {
	of reading.Queue
	at time.Time
}

// count reads what the broker has counted of both sides.
func (d *Driver) count(ctx context.Context, s state, r *reading.Front) error {
	var queues, dead [2]broker.Queue
	var now [2]struct {
		ready     int64
		consumers int
	}
	var mu sync.Mutex // protects what follows
	names, channels := map[string]string{}, map[string]broker.Worked{}
	var underWay int64 // messages on their way to another broker
	var alarms []string
	ctx, cancel := context.WithTimeout(ctx, countLimit)
	defer cancel()
	group, asking := errgroup.WithContext(ctx)
	for _, side := range split.Sides {
		group.Go(func() (err error) {
			queues[side], err = d.at[side].Queue(asking, d.config.Queues[side])
			return there(err)
		})
		group.Go(func() (err error) {
			now[side].ready, now[side].consumers, err = d.at[side].Now(asking, d.config.Queues[side])
			return there(err)
		})
		if d.config.Dead[side] != "" {
			group.Go(func() (err error) {
				dead[side], err = d.at[side].Queue(asking, d.config.Dead[side])
				return there(err)
			})
		}
	}
	brokers := []*broker.Client{d.broker}
	if d.across != nil {
		brokers = append(brokers, d.at[split.Green])
		group.Go(func() (err error) {
			underWay, _, err = d.broker.Now(asking, d.names.across)
			return err
		})
	}
	for _, b := range brokers {
		group.Go(func() error {
			called, err := b.Names(asking)
			if err != nil {
				return err
			}
			counted, err := b.Channels(asking)
			if err != nil {
				return err
			}
			ill, err := b.Alarms(asking)
			mu.Lock()
			defer mu.Unlock()
			maps.Copy(names, called)
			maps.Copy(channels, counted)
			alarms = append(alarms, ill...)
			return err
		})
	}
	group.Go(func() (err error) {
		r.Held, _, err = d.broker.Now(asking, d.names.held)
		return err
	})
	if err := group.Wait(); err != nil {
		return err
	}
	strangers := 0
	var missing []error
	for _, side := range split.Sides {
		q := reading.Queue{
			Name: d.config.Queues[side], Ready: now[side].ready, Unacked: queues[side].Unacked,
			Consumers: now[side].consumers,
			Published: queues[side].Counted.Published, Redelivered: queues[side].Counted.Redelivered,
			Dead: d.counts.died(side, dead[side]),
		}
		if side == split.Green {
			q.Ready += underWay
		}
		taken, lost := d.counts.carried(side, queues[side], names, channels, d.carriers[side].Moved(), r.At,
			d.config.Lag)
		// Consumers have finished what was acknowledged, less what carriers took. The broker forgets what a channel
		// acknowledged just before it was closed. Then the messages given out that are neither open nor dead are more.
		// It counts neither too high.
		q.Carried, q.Done = taken, max(queues[side].Counted.Done()-taken,
			queues[side].Counted.Out()-q.Unacked-q.Dead-taken, 0)
		if lost > 0 {
			missing = append(missing, fmt.Errorf("%d messages that were carried from %s did not arrive at the other side",
				lost, q.Name))
		}
		strangers += d.counts.take(side, queues[side], names, channels, &q, &r.Sides[side], r.At,
			d.config.Lag)
		if q.Oldest < d.config.Lag { // the broker's numbers are no finer than that
			q.Oldest = 0
		}
		r.Sides[side].Queue, r.Sides[side].Open = &q, q.Unacked
	}
	var said []string
	if len(alarms) > 0 {
		said = append(said, "publishers are kept from publishing: "+strings.Join(alarms, ", "))
	}
	if r.Held > 0 && s.paused == nil {
		said = append(said, fmt.Sprintf("%d messages wait in %s to go on", r.Held, d.names.held))
	}
	for _, side := range split.Sides {
		if share, err := d.share(s); err == nil && share.Of(side) > 0 && now[side].consumers == 0 {
			said = append(said, "nobody takes messages from "+d.config.Queues[side])
		}
	}
	d.mu.Lock()
	broken := d.broken
	d.mu.Unlock()
	if broken != "" {
		said = append(said, broken)
	}
	if strangers > 0 {
		said = append(said, fmt.Sprintf("%d consumers do not say which instance they are: give connection or "+
			"consumer tag its name", strangers))
	}
	r.Notice = strings.Join(append(said, d.differences(queues)...), "; ")
	return errors.Join(missing...)
}

// carries is what was counted on the channels of carriers of a queue, in whatever process.
type carries struct {
	open map[string]broker.Counted // by channel: as counted last
	gone broker.Counted            // on channels that are no more
	lost int64                     // messages that were taken and not published again, as seen last
	at   time.Time                 // since when that many
}

// carried is how many messages carriers have taken from a queue, and how many of them have not arrived anywhere. Both
// are what the broker counted on the carriers' channels; ours is what this process's own carrier says it has moved,
// which the broker tells later. Messages count as lost when they have been missing for three of the broker's intervals,
// because its numbers of two channels come at different times.
func (c *counter) carried(side split.Side, q broker.Queue, names map[string]string, channels map[string]broker.Worked,
	ours int64, at time.Time, lag time.Duration) (taken, lost int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	was := &c.carries[side]
	now := map[string]broker.Counted{}
	for channel, w := range channels {
		connection, _, _ := strings.Cut(channel, " (")
		if q.Name != "" && names[connection] == broker.Carries+q.Name {
			now[channel] = w.Counted
		}
	}
	for channel, counted := range was.open {
		if n, still := now[channel]; !still || n.Acked < counted.Acked {
			was.gone = was.gone.Plus(counted)
		}
	}
	was.open = now
	sum := was.gone
	for _, counted := range now {
		sum = sum.Plus(counted)
	}
	missing := max(sum.Acked-sum.Published, 0)
	if missing != was.lost {
		was.lost, was.at = missing, at
	}
	if missing > 0 && at.Sub(was.at) >= 3*lag {
		lost = missing
	}
	return max(sum.Acked, ours), lost
}

// there is an error but that something is not there: what one queue does not have is no reason not to know what the
// other one has.
func there(err error) error {
	if errors.Is(err, broker.ErrMissing) {
		return nil
	}
	return err
}

// take completes a queue's figures, and gives each instance its part of what was done. It returns how many consumers
// are nobody's.
func (c *counter) take(side split.Side, from broker.Queue, names map[string]string, channels map[string]broker.Worked,
	q *reading.Queue, s *reading.Side, at time.Time, lag time.Duration) (strangers int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.whose == nil {
		c.whose = map[string]string{}
		for _, side := range split.Sides {
			c.done[side], c.gone[side] = map[string]broker.Counted{}, map[string]broker.Counted{}
			c.out[side] = map[string]*backlog.Line{}
		}
	}
	c.lines[side].Add(at, q.Published, q.There())
	q.Oldest = c.lines[side].Oldest(at)
	q.In, q.Out = c.paces[side].in.of(q.Published, at, lag), c.paces[side].out.of(q.Done, at, lag)

	instance := func(called, tag string) string {
		for _, i := range s.Instances {
			if called == i.Name || tag == i.Name || strings.HasPrefix(tag, i.Name+".") {
				return i.Name
			}
		}
		return ""
	}
	mine := map[string]bool{}
	for _, consumer := range from.Consumers {
		if consumer.Channel == (broker.Channel{}) || // who it is will be known soon
			strings.HasPrefix(names[consumer.Channel.Connection], broker.Carries) {
			continue
		}
		mine[consumer.Channel.Name] = true
		if who := instance(names[consumer.Channel.Connection], consumer.Tag); who != "" {
			c.whose[consumer.Channel.Name] = who
		} else {
			strangers++
		}
	}
	for channel, was := range c.done[side] {
		if now, still := channels[channel]; !still || now.Counted.Done() < was.Done() {
			c.gone[side][c.whose[channel]] = c.gone[side][c.whose[channel]].Plus(was)
			delete(c.done[side], channel)
			delete(c.out[side], channel)
		}
	}
	of, open, oldest := map[string]broker.Counted{}, map[string]int64{}, map[string]time.Duration{}
	for channel, who := range c.whose {
		if !mine[channel] && c.done[side][channel] == (broker.Counted{}) {
			continue
		}
		now, there := channels[channel]
		if !there {
			continue
		}
		c.done[side][channel] = now.Counted
		of[who] = of[who].Plus(now.Counted)
		line := c.out[side][channel]
		if line == nil {
			line = &backlog.Line{}
			c.out[side][channel] = line
		}
		line.Add(at, now.Counted.Out(), now.Unacked)
		open[who] += now.Unacked
		if age := line.Oldest(at); age >= lag { // the broker's numbers are no finer than that
			oldest[who] = max(oldest[who], age)
		}
	}
	var sum int64
	for n := range s.Instances {
		i := &s.Instances[n]
		done := of[i.Name].Plus(c.gone[side][i.Name]).Done()
		i.Requests, i.Status[2] = done, done
		i.Open, i.Oldest = open[i.Name], oldest[i.Name]
		sum += done
	}
	if len(s.Instances) > 0 { // the broker does not say whose they were
		first := &s.Instances[0]
		rest := max(q.Done-sum, 0)
		if strangers == 0 {
			rest = 0
		}
		// What was given back and what died is an answer that is not good, each time.
		first.Status[2] += rest
		first.Status[5] += q.Dead + q.Redelivered
		first.Requests += rest + q.Dead + q.Redelivered
	}
	return strangers
}

// pace is how fast a count grows, as it was told last: the broker's counts come at times of their own, each at others.
type pace struct {
	last int64
	at   time.Time // of the last that was different
	rate float64   // a second
}

// of is how fast a count grows that is so far at a time, and that can be told as late as lag: for so long one that
// stands still may be one that was not told anew.
func (p *pace) of(count int64, at time.Time, lag time.Duration) float64 {
	over := at.Sub(p.at)
	if count == p.last && over <= lag && !p.at.IsZero() {
		return p.rate
	}
	if !p.at.IsZero() && over > 0 {
		p.rate = max(float64(count-p.last)/over.Seconds(), 0)
	}
	p.last, p.at = count, at
	return p.rate
}

// died is how many dead letters a side has had since this process counts: what its queue of them has got, where the
// broker tells, and else by how much that has grown from one reading to the next.
func (c *counter) died(side split.Side, q broker.Queue) int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := q.Came()
	if now == 0 {
		now = q.Ready + q.Unacked
	}
	if was := &c.dead[side]; was.known {
		was.sum += max(now-was.last, 0)
	}
	c.dead[side].known, c.dead[side].last = q.Name != "", now
	return c.dead[side].sum
}

// asRead is a queue as it is compared from one look to the next.
func asRead(q broker.Queue, ready int64) reading.Queue {
	return reading.Queue{Ready: ready, Unacked: q.Unacked, Published: q.Counted.Published, Done: q.Counted.Out(),
		Redelivered: q.Counted.Redelivered}
}

// left is how many messages a side has that is given up. There is one at least until nothing has changed for so long
// that the broker would have said so.
func (c *counter) left(side split.Side, q reading.Queue, now time.Time, lag time.Duration) int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.rests[side].left(q, now, lag)
}

func (r *rest) left(q reading.Queue, now time.Time, lag time.Duration) int64 {
	q.In, q.Out, q.Oldest, q.Consumers = 0, 0, 0, 0
	if r.of != q {
		*r = rest{q, now}
	}
	if q.There() == 0 && now.Sub(r.at) > 2*lag {
		return 0
	}
	return max(q.There(), 1)
}
