package broker

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"sync/atomic"
	"time"

	amqp "github.com/rabbitmq/amqp091-go"
)

// Mover moves the messages of one queue to an exchange, in their order and with everything that they say but their
// exchange. It leaves out none, ever: what looks like a message that was moved before may be another one with the same
// id. At one broker a message leaves the queue in the same transaction in which it comes to the other end. Ending the
// carrier at any moment then loses none and doubles none; only a broker that is killed in the middle of a transaction
// can have one twice. Between two brokers a message leaves the queue when the other broker has confirmed it. None is
// lost, and one that was confirmed and not yet let go can come twice. A message that the broker gives out again gets
// the header [Again]. There is one carrier of a queue at a time, in whatever process. Its methods may be called at the
// same time.
type Mover struct {
	from, exchange string
	client, to     *Client

	moved atomic.Int64
	turn  chan struct{}
}

// Again is the header of a message that was given out before it was carried: a consumer may have worked on it, or a
// carrier that was cut off may have moved it already. It stands for the broker's own mark, which carrying would lose.
const Again = "vaiven-again"

// Mover makes one from a queue to an exchange that leads somewhere, of this broker or another. Nothing is asked yet.
func (c *Client) Carrier(queue string, to *Client, exchange string) *Mover {
	return &Mover{from: queue, exchange: exchange, client: c, to: to, turn: make(chan struct{}, 1)}
}

// Moved is how many messages it has moved.
func (m *Mover) Moved() int64 { return m.moved.Load() }

// Carries begins what connections of carriers are called.
const Carries = "vaiven carries "

const (
	carryBatch = 500                    // messages of one transaction
	carryIdle  = 300 * time.Millisecond // without a message the queue is empty
	carryGrace = 5 * time.Millisecond   // that a batch waits for more
	handLimit  = 10 * time.Second       // after which what comes as fast as it goes is handed over all the same
)

// Empty carries until no message has come for a moment. It is at most a transaction later that it heeds the end of
// the context. The error wraps [ErrRefused] if somebody else carries.
func (m *Mover) Empty(ctx context.Context) error { return m.run(ctx, false, nil) }

// Keep carries, also what comes later, until the context ends.
func (m *Mover) Keep(ctx context.Context) error { return m.run(ctx, true, nil) }

// Hand carries until there was nothing left for a moment, has something done then, and carries what came until that
// was in force. What came before it goes first, but for what came in the meantime of one transaction.
func (m *Mover) Hand(ctx context.Context, over func() error) error { return m.run(ctx, false, over) }

