package broker

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"vaiven/internal/world/place"
)

// admin is the management interface.
type admin struct {
	config Config
	login  *login
	client *http.Client
}

func newAdmin(on place.Machine, c Config, l *login) *admin {
	secure := func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := on.Dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return l.secure(ctx, conn, address)
	}
	t := &http.Transport{DialContext: on.Dial, DialTLSContext: secure, MaxIdleConnsPerHost: 16}
	return &admin{config: c, login: l, client: &http.Client{Transport: t, Timeout: dialLimit}}
}

// answerLimit bounds an answer, bytes.
const answerLimit = 64 << 20

// ask sends a request and reads its answer, if there is to be one.
func (a *admin) ask(ctx context.Context, method, path string, body, into any) error {
	user, password, err := a.login.credentials(ctx)
	if err != nil {
		return err
	}
	var text []byte
	if body != nil {
		if text, err = json.Marshal(body); err != nil {
			return err
		}
	}
	r, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(a.config.Management, "/")+"/api/"+path,
		bytes.NewReader(text))
	if err != nil {
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	r.SetBasicAuth(user, password)
	r.Header.Set("Content-Type", "application/json")
	w, err := a.client.Do(r)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrUnreachable, unwrapped(err))
	}
	defer w.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(w.Body, answerLimit))
	if w.StatusCode == http.StatusUnauthorized {
		a.login.refused()
	}
	switch {
	case err != nil:
		return fmt.Errorf("%w: %s: %w", ErrUnreachable, path, err)
	case w.StatusCode == http.StatusNotFound:
		return fmt.Errorf("%w: %s", ErrMissing, path)
	case w.StatusCode == http.StatusUnauthorized || w.StatusCode == http.StatusForbidden:
		return fmt.Errorf("%w: %s: %s may not: %s", ErrRefused, path, user, reason(answer))
	case w.StatusCode >= http.StatusInternalServerError:
		return fmt.Errorf("%w: %s: %s: %s", ErrUnreachable, path, w.Status, reason(answer))
	case w.StatusCode >= http.StatusBadRequest:
		return fmt.Errorf("%w: %s: %s: %s", ErrRefused, path, w.Status, reason(answer))
	case into == nil:
		return nil
	}
	if err := json.Unmarshal(answer, into); err != nil {
		return fmt.Errorf("%w: %s: %w", ErrUnreachable, path, err)
	}
	return nil
}

// unwrapped is an error of a request without its URL.
func unwrapped(err error) error {
	var of *url.Error
	if errors.As(err, &of) {
		return of.Err
	}
	return err
}

// reason is what an answer gives as one.
func reason(answer []byte) string {
	var said struct{ Error, Reason string }
	if json.Unmarshal(answer, &said) == nil && said.Reason+said.Error != "" {
		return strings.TrimSpace(said.Error + " " + said.Reason)
	}
	return fmt.Sprintf("%.120q", answer)
}

// path is the names of something in the virtual host.
func (a *admin) path(of string, names ...string) string {
	list := []string{of, url.PathEscape(a.config.Host)}
	for _, name := range names {
		list = append(list, url.PathEscape(name))
	}
	return strings.Join(list, "/")
}

// Counted is what was counted of messages since the broker knows. RabbitMQ 3.10 misses some acknowledgements (37 of
// 47,971 in a run where all were acknowledged), and the first time that messages were given out to a consumer which
// ended at that moment.
type Counted struct {
	Published   int64 `json:"publish"`
	Delivered   int64 `json:"deliver_get"`    // to consumers and to those who ask, each time that a message was
	Redelivered int64 `json:"redeliver"`      // of them, not for the first time
	Acked       int64 `json:"ack"`            // by consumers and by those who ask
	Unasked     int64 `json:"deliver_no_ack"` // of those given out, to consumers that acknowledge nothing
}

// Done is how many messages whoever took them is done with.
func (c Counted) Done() int64 { return c.Acked + c.Unasked }

