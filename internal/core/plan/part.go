package plan

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
	"time"

	"vaiven/internal/core/split"
)

// AsLive is a number of instances: as many as the live side has, with what those run with.
const AsLive = -1

// Count is the number as a plan writes it.
func (s Stack) Count() string {
	word := func(n int) string {
		if n == AsLive {
			return "as live"
		}
		return strconv.Itoa(n)
	}
	if s.Until == 0 {
		return word(s.Instances)
	}
	return fmt.Sprintf("%s until %v, then %s", word(s.Instances), s.Until, word(s.Then))
}

// AsLive reports whether a stack takes after the live side.
func (s Stack) AsLive() bool { return s.Instances == AsLive || s.Then == AsLive }

// Planned is how many instances there are to be at first, 0 if the plan does not say it.
func (s Stack) Planned() int { return max(s.Instances, 0) }

// Most is how many instances there are to be at most, as far as the plan says it.
func (s Stack) Most() int { return max(s.Instances, s.Then, 0) }

// Part is one of the parts that both sides of a service consist of.
type Part struct {
	Name          string
	Versions      Versions
	Stacks        [2]Stack // by side
	Health        Check
	Settle        time.Duration // wait before the smoke checks judge
	Smoke         []Check       // of the spare side's own addresses
	Needs         []Check       // what the part depends on, asked from where its instances stand
	Says          Says
	Figures       Page
	Configuration []string // files to compare, with placeholders
}

// Stack is what a part consists of on one side.
type Stack struct {
	Instances   int         // AsLive for as many as the live side has
	Until       split.Share // with more of the traffic there are to be others; 0 if there are always as many
	Then        int         // how many there are from then on; AsLive as above
	Command     []string    // with placeholders, see [Expand]
	Build       string      // file or folder that a version's build is in, with placeholders
	Folder      string      // working folder, with placeholders
	Environment map[string]string
	FirstPort   int
	LastPort    int
	Addresses   []string      // of this machine, that instances listen at; none for loopback's one
	Raise       time.Duration // for all instances to become healthy
	Grace       time.Duration // between asking an instance to stop and making it
	Capacity    Capacity
	Price       Price
	Restart     bool // an instance that ends while its side is wanted is started again
	Output      Output

	Hosts      []Host // where instances are started over SSH, in turn; none for this machine
	Identity   string // file with the private key; "" asks the agent
	KnownHosts string // file with the hosts' keys

	Image   string  // of containers, with placeholders; "" for processes
	Engine  string  // socket of the container engine
	Network string  // that containers are in; "host" for that of the machine
	Port    int     // that a container listens on in a network of its own
	Memory  int64   // limit of one container, bytes; 0 for none
	CPUs    float64 // limit of one container; 0 for none

	Cluster Cluster // of an orchestrator; zero for none

	Tool []string // the user's own command that raises, lists and stops

	Stands []Stand // instances that somebody else started, and that are never stopped
	// the user's own command that brings those to a version, with placeholders; none to wait until they are
	Renew []string
}

// Cluster is where a part runs as a Deployment of Kubernetes, one for each side.
type Cluster struct {
	On bool
	API
	Name     string // of the Deployment, with placeholders
	Template string // file with a Deployment, with placeholders; "" to make one of the image
	Scales   bool   // stopping leaves the Deployment there with no pods
}

// API is an orchestrator's, and as whom it is asked.
type API struct {
	File      string // kubeconfig; "" for KUBECONFIG and ~/.kube/config
	Context   string // of it; "" for the current one
	Namespace string // "" for the context's
	Reach     Reach  // how pods are reached; "" for at their addresses
}

// Reach is how connections to pods are made.
type Reach string

// The ways to pods.
const (
	Direct    Reach = "direct"  // at their addresses
	Forwarded Reach = "forward" // through the orchestrator's API
)

// After is the API, where nothing is said of it as another one.
func (a API) After(other API) API {
	if a.File == "" && a.Context == "" {
		a.File, a.Context, a.Namespace = other.File, other.Context, cmp.Or(a.Namespace, other.Namespace)
	}
	a.Reach = cmp.Or(a.Reach, other.Reach)
	return a
}

// Stand is where instances are that Vaiven did not start.
type Stand struct {
	Kind    StandKind
	Name    string   // of the unit or container, or the labels, with placeholders
	Address string   // host:port, of an address and a unit
	On      Host     // that a unit runs on; zero for this machine
	Words   []string // of a command that prints addresses, with placeholders
}

// StandKind is how instances are found that stand.
type StandKind string

// The kinds.
const (
	StandAddress    StandKind = "address"    // where one answers
	StandUnit       StandKind = "unit"       // of systemd
	StandContainer  StandKind = "container"  // by its name
	StandContainers StandKind = "containers" // by their labels
	StandCommand    StandKind = "command"    // that prints their addresses
	StandFront      StandKind = "front"      // those that the front lists for the side
)

// Counted reports whether it is one instance, and always the same.
func (s Stand) Counted() bool {
	return s.Kind == StandAddress || s.Kind == StandUnit || s.Kind == StandContainer
}