func (m *Mover) run(ctx context.Context, stay bool, over func() error) error {
	select {
	case m.turn <- struct{}{}:
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	defer func() { <-m.turn }()
	conn, err := m.client.dial(ctx, Carries+m.from)
	if err != nil {
		return err
	}
	defer end(conn)
	out := conn
	if m.to != m.client {
		if out, err = m.to.dial(ctx, Carries+m.from); err != nil {
			return err
		}
		defer end(out)
	}
	ending, stop := context.WithCancel(ctx)
	defer stop()
	go func() { // a broker that keeps publishers from publishing answers nothing
		<-ending.Done()
		time.Sleep(patience)
		_ = conn.CloseDeadline(time.Now())
		_ = out.CloseDeadline(time.Now())
	}()
	err = m.carry(ctx, conn, out, stay, over)
	if ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	return translated(err)
}

func (m *Mover) carry(ctx context.Context, conn, out *amqp.Connection, stay bool, over func() error) error {
	ch, err := conn.Channel()
	if err != nil {
		return err
	}
	if _, err := ch.QueueDeclare("vaiven.carries."+m.from, false, true, true, false, nil); err != nil {
		return fmt.Errorf("somebody else carries what is in %s: %w", m.from, translated(err))
	}
	w := way{from: ch, to: ch}
	if out != conn {
		if w.to, err = out.Channel(); err != nil {
			return err
		}
		err = w.to.Confirm(false)
	} else {
		err = ch.Tx()
	}
	w.returned = w.to.NotifyReturn(make(chan amqp.Return, carryBatch))
	if err := errors.Join(err, ch.Qos(2*carryBatch, 0, false)); err != nil {
		return err
	}
	come, err := ch.ConsumeWithContext(context.WithoutCancel(ctx), m.from, "vaiven", false, false, false, false, nil)
	if err != nil {
		return err
	}
	begun := time.Now()
	hand := func() error { // once
		do := over
		if over = nil; do == nil {
			return nil
		}
		return do()
	}
	idle := time.NewTimer(carryIdle)
	defer idle.Stop()
	for {
		var batch []amqp.Delivery
		last := false // what is to be moved next is the last that there is
		if over != nil {
			q, err := ch.QueueDeclarePassive(m.from, true, false, false, false, nil)
			if err != nil {
				return err
			}
			last = q.Messages == 0 // the rest is on its way to here
		}
		idle.Reset(carryIdle)
		select {
		case <-ctx.Done():
			return nil
		case <-idle.C:
			if !stay && over == nil {
				return nil
			}
			if err := hand(); err != nil {
				return err
			}
			continue
		case d, open := <-come:
			if !open {
				return fmt.Errorf("%w: it ended the connection", ErrUnreachable)
			}
			batch = append(batch, d)
		}
		grace := time.NewTimer(carryGrace)
		for more := true; more && len(batch) < carryBatch; {
			select {
			case d, open := <-come:
				if more = open; open {
					batch = append(batch, d)
				}
			case <-grace.C:
				more = false
			}
		}
		grace.Stop()
		if err := m.move(ctx, w, batch); err != nil {
			return err
		}
		if (!last || len(batch) == carryBatch) && time.Since(begun) < handLimit {
			continue // there is more
		}
		if err := hand(); err != nil {
			return err
		}
	}
}

// way is the channels that messages are carried by, which are one at one broker.
type way struct {
	from, to *amqp.Channel
	returned <-chan amqp.Return // what the exchange led nowhere
}

// move is one transaction, or one round of confirmations. What the exchange leads nowhere is put back.
func (m *Mover) move(ctx context.Context, w way, batch []amqp.Delivery) error {
	one := w.from == w.to
	var confirmed []*amqp.DeferredConfirmation
	for _, d := range batch {
		c, err := w.to.PublishWithDeferredConfirm(m.exchange, d.RoutingKey, true, false, same(d))
		if err != nil {
			return err
		}
		confirmed = append(confirmed, c)
	}
	for _, c := range confirmed {
		if one {
			break // a transaction has one answer
		}
		if taken, err := c.WaitContext(ctx); err != nil || !taken {
			return errors.Join(err, ErrUnreachable)
		}
	}
	if err := w.from.Ack(batch[len(batch)-1].DeliveryTag, true); err != nil {
		return err
	}
	if one {
		if err := w.from.TxCommit(); err != nil {
			return err
		}
	}
	m.moved.Add(int64(len(batch)))
	back := 0
	for {
		select {
		case r := <-w.returned:
			back++
			if err := w.from.Publish("", m.from, false, false, again(r)); err != nil {
				return err
			}
			continue
		default:
		}
		break
	}
	if back == 0 {
		return nil
	}
	m.moved.Add(-int64(back))
	err := fmt.Errorf("%w: the exchange %s leads nowhere: %d messages were put back", ErrRefused, m.exchange, back)
	if one {
		err = errors.Join(w.from.TxCommit(), err)
	}
	return err
}

// same is a message as it came, with the mark if it was given out before. The user that it names may only be that of
// the publisher itself, so it is left out.
func same(d amqp.Delivery) amqp.Publishing {
	headers := d.Headers
	if d.Redelivered {
		if headers = maps.Clone(headers); headers == nil {
			headers = amqp.Table{}
		}
		headers[Again] = true
	}
	return amqp.Publishing{
		Headers: headers, ContentType: d.ContentType, ContentEncoding: d.ContentEncoding,
		DeliveryMode: d.DeliveryMode, Priority: d.Priority,
		CorrelationId: d.CorrelationId, ReplyTo: d.ReplyTo, Expiration: d.Expiration, MessageId: d.MessageId,
		Timestamp: d.Timestamp,
		Type:      d.Type, AppId: d.AppId, Body: d.Body,
	}
}

func again(r amqp.Return) amqp.Publishing {
	return amqp.Publishing{
		Headers: r.Headers, ContentType: r.ContentType, ContentEncoding: r.ContentEncoding,
		DeliveryMode: r.DeliveryMode, Priority: r.Priority,
		CorrelationId: r.CorrelationId, ReplyTo: r.ReplyTo, Expiration: r.Expiration, MessageId: r.MessageId,
		Timestamp: r.Timestamp,
		Type:      r.Type, AppId: r.AppId, Body: r.Body,
	}
}
