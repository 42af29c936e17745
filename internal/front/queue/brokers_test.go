package queue

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	amqp "github.com/rabbitmq/amqp091-go"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/lab/fronttest"
	"vaiven/lab/testkit"
)

// What is in the way at a broker is told with what it is, before anything is made.
func TestWhatABrokerHasInTheWay(t *testing.T) {
	s := start(t)
	usual := s.settings()
	s.usual(usual)
	password := filepath.Join(t.TempDir(), "password")
	fronttest.Write(t, password, "harbour")
	s.do(s.ask(http.MethodPut, "users/clerk", map[string]string{"password": "harbour", "tags": "monitoring"}, nil))
	t.Cleanup(func() { _ = s.ask(http.MethodDelete, "users/clerk", nil, nil) })
	s.do(s.ask(http.MethodPut, "permissions/"+url.PathEscape(s.host)+"/clerk",
		map[string]string{"configure": "^$", "write": ".*", "read": ".*"}, nil))
	ch := s.channel("the team")
	_, err := ch.QueueDeclare("ledger", true, false, false, false, amqp.Table{"x-queue-type": "stream"})
	s.do(err)
	free, _ := testkit.Ports(t, 1)
	for what, c := range map[string]struct {
		change func(*Settings)
		is     error
		says   string
	}{
		"a stream": {func(of *Settings) { of.Queues[split.Blue] = "ledger" }, front.ErrRefused,
			"ledger is a stream"},
		"another host": {func(of *Settings) { of.Host = "elsewhere" }, front.ErrRefused, "vhost elsewhere not found"},
		"no rights": {func(of *Settings) { of.User, of.Password = "clerk", password }, front.ErrRefused,
			"refused for user 'clerk'"},
		"another password": {func(of *Settings) { of.User, of.Password = "clerk", filepath.Join(os.DevNull) },
			front.ErrRefused, "clerk"},
		"no management interface": {func(of *Settings) { of.Management = "http://" + fronttest.Address(free) },
			front.ErrUnreachable, "connection refused"},
	} {
		t.Run(what, func(t *testing.T) {
			settings := *usual
			c.change(&settings)
			d := s.driver(&settings)
			if made, err := d.Prepare(t.Context(), front.Known{}); !errors.Is(err, c.is) || made ||
				!strings.Contains(err.Error(), c.says) {
				t.Errorf("made %v, %v", made, err)
			}
		})
	}
	var list []struct{ Name string }
	s.do(s.ask(http.MethodGet, "exchanges/"+url.PathEscape(s.host), nil, &list))
	for _, x := range list {
		if strings.HasPrefix(x.Name, "vaiven") {
			t.Errorf("%s was made all the same", x.Name)
		}
	}
}

// A policy of somebody's and messages with a time to live of their own are what they were, on both sides and when they
// are carried.
func TestPoliciesAndTimesToLiveOfOthers(t *testing.T) {
	s := start(t)
	settings := s.settings()
	settings.Backlog = Carry
	s.usual(settings)
	s.do(s.ask(http.MethodPut, "policies/"+url.PathEscape(s.host)+"/theirs", map[string]any{
		"pattern": "^bookings$", "apply-to": "queues", "priority": 7, "definition": map[string]any{"max-length": 400},
	}, nil))
	d := s.driver(settings)
	if made, err := d.Prepare(t.Context(), front.Known{}); err != nil || !made {
		t.Fatalf("made %v, %v", made, err)
	}
	testkit.Until(t, "both queues are alike", func() error {
		list, err := d.unlike(t.Context())
		if err == nil && len(list) > 0 {
			err = fmt.Errorf("%q", list)
		}
		return err
	})
	ch := s.channel("somebody")
	s.do(ch.Confirm(false))
	publish := func(text, expires string) {
		t.Helper()
		c, err := ch.PublishWithDeferredConfirm(settings.Exchange, "booking.made", true, false,
			amqp.Publishing{Expiration: expires, DeliveryMode: amqp.Persistent, Body: []byte(text)})
		s.do(err)
		if !c.Wait() {
			t.Fatal("not taken")
		}
	}
	publish("short", "1")
	publish("long", "3600000")
	publish("ever", "")
	s.do(d.carriers[split.Blue].Empty(t.Context()))
	come, err := ch.Consume(settings.Queues[split.Green], "", true, false, false, false, nil)
	s.do(err)
	var got []string
	for len(got) == 0 || !strings.HasPrefix(got[len(got)-1], "ever") {
		select {
		case m := <-come:
			got = append(got, string(m.Body)+m.Expiration)
		case <-time.After(20 * time.Second):
			t.Fatalf("came %q", got)
		}
	}
	if want := []string{"long3600000", "ever"}; !slices.Equal(got[max(0, len(got)-2):], want) {
		t.Errorf("came %q, want %q", got, want)
	}
	dead, _, err := ch.Get(settings.Dead[split.Blue], true)
	if err == nil && len(got) == 2 && string(dead.Body) != "short" {
		t.Errorf("of what expired in time %q is among the dead", dead.Body)
	}
}