// Output is how much of what an instance prints is kept.
type Output struct {
	Size int64 // bytes of one file
	Keep int   // older files beside it
}

// Kind is what a stack runs on.
type Kind string

// The kinds.
const (
	Processes  Kind = "processes"
	Hosts      Kind = "hosts"
	Containers Kind = "containers"
	Clustered  Kind = "cluster"
	Tool       Kind = "tool"
	Standing   Kind = "standing"
)

// Kind is what the stack runs on.
func (s Stack) Kind() Kind {
	switch {
	case len(s.Stands) > 0:
		return Standing
	case len(s.Tool) > 0:
		return Tool
	case s.Cluster.On:
		return Clustered
	case s.Image != "":
		return Containers
	case len(s.Hosts) > 0:
		return Hosts
	}
	return Processes
}

// Host is a machine that is reached over SSH.
type Host struct {
	User    string
	Address string // host:port
}

// Name is the host without its port.
func (h Host) Name() string {
	host, _, _ := strings.Cut(h.Address, ":")
	return host
}

// String is the host as a plan writes it.
func (h Host) String() string { return h.User + "@" + h.Address }

// Price is what one instance costs an hour; its unit is empty if it is not known.
type Price struct {
	Amount float64 `json:"amount"`
	Unit   string  `json:"unit"`
}

// Versions is where the versions of a part come from.
type Versions struct {
	Kind  VersionKind
	Where string // folder, repository, or registry and name
	Ref   string // pattern of tags, or the branch
}

// VersionKind is a kind of source.
type VersionKind string

// The kinds.
const (
	VersionFolder   VersionKind = "folder"
	VersionTags     VersionKind = "tags"
	VersionBranch   VersionKind = "branch"
	VersionRegistry VersionKind = "registry"
)

// Capacity is how many requests a second instances carry. The zero value is not known.
type Capacity struct {
	Each float64            // of one that is not named
	Of   map[string]float64 // of single ones, by their name, their address or the host in it
}

// Known reports whether there is one.
func (c Capacity) Known() bool { return c.Each > 0 }

// At is that of an instance, 0 if it is not known.
func (c Capacity) At(name, address string) float64 {
	host := strings.Trim(address[:max(strings.LastIndexByte(address, ':'), 0)], "[]")
	for _, key := range []string{name, address, host} {
		if of, ok := c.Of[key]; ok && key != "" {
			return of
		}
	}
	return c.Each
}

// All is what so many instances carry, the named ones among them, 0 if it is not known.
func (c Capacity) All(instances int) float64 {
	if len(c.Of) > instances {
		return c.Each * float64(instances)
	}
	sum := c.Each * float64(instances-len(c.Of))
	for _, of := range c.Of {
		sum += of
	}
	return sum
}

// Page is where an instance tells its figures, in the text format of Prometheus. It is zero if it does not.
type Page struct {
	Path  string
	Every time.Duration
}

// On reports whether there is one.
func (p Page) On() bool { return p.Path != "" }

// Says is where an instance says what it is. It is zero if it does not.
type Says struct {
	Path    string
	Build   Field
	Version Field
	Runtime Field
}

// On reports whether instances say anything.
func (s Says) On() bool { return s.Path != "" }

// Judgement is what a finding leads to.
type Judgement string

// The judgements.
const (
	Stop Judgement = "stop" // the side is not proven
	Ask  Judgement = "ask"  // a person has to accept it
	Note Judgement = "note" // it is shown
)

// Differences says what is made of differences between the sides.
type Differences struct {
	Meant  []Meant
	Secret []string // patterns of names whose values are compared and not shown, beside the well-known ones
	Shown  []string // patterns of names whose values are shown all the same
	Then   Judgement
}

// Meant declares a difference as meant: an area and a pattern of names.
type Meant struct{ Area, Name string }

// Pairs are the requests that both sides get to compare their answers.
type Pairs struct {
	Requests []Request
	Hosts    []string          // whose requests are taken from a HAR file; none: that of its first one
	Headers  map[string]string // of every request, with placeholders and secrets
	Log      string            // access log to take requests from, "" for none
	HAR      string            // or a HAR file
	Rate     float64
	Repeat   int
	Ignore   []string // patterns: "json PATH", "header NAME"
	Writes   bool     // also requests that are not only reads
	Within   time.Duration
	Then     Judgement
}

// On reports whether there is anything to compare.
func (p Pairs) On() bool { return len(p.Requests) > 0 || p.Log != "" || p.HAR != "" }

// Request is a method and a path.
type Request struct {
	Method  string
	Path    string
	Headers map[string]string
	Body    string
}

// String is the request on one line.
func (r Request) String() string { return r.Method + " " + r.Path }

// WarmUp is how many requests the spare side gets before anything is judged.
type WarmUp struct {
	Requests int
	Rate     float64
}

// Secret is where a secret value is read from.
type Secret struct {
	Env  string
	File string
	At   string // where it is declared: "sailings.yaml:16"
}

// Room is how many instances find a place on this machine.
func (s Stack) Room() int { return (s.LastPort - s.FirstPort + 1) * max(len(s.Addresses), 1) }
