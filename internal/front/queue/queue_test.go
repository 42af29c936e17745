package queue

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	amqp "github.com/rabbitmq/amqp091-go"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/world/broker"
	"vaiven/internal/world/place"
	"vaiven/lab/fronttest"
	"vaiven/lab/testkit"
)

// node is a broker for many tests: it takes seconds to start. Each test has a virtual host of its own.
type node struct {
	sync.Mutex
	*fronttest.Program
	port   int
	folder string
	hosts  int

	harbour *testkit.Certified // its authority
}

// one is the broker of all tests of this package, and two is beside it where another one is needed.
var one, two node

func TestMain(m *testing.M) {
	code := m.Run()
	for _, n := range []*node{&one, &two} {
		if n.Program != nil {
			n.Kill()
			_ = os.RemoveAll(n.folder)
		}
	}
	os.Exit(code)
}

// certified is the name that a broker's certificate is for.
const certified = "broker.lineavessa.example"

// secureText has it be spoken to over TLS as well, by whoever has a certificate of the same authority.
const secureText = `listeners.ssl.1 = (amqps)
ssl_options.cacertfile = (authority)
ssl_options.certfile = (certificate)
ssl_options.keyfile = (key)
ssl_options.verify = verify_peer
ssl_options.fail_if_no_peer_cert = true
management.ssl.ip = 127.0.0.1
management.ssl.port = (https)
management.ssl.cacertfile = (authority)
management.ssl.certfile = (certificate)
management.ssl.keyfile = (key)
`

// started is a virtual host with nothing in it, at a broker that runs.
type started struct {
	t      *testing.T
	listen string
	admin  string
	host   string
	quorum bool // blue's queue is of that type
}

// start makes a host at the broker, which it starts if it does not run.
func start(t *testing.T) *started { return one.start(t) }

func (one *node) start(t *testing.T) *started {
	t.Helper()
	fronttest.Need(t, "rabbitmqctl")
	one.Lock()
	defer one.Unlock()
	if one.folder == "" {
		port, _ := testkit.Ports(t, 6)
		folder, err := os.MkdirTemp("", "vaiven-broker-")
		if err != nil {
			t.Fatal(err)
		}
		one.port, one.folder = port, folder
	}
	s := &started{t: t, listen: fronttest.Address(one.port), admin: "http://" + fronttest.Address(one.port+1)}
	if one.Program == nil || one.Program.Ended() {
		c := config("tests", plan.Front{Listen: s.listen, Settings: &Settings{Management: s.admin}},
			front.Site{Folder: one.folder})
		one.harbour = testkit.Certify(t, one.folder, "Vessa Harbour", 1, nil)
		own := testkit.Certify(t, one.folder, certified, 2, one.harbour)
		fronttest.Write(t, c.File,
			c.Text+strings.NewReplacer("(amqps)", fronttest.Address(one.port+4), "(https)", fmt.Sprint(one.port+5),
				"(authority)", one.harbour.File, "(certificate)", own.File, "(key)", own.Key).Replace(secureText))
		for file, text := range c.Beside {
			fronttest.Write(t, file, text)
		}
		one.Program = fronttest.Shared(t, s.listen, filepath.Join(one.folder, "output"), "sh", c.Args...)
	}
	one.hosts++
	s.host = fmt.Sprintf("%d-%s", one.hosts, strings.Map(func(r rune) rune {
		if r == '/' || r == ' ' || r == '\'' {
			return '-'
		}
		return r
	}, t.Name()))
	testkit.Until(t, "a host at the broker",
		func() error { return s.ask(http.MethodPut, "vhosts/"+url.PathEscape(s.host), nil, nil) })
	t.Cleanup(func() { _ = s.ask(http.MethodDelete, "vhosts/"+url.PathEscape(s.host), nil, nil) })
	return s
}

