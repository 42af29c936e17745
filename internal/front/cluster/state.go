package cluster

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/world/cluster"
)

// What Vaiven writes at objects.
const (
	orderNote    = "vaiven/order"    // annotation of the route or service: the last going home
	serves       = cluster.Serves    // label of a pod
	instanceNote = "vaiven/instance" // annotation of a pod: which instance of which side it is
	serviceOf    = "kubernetes.io/service-name"
)

// state is what the API has of a front, at one moment.
type state struct {
	object   *unstructured.Unstructured // the route or the service
	order    reading.Order
	damaged  error // why the order cannot be read, or that there is none
	rules    []int // of the route: those with both services, whose weights are the same
	weights  [2]int64
	selector map[string]string // of the service
	around
}

// around is what the API has beside the route or service.
type around struct {
	pods      []pod
	endpoints map[string][]string // by service: the names of the pods that it lists as ready
}

// pod is one that may be an instance.
type pod struct {
	name, ip, version string
	labels            map[string]string
	noted             bool // it has annotations
	ready             bool
	// we have set the label by which it serves: it is none of its template's, nor is that one of ours
	ours   bool
	member *member // nil if it is of no side, or made anew where nobody has noted it yet
}

// takes reports whether a pod takes requests of a side.
func (p pod) takes(side split.Side) bool { return p.labels[serves] == side.String() }

// member is an instance as it is noted at its pod.
type member struct {
	Side split.Side `json:"side"`
	reading.Server
}

// of are the instances of a side.
func (s state) of(side split.Side) []reading.Server {
	var list []reading.Server
	for _, p := range s.pods {
		if p.member != nil && p.member.Side == side {
			list = append(list, p.member.Server)
		}
	}
	return list
}

// has is how many pods there are of a side: its instances, and those that were made anew and take its requests.
func (s state) has(side split.Side) (n int) {
	for _, p := range s.pods {
		if p.member != nil && p.member.Side == side || p.member == nil && p.takes(side) {
			n++
		}
	}
	return n
}

// serving are the pods that take requests when a share is in force.
func (s state) serving(share split.Share) []string {
	var list []string
	for _, p := range s.pods {
		for _, side := range split.Sides {
			if p.ready && p.takes(side) && share.Of(side) > 0 {
				list = append(list, p.name)
			}
		}
	}
	slices.Sort(list)
	return list
}

// steered is what the front is in the API.
func (s *Settings) steered() (of schema.GroupVersionResource, name string) {
	if s.Route != "" {
		return cluster.HTTPRoutes, s.Route
	}
	return cluster.Services, s.Service
}

// named is the front in words.
func (s *Settings) named() string {
	of, name := s.steered()
	return of.Resource + "/" + name
}

// services are those whose endpoints count.
func (s *Settings) services() []string {
	if s.Route != "" {
		return s.Services[:]
	}
	return []string{s.Service}
}

// translated wraps what callers of a front branch on.
func translated(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, cluster.ErrChanged):
		return fmt.Errorf("%w: %w", front.ErrChanged, err)
	case errors.Is(err, cluster.ErrRefused), errors.Is(err, cluster.ErrMissing):
		return fmt.Errorf("%w: %w", front.ErrRefused, err)
	}
	return fmt.Errorf("%w: %w", front.ErrUnreachable, err)
}

// look asks for all of it.
func (d *Driver) look(ctx context.Context) (state, error) {
	return d.state(ctx, func(c *cluster.Client) (around, error) { return d.pods(ctx, c) })
}

// glance asks for the route or service, and for the rest of it where watches have told of a change: what is asked for
// each time says that the API answers, and how it splits.
func (d *Driver) glance(ctx context.Context) (state, error) {
	return d.state(ctx, func(c *cluster.Client) (around, error) {
		return d.around.Get(c, func() (around, error) { return d.pods(ctx, c) }, d.watched()...)
	})
}

// state is what there is, with what is around as it is asked for.
func (d *Driver) state(ctx context.Context, ask func(*cluster.Client) (around, error)) (s state, err error) {
	c, err := d.asks.Open()
	if err != nil {
		return s, translated(err)
	}
	of, name := d.config.steered()
	if s.object, err = c.Get(ctx, of, name); err != nil {
		return s, translated(err)
	}
	if err := s.read(d.config); err != nil {
		return s, err
	}
	s.around, err = ask(c)
	return s, err
}