// Plus is both together.
func (c Counted) Plus(o Counted) Counted {
	return Counted{Published: c.Published + o.Published, Delivered: c.Delivered + o.Delivered,
		Redelivered: c.Redelivered + o.Redelivered, Acked: c.Acked + o.Acked, Unasked: c.Unasked + o.Unasked}
}

// Out is how many messages have been given out at least, each once.
func (c Counted) Out() int64 { return c.Delivered - c.Redelivered }

// Queue is a queue as the management interface knows it; its numbers lag behind by as long as the broker gathers them.
type Queue struct {
	Name      string         `json:"name"`
	Type      string         `json:"type"` // "classic", "quorum" or "stream"
	Durable   bool           `json:"durable"`
	Arguments map[string]any `json:"arguments"`
	Effective map[string]any `json:"effective_policy_definition"`
	Ready     int64          `json:"messages_ready"`
	Unacked   int64          `json:"messages_unacknowledged"`
	Counted   Counted        `json:"message_stats"`
	Consumers []Consumer     `json:"consumer_details"`
	Backing   struct {
		Next json.RawMessage `json:"next_seq_id"`
	} `json:"backing_queue_status"`
}

// Came is how many messages have ever come into the queue since it was started, by whatever way, where the broker
// tells: dead letters are in no other count. It is 0 where it does not.
func (q Queue) Came() int64 {
	n, _ := strconv.ParseInt(string(q.Backing.Next), 10, 64)
	return n
}

// Consumer is one of a queue.
type Consumer struct {
	Tag     string  `json:"consumer_tag"`
	Channel Channel `json:"channel_details"`
}

// Channel is where a consumer is. It is empty where the broker does not know of it yet, or no longer.
type Channel struct {
	Name       string `json:"name"`
	Connection string `json:"connection_name"`
}

// UnmarshalJSON reads what the broker tells, which is an empty list where it knows nothing.
func (c *Channel) UnmarshalJSON(text []byte) error {
	type channel Channel
	if bytes.HasPrefix(text, []byte("[")) {
		*c = Channel{}
		return nil
	}
	return json.Unmarshal(text, (*channel)(c))
}

// Queue reads one.
func (c *Client) Queue(ctx context.Context, name string) (Queue, error) {
	var q Queue
	err := c.admin.ask(ctx, http.MethodGet, c.admin.path("queues", name), nil, &q)
	return q, err
}

// TypeOf is the type and the arguments of an exchange.
func (c *Client) TypeOf(ctx context.Context, exchange string) (kind string, arguments map[string]any, err error) {
	var x struct {
		Type      string         `json:"type"`
		Arguments map[string]any `json:"arguments"`
	}
	err = c.admin.ask(ctx, http.MethodGet, c.admin.path("exchanges", exchange), nil, &x)
	return x.Type, x.Arguments, err
}

// From are the bindings that lead away from an exchange.
func (c *Client) From(ctx context.Context, exchange string) ([]Binding, error) {
	var list []Binding
	err := c.admin.ask(ctx, http.MethodGet, c.admin.path("exchanges", exchange)+"/bindings/source", nil, &list)
	return list, err
}

// Into are the bindings that lead to a queue, but that of its own name, which all have.
func (c *Client) Into(ctx context.Context, queue string) ([]Binding, error) {
	var all, list []Binding
	err := c.admin.ask(ctx, http.MethodGet, c.admin.path("queues", queue)+"/bindings", nil, &all)
	for _, b := range all {
		if b.Source != "" {
			list = append(list, b)
		}
	}
	return list, err
}

// Types are those of exchanges that the broker has.
func (c *Client) Types(ctx context.Context) ([]string, error) {
	var o struct {
		Types []struct {
			Name string `json:"name"`
		} `json:"exchange_types"`
	}
	err := c.admin.ask(ctx, http.MethodGet, "overview", nil, &o)
	var list []string
	for _, t := range o.Types {
		list = append(list, t.Name)
	}
	return list, err
}

