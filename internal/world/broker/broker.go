package broker

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	amqp "github.com/rabbitmq/amqp091-go"

	"vaiven/internal/world/place"
)

// Errors that callers branch on.
var (
	// ErrUnreachable is wrapped when the broker does not answer, or does not let us in.
	ErrUnreachable = errors.New("the broker does not answer")
	// ErrMissing is wrapped when something is not there.
	ErrMissing = errors.New("not there")
	// ErrRefused is wrapped when the broker will not do what was asked.
	ErrRefused = errors.New("the broker refuses")
)

// Config says where a broker is.
type Config struct {
	Address    string // host:port, of AMQP
	Management string // URL of the management interface
	Host       string // virtual host; "" for /
	User       string // "" for guest
	Password   string // file whose first line it is; "" for guest
	TLS        TLS    // of AMQP, and of a management interface that is https
}

// Client asks a broker and changes it. Connections are made when they are needed, and made again when they
// have ended. It is safe for concurrent use.
type Client struct {
	on     place.Machine
	config Config
	login  *login
	admin  *admin

	mu   sync.Mutex // protects kept
	kept *amqp.Connection
}

// login is the user's name and password, and whom we trust. Files are read once, and again when they were of no use:
// a disk that hangs later holds up nobody.
type login struct {
	on     place.Place // where the files are
	config Config

	mu       sync.Mutex // protects what follows
	password remembered[string]
	trust    remembered[*tls.Config]
}

// remembered is what stands in files, as it was read last.
type remembered[T any] struct {
	value  T
	known  bool
	doubts bool // it was of no use: the files may say something else now
}

// againWithin is how long files are waited for that were read before.
const againWithin = time.Second

// get is what stands there, which is read where it is not known. What was read before does where it cannot be read
// again.
func (r *remembered[T]) get(ctx context.Context, read func(context.Context) (T, error)) (T, error) {
	if r.known && !r.doubts {
		return r.value, nil
	}
	if r.known {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, againWithin)
		defer cancel()
	}
	value, err := read(ctx)
	switch {
	case err == nil:
		r.value, r.known = value, true
	case !r.known:
		return value, err
	}
	r.doubts = false
	return r.value, nil
}

// New makes a client that asks from a machine. Nothing is asked yet.
func New(on place.Machine, c Config) *Client {
	if c.Host == "" {
		c.Host = "/"
	}
	l := &login{on: on, config: c}
	return &Client{on: on, config: c, login: l, admin: newAdmin(on, c, l)}
}

// credentials are the user's.
func (l *login) credentials(ctx context.Context) (user, password string, err error) {
	if user = l.config.User; user == "" {
		user = "guest"
	}
	if l.config.Password == "" {
		return user, "guest", nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	password, err = l.password.get(ctx, func(ctx context.Context) (string, error) {
		text, err := l.on.ReadFile(ctx, l.config.Password)
		if err != nil {
			return "", fmt.Errorf("%w: the password: %w", ErrUnreachable, err)
		}
		line, _, _ := strings.Cut(strings.TrimSuffix(string(text), "\n"), "\n")
		return line, nil
	})
	return user, password, err
}

// refused has the files be read again.
func (l *login) refused() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.password.doubts, l.trust.doubts = true, true
}

// heartbeat is how often both ends say that they are there: whoever is frozen has let go of what it holds after three.
const heartbeat = 5 * time.Second

// dial makes a connection, which is called something at the broker.
func (c *Client) dial(ctx context.Context, called string) (*amqp.Connection, error) {
	user, password, err := c.login.credentials(ctx)
	if err != nil {
		return nil, err
	}
	properties := amqp.NewConnectionProperties()
	properties.SetClientConnectionName(called)
	conn, err := place.Within(ctx, func() (*amqp.Connection, error) {
		return amqp.DialConfig("amqp://"+c.config.Address, amqp.Config{
			SASL: []amqp.Authentication{&amqp.PlainAuth{Username: user, Password: password}}, Vhost: c.config.Host,
			Heartbeat: heartbeat, Properties: properties,
			Dial: func(network, address string) (net.Conn, error) {
				conn, err := c.on.Dial(ctx, network, address)
				if err != nil {
					return nil, err
				}
				if err := conn.SetDeadline(time.Now().Add(dialLimit)); err != nil || !c.config.TLS.On {
					return conn, err // the library takes it off once it is in
				}
				return c.login.secure(ctx, conn, address)
			},
		})
	}, end)
	if errors.Is(err, amqp.ErrCredentials) {
		c.login.refused()
	}
	var said *amqp.Error
	switch {
	case errors.As(err, &said) && said.Code == amqp.NotAllowed:
		return nil, fmt.Errorf("%w to let %s into the virtual host %q: %s", ErrRefused, user, c.config.Host, said.Reason)
	case err != nil:
		return nil, fmt.Errorf("%w at %s: %w", ErrUnreachable, c.config.Address, err)
	}
	return conn, nil
}

