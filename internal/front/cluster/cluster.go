package cluster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"time"

	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/front/asked"
	"vaiven/internal/front/told"
	"vaiven/internal/world/cluster"
	"vaiven/internal/world/place"
)

// Driver steers a route or a service. It is safe for concurrent use.
type Driver struct {
	config   *Settings
	counts   *asked.Counter
	steering told.Remote[state]
	asks     cluster.Later
	around   cluster.Kept[around]
}

// New makes a driver; pods are asked for their counts from a machine. Nothing is asked yet.
func New(on place.Machine, f plan.Front) *Driver {
	d := &Driver{config: f.Settings.(*Settings)}
	d.asks.Config = d.config.API
	from := place.Dialer(on)
	if d.config.Reach == plan.Forwarded {
		from = &d.asks
	}
	d.counts = asked.New(from, d.config.Counts)
	d.steering = told.Remote[state]{
		Look: d.look, Share: d.share, Print: state.print, Work: d.work, Most: int(split.Whole), Try: d.try,
		Has:   func(s state, side split.Side) int { return s.has(side) },
		Order: func(s state) reading.Order { return s.order },
		Renew: d.renew,
	}
	return d
}

// step is one of a JSON Patch (RFC 6902).
type step struct {
	Op    string `json:"op"`
	Path  string `json:"path"`
	Value any    `json:"value,omitempty"`
}

