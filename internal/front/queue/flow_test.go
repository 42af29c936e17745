package queue

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	amqp "github.com/rabbitmq/amqp091-go"

	"vaiven/internal/core/figures"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/world/broker"
	"vaiven/internal/world/place"
	certificates "vaiven/internal/world/trust"
	"vaiven/lab/fronttest"
	"vaiven/lab/testkit"
)

// messages is how many numbered messages flow in the test of that name, at perSecond a second.
var messages = flag.Int("messages", 12_000, "how many numbered messages flow over crossings")

const perSecond = 2000

// flow is messages with numbers, those who publish them and those who consume them.
type flow struct {
	*started
	settings *Settings
	stop     chan struct{}
	once     sync.Once // closes stop
	wait     sync.WaitGroup
	sent     atomic.Int64 // and confirmed

	mu       sync.Mutex // protects what follows
	seen     map[string]int
	again    map[string]bool // that came with the mark of having been given out before
	unsure   map[string]int  // how often each was published without being confirmed in time
	printers map[string]*amqp.Connection
	disorder int
	slow     time.Duration // that each message takes to be done
	harsh    bool          // now and then one is given back, or hung with
	did      map[string]int
	line     []done // messages, in the order in which they were done
	longest  time.Duration
}

// done is a message that was done.
type done struct {
	side   split.Side
	who    string
	number int
}

func (s *started) flow(settings *Settings) *flow {
	return &flow{started: s, settings: settings, stop: make(chan struct{}), seen: map[string]int{},
		again: map[string]bool{}, did: map[string]int{}, unsure: map[string]int{},
		printers: map[string]*amqp.Connection{}}
}