// ask asks the management interface, as somebody else does.
func (s *started) ask(method, path string, body, into any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	r, err := http.NewRequest(method, s.admin+"/api/"+path, bytes.NewReader(text))
	if err != nil {
		return err
	}
	r.SetBasicAuth("guest", "guest")
	w, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer w.Body.Close()
	answer, _ := io.ReadAll(w.Body)
	if w.StatusCode >= 300 {
		return fmt.Errorf("%s %s: %s: %s", method, path, w.Status, answer)
	}
	if into != nil {
		return json.Unmarshal(answer, into)
	}
	return nil
}

// channel is one of somebody else's.
func (s *started) channel(called string) *amqp.Channel {
	s.t.Helper()
	properties := amqp.NewConnectionProperties()
	properties.SetClientConnectionName(called)
	conn, err := amqp.DialConfig("amqp://guest:guest@"+s.listen,
		amqp.Config{Vhost: s.host, Properties: properties, Heartbeat: 5 * time.Second})
	if err != nil {
		s.t.Fatal(err)
	}
	s.t.Cleanup(func() { _ = conn.CloseDeadline(time.Now().Add(time.Second)) })
	ch, err := conn.Channel()
	if err != nil {
		s.t.Fatal(err)
	}
	return ch
}

func (s *started) do(err error) {
	s.t.Helper()
	if err != nil {
		s.t.Fatal(err)
	}
}

// settings are those of a plan.
func (s *started) settings() *Settings {
	return &Settings{
		Host: s.host, Management: s.admin, Exchange: "bookings", Key: "booking.made",
		Queues: [2]string{"bookings", "bookings-next"},
		Dead:   [2]string{"bookings.dead", "bookings-next.dead"}, Shares: true, Backlog: Drain,
		Lag: 500 * time.Millisecond,
	}
}

func (s *started) driver(settings *Settings) *Driver {
	return New(place.Local{}, "bookings",
		plan.Front{Listen: s.listen, Key: plan.Key{From: plan.KeyRandom}, Settings: settings})
}

// prepared has what is usual and what Vaiven makes beside it.
func (s *started) prepared(settings *Settings) *Driver {
	s.t.Helper()
	s.usual(settings)
	d := s.driver(settings)
	if made, err := d.Prepare(s.t.Context(), front.Known{}); err != nil || !made {
		s.t.Fatalf("made %v, %v", made, err)
	}
	return d
}

// usual is what a team has before it has Vaiven: an exchange, a queue with dead letters, and a binding.
func (s *started) usual(settings *Settings) {
	s.t.Helper()
	ch := s.channel("the team")
	s.do(ch.ExchangeDeclare(settings.Exchange, "topic", true, false, false, false, nil))
	like := amqp.Table{"x-dead-letter-exchange": "", "x-dead-letter-routing-key": settings.Dead[split.Blue]}
	if s.quorum {
		like["x-queue-type"] = "quorum"
	} else {
		like["x-max-priority"] = 3
	}
	_, err := ch.QueueDeclare(settings.Queues[split.Blue], true, false, false, false, like)
	s.do(err)
	_, err = ch.QueueDeclare(settings.Dead[split.Blue], true, false, false, false, nil)
	s.do(err)
	s.do(ch.QueueBind(settings.Queues[split.Blue], "booking.#", settings.Exchange, false, nil))
}

// printer takes messages from a side's queue and has an instance of the suite do the work.
func (s *started) printer(i *fronttest.Instance, queue string) {
	s.t.Helper()
	ch := s.channel(i.Name)
	s.do(ch.Qos(20, 0, false))
	come, err := ch.Consume(queue, i.Name, false, false, false, false, nil)
	s.do(err)
	go func() {
		var answering sync.Mutex // a channel is one goroutine's
		for d := range come {
			go func() {
				r, err := http.NewRequest(http.MethodGet, "http://"+i.Address+fmt.Sprint(d.Headers[broker.PathHeader]),
					nil)
				if err != nil {
					return
				}
				w, err := http.DefaultClient.Do(r)
				if err != nil {
					return // and the message is another's when this channel has ended
				}
				defer w.Body.Close()
				body, err := io.ReadAll(w.Body)
				headers := amqp.Table{}
				for name := range w.Header {
					headers[name] = w.Header.Get(name)
				}
				answering.Lock()
				defer answering.Unlock()
				if err == nil && ch.Publish("", d.ReplyTo, false, false,
					amqp.Publishing{CorrelationId: d.CorrelationId, Headers: headers, Body: body}) == nil {
					_ = d.Ack(false)
				}
			}()
		}
	}()
}

