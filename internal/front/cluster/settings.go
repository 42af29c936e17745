package cluster

import (
	"fmt"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/asked"
	"vaiven/internal/world/cluster"
	"vaiven/internal/world/place"
	"vaiven/internal/world/section"
)

// Kind is an orchestrator as a front.
var Kind = front.Kind{
	Name: "cluster", Read: read,
	Examples: []front.Example{{Text: `  cluster:
    kubeconfig: kubeconfig
    pods: app=sailings
    httproute: sailings
    services: {blue: sailings-blue, green: sailings-green}
    counts: {path: /metrics, requests: sailings_requests_total, open: sailings_requests_open}
`}},
	Open: func(on place.Machine, _ *plan.Plan, f plan.Front) front.Driver { return New(on, f) },
}

// Settings is what a plan says of it. It has a route with two services, or a service.
type Settings struct {
	plan.API
	Pods     string // label selector of both sides' pods
	Route    string // HTTPRoute whose weights divide requests; "" with a service
	Services [2]string
	Service  string // whose selector leads to one side; "" with a route
	Shares   bool   // of a service: the selector may take both sides, and their pods are the share
	Counts   asked.Counts
}

// Orchestrator is whose pods requests are led to.
func (s *Settings) Orchestrator() plan.API { return s.API }

// Kind is the kind's name.
func (s *Settings) Kind() plan.FrontKind { return Kind.Name }

// Marks is never: the order of going home is an annotation.
func (s *Settings) Marks() bool { return false }

// Compares is always: a patch names the order that it goes by, and the API refuses it where that is another one.
func (s *Settings) Compares() bool { return true }

// Reached is at the API that the kubeconfig names.
func (s *Settings) Reached() (addresses []string, byFiles bool) { return nil, false }

// Resolve makes the kubeconfig absolute.
func (s *Settings) Resolve(file, _ func(*string)) { file(&s.File) }

// Whole is why a service sends everything to one side or the other; nil if it can do parts.
func (s *Settings) Whole() error {
	if s.Route != "" || s.Shares {
		return nil
	}
	return section.Mistake{
		What: "a Service's selector leads to one side",
		Try:  `write "route: [100 %]", steer an HTTPRoute, or write "shares: yes" if both sides' pods at once are to be a share`,
	}
}

// Splits is by nothing: each request or connection is drawn.
func (s *Settings) Splits(k plan.Key) error {
	if k.From == plan.KeyRandom {
		return nil
	}
	return section.Mistake{What: fmt.Sprintf("a cluster draws for each request anew, not by %v", k),
		Try: "leave the key out"}
}

// Sticks is never.
func (s *Settings) Sticks() error {
	return section.Mistake{What: "a cluster's route keeps nobody on a side", Try: "leave sticky out"}
}

// Controls is never.
func (s *Settings) Controls() error {
	return section.Mistake{What: "an orchestrator divides a side's requests among its pods alike",
		Try: "leave \"beside control\" out of the legs"}
}

// Opens is never: the spare side's Service is one.
func (s *Settings) Opens(plan.SpareDoor) error {
	return section.Mistake{What: "a cluster's front has no door of its own to the spare side",
		Try: "reach it by its Service, and leave spare-door out"}
}

func read(r *section.Reader, n ast.Node) plan.FrontSettings {
	s := &Settings{}
	var services, shares ast.Node
	r.Mapping(n, "cluster", cluster.Keys(r, &s.API,
		section.Need("pods", func(n ast.Node) { r.Text(n, "pods", &s.Pods) }),
		section.May("httproute", section.Parsed(r, "httproute", &s.Route, cluster.Name)),
		section.May("services", func(n ast.Node) {
			services = n
			r.Mapping(n, "services",
				section.Need("blue", section.Parsed(r, "blue", &s.Services[split.Blue], cluster.Name)),
				section.Need("green", section.Parsed(r, "green", &s.Services[split.Green], cluster.Name)))
		}),
		section.May("counts", func(n ast.Node) { s.Counts = asked.Read(r, n) }),
		section.May("service", section.Parsed(r, "service", &s.Service, cluster.Name)),
		section.May("shares", func(n ast.Node) {
			shares = n
			section.Parsed(r, "shares", &s.Shares, section.YesNo)(n)
		}))...)
	switch {
	case r.Discovering():
	case (s.Route == "") == (s.Service == ""):
		r.Wrong(n, "a cluster's front is an HTTPRoute or a Service",
			`write "httproute: NAME" with "services: {blue: NAME, green: NAME}", or "service: NAME"`)
	case s.Route != "" && s.Services == [2]string{}:
		r.Wrong(n, "the route's services are not named", `add "services: {blue: NAME, green: NAME}"`)
	case s.Route != "" && s.Services[split.Blue] == s.Services[split.Green]:
		r.Wrong(services, "both sides have the same service", "give each side one of its own")
	case s.Service != "" && services != nil:
		r.Wrong(services, "with a Service there are no others", "leave services out, or name an httproute")
	case s.Route != "" && shares != nil:
		r.Wrong(shares, "a route's weights do every share", "leave shares out")
	}
	return s
}