// dial connects until it has worked, or the flow ends.
func (f *flow) dial(called string) *amqp.Connection {
	for {
		properties := amqp.NewConnectionProperties()
		properties.SetClientConnectionName(called)
		conn, err := amqp.DialConfig("amqp://guest:guest@"+f.listen,
			amqp.Config{Vhost: f.host, Properties: properties, Heartbeat: 10 * time.Second})
		if err == nil {
			return conn
		}
		select {
		case <-f.stop:
			return nil
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// publish publishes numbered messages at a rate until there are so many, or the flow is stopped. What the broker does
// not confirm is published again, with the same number: only then may it be there twice.
func (f *flow) publish(who string, most int, rate float64) {
	f.wait.Go(func() {
		number := 0
		for number < most {
			conn := f.dial("passengers")
			if conn == nil {
				return
			}
			number = f.publishOn(conn, who, number, most, rate)
			_ = conn.CloseDeadline(time.Now().Add(time.Second))
			select {
			case <-f.stop:
				return
			default:
			}
		}
	})
}

func (f *flow) publishOn(conn *amqp.Connection, who string, from, most int, rate float64) (number int) {
	number = from
	ch, err := conn.Channel()
	if err != nil || ch.Confirm(false) != nil {
		return number
	}
	var open []*amqp.DeferredConfirmation
	defer func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		for n := range open {
			f.unsure[fmt.Sprintf("%s-%d", who, number+n)]++
		}
	}()
	begun, n := time.Now(), 0
	for {
		for len(open) > 0 && (len(open) > 500 || number+len(open) == most || open[0].Acked()) {
			ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
			taken, err := open[0].WaitContext(ctx)
			cancel()
			if err != nil || !taken {
				return number
			}
			open, number = open[1:], number+1
			f.sent.Add(1)
		}
		if number == most {
			return number
		}
		select {
		case <-f.stop:
			if len(open) == 0 {
				return number
			}
			most = min(most, number+len(open))
			continue
		case <-time.After(time.Until(begun.Add(time.Duration(float64(n) / rate * float64(time.Second))))):
		}
		c, err := ch.PublishWithDeferredConfirm(f.settings.Exchange, "booking.made", true, false, amqp.Publishing{
			MessageId: fmt.Sprintf("%s-%d", who, number+len(open)), DeliveryMode: amqp.Persistent,
			Headers: amqp.Table{"at": time.Now().UnixNano(), "passenger": who},
		})
		if err != nil {
			return number
		}
		open, n = append(open, c), n+1
	}
}

// consume takes messages from a side's queue, notes their numbers, and then says that they are done.
func (f *flow) consume(name string, side split.Side) {
	f.wait.Go(func() {
		for {
			conn := f.dial(name)
			if conn == nil {
				return
			}
			f.mu.Lock()
			f.printers[name] = conn
			f.mu.Unlock()
			select {
			case <-f.stop: // whoever ends the others may have looked already
			default:
				f.consumeOn(conn, name, side)
			}
			_ = conn.CloseDeadline(time.Now())
			select {
			case <-f.stop:
				return
			default:
			}
		}
	})
}

// pause lets some milliseconds pass: when something happens is the test's input.
func pause(ms int) { time.Sleep(time.Duration(ms) * time.Millisecond) } // nothing waits for it to be right

func (f *flow) consumeOn(conn *amqp.Connection, name string, side split.Side) {
	ch, err := conn.Channel()
	if err != nil || ch.Qos(50, 0, false) != nil {
		return
	}
	come, err := ch.Consume(f.settings.Queues[side], name, false, false, false, false, nil)
	if err != nil {
		pause(20)
		return
	}
	last := map[string]int{}
	for d := range come {
		who, number := "", 0
		if k := strings.LastIndexByte(d.MessageId, '-'); k > 0 {
			who = d.MessageId[:k]
			_, _ = fmt.Sscan(d.MessageId[k+1:], &number)
		}
		f.mu.Lock()
		f.seen[d.MessageId]++
		if again, _ := d.Headers[broker.Again].(bool); d.Redelivered || again {
			f.again[d.MessageId] = true
		} else if number < last[who] {
			f.disorder++
		}
		last[who] = max(last[who], number)
		if at, ok := d.Headers["at"].(int64); ok {
			f.longest = max(f.longest, time.Since(time.Unix(0, at)))
		}
		f.mu.Unlock()
		f.mu.Lock()
		slow, harsh := f.slow, f.harsh
		f.mu.Unlock()
		switch dice := rand.IntN(10_000); {
		case !harsh:
		case dice < 100: // one in a hundred is given back
			if d.Reject(true) != nil {
				return
			}
			continue
		case dice < 102: // and one in five thousand is hung with
			slow = 3 * time.Second
		}
		time.Sleep(slow) // the work of a message
		f.mu.Lock()
		f.did[d.MessageId]++
		f.line = append(f.line, done{side, who, number})
		f.mu.Unlock()
		if d.Ack(false) != nil {
			return
		}
	}
}

// kill cuts a printer off, with everything that it has taken and not done.
func (f *flow) kill(name string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if conn := f.printers[name]; conn != nil {
		_ = conn.CloseDeadline(time.Now())
	}
}

// end waits until everything that was published has been consumed, and fails the test if anything is lost, or was
// given out twice without being marked as such.
func (f *flow) end(t *testing.T, publishers map[string]int) {
	t.Helper()
	missing := func() (list []string) {
		f.mu.Lock()
		defer f.mu.Unlock()
		for who, most := range publishers {
			for n := range most {
				if id := fmt.Sprintf("%s-%d", who, n); f.did[id] == 0 {
					list = append(list, id)
				}
			}
		}
		return list
	}
	testkit.Until(t, "all messages are consumed", func() error {
		if list := missing(); len(list) > 0 {
			return fmt.Errorf("%d are not, the first %v", len(list), list[:min(3, len(list))])
		}
		return nil
	})
	f.leave()
}

// leave has everybody go home: those who publish, when what they have published is confirmed, and those who consume.
func (f *flow) leave() {
	f.quiet()
	f.mu.Lock()
	for _, conn := range f.printers {
		_ = conn.CloseDeadline(time.Now())
	}
	f.mu.Unlock()
	f.wait.Wait()
}

// quiet has nobody publish any more.
func (f *flow) quiet() { f.once.Do(func() { close(f.stop) }) }

// twice are the messages that came more often than they were published, although they were not marked as given out
// before.
func (f *flow) twice() (list []string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for id, n := range f.seen {
		if n > 1+f.unsure[id] && !f.again[id] {
			list = append(list, id)
		}
	}
	slices.Sort(list)
	return list
}

// ferries is a front with two instances of each side, whose printers consume.
func ferries(t *testing.T, change func(*Settings)) (*flow, *Driver) { return ferriesOf(t, 2, change) }

// ferriesOf is one with so many of each side.
func ferriesOf(t *testing.T, each int, change func(*Settings)) (*flow, *Driver) {
	t.Helper()
	return start(t).ferries(each, change)
}

func (s *started) ferries(each int, change func(*Settings)) (*flow, *Driver) {
	t := s.t
	t.Helper()
	settings := s.settings()
	if change != nil {
		change(settings)
	}
	d := s.prepared(settings)
	f := s.flow(settings)
	for _, side := range split.Sides {
		var list []reading.Server
		for n := range each {
			name := fmt.Sprintf("%v-%d", side, n+1)
			list = append(list, reading.Server{Name: name, Address: fmt.Sprintf("10.1.%d.%d:80", side, n+1),
				Version: "4.2.0"})
			f.consume(name, side)
		}
		if err := d.SetInstances(t.Context(), side, list); err != nil {
			t.Fatal(err)
		}
	}
	testkit.Until(t, "consumers", func() error {
		for _, queue := range settings.Queues {
			if _, n, err := d.broker.Now(t.Context(), queue); err != nil || n != each {
				return fmt.Errorf("%s has %d consumers, %v", queue, n, err)
			}
		}
		return nil
	})
	return f, d
}

// Where printers hardly do anything any more, the age of the oldest says so, however late the broker tells what has
// come; and what is carried away from them is nothing that they have done.
func TestPrintersThatHang(t *testing.T) {
	testkit.Long(t)
	f, d := ferries(t, func(s *Settings) { s.Backlog = Carry })
	hang := func(each time.Duration) {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.slow = each
	}
	queue := func() (q reading.Queue, r reading.Front) {
		t.Helper()
		testkit.Until(t, "the queue is read", func() (err error) {
			if r, err = d.Read(t.Context()); err == nil && r.Sides[split.Blue].Queue == nil {
				err = errors.New(r.Blind)
			}
			return err
		})
		return *r.Sides[split.Blue].Queue, r
	}
	testkit.Until(t, "they do some", func() error {
		f.publish("first", 50, 500)
		if q, _ := queue(); q.Done < 50 {
			return fmt.Errorf("%+v", q)
		}
		return nil
	})
	hang(time.Second)
	f.publish("then", 1_000_000, 100)
	testkit.Until(t, "the oldest is old", func() error {
		if q, _ := queue(); q.Oldest < 5*time.Second || q.There() < 200 {
			return fmt.Errorf("%+v", q)
		}
		return nil
	})
	_, r := queue()
	if _, err := d.Set(t.Context(), split.Whole, front.AsRead(r)); err != nil {
		t.Fatal(err)
	}
	running, stop := context.WithCancel(t.Context())
	var wait sync.WaitGroup
	wait.Go(func() { d.Run(running) })
	testkit.Until(t, "what waits is carried away", func() error {
		if q, _ := queue(); q.Carried < 200 || q.Ready > 0 {
			return fmt.Errorf("%+v", q)
		}
		return nil
	})
	hang(0)
	testkit.Until(t, "and is counted as that", func() error {
		q, r := queue()
		did := int64(0)
		for _, i := range r.Sides[split.Blue].Instances {
			did += i.Requests
		}
		if q.There() > 0 || q.Carried < 200 || q.Published != q.Done+q.Carried || did > q.Done || q.Oldest != 0 ||
			strings.Contains(r.Notice, "which instance they are") {
			return fmt.Errorf("%+v, instances did %d, %q", q, did, r.Notice)
		}
		return nil
	})
	stop()
	wait.Wait()
	f.leave()
}

// Somebody takes the spare side's queue away: what the other side does is known all the same, nothing is led there,
// and it is made anew as it was.
func TestAQueueThatSomebodyDeletes(t *testing.T) {
	f, d := ferries(t, nil)
	defer f.leave()
	f.publish("p", 1_000_000, 100)
	if _, err := f.channel("somebody else").QueueDelete(f.settings.Queues[split.Green], false, false,
		false); err != nil {
		t.Fatal(err)
	}
	var r reading.Front
	testkit.Until(t, "blue is counted", func() (err error) {
		if r, err = d.Read(t.Context()); err == nil && (r.Blind != "" || r.Sides[split.Blue].Queue.Done < 50 ||
			!strings.Contains(r.Notice, "bookings-next is not there")) {
			err = fmt.Errorf("%q, %q, %+v", r.Blind, r.Notice, r.Sides[split.Blue].Queue)
		}
		return err
	})
	if _, err := d.Set(t.Context(), split.Whole, front.AsRead(r)); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), "vaiven front makes it anew") {
		t.Errorf("to a queue that is not there: %v", err)
	}
	if made, err := f.driver(f.settings).Prepare(t.Context(), front.Known{}); err != nil || made {
		t.Fatalf("made %v, %v", made, err)
	}
	testkit.Until(t, "all of it goes to green", func() error {
		r, err := d.Read(t.Context())
		if err == nil {
			_, err = d.Set(t.Context(), split.Whole, front.AsRead(r))
		}
		if err == nil && strings.Contains(r.Notice, "differ") {
			t.Errorf("it is other than it was: %s", r.Notice)
		}
		return err
	})
	testkit.Until(t, "green does them", func() error {
		r, err := d.Read(t.Context())
		if err == nil && (r.Sides[split.Green].Queue == nil || r.Sides[split.Green].Queue.Done < 50) {
			err = fmt.Errorf("%+v", r.Sides[split.Green].Queue)
		}
		return err
	})
}

