package source

import (
	"context"
	"fmt"
	"hash/fnv"
	"io"
	"net/http"
	"regexp"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
	"vaiven/internal/world/trust"
)

// Subject is whom a question is about.
type Subject struct {
	Side      split.Side
	Version   string
	Instances []string  // their addresses
	Control   bool      // they are of a control group
	Started   time.Time // when the last of them was: what counts began anew then
}

// values are what the placeholders of a query stand for, written as a language wants it between quotes.
func (s Subject) values(service string, written func(string) string) map[string]string {
	list := []string{"nobody"} // an empty expression would fit what has no such label
	for n, address := range s.Instances {
		list = append(list[:n], regexp.QuoteMeta(address))
	}
	control := "no"
	if s.Control {
		control = "yes"
	}
	values := map[string]string{"side": s.Side.String(), "version": s.Version, "instances": strings.Join(list, "|"),
		"control": control, "service": service}
	for name, value := range values {
		values[name] = written(value)
	}
	return values
}

// Sources asks the sources of a plan. Many may use it at the same time.
type Sources struct {
	service string
	plan    plan.Sources
	secrets secret.Values
	clients [2]client // of Prometheus and Alertmanager
}

// New makes them. Nothing is asked yet.
func New(p *plan.Plan, secrets secret.Values) *Sources {
	return &Sources{service: p.Service, plan: p.Sources, secrets: secrets, clients: [2]client{
		{server: p.Sources.Prometheus, secrets: secrets}, {server: p.Sources.Alertmanager, secrets: secrets}}}
}

// Prometheus and Alertmanager among the clients.
const (
	prometheus = iota
	alertmanager
)

// Read asks for what a guard is on, of several sides at one moment. It never fails: why something is not told is part
// of the reading. The reading's moment is by the clock of this machine.
func (s *Sources) Read(ctx context.Context, rule plan.Guard, of []Subject) reading.Figures {
	var r reading.Figures
	switch server := s.plan.Of(rule); {
	case rule.Watch == plan.Alert:
		r = s.alerts(ctx, rule, of[0])
	case rule.Figure.From == plan.FromPrometheus:
		r = s.measured(ctx, rule, of)
	default:
		r = s.each(ctx, rule, of, server.Within)
	}
	r.Guard = rule.Name
	r.Failed = s.secrets.HideCut(r.Failed)
	for n := range r.Of {
		r.Of[n].Said = s.secrets.HideCut(r.Of[n].Said)
	}
	return r
}

// each asks a database or a command about every side beside the other.
func (s *Sources) each(ctx context.Context, rule plan.Guard, of []Subject, within time.Duration) reading.Figures {
	r := reading.Figures{At: time.Now(), Of: make([]reading.Told, len(of))}
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	var all sync.WaitGroup
	for n, subject := range of {
		all.Go(func() {
			numbers, err := []float64(nil), error(nil)
			if rule.Figure.From == plan.FromSQL {
				numbers, err = s.sql(ctx, rule, subject)
			} else {
				numbers, err = s.command(ctx, rule, subject)
			}
			r.Of[n] = told(rule, subject, subject.named(""), numbers, err)
		})
	}
	all.Wait()
	return r
}

// named is what the figures of a subject are called, in two words: what they are of, "" for the side, and whom it
// consists of, so that what is told of others is another's.
func (s Subject) named(of string) string {
	h := fnv.New32a()
	for _, address := range s.Instances {
		_, _ = h.Write([]byte(address + "\n"))
	}
	if of == "" {
		of = s.Side.String()
	}
	return fmt.Sprintf("%s %v/%x", of, s.Side, h.Sum32())
}

// told is what somebody told of a side, in one number or, of a rate, in two.
func told(rule plan.Guard, of Subject, name string, numbers []float64, err error) reading.Told {
	t := reading.Told{Name: name, Side: of.Side, Started: of.Started}
	figure := rule.Figure.String()
	want := 1
	if rule.Watch == plan.Rate {
		want = 2
	}
	switch {
	case err != nil:
		t.Said = err.Error()
	case len(numbers) != want && want == 2:
		t.Said = fmt.Sprintf("%d numbers in place of two: how many are bad, and of how many", len(numbers))
	case len(numbers) != want:
		t.Said = fmt.Sprintf("%d numbers in place of one", len(numbers))
	default:
		t.Values = map[string]float64{figure: numbers[0]}
		if want == 2 {
			t.Of = map[string]float64{figure: numbers[1]}
		}
	}
	return t
}

// most is how many bytes of an answer are read.
const most = 8 << 20

// client asks one server over HTTP.
type client struct {
	server  plan.Server
	secrets secret.Values
	once    sync.Mutex
	over    http.RoundTripper
}

// RoundTrip asks with whoever we are, follows nowhere, and reads no more of an answer than there is any use of. It
// makes a client an [http.RoundTripper].
func (c *client) RoundTrip(r *http.Request) (*http.Response, error) {
	over, err := c.transport(r.Context())
	if err != nil {
		return nil, err
	}
	r = r.Clone(r.Context())
	switch s := c.server; {
	case s.Token != "":
		r.Header.Set("Authorization", "Bearer "+c.secrets.Fill(s.Token, nil, nil))
	case s.User != "":
		r.SetBasicAuth(s.User, c.secrets.Fill(s.Password, nil, nil))
	}
	w, err := over.RoundTrip(r)
	if err == nil && w.StatusCode >= 300 && w.StatusCode < 400 { // it would get to know who we are
		_ = w.Body.Close()
		return nil, refused(w.StatusCode)
	}
	if err == nil {
		w.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(w.Body, most), w.Body}
	}
	return w, err
}

// transport is the connections to the server, with its files read when they were last of use.
func (c *client) transport(ctx context.Context) (http.RoundTripper, error) {
	c.once.Lock()
	defer c.once.Unlock()
	if c.over != nil {
		return c.over, nil
	}
	config, err := trust.Files{CA: c.server.Trust.CA}.Config(ctx, place.Local{}, c.server.Trust.Name)
	if err != nil {
		return nil, err
	}
	c.over = &http.Transport{TLSClientConfig: config, MaxConnsPerHost: 8, IdleConnTimeout: time.Minute,
		Proxy: http.ProxyFromEnvironment}
	return c.over, nil
}

// refused is what a server's answer means that is none.
func refused(status int) error {
	switch {
	case status == http.StatusUnauthorized, status == http.StatusForbidden:
		return fmt.Errorf("it refuses us (status %d): look at user, password and token", status)
	case status >= 300 && status < 400:
		return fmt.Errorf("it sends us elsewhere (status %d): name that in the plan", status)
	}
	return fmt.Errorf("status %d", status)
}