// dialLimit is how long a broker may take to let somebody in.
const dialLimit = 5 * time.Second

// end ends a connection, with a word where that goes quickly.
func end(conn *amqp.Connection) { _ = conn.CloseDeadline(time.Now().Add(patience)) }

// Act is something that is done over a channel of its own.
type Act func(*amqp.Channel) error

// patience is how long a connection that was kept is given to answer before another one is made: it may have been cut
// without a word.
const patience = time.Second

// tries is how often something is done over another connection when one has ended under it.
const tries = 3

// others is how often others, who share the connection, may give it up under somebody before that counts as a try.
const others = 10

// Do does acts, one after the other, over the connection that is kept. They may be done twice, when it was not
// answered in time: an act has to come to the same then.
func (c *Client) Do(ctx context.Context, acts ...Act) error {
	_, err := ask(ctx, c, func(ch *amqp.Channel) (struct{}, error) {
		for _, act := range acts {
			if err := act(ch); err != nil {
				return struct{}{}, err
			}
		}
		return struct{}{}, nil
	})
	return err
}

// ask does something over the connection that is kept, or over another one when that does not answer.
func ask[T any](ctx context.Context, c *Client, do func(*amqp.Channel) (T, error)) (T, error) {
	ended := 0
	for n := 1; ; n++ {
		conn, fresh, err := c.control(ctx)
		if err != nil {
			var none T
			return none, err
		}
		trying, cancel := ctx, context.CancelFunc(func() {})
		if !fresh {
			trying, cancel = context.WithTimeout(ctx, patience)
		}
		value, err := over(trying, conn, do)
		impatient := trying.Err() != nil
		cancel()
		if err == nil || !errors.Is(err, ErrUnreachable) {
			return value, err
		}
		c.drop(conn)
		if !impatient && errors.Is(err, amqp.ErrClosed) && ended < others {
			ended++ // somebody else found that it does not answer
			n--
		}
		if n == tries || ctx.Err() != nil {
			return value, err
		}
	}
}