// Messages are held while those that were held before are being let go: whoever lets them go stops, so that they are
// counted, and go on when it is said.
func TestHeldAgainWhileTheyGoOn(t *testing.T) {
	f, d := ferries(t, nil)
	other := f.driver(f.settings)
	f.do(other.Pause(t.Context(), "marit"))
	const all = 10_000
	f.publish("p", all, 5000)
	held := func() int64 {
		n, _, err := other.broker.Now(t.Context(), d.names.held)
		f.do(err)
		return n
	}
	testkit.Until(t, "all are held", func() error {
		if n := held(); n < all {
			return fmt.Errorf("%d are", n)
		}
		return nil
	})
	running, stop := context.WithCancel(t.Context())
	var wait sync.WaitGroup
	wait.Go(func() { d.Run(running) })
	f.do(other.resumed(t.Context()))
	testkit.Until(t, "some go on", func() error {
		if n := held(); n == all {
			return errors.New("none does")
		}
		return nil
	})
	f.do(other.Pause(t.Context(), "marit"))
	f.do(other.Resume(t.Context()))
	f.end(t, map[string]int{"p": all})
	stop()
	wait.Wait()
	if list := f.twice(); len(list) > 0 {
		t.Errorf("%d came twice, the first %v", len(list), list[:1])
	}
}

// Messages with numbers flow over crossings there and back, while everybody is killed in turn: those who steer, those
// who carry, those who consume. None is lost, and none comes twice that was not marked as given out before.
func TestNumberedMessages(t *testing.T) {
	f, d := ferries(t, func(s *Settings) { s.Backlog = Carry })
	const publishers = 4
	of := map[string]int{}
	for n := range publishers {
		who := fmt.Sprintf("p%d", n)
		of[who] = *messages / publishers
		f.publish(who, of[who], perSecond/publishers)
	}
	running, stop := context.WithCancel(t.Context())
	defer stop()
	var wait sync.WaitGroup
	wait.Go(func() { // whoever carries is killed again and again, and another one begins
		for running.Err() == nil {
			life, end := context.WithTimeout(running, time.Duration(1500+rand.IntN(1500))*time.Millisecond)
			f.driver(f.settings).Run(life)
			end()
		}
	})
	wait.Go(func() { // and so is, at the broker, any connection of Vaiven's
		for n := 0; running.Err() == nil; n++ {
			select {
			case <-running.Done():
			case <-time.After(700 * time.Millisecond):
				f.cut("vaiven")
			}
		}
	})
	shares := []split.Share{500, 2500, 5000, split.Whole, 0}
	steps := 0
	for w := testkit.Waiting(t, "all messages are sent"); int(f.sent.Load()) < *messages; w.Goes(f.sent.Load()) {
		life := f.driver(f.settings) // another process
		at := shares[steps%len(shares)]
		expect := func() front.Expect {
			r, err := life.Read(t.Context())
			for err != nil {
				r, err = life.Read(t.Context())
			}
			return front.AsRead(r)
		}
		_, err := life.Set(t.Context(), at, expect())
		if err != nil && !errors.Is(err, front.ErrUnreachable) && !errors.Is(err, front.ErrChanged) {
			t.Errorf("step %d, to %v: %v", steps, at, err)
		}
		switch steps % 4 {
		case 0:
			f.kill(fmt.Sprintf("%v-%d", split.Side(steps%2), 1+steps%2))
		case 1:
			if err := d.Pause(t.Context(), "marit"); err != nil && !errors.Is(err, front.ErrUnreachable) {
				t.Error(err)
			}
			f.kill("green-1")
			testkit.Until(t, "it goes on", func() error { return d.Resume(t.Context()) })
		case 2: // a rollback in the middle of a change
			changing, end := context.WithTimeout(t.Context(), time.Duration(rand.IntN(10))*time.Millisecond)
			_, _ = life.Set(changing, shares[rand.IntN(len(shares))], expect())
			end()
			fallthrough
		default:
			testkit.Until(t, "home", func() error {
				done, err := f.driver(f.settings).Home(t.Context(), front.Homing{Side: split.Blue, By: "marit"})
				if err == nil && done.Share != 0 {
					err = fmt.Errorf("%v is on green", done.Share)
				}
				return err
			})
		}
		steps++
		pause(rand.IntN(200))
	}
	f.end(t, of)
	stop()
	wait.Wait()
	if list := f.twice(); len(list) > 0 {
		t.Errorf("%d messages came twice, the first %v", len(list), list[:min(5, len(list))])
	}
	t.Logf("%d messages over %d changes: none lost; %d were given out again after a kill, the longest took %v",
		*messages, steps, len(f.again), f.longest.Round(time.Millisecond))
}

