package demo

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"sync"
	"time"

	amqp "github.com/rabbitmq/amqp091-go"

	"vaiven/internal/front"
	"vaiven/internal/world/broker"
)

// Work is where a ticket printer takes bookings from. The zero value is nowhere.
type Work struct {
	Broker string // host:port
	Queue  string
}

// Bookings are published to this exchange.
const (
	exchange   = "bookings"
	bookingKey = "booking.made"
)

// printAtOnce is how many bookings a printer takes before it has printed the first.
const printAtOnce = 8

// print takes bookings until the context ends, and prints a ticket for each: what a search comes to, it comes to. It
// begins again where its connection was lost. A booking that fails is a dead letter.
func (a *App) print(ctx context.Context, w Work, do http.Handler) {
	for ctx.Err() == nil {
		if err := a.printOn(ctx, w, do); err != nil {
			fmt.Println("bookings:", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(500 * time.Millisecond):
		}
	}
}

func (a *App) printOn(ctx context.Context, w Work, do http.Handler) error {
	conn, err := connect(w.Broker, a.Instance)
	if err != nil {
		return err
	}
	defer conn.CloseDeadline(time.Now().Add(time.Second))
	ch, err := conn.Channel()
	if err != nil {
		return err
	}
	if err := ch.Qos(printAtOnce, 0, false); err != nil {
		return err
	}
	// no more come once the context has ended
	come, err := ch.ConsumeWithContext(ctx, w.Queue, a.Instance, false, false, false, false, nil)
	if err != nil {
		return err
	}
	fmt.Printf("takes bookings from %s\n", w.Queue)
	var printing sync.WaitGroup
	defer printing.Wait()
	var answering sync.Mutex // a channel is one goroutine's
	for d := range come {
		printing.Go(func() {
			path, asked := d.Headers[broker.PathHeader].(string)
			if !asked {
				path = "/sailings?booking=" + d.MessageId
			}
			r, err := http.NewRequestWithContext(context.WithoutCancel(ctx), http.MethodGet, "http://bookings"+path,
				nil)
			if err != nil {
				_ = d.Reject(false)
				return
			}
			if !asked {
				r.AddCookie(&http.Cookie{Name: passengerCookie, Value: d.MessageId})
			}
			answer := answer{header: http.Header{}, status: http.StatusOK}
			do.ServeHTTP(&answer, r)
			answering.Lock()
			defer answering.Unlock()
			if asked && d.ReplyTo != "" {
				headers := amqp.Table{broker.StatusHeader: int32(answer.status), front.InstanceHeader: a.Instance}
				for name := range answer.header {
					headers[name] = answer.header.Get(name)
				}
				_ = ch.Publish("", d.ReplyTo, false, false,
					amqp.Publishing{CorrelationId: d.CorrelationId, Headers: headers, Body: answer.body.Bytes()})
			}
			if !asked && answer.status >= http.StatusInternalServerError {
				_ = d.Reject(false)
				return
			}
			_ = d.Ack(false)
		})
	}
	if ctx.Err() == nil {
		return errors.New("the broker ended the connection")
	}
	return nil
}

// connect connects somebody of a name to a broker.
func connect(address, called string) (*amqp.Connection, error) {
	properties := amqp.NewConnectionProperties()
	properties.SetClientConnectionName(called)
	return amqp.DialConfig("amqp://guest:guest@"+address,
		amqp.Config{Properties: properties, Heartbeat: 5 * time.Second})
}

// answer is one that is kept in memory.
type answer struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (a *answer) Header() http.Header { return a.header }

func (a *answer) WriteHeader(status int) { a.status = status }

func (a *answer) Write(text []byte) (int, error) { return a.body.Write(text) }

// Bookings publishes bookings at about a rate, in irregular intervals, until the context ends. One counts as made
// when the broker has confirmed it; what is not confirmed is published again.
func Bookings(ctx context.Context, address string, rate float64) error {
	number, own := 0, rand.Uint32()
	for ctx.Err() == nil {
		conn, err := connect(address, "passengers")
		if err == nil {
			number, err = book(ctx, conn, own, number, rate)
			_ = conn.CloseDeadline(time.Now().Add(time.Second))
		}
		if err != nil {
			fmt.Println(err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(500 * time.Millisecond):
		}
	}
	return nil
}

// book publishes bookings on a connection, and returns the first number that is not confirmed.
func book(ctx context.Context, conn *amqp.Connection, own uint32, number int, rate float64) (int, error) {
	ch, err := conn.Channel()
	if err == nil {
		err = ch.Confirm(false)
	}
	if err != nil {
		return number, err
	}
	const most = 256 // not confirmed
	var open []*amqp.DeferredConfirmation
	for come := (arrivals{rate: rate, next: time.Now()}); come.wait(ctx); {
		c, err := ch.PublishWithDeferredConfirm(exchange, bookingKey, true, false, amqp.Publishing{
			MessageId: fmt.Sprintf("%08x-%d", own, number+len(open)), Timestamp: time.Now(),
			DeliveryMode: amqp.Persistent,
			ContentType:  "application/json",
			Body: fmt.Appendf(nil, `{"from":%q,"to":%q}`, islands[rand.IntN(len(islands))],
				islands[rand.IntN(len(islands))]),
		})
		if err != nil {
			return number, err
		}
		open = append(open, c)
		for len(open) > 0 {
			if len(open) < most && !open[0].Acked() {
				break
			}
			if taken, err := open[0].WaitContext(ctx); err != nil || !taken {
				return number, errors.Join(err, ctx.Err())
			}
			open, number = open[1:], number+1
		}
	}
	return number, nil
}