// pods asks for the pods, and for what services lead to.
func (d *Driver) pods(ctx context.Context, c *cluster.Client) (a around, err error) {
	pods, err := c.List(ctx, cluster.Pods, d.config.Pods)
	if err != nil {
		return a, translated(err)
	}
	for _, o := range pods {
		if p, err := readPod(o); err != nil {
			return a, err
		} else if p.ip != "" && o.GetDeletionTimestamp() == nil {
			a.pods = append(a.pods, p)
		}
	}
	slices.SortFunc(a.pods, func(a, b pod) int {
		if a.member == nil || b.member == nil {
			return strings.Compare(a.name, b.name)
		}
		return cmp.Or(cmp.Compare(len(a.member.Name), len(b.member.Name)),
			strings.Compare(a.member.Name, b.member.Name))
	})
	list, err := c.List(ctx, cluster.EndpointSlices, d.endpointsOf())
	if err != nil {
		return a, translated(err)
	}
	a.endpoints = map[string][]string{}
	for _, slice := range list {
		service := slice.GetLabels()[serviceOf]
		endpoints, _, _ := unstructured.NestedSlice(slice.Object, "endpoints")
		for _, e := range endpoints {
			o, _ := e.(map[string]any)
			ready, told, _ := unstructured.NestedBool(o, "conditions", "ready")
			if name, _, _ := unstructured.NestedString(o, "targetRef", "name"); ready || !told {
				a.endpoints[service] = append(a.endpoints[service], name)
			}
		}
	}
	for service, names := range a.endpoints {
		slices.Sort(names)
		a.endpoints[service] = slices.Compact(names) // one of two address families is in two slices
	}
	return a, nil
}

// watched is what tells of changes of what is around.
func (d *Driver) watched() []cluster.Watched {
	return []cluster.Watched{{Of: cluster.Pods, Labels: d.config.Pods},
		{Of: cluster.EndpointSlices, Labels: d.endpointsOf()}}
}

// endpointsOf selects the endpoint slices of the services that count.
func (d *Driver) endpointsOf() string {
	return serviceOf + " in (" + strings.Join(d.config.services(), ",") + ")"
}

// read takes the route or service apart.
func (s *state) read(config *Settings) error {
	note, there := s.object.GetAnnotations()[orderNote]
	if err := json.Unmarshal([]byte(note), &s.order); err != nil {
		s.order = reading.Order{}
		s.damaged = fmt.Errorf("%w: the annotation %s of %s: %w: put it right, or go home, which writes it anew",
			front.ErrRefused, orderNote, config.named(), err)
	}
	if !there {
		s.damaged = fmt.Errorf("%w: %w: %s has no annotation %s", front.ErrUnreachable, front.ErrNotMade,
			config.named(), orderNote)
	}
	if config.Service != "" {
		s.selector, _, _ = unstructured.NestedStringMap(s.object.Object, "spec", "selector")
		return nil
	}
	rules, _, _ := unstructured.NestedSlice(s.object.Object, "spec", "rules")
	for n := range rules {
		refs, err := backends(s.object, n)
		if err != nil {
			return fmt.Errorf("%w: %s: %w", front.ErrRefused, config.named(), err)
		}
		var weights [2]int64
		found, others := [2]bool{}, ""
		for _, ref := range refs {
			side := slices.Index(config.Services[:], named(ref))
			weight, told, _ := unstructured.NestedInt64(ref.(map[string]any), "weight")
			if !told {
				weight = 1 // the API's default
			}
			switch {
			case side >= 0:
				found[side], weights[side] = true, weight
			case weight > 0:
				others = named(ref)
			}
		}
		switch {
		case found != [2]bool{true, true}:
			continue // it is somebody else's affair
		case others != "":
			return fmt.Errorf("%w: rule %d of %s leads to %s as well, which is neither side", front.ErrRefused, n+1,
				config.named(), others)
		case len(s.rules) > 0 && weights != s.weights:
			return fmt.Errorf("%w: the rules of %s have different weights: %v in one, %v in another", front.ErrRefused,
				config.named(), s.weights, weights)
		}
		s.rules, s.weights = append(s.rules, n), weights
	}
	if len(s.rules) == 0 {
		return fmt.Errorf("%w: %s has no rule whose backendRefs are %s and %s", front.ErrRefused, config.named(),
			config.Services[split.Blue], config.Services[split.Green])
	}
	return nil
}