// cut ends the connections of whoever calls themselves so, at the broker.
func (s *started) cut(begin string) {
	var list []struct {
		Name   string `json:"name"`
		Called string `json:"user_provided_name"`
	}
	_ = s.ask(http.MethodGet, "vhosts/"+url.PathEscape(s.host)+"/connections", nil, &list)
	for _, c := range list {
		if strings.HasPrefix(c.Called, begin) {
			_ = s.ask(http.MethodDelete, "connections/"+url.PathEscape(c.Name), nil, nil)
		}
	}
}

// Where the plan wants order, a side does all that it has before the other one does anything.
func TestOrderIsKept(t *testing.T) {
	f, d := ferriesOf(t, 1, func(s *Settings) { s.Shares, s.Ordered = false, true }) // order is that of one consumer
	f.mu.Lock()
	f.slow = time.Millisecond
	f.mu.Unlock()
	const backlog = 2000 // which blue has when green takes over
	f.publish("p", backlog, 20_000)
	testkit.Until(t, "a backlog", func() error {
		if n := f.sent.Load(); n < backlog {
			return fmt.Errorf("%d are published", n)
		}
		return nil
	})
	f.publish("q", 1<<30, 150)
	come := func(n int) {
		t.Helper()
		testkit.Until(t, "messages are done", func() error {
			f.mu.Lock()
			defer f.mu.Unlock()
			if len(f.line) < n {
				return fmt.Errorf("%d are", len(f.line))
			}
			return nil
		})
	}
	for n, to := range []split.Share{split.Whole, 0, split.Whole} {
		come(300 + backlog*min(n, 1) + 150*n)
		r, err := d.Read(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if done, err := d.Set(t.Context(), to, front.AsRead(r)); err != nil || done.Share != to {
			t.Fatalf("to %v: %+v, %v", to, done, err)
		}
	}
	come(backlog + 700)
	f.mu.Lock()
	var runs []split.Side // who did messages, one after the other
	most, far, early := 0, 0, 0
	for _, m := range f.line {
		if len(runs) == 0 || runs[len(runs)-1] != m.side {
			runs = append(runs, m.side)
		}
		switch {
		case m.who == "q":
			far, most = max(far, most-m.number), max(most, m.number)
		case most > 0:
			early++ // what came before all of those is done after one of them
		}
	}
	f.mu.Unlock()
	if want := []split.Side{split.Blue, split.Green, split.Blue, split.Green}; !slices.Equal(runs, want) || early > 0 {
		t.Errorf("messages were done by %v, want %v; %d of the backlog after what came later", runs, want, early)
	}
	// what comes within a transaction, which takes as long as the machine is busy
	t.Logf("none was done after one that came more than %d later", far)
	f.end(t, map[string]int{"p": backlog, "q": int(f.sent.Load()) - backlog})
	if list := f.twice(); len(list) > 0 {
		t.Errorf("came twice: %v", list)
	}
}

// The broker is killed at every step of a crossing, while messages flow. What it had confirmed is there when it is
// started again, and what was in force is.
func TestTheBrokerIsKilled(t *testing.T) {
	f, d := ferries(t, func(s *Settings) { s.Backlog = Carry })
	running, stop := context.WithCancel(t.Context())
	defer stop()
	go d.Run(running)
	const most = 1 << 30
	f.publish("p", most, 300)
	steps := map[string]func() error{
		"divided": func() error {
			r, err := d.Read(t.Context())
			if err == nil {
				_, err = d.Set(t.Context(), 2500, front.AsRead(r))
			}
			return err
		},
		"held":    func() error { return d.Pause(t.Context(), "marit") },
		"resumed": func() error { return d.Resume(t.Context()) },
	}
	for _, step := range []string{"divided", "held", "resumed"} {
		testkit.Until(t, step, steps[step])
		before, err := d.look(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		one.Kill()
		if _, err := d.Read(t.Context()); !errors.Is(err, front.ErrUnreachable) {
			t.Errorf("%s, without a broker: %v", step, err)
		}
		one.restart(t)
		testkit.Until(t, "the same is in force", func() error {
			after, err := d.look(t.Context())
			if err == nil && after.print() != before.print() {
				err = fmt.Errorf("%s, want %s", after.print(), before.print())
			}
			return err
		})
	}
	testkit.Until(t, "home", func() error {
		_, err := d.Home(t.Context(), front.Homing{Side: split.Blue})
		return err
	})
	before := f.sent.Load()
	testkit.Until(t, "messages flow", func() error {
		if n := f.sent.Load(); n < before+100 {
			return fmt.Errorf("%d more", n-before)
		}
		return nil
	})
	f.end(t, map[string]int{"p": int(f.sent.Load())})
}

// restart starts the broker again.
func (n *node) restart(t *testing.T) {
	t.Helper()
	n.Lock()
	defer n.Unlock()
	n.Program = fronttest.Shared(t, fronttest.Address(n.port), n.folder+"/output", "sh", n.folder+"/start")
}

// Green's queue is at another broker. Messages go over to it while it is killed, and while whoever carries is; none
// is lost, and what comes twice had been given out before, or had been published twice because nobody knew that it
// was there.
func TestAnotherBroker(t *testing.T) {
	for _, link := range []string{"vaiven", "shovel"} {
		t.Run(link, func(t *testing.T) {
			if link == "shovel" {
				testkit.Long(t)
			}
			anotherBroker(t, link == "shovel")
		})
	}
}

func anotherBroker(t *testing.T, shovel bool) {
	other := two.start(t)
	s := start(t)
	settings := s.settings()
	settings.Beyond = Beyond{Listen: other.listen, Management: other.admin, Host: other.host, Shovel: shovel}
	settings.Backlog = Carry
	d := s.prepared(settings)
	q, err := d.at[split.Green].Queue(t.Context(), settings.Queues[split.Green])
	if err != nil || q.Arguments["x-max-priority"] != 3.0 {
		t.Fatalf("green's queue is %+v, %v", q, err)
	}
	blue, green := s.flow(settings), other.flow(settings)
	blue.consume("blue-1", split.Blue)
	green.consume("green-1", split.Green)
	for _, side := range split.Sides {
		if err := d.SetInstances(t.Context(), side,
			[]reading.Server{{Name: side.String() + "-1", Address: fmt.Sprintf("10.1.%d.1:80", side),
				Version: "4.2.0"}}); err != nil {
			t.Fatal(err)
		}
	}
	running, stop := context.WithCancel(t.Context())
	defer stop()
	var wait sync.WaitGroup
	wait.Go(func() {
		for running.Err() == nil {
			life, end := context.WithTimeout(running, 4*time.Second)
			s.driver(settings).Run(life)
			end()
		}
	})
	blue.publish("p", 1<<30, 500)
	set := func(share split.Share) {
		t.Helper()
		testkit.Until(t, fmt.Sprint("to ", share), func() error {
			r, err := d.Read(t.Context())
			if err == nil {
				_, err = d.Set(t.Context(), share, front.AsRead(r))
			}
			return err
		})
	}
	come := func(f *flow, n int) {
		t.Helper()
		f.mu.Lock()
		before := len(f.seen)
		f.mu.Unlock()
		testkit.Until(t, "messages come", func() error {
			f.mu.Lock()
			defer f.mu.Unlock()
			if now := len(f.seen); now < before+n {
				return fmt.Errorf("%d more", now-before)
			}
			return nil
		})
	}
	come(blue, 100)
	set(5000)
	come(green, 100)
	if shovel { // which needs nobody
		stop()
		wait.Wait()
		come(green, 100)
		running, stop = context.WithCancel(t.Context())
		defer stop()
		wait.Go(func() { s.driver(settings).Run(running) })
	}
	two.Kill() // what is for it waits here
	if done, err := d.Home(t.Context(), front.Homing{Side: split.Blue}); err == nil && done.Share != 0 ||
		err != nil && !errors.Is(err, front.ErrUnreachable) {
		t.Errorf("home while the other broker is away: %+v, %v", done, err)
	}
	come(blue, 300)
	two.restart(t)
	set(split.Whole)
	come(green, 300)
	testkit.Until(t, "home", func() error {
		_, err := d.Home(t.Context(), front.Homing{Side: split.Blue})
		return err
	})
	come(blue, 100)
	blue.quiet()
	sent := func() int { return int(blue.sent.Load()) }
	testkit.Until(t, "all messages have come to one side", func() error {
		blue.mu.Lock()
		defer blue.mu.Unlock()
		green.mu.Lock()
		defer green.mu.Unlock()
		for n := range sent() {
			if id := fmt.Sprintf("p-%d", n); blue.seen[id]+green.seen[id] == 0 {
				return fmt.Errorf("%s is lost", id)
			}
		}
		return nil
	})
	blue.leave()
	green.leave()
	stop()
	wait.Wait()
	twice := 0
	for id := range blue.seen {
		if blue.seen[id]+green.seen[id] > 1 && !blue.again[id] && !green.again[id] {
			twice++
		}
	}
	t.Logf("%d messages, %d came twice", sent(), twice)
	if twice > 0 {
		t.Errorf("%d of %d messages came twice, and did not say so", twice, sent())
	}
}

// A broker that has too little memory keeps publishers from publishing. It says so, and going home needs no publishing.
func TestPublishersAreBlocked(t *testing.T) {
	f, d := ferries(t, nil)
	f.publish("p", 1<<30, 200)
	r, err := d.Read(t.Context())
	if err == nil {
		_, err = d.Set(t.Context(), 5000, front.AsRead(r))
	}
	f.do(err)
	f.control("set_vm_memory_high_watermark", "absolute", "1000")
	free := sync.OnceFunc(func() { f.control("set_vm_memory_high_watermark", "0.4") })
	defer free()
	testkit.Until(t, "it says so", func() error {
		r, err := d.Read(t.Context())
		if err == nil && !strings.Contains(r.Notice, "publishers are kept from publishing: the memory of") {
			err = fmt.Errorf("it says %q", r.Notice)
		}
		return err
	})
	if done, err := f.driver(f.settings).Home(t.Context(), front.Homing{Side: split.Blue}); err != nil ||
		done.Share != 0 {
		t.Errorf("home: %+v, %v", done, err)
	}
	if err := d.Pause(t.Context(), ""); err != nil {
		t.Error(err)
	}
	limited, cancel := context.WithTimeout(t.Context(), 2*time.Second)
	_ = d.Resume(limited) // what waits cannot be moved; it goes on later
	cancel()
	free()
	before := f.sent.Load()
	testkit.Until(t, "messages flow again", func() error {
		if err := d.Resume(t.Context()); err != nil {
			return err
		}
		if n := f.sent.Load(); n < before+100 {
			return fmt.Errorf("%d more", n-before)
		}
		return nil
	})
	f.end(t, map[string]int{"p": int(f.sent.Load())})
	if list := f.twice(); len(list) > 0 {
		t.Errorf("came twice: %v", list)
	}
}

// control runs the broker's own tool.
func (s *started) control(args ...string) {
	s.t.Helper()
	text, err := os.ReadFile(one.folder + "/start")
	s.do(err)
	_, node, _ := strings.Cut(string(text), "RABBITMQ_NODENAME=")
	node, _, _ = strings.Cut(node, " ")
	cmd := exec.Command("/usr/lib/rabbitmq/bin/rabbitmqctl", append([]string{"-n", node}, args...)...)
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + one.folder, "LANG=C.UTF-8", "ERL_EPMD_ADDRESS=127.0.0.1",
		fmt.Sprintf("ERL_EPMD_PORT=%d", one.port+2), "RABBITMQ_CONF_ENV_FILE=/dev/null"}
	if out, err := cmd.CombinedOutput(); err != nil {
		s.t.Fatalf("rabbitmqctl %v: %v: %s", args, err, out)
	}
}

// A broker that is spoken to over TLS alone: whom it is trusted by is a file's to say, which is read again when it
// was of no use.
func TestOverTLS(t *testing.T) {
	s := start(t)
	s.usual(s.settings())
	folder := t.TempDir()
	own := testkit.Certify(t, folder, "vaiven.lineavessa.example", 3, one.harbour)
	authorities := filepath.Join(folder, "authorities.pem")
	trust := func(file string) {
		t.Helper()
		text, err := os.ReadFile(file)
		s.do(err)
		fronttest.Write(t, authorities, string(text))
	}
	trust(testkit.Certify(t, folder, "elsewhere.lineavessa.example", 4, nil).File)
	settings := s.settings()
	settings.Management = "https://" + fronttest.Address(one.port+5)
	settings.TLS = broker.TLS{On: true, Name: certified,
		Files: certificates.Files{CA: authorities, Certificate: own.File, Key: own.Key}}
	d := New(place.Local{}, "bookings",
		plan.Front{Listen: fronttest.Address(one.port + 4), Key: plan.Key{From: plan.KeyRandom}, Settings: settings})
	for range 2 {
		if _, err := d.Prepare(t.Context(), front.Known{}); err == nil ||
			!strings.Contains(err.Error(), "unknown authority") {
			t.Fatalf("a broker that nobody vouches for: %v", err)
		}
	}
	trust(one.harbour.File)
	// A connection that was begun before may have read the file last, as it was.
	testkit.Until(t, "it is trusted", func() error {
		_, err := d.Prepare(t.Context(), front.Known{})
		return err
	})
	if done, err := d.Home(t.Context(), front.Homing{Side: split.Blue, By: "marit", Force: true}); err != nil ||
		done.Share != 0 {
		t.Errorf("home: %+v, %v", done, err)
	}
	if r, err := d.Read(t.Context()); err != nil || r.Order.By != "marit" {
		t.Errorf("it is read as %+v, %v", r.Order, err)
	}
	var connections []struct {
		TLS  bool   `json:"ssl"`
		Peer string `json:"peer_cert_subject"`
		Port int    `json:"port"`
	}
	testkit.Until(t, "what it is connected by", func() error {
		s.do(s.ask(http.MethodGet, "connections", nil, &connections))
		for _, c := range connections {
			if c.Port == one.port+4 && c.TLS && strings.Contains(c.Peer, "vaiven.lineavessa.example") {
				return nil
			}
		}
		return fmt.Errorf("there are %+v", connections)
	})
	settings.TLS.Name = "elsewhere.lineavessa.example"
	d = New(place.Local{}, "bookings",
		plan.Front{Listen: fronttest.Address(one.port + 4), Key: plan.Key{From: plan.KeyRandom}, Settings: settings})
	if _, err := d.Read(t.Context()); err == nil || !strings.Contains(err.Error(), certified) {
		t.Errorf("a certificate for another name: %v", err)
	}
}

// Dead letters, and messages that are given out again because whoever had them is gone, are counted at the side where
// that happened.
func TestPoison(t *testing.T) {
	f, d := ferries(t, nil)
	ch := f.channel("somebody")
	publish := func(key, id string) {
		t.Helper()
		f.do(ch.PublishWithContext(t.Context(), "", key, true, false,
			amqp.Publishing{MessageId: id, DeliveryMode: amqp.Persistent}))
	}
	f.leave()
	if _, err := d.Read(t.Context()); err != nil { // from now on it counts
		t.Fatal(err)
	}
	poisoned := f.channel("green-1")
	f.do(poisoned.Qos(1, 0, false))
	come, err := poisoned.Consume(f.settings.Queues[split.Green], "green-1", false, false, false, false, nil)
	f.do(err)
	for n := range 3 {
		publish(f.settings.Queues[split.Green], fmt.Sprintf("poison-%d", n))
		f.do((<-come).Reject(false))
	}
	publish(f.settings.Queues[split.Green], "again")
	f.do((<-come).Reject(true))
	f.do((<-come).Ack(false))
	testkit.Until(t, "they are counted", func() error {
		r, err := d.Read(t.Context())
		if err != nil {
			return err
		}
		if r.Blind != "" {
			return errors.New(r.Blind)
		}
		blue, green := r.Sides[split.Blue], r.Sides[split.Green]
		if q := green.Queue; q.Dead != 3 || q.Redelivered != 1 || q.Done != 1 || q.Published != 4 || q.There() != 0 ||
			green.Instances[0].Status[5] != 4 || green.Instances[0].Requests != 5 {
			return fmt.Errorf("green %+v, %+v", *q, green.Instances)
		}
		if q := blue.Queue; q.Dead+q.Redelivered+q.Published != 0 || blue.Instances[0].Requests != 0 {
			return fmt.Errorf("blue %+v, %+v", *q, blue.Instances)
		}
		return nil
	})
}

// Printers that take messages and never do them, and printers that give back one in five, are failing: by what the
// broker counts, as the judge takes it.
func TestPrintersThatAreFailing(t *testing.T) {
	testkit.Long(t)
	for what, c := range map[string]struct {
		print   func(n int, m amqp.Delivery) error
		failing bool
	}{
		"they hang": {func(int, amqp.Delivery) error { return nil }, true},
		"they give back one in five": {func(n int, m amqp.Delivery) error {
			if n%5 == 0 {
				return m.Reject(true)
			}
			return m.Ack(false)
		}, true},
		"they let one in five die": {func(n int, m amqp.Delivery) error {
			if n%5 == 0 {
				return m.Reject(false)
			}
			return m.Ack(false)
		}, true},
		"they do as they should": {func(_ int, m amqp.Delivery) error { return m.Ack(false) }, false},
	} {
		t.Run(what, func(t *testing.T) {
			f, d := ferries(t, nil)
			f.leave()
			take := func(who string, side split.Side, each func(int, amqp.Delivery) error) {
				ch := f.channel(who)
				f.do(ch.Qos(20, 0, false))
				come, err := ch.Consume(f.settings.Queues[side], who, false, false, false, false, nil)
				f.do(err)
				go func() {
					n := 0
					for m := range come {
						n++
						if each(n, m) != nil {
							return
						}
					}
				}()
			}
			well := func(_ int, m amqp.Delivery) error { return m.Ack(false) }
			for n := range 2 {
				take(fmt.Sprintf("blue-%d", n+1), split.Blue, well)
				take(fmt.Sprintf("green-%d", n+1), split.Green, c.print)
			}
			ch := f.channel("passengers")
			var series figures.Series
			begun := time.Now()
			for n := 0; ; n++ {
				for _, queue := range f.settings.Queues {
					f.do(ch.PublishWithContext(t.Context(), "", queue, true, false, amqp.Publishing{
						MessageId: fmt.Sprint(n), DeliveryMode: amqp.Persistent}))
				}
				time.Sleep(20 * time.Millisecond) // the rate is the test's input
				if n%25 != 0 {
					continue
				}
				r, err := d.Read(t.Context())
				if err != nil || r.Blind != "" || series.Add(r) != nil {
					continue
				}
				green, blue := series.Count(split.Green, begun, 0), series.Count(split.Blue, begun, 0)
				bad := green.FailingCount()
				if got := blue.FailingCount(); got.Bad > 0 {
					t.Fatalf("blue is failing: %+v", got)
				}
				switch {
				case !c.failing && bad.Bad > 0:
					t.Fatalf("they fail: %+v", green)
				case !c.failing && bad.Of > 500, c.failing && bad.Bad >= 20 && bad.Rate() > 0.1:
					t.Logf("after %v: %+v, blue %+v", time.Since(begun).Round(time.Second), green, blue)
					return
				case time.Since(begun) > 90*time.Second:
					t.Fatalf("green %+v, blue %+v, %+v", green, blue, r.Sides)
				}
			}
		})
	}
}

// What is there is led through Vaiven's exchanges while messages come, and the new side's queue is made like the old
// one: arguments, policy, dead letters. What differs is said.
func TestPrepareUnderLoad(t *testing.T) {
	s := start(t)
	settings := s.settings()
	s.usual(settings)
	s.do(s.ask(http.MethodPut, "policies/"+url.PathEscape(s.host)+"/the-team",
		map[string]any{"pattern": "^bookings$", "apply-to": "queues",
			"definition": map[string]any{"message-ttl": 600_000}}, nil))
	f := s.flow(settings)
	f.consume("blue-1", split.Blue)
	f.publish("p", 1<<30, 1000)
	testkit.Until(t, "messages flow", func() error {
		if f.sent.Load() < 100 {
			return fmt.Errorf("%d", f.sent.Load())
		}
		return nil
	})
	d := s.driver(settings)
	testkit.Until(t, "the policy is in force", func() error {
		q, err := d.broker.Queue(t.Context(), settings.Queues[split.Blue])
		if err == nil && q.Effective["message-ttl"] == nil {
			err = fmt.Errorf("it has %v", q.Effective)
		}
		return err
	})
	if _, err := d.Read(t.Context()); !errors.Is(err, front.ErrNotMade) {
		t.Errorf("before it is prepared: %v", err)
	}
	for n, want := range []bool{true, false} {
		if made, err := d.Prepare(t.Context(), front.Known{}); err != nil || made != want {
			t.Fatalf("%d: made %v, %v", n, made, err)
		}
	}
	before := f.sent.Load()
	testkit.Until(t, "messages flow", func() error {
		if n := f.sent.Load(); n < before+500 {
			return fmt.Errorf("%d more", n-before)
		}
		return nil
	})
	var q broker.Queue
	testkit.Until(t, "the policy is in force at green's queue", func() (err error) {
		if q, err = d.broker.Queue(t.Context(), settings.Queues[split.Green]); err == nil && len(q.Effective) == 0 {
			err = errors.New("it has none")
		}
		return err
	})
	if q.Arguments["x-max-priority"] != 3.0 || q.Arguments["x-dead-letter-routing-key"] != settings.Dead[split.Green] ||
		q.Effective["message-ttl"] != 600_000.0 || !q.Durable {
		t.Errorf("green's queue is %+v", q)
	}
	if list, err := d.Lacks(t.Context()); err != nil || len(list) > 0 {
		t.Errorf("it lacks %v, %v", list, err)
	}
	// Somebody puts a binding past it, and changes a policy.
	ch := s.channel("somebody else")
	s.do(ch.QueueBind(settings.Queues[split.Green], "booking.#", settings.Exchange, false, nil))
	s.do(s.ask(http.MethodPut, "policies/"+url.PathEscape(s.host)+"/the-team",
		map[string]any{"pattern": "^bookings$", "apply-to": "queues",
			"definition": map[string]any{"message-ttl": 700_000}}, nil))
	testkit.Until(t, "what differs", func() error {
		list, err := d.Lacks(t.Context())
		if text := strings.Join(list, "\n"); err != nil || !strings.Contains(text, "bookings leads to bookings-next "+
			"past Vaiven's exchange") || !strings.Contains(text, "differ in the policy message-ttl: 700000, 600000") {
			return fmt.Errorf("%s, %v", text, err)
		}
		return nil
	})
	if _, err := d.Read(t.Context()); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), "past Vaiven's") {
		t.Errorf("with a binding past it: %v", err)
	}
	s.do(ch.QueueUnbind(settings.Queues[split.Green], "booking.#", settings.Exchange, nil))
	s.do(s.ask(http.MethodDelete, "policies/"+url.PathEscape(s.host)+"/the-team", nil, nil))
	f.leave()
	left := s.flow(settings)
	left.consume("blue-1", split.Blue)
	left.consume("green-1", split.Green)
	testkit.Until(t, "all that was published", func() error {
		left.mu.Lock()
		defer left.mu.Unlock()
		for n := range f.sent.Load() {
			if id := fmt.Sprintf("p-%d", n); f.seen[id]+left.seen[id] == 0 {
				return fmt.Errorf("%s is lost", id)
			}
		}
		return nil
	})
	left.end(t, nil)
}

