package broker

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptrace"
	"strconv"
	"strings"
	"sync"
	"time"

	amqp "github.com/rabbitmq/amqp091-go"

	"vaiven/internal/world/place"
)

// PathHeader is a message's header by which whoever consumes it knows that it is asked something, and that there is
// no work to do: it answers to reply-to, with the same correlation-id.
const PathHeader = "vaiven-path"

// StatusHeader is an answer's header with its status; 200 where it is left out.
const StatusHeader = "vaiven-status"

// Asker carries requests as numbered messages to whoever consumes what an exchange leads to, and their answers back.
// It is an [http.RoundTripper], and safe for concurrent use. A request that the broker has confirmed is one that was
// sent: its connection is there.
type Asker struct {
	client        *Client
	exchange, key string
	who           string // header of an answer that says who gave it
	own           string // that its numbers begin with

	publishing sync.Mutex // held by who publishes: a number is sent before the next

	mu      sync.Mutex // protects what follows
	ch      *amqp.Channel
	conn    *amqp.Connection
	number  uint64
	waits   map[string]chan outcome // by number
	numbers Numbers
	last    map[string]uint64 // by who answered: the highest number
	done    recent            // numbers that were answered
}

// Numbers are what was found of numbered messages.
type Numbers struct {
	Sent, Answered int64
	Twice          int64 // answers beyond the first
	Late           int64 // that came when nobody waited for them any more
	Disordered     int64 // answered by somebody who has answered a later one
}

// outcome is an answer, or why there is none.
type outcome struct {
	of  amqp.Delivery
	err error
}

// Asker makes one that publishes to an exchange with a routing key. A header of the answers says who gave them.
// Nothing is sent yet.
func (c *Client) Asker(exchange, key, who string) *Asker {
	return &Asker{client: c, exchange: exchange, key: key, who: who, own: rand.Text(), waits: map[string]chan outcome{},
		last: map[string]uint64{}, done: recent{most: doneMost}}
}

// Numbers are those so far.
func (a *Asker) Numbers() Numbers {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.numbers
}

// doneMost is how many numbers are remembered that were answered.
const doneMost = 4096

// channel is the one that questions go out by and answers come back, with a connection of its own: one that publishes
// can be blocked.
func (a *Asker) channel(ctx context.Context) (*amqp.Channel, error) {
	a.mu.Lock()
	if a.ch != nil && !a.ch.IsClosed() && !a.conn.IsClosed() {
		defer a.mu.Unlock()
		return a.ch, nil
	}
	a.mu.Unlock()
	conn, err := a.client.dial(ctx, "vaiven asks")
	if err != nil {
		return nil, err
	}
	var come <-chan amqp.Delivery
	var returned <-chan amqp.Return
	var ch *amqp.Channel
	_, err = place.Within(ctx, func() (bool, error) {
		var err error
		if ch, err = conn.Channel(); err != nil {
			return false, err
		}
		returned = ch.NotifyReturn(make(chan amqp.Return, 64))
		if err := ch.Confirm(false); err != nil {
			return false, err
		}
		come, err = ch.Consume("amq.rabbitmq.reply-to", "", true, false, false, false, nil)
		return true, err
	}, func(bool) {})
	if err != nil {
		go end(conn)
		return nil, translated(err)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.conn != nil {
		go end(a.conn)
	}
	a.ch, a.conn = ch, conn
	go a.listen(come, returned)
	return ch, nil
}

// listen takes in answers until the channel has ended.
func (a *Asker) listen(come <-chan amqp.Delivery, returned <-chan amqp.Return) {
	for come != nil || returned != nil {
		select {
		case d, open := <-come:
			if !open {
				come = nil
				continue
			}
			a.answered(d)
		case r, open := <-returned:
			if !open {
				returned = nil
				continue
			}
			a.mu.Lock()
			if w := a.waits[r.CorrelationId]; w != nil {
				w <- outcome{err: fmt.Errorf("nobody is to get what is published to %s: %s", a.exchange, r.ReplyText)}
				delete(a.waits, r.CorrelationId)
			}
			a.mu.Unlock()
		}
	}
}

func (a *Asker) answered(d amqp.Delivery) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.done.has(d.CorrelationId) {
		a.numbers.Twice++
		return
	}
	a.done.add(d.CorrelationId)
	a.numbers.Answered++
	_, count, _ := strings.Cut(d.CorrelationId, "-")
	if n, err := strconv.ParseUint(count, 10, 64); err == nil {
		who := text(d.Headers[a.who])
		if n < a.last[who] {
			a.numbers.Disordered++
		}
		a.last[who] = max(a.last[who], n)
	}
	w := a.waits[d.CorrelationId]
	if w == nil {
		a.numbers.Late++
		return
	}
	w <- outcome{of: d}
	delete(a.waits, d.CorrelationId)
}