// over does something over a channel of its own.
func over[T any](ctx context.Context, conn *amqp.Connection, do func(*amqp.Channel) (T, error)) (T, error) {
	value, err := place.Within(ctx, func() (T, error) {
		ch, err := conn.Channel()
		if err != nil {
			var none T
			return none, err
		}
		defer ch.Close() // one that was refused something is closed
		return do(ch)
	}, func(T) {})
	if err != nil && ctx.Err() != nil {
		return value, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	return value, translated(err)
}

// translated wraps what callers branch on.
func translated(err error) error {
	var said *amqp.Error
	switch {
	case err == nil || errors.Is(err, ErrRefused) || errors.Is(err, ErrMissing) || errors.Is(err, ErrUnreachable):
		return err
	case errors.As(err, &said) && said.Code == amqp.NotFound:
		return fmt.Errorf("%w: %s", ErrMissing, said.Reason)
	case errors.As(err, &said) && said.Server && said.Code != amqp.ConnectionForced:
		return fmt.Errorf("%w: %s", ErrRefused, said.Reason)
	}
	return fmt.Errorf("%w: %w", ErrUnreachable, err)
}

// control is the connection that is kept, or a new one.
func (c *Client) control(ctx context.Context) (conn *amqp.Connection, fresh bool, err error) {
	c.mu.Lock()
	conn = c.kept
	c.mu.Unlock()
	if conn != nil && !conn.IsClosed() {
		return conn, false, nil
	}
	if conn, err = c.dial(ctx, "vaiven"); err != nil {
		return nil, false, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.kept != nil && !c.kept.IsClosed() { // somebody else has made one meanwhile
		go end(conn)
		return c.kept, true, nil
	}
	c.kept = conn
	return conn, true, nil
}

// drop gives up a connection that does not answer.
func (c *Client) drop(conn *amqp.Connection) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.kept == conn {
		c.kept = nil
	}
	go end(conn)
}

// Kind is what a binding leads to.
type Kind string

// The kinds.
const (
	ToQueue    Kind = "queue"
	ToExchange Kind = "exchange"
)

// Binding leads from an exchange to a queue or to another exchange.
type Binding struct {
	Source      string         `json:"source"`
	Destination string         `json:"destination"`
	Kind        Kind           `json:"destination_type"`
	Key         string         `json:"routing_key"`
	Arguments   map[string]any `json:"arguments"`
}

// Bind makes a binding; one that is there already stays.
func Bind(b Binding) Act {
	return func(ch *amqp.Channel) error {
		if b.Kind == ToExchange {
			return ch.ExchangeBind(b.Destination, b.Key, b.Source, false, table(b.Arguments))
		}
		return ch.QueueBind(b.Destination, b.Key, b.Source, false, table(b.Arguments))
	}
}

// Unbind takes a binding away; one that is not there is as good.
func Unbind(b Binding) Act {
	return func(ch *amqp.Channel) error {
		if b.Kind == ToExchange {
			return ch.ExchangeUnbind(b.Destination, b.Key, b.Source, false, table(b.Arguments))
		}
		return ch.QueueUnbind(b.Destination, b.Key, b.Source, table(b.Arguments))
	}
}

// Declare makes a durable queue with arguments. One that is there with others is refused.
func Declare(queue string, arguments map[string]any) Act {
	return func(ch *amqp.Channel) error {
		_, err := ch.QueueDeclare(queue, true, false, false, false, table(arguments))
		return err
	}
}

// Exchange makes a durable exchange, one that nobody but other exchanges may publish to if it is internal. One that
// is there and is another is refused.
func Exchange(name, kind string, internal bool, arguments map[string]any) Act {
	return func(ch *amqp.Channel) error {
		return ch.ExchangeDeclare(name, kind, true, false, internal, false, table(arguments))
	}
}

// Remove takes an exchange away; one that is not there is as good.
func Remove(exchange string) Act {
	return func(ch *amqp.Channel) error { return ch.ExchangeDelete(exchange, false, false) }
}

// table is arguments as they are sent. Whole numbers that came as JSON are whole again.
func table(arguments map[string]any) amqp.Table {
	if len(arguments) == 0 {
		return nil
	}
	t := amqp.Table{}
	for name, value := range arguments {
		if f, ok := value.(float64); ok && f == float64(int64(f)) {
			value = int64(f)
		}
		t[name] = value
	}
	return t
}

// Now is how many messages of a queue wait to be delivered, and how many consumers it has, at this moment.
func (c *Client) Now(ctx context.Context, queue string) (ready int64, consumers int, err error) {
	q, err := ask(ctx, c, func(ch *amqp.Channel) (amqp.Queue, error) {
		return ch.QueueDeclarePassive(queue, true, false, false, false, nil)
	})
	return int64(q.Messages), q.Consumers, err
}

// Lock keeps others from a name until it is given back, or until whoever holds it is gone: the broker lets go of it
// then. It waits until the context ends.
func (c *Client) Lock(ctx context.Context, name string) (unlock func(), err error) {
	others := false // somebody else has it
	for {
		conn, err := c.dial(ctx, "vaiven "+name)
		if err != nil && others && ctx.Err() != nil {
			return nil, fmt.Errorf("take the lock %s: somebody else has it: %w", name, context.Cause(ctx))
		}
		if err != nil {
			return nil, err
		}
		_, err = over(ctx, conn, func(ch *amqp.Channel) (amqp.Queue, error) {
			return ch.QueueDeclare(name, false, true, true, false, nil)
		})
		if err == nil {
			return func() { end(conn) }, nil
		}
		end(conn)
		if others = others || errors.Is(err, ErrRefused); !others {
			return nil, err
		}
		select {
		case <-ctx.Done(): // the next try says so
		case <-time.After(lockAgain):
		}
	}
}

// lockAgain is how long between two tries to take a lock.
const lockAgain = 20 * time.Millisecond