// A backlog is carried in its order, and with everything that its messages say; there is one who carries.
func TestCarried(t *testing.T) {
	s := start(t)
	settings := s.settings()
	d := s.prepared(settings)
	ch := s.channel("somebody")
	s.do(ch.Confirm(false))
	const n = 1500
	var last *amqp.DeferredConfirmation
	for k := range n {
		c, err := ch.PublishWithDeferredConfirm(settings.Exchange, fmt.Sprintf("booking.%d", k), true, false,
			amqp.Publishing{
				Headers: amqp.Table{"deck": "upper"}, CorrelationId: "c", Type: "booking", MessageId: fmt.Sprint(k),
				Priority: 1, DeliveryMode: amqp.Persistent, Body: fmt.Append(nil, k),
			})
		s.do(err)
		last = c
	}
	if !last.Wait() {
		t.Fatal("not taken")
	}
	carrier := d.carriers[split.Blue]
	s.do(carrier.Empty(t.Context()))
	if moved := carrier.Moved(); moved != n {
		t.Errorf("%d moved", moved)
	}
	come, err := ch.Consume(settings.Queues[split.Green], "", true, false, false, false, nil)
	s.do(err)
	for k := range n {
		m := <-come
		if string(m.Body) != fmt.Sprint(k) || m.RoutingKey != fmt.Sprintf("booking.%d", k) ||
			m.Headers["deck"] != "upper" || m.Type != "booking" || m.CorrelationId != "c" || m.Priority != 1 ||
			m.DeliveryMode != amqp.Persistent {
			t.Fatalf("message %d came as %+v", k, m)
		}
	}
	if ready, _, err := d.broker.Now(t.Context(), settings.Queues[split.Blue]); err != nil || ready != 0 {
		t.Errorf("%d are left, %v", ready, err)
	}
	_, err = ch.QueueDeclare("vaiven.carries."+settings.Queues[split.Blue], false, true, true, false, nil)
	s.do(err)
	if err := d.carriers[split.Blue].Empty(t.Context()); !errors.Is(err, front.ErrRefused) &&
		(err == nil || !strings.Contains(err.Error(), "somebody else carries")) {
		t.Errorf("beside somebody else: %v", err)
	}
}