// RoundTrip sends a request and waits for its answer.
func (a *Asker) RoundTrip(r *http.Request) (*http.Response, error) {
	m := amqp.Publishing{Headers: amqp.Table{PathHeader: r.URL.RequestURI(), "vaiven-method": r.Method},
		DeliveryMode: amqp.Transient, ReplyTo: "amq.rabbitmq.reply-to", Timestamp: time.Now()}
	for name, values := range r.Header {
		m.Headers[name] = values[0]
	}
	if r.Body != nil {
		body, err := io.ReadAll(r.Body)
		_ = r.Body.Close()
		if err != nil {
			return nil, err
		}
		m.Body = body
	}
	wait, number, err := a.send(r.Context(), m)
	if err != nil {
		return nil, err
	}
	if trace := httptrace.ContextClientTrace(r.Context()); trace != nil && trace.GotConn != nil {
		trace.GotConn(httptrace.GotConnInfo{Reused: true})
	}
	select {
	case o := <-wait:
		if o.err != nil {
			return nil, o.err
		}
		return response(r, o.of), nil
	case <-r.Context().Done():
		a.mu.Lock()
		delete(a.waits, number)
		a.mu.Unlock()
		return nil, context.Cause(r.Context())
	}
}

// send publishes a question, and waits until the broker has it.
func (a *Asker) send(ctx context.Context, m amqp.Publishing) (wait chan outcome, number string, err error) {
	a.publishing.Lock()
	ch, err := a.channel(ctx)
	if err != nil {
		a.publishing.Unlock()
		return nil, "", err
	}
	a.mu.Lock()
	a.number++
	number = fmt.Sprintf("%s-%d", a.own, a.number)
	m.CorrelationId, m.MessageId = number, number
	wait = make(chan outcome, 1)
	a.waits[number] = wait
	a.numbers.Sent++
	a.mu.Unlock()
	confirmed, err := place.Within(ctx, func() (*amqp.DeferredConfirmation, error) {
		return ch.PublishWithDeferredConfirm(a.exchange, a.key, true, false, m)
	}, func(*amqp.DeferredConfirmation) {})
	a.publishing.Unlock()
	if err == nil {
		var taken bool
		if taken, err = confirmed.WaitContext(ctx); err == nil && !taken {
			err = errors.New("the broker does not take it")
		}
	}
	if err != nil {
		a.mu.Lock()
		delete(a.waits, number)
		a.mu.Unlock()
		return nil, "", translated(err)
	}
	return wait, number, nil
}

// response is an answer as one over HTTP.
func response(r *http.Request, d amqp.Delivery) *http.Response {
	w := &http.Response{StatusCode: http.StatusOK, Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1,
		Header: http.Header{}, Request: r,
		Body: io.NopCloser(bytes.NewReader(d.Body)), ContentLength: int64(len(d.Body))}
	for name, value := range d.Headers {
		if name == StatusHeader {
			if n, err := strconv.Atoi(text(value)); err == nil {
				w.StatusCode = n
			}
			continue
		}
		w.Header.Set(name, text(value))
	}
	if d.ContentType != "" {
		w.Header.Set("Content-Type", d.ContentType)
	}
	w.Status = strings.TrimSpace(fmt.Sprint(w.StatusCode, " ", http.StatusText(w.StatusCode)))
	return w
}

func text(value any) string {
	if value == nil {
		return ""
	}
	return fmt.Sprint(value)
}

// Close ends its connection.
func (a *Asker) Close() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.conn != nil {
		end(a.conn)
	}
}

// recent are the ids that came last, at most so many. The zero value of the rest is ready.
type recent struct {
	most int
	in   map[string]bool
	list []string // in a circle
	next int
}

func (r *recent) has(id string) bool { return id != "" && r.in[id] }

func (r *recent) add(ids ...string) {
	if r.in == nil {
		r.in = map[string]bool{}
	}
	for _, id := range ids {
		if r.in[id] {
			continue
		}
		if len(r.list) < r.most {
			r.list = append(r.list, id)
		} else {
			delete(r.in, r.list[r.next])
			r.list[r.next] = id
			r.next = (r.next + 1) % r.most
		}
		r.in[id] = true
	}
}