// Alarms are why publishers are kept from publishing just now; none if they are not.
func (c *Client) Alarms(ctx context.Context) ([]string, error) {
	var nodes []struct {
		Name   string `json:"name"`
		Memory bool   `json:"mem_alarm"`
		Disk   bool   `json:"disk_free_alarm"`
	}
	err := c.admin.ask(ctx, http.MethodGet, "nodes?columns=name,mem_alarm,disk_free_alarm", nil, &nodes)
	var list []string
	for _, n := range nodes {
		if n.Memory {
			list = append(list, "the memory of "+n.Name)
		}
		if n.Disk {
			list = append(list, "the disk of "+n.Name)
		}
	}
	return list, err
}

// Names are what those who have connections call themselves, by connection.
func (c *Client) Names(ctx context.Context) (map[string]string, error) {
	var list []struct {
		Name   string `json:"name"`
		Called string `json:"user_provided_name"`
	}
	err := c.admin.ask(ctx, http.MethodGet, c.admin.path("vhosts")+"/connections?columns=name,user_provided_name", nil,
		&list)
	names := map[string]string{}
	for _, n := range list {
		names[n.Name] = n.Called
	}
	return names, err
}

// Worked is what was counted on a channel, and how many messages it has that are not acknowledged.
type Worked struct {
	Counted Counted `json:"message_stats"`
	Unacked int64   `json:"messages_unacknowledged"`
}

// Channels are what was counted on each channel, as long as it is there.
func (c *Client) Channels(ctx context.Context) (map[string]Worked, error) {
	var list []struct {
		Name string `json:"name"`
		Worked
	}
	err := c.admin.ask(ctx, http.MethodGet, c.admin.path("vhosts")+
		"/channels?columns=name,message_stats,messages_unacknowledged", nil, &list)
	channels := map[string]Worked{}
	for _, l := range list {
		channels[l.Name] = l.Worked
	}
	return channels, err
}

// Policy is one of a virtual host.
type Policy struct {
	Name       string         `json:"name"`
	Pattern    string         `json:"pattern"`
	Apply      string         `json:"apply-to"`
	Priority   int            `json:"priority"`
	Definition map[string]any `json:"definition"`
}

// Link has the broker itself carry the messages of a queue to an exchange of another broker, or of itself, from now
// on, whoever else is there: a dynamic shovel, where that plugin is enabled. A link of the same name that is there is
// made this one.
func (c *Client) Link(ctx context.Context, name, queue string, to *Client, exchange string) error {
	user, password, err := to.login.credentials(ctx)
	if err != nil {
		return err
	}
	there := url.URL{Scheme: "amqp", User: url.UserPassword(user, password), Host: to.config.Address,
		Path: "/" + to.config.Host, RawPath: "/" + url.PathEscape(to.config.Host)}
	if to.config.TLS.On {
		there.Scheme = "amqps"
	}
	err = c.admin.ask(ctx, http.MethodPut, c.admin.path("parameters/shovel", name),
		map[string]any{"value": map[string]any{
			"src-protocol": "amqp091", "src-uri": "amqp:///" + url.PathEscape(c.config.Host), "src-queue": queue,
			"src-prefetch-count": carryBatch,
			"dest-protocol":      "amqp091", "dest-uri": there.String(), "dest-exchange": exchange,
			"ack-mode":        "on-confirm",
			"reconnect-delay": 1,
		}}, nil)
	if err != nil {
		return fmt.Errorf("have the broker carry what is in %s (rabbitmq-plugins enable rabbitmq_shovel): %w", queue,
			err)
	}
	return nil
}

// Unlink ends a link; one that is not there is as good.
func (c *Client) Unlink(ctx context.Context, name string) error {
	err := c.admin.ask(ctx, http.MethodDelete, c.admin.path("parameters/shovel", name), nil, nil)
	if errors.Is(err, ErrMissing) {
		return nil
	}
	return err
}

// SetPolicy puts one in force.
func (c *Client) SetPolicy(ctx context.Context, p Policy) error {
	return c.admin.ask(ctx, http.MethodPut, c.admin.path("policies", p.Name), p, nil)
}