// Whoever is frozen in the middle of a change lets go of the lock, and what it does later does not last.
func TestAFrozenHolderLetsGo(t *testing.T) {
	s := start(t)
	settings := s.settings()
	d := s.prepared(settings)
	unlock, err := d.broker.Lock(t.Context(), d.names.lock)
	s.do(err)
	testkit.Eventually(t, "the lock is taken", func() bool { // a busy broker may not answer at all in that time
		limited, cancel := context.WithTimeout(t.Context(), 3*time.Second)
		defer cancel()
		_, err := d.broker.Lock(limited, d.names.lock)
		if err == nil {
			t.Fatal("two have the lock")
		}
		return strings.Contains(err.Error(), "somebody else has it")
	})
	if done, err := s.driver(settings).Home(t.Context(), front.Homing{Side: split.Blue}); err != nil ||
		done.Share != 0 {
		t.Errorf("home waits for a lock: %+v, %v", done, err)
	}
	s.cut("vaiven " + d.names.lock)
	again, err := d.broker.Lock(t.Context(), d.names.lock)
	s.do(err)
	again()
	unlock()
}

// What is noted at the broker is damaged by somebody: instances are told anew, a damaged order is said, and going
// home writes another one.
func TestDamagedNotes(t *testing.T) {
	f, d := ferries(t, nil)
	defer f.leave()
	ch := f.channel("somebody else")
	damage := func(kind string) {
		t.Helper()
		s, err := d.look(t.Context())
		f.do(err)
		for _, b := range s.notes {
			if b.Key == kind {
				f.do(ch.ExchangeUnbind(b.Destination, b.Key, b.Source, false, amqp.Table(b.Arguments)))
			}
		}
		f.do(ch.ExchangeBind(d.names.notes, kind, d.names.notes, false, amqp.Table{noteIn: "{\"generation"}))
	}
	damage("green")
	if r, err := d.Read(t.Context()); err != nil || len(r.Sides[split.Green].Instances) != 0 ||
		len(r.Sides[split.Blue].Instances) != 2 {
		t.Errorf("with damaged instances: %+v, %v", r.Sides, err)
	}
	if err := d.SetInstances(t.Context(), split.Green,
		[]reading.Server{{Name: "green-1", Address: "10.1.1.1:80", Version: "4.3.0"}}); err != nil {
		t.Error(err)
	}
	if r, err := f.driver(f.settings).Read(t.Context()); err != nil || len(r.Sides[split.Green].Instances) != 1 {
		t.Errorf("told anew: %+v, %v", r.Sides, err)
	}
	damage(orderNote)
	if _, err := d.Read(t.Context()); !errors.Is(err, front.ErrRefused) || !strings.Contains(err.Error(), "go home") {
		t.Errorf("with a damaged order: %v", err)
	}
	if done, err := f.driver(f.settings).Home(t.Context(), front.Homing{Side: split.Blue, By: "marit"}); err != nil ||
		done.Share != 0 || done.Order.By != "marit" {
		t.Errorf("home over a damaged order: %+v, %v", done, err)
	}
	if r, err := d.Read(t.Context()); err != nil || r.Order.By != "marit" {
		t.Errorf("afterwards: %+v, %v", r.Order, err)
	}
}
