package plan

import "time"

// Check is one thing that is asked again and again until it can be judged.
type Check struct {
	Name   string
	Every  time.Duration // between two readings
	Within time.Duration // for one reading
	Up     int           // good readings in a row until it passes
	Down   int           // bad ones until it fails
	Settle time.Duration // wait between a first reading that is not judged and the rest
	What   Asking
}

// Asking is what a check asks. The kinds are the types below and no others; texts
// may hold placeholders and secrets.
type Asking interface {
	// Kind is the key by which a plan asks for it.
	Kind() string
}

// The kinds of checks.
type (
	// HTTP is a request over HTTP or HTTPS.
	HTTP struct {
		Method    string
		URL       string // a path of the instance's own address, or a whole URL
		Headers   map[string]string
		Status    int // 0 for any from 200 to 299
		Contains  string
		JSON      []JSONValue
		Version   Field // where the answer claims its version; zero if it does not
		Redirects bool  // follow them
		Caches    bool  // an answer from a cache counts
		Trust     Trust
	}
	// TCP is a connection.
	TCP struct{ Address string }
	// TLS is a handshake.
	TLS struct {
		Address string
		Days    int // that the certificate has to be valid for yet
		Trust   Trust
	}
	// GRPC is the health protocol grpc.health.v1.
	GRPC struct {
		Address string
		Service string // "" for the server as a whole
		Secure  bool   // over TLS
		Trust   Trust
	}
	// DNS is a question to a name server.
	DNS struct {
		Name   string
		Type   string // A, AAAA, CNAME, MX, NS, SRV or TXT
		Answer string // that has to be among the answers; "" for any
		Server string // host:port; "" for the one of the place
	}
	// SQL is a statement for PostgreSQL.
	SQL struct {
		URL    string // with user, password and database
		Query  string
		Answer string // first column of the first row; "" for any
	}
	// Command is a command of the user's own, run where the instance stands.
	Command struct {
		Words       []string
		Environment map[string]string // where secrets go: everybody can see the words
		Status      int
		Contains    string
	}
	// Runs is whether the instance's process runs, and has for a time.
	Runs struct{ For time.Duration }
	// Printed is whether a text is among the last lines that the instance has printed.
	Printed struct{ Text string }
	// Told is a figure that the instance tells of itself, in the text format of Prometheus.
	Told struct {
		Figure Figure
		Path   string
		Least  *float64 // nil for none
		Most   *float64 // nil for none
	}
)

// Trust is whom TLS is spoken with.
type Trust struct {
	CA   string // file with the authorities' certificates; "" for the system's
	Name string // that the certificate has to be for; "" for the address's host
}

// Kind is the key of each.
func (HTTP) Kind() string    { return "request" }
func (TCP) Kind() string     { return "tcp" }
func (TLS) Kind() string     { return "tls" }
func (GRPC) Kind() string    { return "grpc" }
func (DNS) Kind() string     { return "dns" }
func (SQL) Kind() string     { return "sql" }
func (Command) Kind() string { return "command" }
func (Runs) Kind() string    { return "runs" }
func (Printed) Kind() string { return "printed" }
func (Told) Kind() string    { return "figure" }

// JSONValue is a path into a JSON answer and the value wanted there.
type JSONValue struct {
	Path string // names and indices joined by dots: "sailings.0.ship"
	Want string // as written in JSON, but strings without their quotes
}

// Field is a place in an answer: a header, or a value in its JSON body.
type Field struct {
	Header string
	JSON   string
}