// backends are the backendRefs of a rule of a route, as they can be changed.
func backends(route *unstructured.Unstructured, rule int) ([]any, error) {
	rules, _, err := unstructured.NestedSlice(route.Object, "spec", "rules")
	if err != nil {
		return nil, err
	}
	o, _ := rules[rule].(map[string]any)
	refs, _, err := unstructured.NestedSlice(o, "backendRefs")
	for n, ref := range refs {
		if _, ok := ref.(map[string]any); !ok {
			return nil, fmt.Errorf("backendRef %d of rule %d is no object", n+1, rule+1)
		}
	}
	return refs, err
}

// named is the name of what a backendRef leads to.
func named(ref any) string {
	name, _, _ := unstructured.NestedString(ref.(map[string]any), "name")
	return name
}

func readPod(o unstructured.Unstructured) (pod, error) {
	p := pod{name: o.GetName(), labels: o.GetLabels(), noted: o.GetAnnotations() != nil}
	p.ip, _, _ = unstructured.NestedString(o.Object, "status", "podIP")
	conditions, _, _ := unstructured.NestedSlice(o.Object, "status", "conditions")
	p.ready = slices.ContainsFunc(conditions, func(c any) bool {
		m, _ := c.(map[string]any)
		return m["type"] == "Ready" && m["status"] == "True"
	})
	p.ours = p.labels[cluster.Side] == "" &&
		slices.ContainsFunc(o.GetManagedFields(), func(m metav1.ManagedFieldsEntry) bool {
			return m.Manager == cluster.Manager && m.FieldsV1 != nil &&
				strings.Contains(m.FieldsV1.GetRawString(), `"f:`+serves+`"`)
		})
	if note := o.GetAnnotations()[instanceNote]; note != "" {
		p.member = new(member)
		if err := json.Unmarshal([]byte(note), p.member); err != nil {
			return p, fmt.Errorf("%w: the annotation %s of pod %s: %w", front.ErrRefused, instanceNote, p.name, err)
		}
	}
	return p, nil
}

// print is the same text as long as the same is in force.
func (s state) print() string {
	var members []string
	for _, p := range s.pods {
		if p.member != nil {
			members = append(members, fmt.Sprint(p.name, p.labels[serves], *p.member))
		}
	}
	return fmt.Sprint(s.weights, s.selector, s.order, members)
}

// share is on green.
func (d *Driver) share(s state) (split.Share, error) {
	if s.damaged != nil {
		return 0, s.damaged
	}
	if d.config.Route != "" {
		all := s.weights[split.Blue] + s.weights[split.Green]
		if all == 0 {
			return 0, fmt.Errorf("%w: both weights of %s are 0", front.ErrRefused, d.config.named())
		}
		got := split.Part(int(s.weights[split.Green]), int(all))
		for _, side := range split.Sides {
			if got.Of(side) > 0 && s.has(side) == 0 {
				return 0, fmt.Errorf("%w: %v gets requests, and nobody is there", front.ErrRefused, side)
			}
		}
		return got, nil
	}
	side, err := split.ParseSide(s.selector[serves])
	switch {
	case s.selector[serves] == "":
		return byPods(s)
	case err != nil:
		return 0, fmt.Errorf("%w: %s selects %s: %q, which is no side", front.ErrRefused, d.config.named(), serves,
			s.selector[serves])
	case s.has(side) == 0:
		return 0, fmt.Errorf("%w: %v gets requests, and nobody is there", front.ErrRefused, side)
	}
	return split.Toward(side, split.Whole), nil
}

// byPods is the share of all pods that serve.
func byPods(s state) (split.Share, error) {
	var of [2]int
	for _, p := range s.pods {
		for _, side := range split.Sides {
			if p.takes(side) {
				of[side]++
			}
		}
	}
	all := of[split.Blue] + of[split.Green]
	if all == 0 {
		return 0, fmt.Errorf("%w: nobody gets any requests", front.ErrRefused)
	}
	return split.Part(of[split.Green], all), nil
}
