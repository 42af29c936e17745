package queue

import (
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	amqp "github.com/rabbitmq/amqp091-go"

	"vaiven/internal/core/split"
	"vaiven/internal/world/broker"
	"vaiven/lab/testkit"
)

// Carrying to and fro loses no message, whatever ids publishers give, whatever consumers did before, and whenever it is
// cut short. What is there twice, or was given out before, says so.
func TestCarryingLosesNothing(t *testing.T) {
	const messages = 120
	for _, quorum := range []bool{false, true} {
		for what, id := range map[string]func(n int) string{
			"no ids":              func(int) string { return "" },
			"ids of their own":    func(n int) string { return fmt.Sprint("b-", n) },
			"ids that come again": func(n int) string { return fmt.Sprint("b-", n%10) },
			"one id":              func(int) string { return "b" },
		} {
			t.Run(fmt.Sprintf("%s, quorum %v", what, quorum), func(t *testing.T) {
				s := start(t)
				s.quorum = quorum
				settings := s.settings()
				d := s.prepared(settings)
				ch := s.channel("passengers")
				s.do(ch.Confirm(false))
				for n := range messages {
					c, err := ch.PublishWithDeferredConfirm(settings.Exchange, "booking.made", true, false,
						amqp.Publishing{MessageId: id(n), DeliveryMode: amqp.Persistent, Body: fmt.Append(nil, n)})
					s.do(err)
					if !c.Wait() {
						t.Fatal("not taken")
					}
				}
				for round := range 4 { // to green, back, to green, back
					from := split.Side(round % 2)
					s.troubled(settings.Queues[from])
					for w := testkit.Waiting(t, "it is carried"); ; w.Again() {
						// whoever carries is cut short again and again, each time a little later
						w.Last(s.carriedFor(d, from, time.Duration(1+w.Tries())*5*time.Millisecond))
						ready, _, err := d.at[from].Now(t.Context(), settings.Queues[from])
						if err == nil && ready == 0 {
							break
						}
					}
				}
				s.allAreThere(settings.Queues[split.Blue], messages)
			})
		}
	}
}

// carriedFor carries for a while, and is cut off.
func (s *started) carriedFor(d *Driver, from split.Side, long time.Duration) error {
	ctx, cancel := context.WithTimeout(s.t.Context(), long)
	defer cancel()
	return d.carriers[from].Empty(ctx)
}

// troubled has consumers take messages and be done with none: one hangs and is gone, one gives back.
func (s *started) troubled(queue string) {
	s.t.Helper()
	hangs := s.channel("hangs")
	s.do(hangs.Qos(40, 0, false))
	come, err := hangs.Consume(queue, "", false, false, false, false, nil)
	s.do(err)
	limit := time.After(2 * time.Second)
	for n := 0; n < 20; n++ {
		select {
		case <-come:
		case <-limit: // there are fewer
			n = 20
		}
	}
	s.do(hangs.Close())
	back := s.channel("gives back")
	for range 30 {
		m, ok, err := back.Get(queue, false)
		s.do(err)
		if ok {
			s.do(m.Nack(false, true))
		}
	}
	s.do(back.Close())
}

// allAreThere takes all messages of a queue, and holds them to being those that were published. One that is there twice
// has to say that it may be.
func (s *started) allAreThere(queue string, messages int) {
	s.t.Helper()
	ch := s.channel("takes all")
	seen, unmarked := map[string]int{}, map[string]int{}
	testkit.Until(s.t, "all messages are there", func() error {
		for {
			m, ok, err := ch.Get(queue, true)
			s.do(err)
			if !ok {
				break
			}
			seen[string(m.Body)]++
			if again, _ := m.Headers[broker.Again].(bool); !again && !m.Redelivered {
				unmarked[string(m.Body)]++
			}
		}
		var lost []string
		for n := range messages {
			if seen[fmt.Sprint(n)] == 0 {
				lost = append(lost, fmt.Sprint(n))
			}
		}
		if len(lost) > 0 {
			return fmt.Errorf("%d of %d are not: %v", len(lost), messages, lost[:min(5, len(lost))])
		}
		return nil
	})
	var twice []string
	for body, n := range unmarked {
		if n > 1 {
			twice = append(twice, body)
		}
	}
	if slices.Sort(twice); len(twice) > 0 {
		s.t.Errorf("%d are there twice and do not say so: %v", len(twice), twice[:min(5, len(twice))])
	}
}