// gate is where the suite's requests become messages.
func (s *started) gate(t *testing.T, w *fronttest.World, settings *Settings) {
	t.Helper()
	asks := broker.New(place.Local{}, settings.config(s.listen)).Asker(settings.Exchange, settings.Key,
		front.InstanceHeader)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/early" { // nobody is to take it yet, and it waits: whoever asks gives up
			ctx, cancel := context.WithTimeout(r.Context(), 50*time.Millisecond)
			defer cancel()
			r = r.WithContext(ctx)
		}
		answer, err := asks.RoundTrip(r)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		defer answer.Body.Close()
		for name := range answer.Header {
			w.Header().Set(name, answer.Header.Get(name))
		}
		w.WriteHeader(answer.StatusCode)
		_, _ = io.Copy(w, answer.Body)
	}))
	t.Cleanup(func() {
		server.CloseClientConnections()
		server.Close()
		asks.Close()
	})
	w.Listen = strings.TrimPrefix(server.URL, "http://")
}

func TestConformance(t *testing.T) {
	fronttest.Run(t, fronttest.System{
		Shared: true, // one broker, and there are rules that end it
		Lacks: []fronttest.Ability{
			fronttest.Ends, fronttest.Exact, fronttest.Warns, fronttest.Reloads, fronttest.Disk, fronttest.Checker,
			fronttest.Door, fronttest.Chooses, fronttest.Divides,
		},
		Open: func(t *testing.T, w *fronttest.World) fronttest.Proxy {
			s := start(t)
			settings := s.settings()
			s.prepared(settings)
			for _, i := range w.All() {
				s.printer(i, settings.Queues[i.Side])
			}
			w.Raised = func(i *fronttest.Instance) { s.printer(i, settings.Queues[i.Side]) }
			s.gate(t, w, settings)
			return fronttest.Proxy{
				Driver: func() front.Driver { return s.driver(settings) },
				Foreign: func(t *testing.T, share split.Share) {
					weight, _ := greenWeight(share)
					now, err := s.driver(settings).look(t.Context())
					s.do(err)
					ch := s.channel("somebody else")
					s.do(ch.QueueBind(settings.Queues[split.Blue], strconv.Itoa(blueWeight), "vaiven.bookings.mix",
						false, nil))
					for _, key := range now.weights[split.Green] {
						s.do(ch.QueueUnbind(settings.Queues[split.Green], key, "vaiven.bookings.mix", nil))
					}
					s.do(ch.QueueBind(settings.Queues[split.Green], strconv.FormatInt(weight, 10),
						"vaiven.bookings.mix", false, nil))
					s.do(ch.QueueUnbind(settings.Queues[split.Green], "", "vaiven.bookings.next", nil))
					s.do(ch.QueueUnbind(settings.Queues[split.Blue], "", "vaiven.bookings", nil))
				},
				Kill: func(*testing.T) { one.Kill() },
			}
		},
	})
}

// A count that is told every few seconds has a rate in between, whatever another one of the same queue does.
func TestPace(t *testing.T) {
	var p pace
	at := time.Date(2026, 11, 23, 21, 4, 0, 0, time.UTC)
	var rates []float64
	for n := range 40 { // a reading each half second, of a broker that counts every five
		seconds := n / 10 * 5
		if n > 20 {
			seconds = 10 // and nobody takes any more
		}
		rates = append(rates, p.of(int64(40*seconds), at.Add(time.Duration(n)*time.Second/2), 5*time.Second))
	}
	for n, want := range map[int]float64{10: 40, 15: 40, 20: 40, 30: 40, 31: 0, 39: 0} {
		if rates[n] != want {
			t.Errorf("after %d readings it is %v a second, want %v: %v", n, rates[n], want, rates)
		}
	}
}