// path is a JSON Pointer (RFC 6901).
func path(names ...string) string {
	var b strings.Builder
	for _, name := range names {
		b.WriteString("/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(name))
	}
	return b.String()
}

// patch sends one.
func (d *Driver) patch(ctx context.Context, steps []step, dry bool) (*unstructured.Unstructured, error) {
	c, err := d.asks.Open()
	if err != nil {
		return nil, translated(err)
	}
	text, err := json.Marshal(steps)
	if err != nil {
		return nil, err
	}
	of, name := d.config.steered()
	o, err := c.Patch(ctx, of, name, text, dry)
	return o, translated(err)
}

// change is the patch that puts a share in force, and what it does in words. Going home tests nothing: it is made
// over whatever is there.
func (d *Driver) change(s state, share split.Share, home *reading.Order) (steps []step, did string, reached split.Share,
	err error) {
	for _, side := range split.Sides {
		if share.Of(side) > 0 && s.has(side) == 0 && home == nil {
			return nil, "", 0, fmt.Errorf("%w: %v has no instances to send requests to", front.ErrRefused, side)
		}
	}
	if home == nil {
		steps = append(steps, step{"test", path("metadata", "annotations", orderNote),
			s.object.GetAnnotations()[orderNote]})
	} else {
		text, err := json.Marshal(home)
		if err != nil {
			return nil, "", 0, err
		}
		if s.object.GetAnnotations() == nil {
			steps = append(steps, step{"add", path("metadata", "annotations"), map[string]string{}})
		}
		steps = append(steps, step{"add", path("metadata", "annotations", orderNote), string(text)})
	}
	reached = share
	if d.config.Route != "" {
		changed, words, err := d.weighed(s, share, home == nil)
		if err != nil {
			return nil, "", 0, err
		}
		steps, did = append(steps, changed...), words
	} else {
		side, whole := share.Alone()
		if !whole && !d.config.Shares {
			return nil, "", 0, fmt.Errorf("%w: %s leads to one side, and %v is neither all nor nothing (shares in "+
				"the plan)", front.ErrRefused, d.config.named(), share)
		}
		selector := maps.Clone(s.selector)
		if selector == nil {
			selector = map[string]string{}
		}
		if home == nil {
			steps = append(steps, step{"test", path("spec", "selector"), s.selector})
		}
		if delete(selector, serves); whole {
			selector[serves] = side.String()
		} else if by, err := byPods(s); err == nil {
			reached = by
		}
		steps = append(steps, step{"add", path("spec", "selector"), selector})
		did = fmt.Sprintf("patch %s: selector %v", d.config.named(), selector)
	}
	return steps, did, reached, nil
}

// work is a change of the share.
func (d *Driver) work(s state, share split.Share, home *reading.Order) (told.Work, error) {
	steps, did, reached, err := d.change(s, share, home)
	if err != nil {
		return told.Work{}, err
	}
	w := told.Work{Steps: []string{did}, Weights: split.Weights{Reached: []split.Share{split.Whole - reached, reached}}}
	var done *unstructured.Unstructured
	w.Do = func(ctx context.Context) (err error) {
		done, err = d.patch(ctx, steps, false)
		return err
	}
	w.Wait = func(ctx context.Context) error { return d.inForce(ctx, done, share) }
	return w, nil
}

// renew writes down that another term has begun. Every change tests the annotation that it was read with: those of
// before are refused then.
func (d *Driver) renew(ctx context.Context, s state, o reading.Order) error {
	text, err := json.Marshal(o)
	if err != nil {
		return err
	}
	at := path("metadata", "annotations", orderNote)
	_, err = d.patch(ctx, []step{{"test", at, s.object.GetAnnotations()[orderNote]}, {"replace", at, string(text)}},
		false)
	return err
}

// weighed are the steps that set both weights, in every rule that leads to both sides, and what they do in words.
func (d *Driver) weighed(s state, share split.Share, guarded bool) ([]step, string, error) {
	var steps []step
	for _, n := range s.rules {
		refs, err := backends(s.object, n)
		if err != nil {
			return nil, "", fmt.Errorf("%w: %w", front.ErrRefused, err)
		}
		where := path("spec", "rules", fmt.Sprint(n), "backendRefs")
		if guarded {
			was, _ := backends(s.object, n)
			steps = append(steps, step{"test", where, was})
		}
		for _, ref := range refs {
			if side := slices.Index(d.config.Services[:], named(ref)); side >= 0 {
				ref.(map[string]any)["weight"] = int64(share.Of(split.Side(side)))
			}
		}
		steps = append(steps, step{"replace", where, refs})
	}
	return steps, fmt.Sprintf("patch %s: weights %s %d, %s %d", d.config.named(), d.config.Services[split.Blue],
		share.Of(split.Blue), d.config.Services[split.Green], share.Of(split.Green)), nil
}

// until looks until something is so, whenever the route or the endpoints have changed.
func (d *Driver) until(ctx context.Context, what string, so func(state) bool) error {
	ctx, cancel := context.WithTimeout(ctx, front.ChangeLimit)
	defer cancel()
	c, err := d.asks.Open()
	if err != nil {
		return translated(err)
	}
	of, _ := d.config.steered()
	var failed error // to look
	err = c.Until(ctx, func() (bool, error) {
		s, err := d.look(ctx)
		failed = err
		return err == nil && so(s), nil
	}, append(d.watched(), cluster.Watched{Of: of})...)
	if err == nil {
		return nil
	}
	if failed == nil {
		failed = err
	}
	return fmt.Errorf("%w: it was accepted, and %s: %w", front.ErrUnreachable, what, failed)
}

// inForce waits until a change is more than accepted.
func (d *Driver) inForce(ctx context.Context, done *unstructured.Unstructured, share split.Share) error {
	if d.config.Route != "" {
		wanted := done.GetGeneration()
		return d.until(ctx, d.config.named()+" says of no gateway that it goes by it", func(s state) bool {
			// somebody has changed it since: that is looked at by who asked
			return seen(s.object, wanted) || s.object.GetGeneration() > wanted
		})
	}
	return d.until(ctx, "the endpoint slices do not list who is to serve", func(s state) bool {
		if s.object.GetGeneration() > done.GetGeneration() {
			return true
		}
		return slices.Equal(s.serving(share), s.endpoints[d.config.Service])
	})
}

// seen reports whether the gateways that a route has now, of which there is one at least, have seen a generation, and
// refuse nothing of it. What one says that the route has no more is old.
func seen(route *unstructured.Unstructured, generation int64) bool {
	parents, _, _ := unstructured.NestedSlice(route.Object, "status", "parents")
	wanted, _, _ := unstructured.NestedSlice(route.Object, "spec", "parentRefs")
	of := 0
	for _, parent := range parents {
		o, _ := parent.(map[string]any)
		if ref, _ := o["parentRef"].(map[string]any); ref != nil && !slices.ContainsFunc(wanted, func(w any) bool {
			m, _ := w.(map[string]any)
			return sameParent(m, ref, route.GetNamespace())
		}) {
			continue
		}
		of++
		conditions, _, _ := unstructured.NestedSlice(o, "conditions")
		accepted := false
		for _, c := range conditions {
			m, _ := c.(map[string]any)
			switch of, _, _ := unstructured.NestedInt64(m, "observedGeneration"); {
			case of < generation:
			case m["type"] == "Accepted":
				accepted = m["status"] == "True"
			case m["type"] == "ResolvedRefs" && m["status"] != "True":
				return false
			}
		}
		if !accepted {
			return false
		}
	}
	return of > 0
}

// sameParent reports whether two references are to the same gateway, and the same listener of it.
func sameParent(a, b map[string]any, namespace string) bool {
	for name, left := range map[string]any{"group": "gateway.networking.k8s.io", "kind": "Gateway", "name": nil,
		"namespace": namespace, "sectionName": nil, "port": nil} {
		of := func(ref map[string]any) string {
			if value, said := ref[name]; said {
				return fmt.Sprint(value)
			}
			return fmt.Sprint(left)
		}
		if of(a) != of(b) {
			return false
		}
	}
	return true
}

// refused is what the gateways of a route say against it; "" for nothing.
func refused(route *unstructured.Unstructured) string {
	parents, _, _ := unstructured.NestedSlice(route.Object, "status", "parents")
	for _, parent := range parents {
		o, _ := parent.(map[string]any)
		conditions, _, _ := unstructured.NestedSlice(o, "conditions")
		for _, c := range conditions {
			if m, _ := c.(map[string]any); m["status"] == "False" {
				return fmt.Sprintf("%v: %v: %v", m["type"], m["reason"], m["message"])
			}
		}
	}
	return ""
}

// try is an error if changes would be refused: one that changes nothing is sent for trial.
func (d *Driver) try(ctx context.Context) error {
	s, err := d.look(ctx)
	if err != nil {
		return err
	}
	_, err = d.patch(ctx, []step{{"replace", path("metadata", "annotations", orderNote),
		s.object.GetAnnotations()[orderNote]}}, true)
	return err
}

// Read is the split in force.
func (d *Driver) Read(ctx context.Context) (reading.Front, error) {
	since := d.steering.ChangeMark()
	s, err := d.glance(ctx)
	if err != nil {
		return reading.Front{}, err
	}
	if s.damaged != nil {
		return reading.Front{}, s.damaged
	}
	known := d.steering.Instances()
	r := reading.Front{At: time.Now(), Tells: reading.Capabilities{Both: true}}
	if r.Split, r.Order, err = d.steering.Known(since, s); err != nil {
		return reading.Front{}, err
	}
	if d.config.Route != "" && !seen(s.object, s.object.GetGeneration()) {
		r.Notice = d.config.named() + " was changed, and its gateway does not say that it goes by that"
		if why := refused(s.object); why != "" {
			r.Notice += ": " + why
		}
	}
	for _, side := range split.Sides {
		r.Sides[side] = known.Side(side, s.of(side))
	}
	d.counts.Count(ctx, &r)
	return r, nil
}

// Drain gives up a side that gets nothing. Open are the requests that came to it last, where instances tell, and 0
// once none have come for a while: connections stay when the selector does not.
func (d *Driver) Drain(ctx context.Context, side split.Side) (front.Left, error) {
	r, err := front.Quieted(ctx, d, side)
	if err != nil {
		return front.Left{}, err
	}
	return front.Left{Open: d.counts.Stragglers(side, r)}, nil
}

// Foresee is what Set would do; the server itself has said that it would (a dry run).
func (d *Driver) Foresee(ctx context.Context, share split.Share) (front.Change, error) {
	c := front.Change{Usually: time.Second, Connections: "the gateway lets requests that are being answered end, and " +
		"places the next ones anew"}
	if d.config.Service != "" {
		c.Connections = "connections stay where they are until clients or instances close them"
	}
	c, err := d.steering.Foresee(ctx, share, c)
	if err != nil {
		return c, err
	}
	s, err := d.look(ctx)
	if err != nil {
		return c, err
	}
	steps, _, _, err := d.change(s, share, nil)
	if err == nil {
		_, err = d.patch(ctx, steps, true)
	}
	return c, err
}

// Set puts a share in force, if the front still is as expected.
func (d *Driver) Set(ctx context.Context, share split.Share, e front.Expect) (front.Done, error) {
	return d.steering.Set(ctx, share, e)
}

// Home sends all requests to a side.
func (d *Driver) Home(ctx context.Context, h front.Homing) (front.Done, error) {
	return d.steering.Home(ctx, h)
}

// Rehearse does everything of going home but the change, which the API is asked to try.
func (d *Driver) Rehearse(ctx context.Context, side split.Side) ([]wayback.Step, error) {
	return d.steering.Rehearse(ctx, side)
}

// NewTerm begins another term.
func (d *Driver) NewTerm(ctx context.Context, after uint64) (uint64, error) {
	return d.steering.NewTerm(ctx, after)
}

// SetInstances gives a side other instances, by labels of the pods that have their addresses: those that come first,
// and then those that go.
func (d *Driver) SetInstances(ctx context.Context, side split.Side, wanted []reading.Server) error {
	return d.steering.SetInstances(ctx, side, wanted,
		func(changing context.Context, s state, _ front.Known, _ told.Wanted) error {
			return d.give(changing, s, side, wanted)
		})
}

func (d *Driver) give(ctx context.Context, s state, side split.Side, wanted []reading.Server) error {
	takes := front.Takes(wanted)
	var come, leave []func() error
	var listed []string
	for n, i := range wanted {
		host, _, _ := net.SplitHostPort(i.Address)
		k := slices.IndexFunc(s.pods, func(p pod) bool { return p.ip == host })
		if k < 0 {
			return fmt.Errorf("%w: no pod of %q has the address of %s, %s", front.ErrRefused, d.config.Pods, i.Name,
				i.Address)
		}
		p := s.pods[k]
		if takes[n] && p.ready {
			listed = append(listed, p.name)
		}
		change := func() error { return d.label(ctx, p, &member{side, i}, takes[n]) }
		if takes[n] {
			come = append(come, change)
		} else {
			leave = append(leave, change)
		}
	}
	for _, p := range s.pods {
		kept := slices.ContainsFunc(wanted, func(i reading.Server) bool {
			host, _, _ := net.SplitHostPort(i.Address)
			return host == p.ip
		})
		// One that was made anew and is not known yet stays, as long as its side does.
		if p.member != nil && p.member.Side == side && !kept || p.member == nil && p.takes(side) && len(wanted) == 0 {
			leave = append(leave, func() error { return d.label(ctx, p, nil, false) })
		}
	}
	slices.Sort(listed)
	if s.damaged != nil && !errors.Is(s.damaged, front.ErrNotMade) {
		return s.damaged
	}
	leads, err := d.leads(s, side, listed)
	if err != nil {
		return err
	}
	for _, change := range come {
		if err := change(); err != nil {
			return err
		}
	}
	if leads != nil {
		if _, err := d.patch(ctx, leads, false); err != nil {
			return err
		}
	}
	if err := d.listed(ctx, side); err != nil { // nobody goes before those that come are there
		return err
	}
	for _, change := range leave {
		if err := change(); err != nil {
			return err
		}
	}
	return d.listed(ctx, side)
}

// listed waits until the service that leads to a side, if one does, lists all of it that take requests, and nobody
// else.
func (d *Driver) listed(ctx context.Context, side split.Side) error {
	return d.until(ctx, "the endpoint slices do not list who is to serve", func(now state) bool {
		service := d.config.Services[side]
		if d.config.Service != "" && now.selector[serves] == side.String() {
			service = d.config.Service
		}
		return service == "" || slices.Equal(now.endpoints[service], now.serving(split.Toward(side, split.Whole)))
	})
}

// leads are the steps by which a service that leads to whoever is there leads to one side alone, before there is
// another one that it could lead to: to this one, if all whom it leads to are of it, and to nobody yet, if it leads
// to nobody. nil if it leads to one already.
func (d *Driver) leads(s state, side split.Side, listed []string) ([]step, error) {
	if d.config.Service == "" || s.selector[serves] != "" || len(s.of(side.Other())) > 0 {
		return nil, nil
	}
	for _, name := range s.endpoints[d.config.Service] {
		if !slices.Contains(listed, name) &&
			!slices.ContainsFunc(s.pods, func(p pod) bool { return p.name == name && p.takes(side) }) {
			return nil, fmt.Errorf("%w: %s leads to pod %s, which is an instance of neither side: name the live side "+
				"first", front.ErrRefused, d.config.named(), name)
		}
	}
	selector := maps.Clone(s.selector)
	if selector == nil {
		selector = map[string]string{}
	}
	if selector[serves] = side.String(); len(s.endpoints[d.config.Service]) == 0 {
		selector[serves] = split.Blue.String()
	}
	return []step{{"test", path("spec", "selector"), s.selector}, {"add", path("spec", "selector"), selector}}, nil
}

// label says of a pod what it is, and whether it takes requests. It changes nothing where that is said already.
func (d *Driver) label(ctx context.Context, p pod, m *member, takes bool) error {
	var steps []step
	if p.labels[serves] != "" && !takes {
		steps = append(steps, step{Op: "remove", Path: path("metadata", "labels", serves)})
	}
	if m != nil {
		text, err := json.Marshal(m)
		if err != nil {
			return err
		}
		if p.member == nil || *p.member != *m {
			if !p.noted {
				steps = append(steps, step{"add", path("metadata", "annotations"), map[string]string{}})
			}
			steps = append(steps, step{"add", path("metadata", "annotations", instanceNote), string(text)})
		}
		if takes && p.labels[serves] != m.Side.String() {
			steps = append(steps, step{"add", path("metadata", "labels", serves), m.Side.String()})
		}
	} else if p.member != nil {
		steps = append(steps, step{Op: "remove", Path: path("metadata", "annotations", instanceNote)})
	}
	if len(steps) == 0 {
		return nil
	}
	c, err := d.asks.Open()
	if err != nil {
		return translated(err)
	}
	text, err := json.Marshal(steps)
	if err != nil {
		return err
	}
	defer d.around.Forget()
	_, err = c.Patch(ctx, cluster.Pods, p.name, text, false)
	return translated(err)
}

// Prepare notes at the route or service that it is steered. What it leads to stays: pods that serve are labeled first.
func (d *Driver) Prepare(ctx context.Context, sides front.Known) (made bool, err error) {
	s, err := d.look(ctx)
	switch {
	case err != nil:
		return false, err
	case !errors.Is(s.damaged, front.ErrNotMade):
		return false, s.damaged
	}
	note, err := json.Marshal(reading.Order{})
	if err != nil {
		return false, err
	}
	var steps []step
	if s.object.GetAnnotations() == nil {
		steps = append(steps, step{"add", path("metadata", "annotations"), map[string]string{}})
	}
	steps = append(steps, step{"add", path("metadata", "annotations", orderNote), string(note)})
	if d.config.Service != "" && s.selector[serves] == "" && len(s.pods)+len(s.endpoints[d.config.Service]) == 0 {
		// Nobody serves yet: what is raised is not to be led to before it is proven.
		selector := maps.Clone(s.selector)
		if selector == nil {
			selector = map[string]string{}
		}
		selector[serves] = split.Blue.String()
		steps = append(steps, step{"add", path("spec", "selector"), selector})
	}
	if _, err := d.patch(ctx, steps, false); err != nil {
		return false, err
	}
	for _, side := range split.Sides {
		if len(sides[side]) == 0 {
			continue
		}
		now, err := d.look(ctx)
		if err == nil {
			err = d.give(ctx, now, side, sides[side])
		}
		if err != nil {
			return true, err
		}
	}
	return true, nil
}

// Lacks are the rights that whoever the kubeconfig is for does not have, and what pods lack that are made anew while
// nobody keeps.
func (d *Driver) Lacks(ctx context.Context) ([]string, error) {
	c, err := d.asks.Open()
	if err != nil {
		return nil, translated(err)
	}
	of, name := d.config.steered()
	rights := []cluster.Right{
		{Verb: "get", Of: of, Name: name}, {Verb: "patch", Of: of, Name: name}, {Verb: "watch", Of: of},
		{Verb: "list", Of: cluster.Pods}, {Verb: "watch", Of: cluster.Pods}, {Verb: "patch", Of: cluster.Pods},
		{Verb: "list", Of: cluster.EndpointSlices}, {Verb: "watch", Of: cluster.EndpointSlices},
	}
	if d.config.Reach == plan.Forwarded {
		rights = append(rights, cluster.Right{Verb: "create", Of: cluster.Pods, Part: "portforward"})
	}
	missing, err := c.Missing(ctx, rights...)
	var list []string
	for _, r := range missing {
		list = append(list, "the right to "+r.String())
	}
	if err != nil {
		return list, translated(err)
	}
	s, err := d.look(ctx)
	for _, side := range split.Sides {
		if n := slices.IndexFunc(s.pods, func(p pod) bool { return p.ours && p.takes(side) }); n >= 0 {
			list = append(list, fmt.Sprintf("the label %s: %v in the template that pod %s was made from. One that is "+
				"made anew, as a node is drained say, gets no requests until a keeper has seen it", serves, side,
				s.pods[n].name))
		}
	}
	return list, err
}
