package cluster

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/goccy/go-yaml"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	api "vaiven/internal/world/cluster"
	"vaiven/internal/world/permit"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
)

// What Vaiven writes at Deployments and their pods.
const (
	appLabel    = "app"
	partLabel   = "vaiven/part"
	sideLabel   = api.Side
	serviceNote = "vaiven/service"
	versionNote = "vaiven/version"
	buildNote   = "vaiven/build"

	// Variables that stand for what a plan's placeholders mean at a pod: {instance} and {host} are known when it runs.
	instanceVariable = "VAIVEN_INSTANCE"
	hostVariable     = "VAIVEN_HOST"
)

// Driver raises, lists and stops the instances of one part as pods; see [stack.Driver].
type Driver struct {
	service string
	part    *plan.Part
	first   bool
	secrets secret.Values

	turn place.Turn // of whoever starts or stops instances
	asks [2]api.Later
	kept [2]api.Kept[[]pod]

	mu   sync.Mutex           // protects said
	said [2]map[string]output // by pod
}

// New makes the driver for a part of a plan. Nothing is asked yet.
func New(p *plan.Plan, part int, secrets secret.Values) *Driver {
	d := &Driver{service: p.Service, part: &p.Parts[part], first: part == 0, secrets: secrets, turn: place.NewTurn()}
	for side, s := range d.part.Stacks {
		d.asks[side].Config = s.Cluster.API
	}
	return d
}

// client asks for a side.
func (d *Driver) client(side split.Side) (*api.Client, error) {
	c, err := d.asks[side].Open()
	return c, told(err)
}

// told wraps what callers branch on.
func told(err error) error {
	if errors.Is(err, api.ErrUnreachable) {
		return fmt.Errorf("%w: %w", stack.ErrUnreachable, err)
	}
	return err
}

// name is that of a side's Deployment.
func (d *Driver) name(side split.Side) string {
	if name := d.part.Stacks[side].Cluster.Name; name != "" {
		return plan.Expand(name, reading.Instance{Part: d.part.Name, Side: side}.Values(d.service))
	}
	if d.first {
		return d.service + "-" + side.String()
	}
	return d.service + "-" + d.part.Name + "-" + side.String()
}

type object = map[string]any

// values are what placeholders stand for in a Deployment: those of a pod are variables that the orchestrator fills in.
func (d *Driver) values(side split.Side, b stack.Build) map[string]string {
	port := d.part.Stacks[side].Port
	v := reading.Instance{Part: d.part.Name, Side: side, Version: b.Version, Build: b.ID}.Values(d.service)
	v["instance"], v["host"], v["port"] = "$("+instanceVariable+")", "$("+hostVariable+")", strconv.Itoa(port)
	v["address"] = fmt.Sprintf("$(%s):%d", hostVariable, port)
	return v
}

// labels are those by which a side's pods are known.
func (d *Driver) labels(side split.Side) object {
	return object{appLabel: d.service, partLabel: d.part.Name, sideLabel: side.String()}
}

// deployment is what is to be there of a side: all of it, or of one that somebody else has made no more than Vaiven
// needs, as now says, which is nil where there is none.
func (d *Driver) deployment(side split.Side, b stack.Build, now *unstructured.Unstructured) (*unstructured.Unstructured,
	error) {
	s := d.part.Stacks[side]
	o := object{}
	theirs := now != nil && !d.made(side, now)
	if s.Cluster.Template == "" && theirs {
		container, err := d.their(side, b, now)
		if err != nil {
			return nil, err
		}
		o["spec"] = object{"template": object{"spec": object{"containers": []any{container}}}}
	} else if s.Cluster.Template != "" {
		text, err := os.ReadFile(s.Cluster.Template)
		if err != nil {
			return nil, fmt.Errorf("the template: %w", err)
		}
		filled := d.secrets.Fill(string(text), d.values(side, b), nil)
		if err := yaml.Unmarshal([]byte(filled), &o); err != nil {
			return nil, fmt.Errorf("the template %s: %w", s.Cluster.Template, err)
		}
		written, err := json.Marshal(o) // so that there are no other kinds of numbers and maps than an API has
		if err == nil {
			o = object{}
			err = json.Unmarshal(written, &o)
		}
		if err != nil {
			return nil, fmt.Errorf("the template %s: %w", s.Cluster.Template, err)
		}
		if o["kind"] != "Deployment" {
			return nil, fmt.Errorf("the template %s is no Deployment, but %v", s.Cluster.Template, o["kind"])
		}
	} else {
		o["spec"] = object{"strategy": object{"type": "Recreate"}, "template": object{"spec": d.pod(side, b)}}
	}
	u := &unstructured.Unstructured{Object: o}
	u.SetAPIVersion("apps/v1")
	u.SetKind("Deployment")
	u.SetName(d.name(side))
	u.SetNamespace("")
	unstructured.RemoveNestedField(o, "status")
	labels := d.labels(side)
	paths := [][]string{{"metadata", "labels"}, {"spec", "template", "metadata", "labels"},
		{"spec", "selector", "matchLabels"}}
	if theirs { // its selector is what it is, and its labels may have to be so
		delete(labels, appLabel)
		paths = paths[:2]
		unstructured.RemoveNestedField(o, "spec", "selector")
	}
	for _, path := range paths {
		for name, value := range labels {
			if err := unstructured.SetNestedField(o, value, append(path, name)...); err != nil {
				return nil, fmt.Errorf("the template: %w", err)
			}
		}
	}
	if d.first { // who is made anew serves, whoever keeps
		if err := unstructured.SetNestedField(o, side.String(), "spec", "template", "metadata", "labels",
			api.Serves); err != nil {
			return nil, fmt.Errorf("the template: %w", err)
		}
	}
	for name, value := range map[string]string{serviceNote: d.service, versionNote: b.Version, buildNote: b.ID} {
		if err := unstructured.SetNestedField(o, value, "spec", "template", "metadata", "annotations",
			name); err != nil {
			return nil, fmt.Errorf("the template: %w", err)
		}
	}
	return u, unstructured.SetNestedField(o, int64(b.Number(s)), "spec", "replicas")
}

// made reports whether we have made a Deployment: by its selector, which nobody can change.
func (d *Driver) made(side split.Side, now *unstructured.Unstructured) bool {
	selects, _, _ := unstructured.NestedStringMap(now.Object, "spec", "selector", "matchLabels")
	for name, value := range d.labels(side) {
		if selects[name] != value {
			return false
		}
	}
	return true
}

// their is what is to be there of the container of a Deployment that somebody else has made: its image, and what the
// plan says of its command and environment.
func (d *Driver) their(side split.Side, b stack.Build, now *unstructured.Unstructured) (object, error) {
	containers, _, _ := unstructured.NestedSlice(now.Object, "spec", "template", "spec", "containers")
	own, name := d.own(containers), d.name(side)
	if own == nil || len(containers) > 1 && own["name"] != d.part.Name {
		return nil, fmt.Errorf("deployment %s has several containers, and none is called %s: name the plan's part like "+
			"the one whose image is a version", name, d.part.Name)
	}
	whole := d.pod(side, b)["containers"].([]any)[0].(object)
	c := object{"name": own["name"], "image": whole["image"], "env": whole["env"]}
	if args, said := whole["args"]; said {
		c["args"] = args
	}
	return c, nil
}

// scaler is how many pods an autoscaler keeps of a side's Deployment at the least and at the most, 0 where there is
// none, or none that may be seen.
func (d *Driver) scaler(ctx context.Context, c *api.Client, side split.Side) (least, most int) {
	list, err := c.List(ctx, api.Autoscalers, "")
	if err != nil {
		return 0, 0
	}
	for _, o := range list {
		of, _, _ := unstructured.NestedStringMap(o.Object, "spec", "scaleTargetRef")
		if of["kind"] == "Deployment" && of["name"] == d.name(side) {
			few, told, _ := unstructured.NestedInt64(o.Object, "spec", "minReplicas")
			if !told {
				few = 1 // the API's default
			}
			many, _, _ := unstructured.NestedInt64(o.Object, "spec", "maxReplicas")
			return int(few), int(many)
		}
	}
	return 0, 0
}

// pod is what a pod is made of where there is no template.
func (d *Driver) pod(side split.Side, b stack.Build) object {
	s, values := d.part.Stacks[side], d.values(side, b)
	field := func(name, path string) object {
		return object{"name": name, "valueFrom": object{"fieldRef": object{"fieldPath": path}}}
	}
	env := []any{field(instanceVariable, "metadata.name"), field(hostVariable, "status.podIP")}
	environment := b.Environment(s.Environment, func(value string) string { return d.secrets.Fill(value, values, nil) })
	for _, name := range slices.Sorted(maps.Keys(environment)) {
		env = append(env, object{"name": name, "value": environment[name]})
	}
	c := object{
		"name": d.part.Name, "image": plan.Expand(s.Image, values), "env": env,
		"ports": []any{object{"containerPort": int64(s.Port)}},
	}
	if len(s.Command) > 0 {
		var args []any
		for _, w := range s.Command {
			args = append(args, d.secrets.Fill(w, values, nil))
		}
		c["args"] = args
	}
	if h, ok := d.part.Health.What.(plan.HTTP); ok && strings.HasPrefix(h.URL, "/") && h.Method == "GET" {
		c["readinessProbe"] = object{"httpGet": object{"path": h.URL, "port": int64(s.Port)},
			"periodSeconds": int64(max(d.part.Health.Every.Seconds(), 1))}
	}
	limits := object{}
	if m := max(s.Memory, b.Like.Memory); m > 0 {
		limits["memory"] = strconv.FormatInt(m, 10)
	}
	if n := max(s.CPUs, b.Like.CPUs); n > 0 {
		limits["cpu"] = fmt.Sprintf("%dm", int(1000*n))
	}
	if len(limits) > 0 {
		c["resources"] = object{"limits": limits}
	}
	return object{"terminationGracePeriodSeconds": int64(max(s.Grace.Seconds(), 1)), "containers": []any{c}}
}

// Raise makes the side's Deployment as it is to be, and waits until its pods run, and no others. What an image or a
// container lacks is said as soon as the orchestrator says it.
func (d *Driver) Raise(ctx context.Context, side split.Side, b stack.Build) error {
	if err := d.turn.Take(ctx); err != nil {
		return err
	}
	defer d.turn.Give()
	c, err := d.client(side)
	if err != nil {
		return err
	}
	if err := d.allowed(ctx, c, side); err != nil {
		return err
	}
	now, err := c.Get(ctx, api.Deployments, d.name(side))
	if errors.Is(err, api.ErrMissing) {
		now, err = nil, nil
	}
	if err != nil {
		return told(err)
	}
	o, err := d.deployment(side, b, now)
	if err != nil {
		return err
	}
	s := d.part.Stacks[side]
	least, most := d.scaler(ctx, c, side)
	scaled := least > 0
	switch {
	case !scaled:
		least = b.Number(s)
	case least != b.Number(s):
		return fmt.Errorf("deployment %s has an autoscaler, which keeps %d to %d pods, and %d are to be raised: write "+
			"\"instances: %[2]d\"", d.name(side), least, most, b.Number(s))
	case now != nil: // it is the autoscaler's affair, unless there are none, where that does nothing
		if n, _, _ := unstructured.NestedInt64(now.Object, "spec", "replicas"); n > 0 {
			unstructured.RemoveNestedField(o.Object, "spec", "replicas")
		}
	}
	defer d.kept[side].Forget()
	if err := permit.Ask(ctx); err != nil {
		return err
	}
	if _, err := c.Apply(ctx, api.Deployments, o, false, now != nil && !d.made(side, now)); err != nil {
		if errors.Is(err, api.ErrChanged) {
			err = fmt.Errorf("deployment %s: %w: agree with whoever that is, or take it out of there", d.name(side),
				err)
		}
		return told(err)
	}
	limited, cancel := context.WithTimeout(ctx, s.Raise+s.Grace)
	defer cancel()
	begun := time.Now()
	return d.until(limited, c, side, func(list []pod) (bool, error) {
		up, others := 0, 0
		var failed []error
		for _, p := range list {
			switch {
			case p.over:
				continue
			case p.build != b.ID || p.version != b.Version || p.going:
				others++
			case p.running:
				up++
			case stuck(p.reason):
				failed = append(failed, fmt.Errorf("%s: %s", p.instance(side), p.exit))
			default:
				others++
			}
		}
		if len(failed) > 0 {
			return false, errors.Join(failed...)
		}
		if up >= least && (up == least || scaled) && others == 0 {
			return true, nil
		}
		return false, d.denied(limited, c, side, begun)
	})
}

// deniedFor is how long an orchestrator may refuse to make pods: what there was of another version may still go, and
// give back what it has.
const deniedFor = 10 * time.Second

// denied is why a side's pods are not made, once that has lasted for a while: for want of a quota, say.
func (d *Driver) denied(ctx context.Context, c *api.Client, side split.Side, begun time.Time) error {
	if time.Since(begun) < deniedFor {
		return nil
	}
	o, err := c.Get(ctx, api.Deployments, d.name(side))
	if err != nil {
		return nil // it is asked again
	}
	conditions, _, _ := unstructured.NestedSlice(o.Object, "status", "conditions")
	for _, condition := range conditions {
		if m, _ := condition.(object); m["type"] == "ReplicaFailure" && m["status"] == "True" {
			return fmt.Errorf("its pods are not made: %v: %v", m["reason"], m["message"])
		}
	}
	return nil
}

// allowed says which rights are missing to raise a side, see to it, and stop it again.
func (d *Driver) allowed(ctx context.Context, c *api.Client, side split.Side) error {
	s, name := d.part.Stacks[side].Cluster, d.name(side)
	rights := []api.Right{
		{Verb: "create", Of: api.Deployments}, {Verb: "get", Of: api.Deployments, Name: name},
		{Verb: "patch", Of: api.Deployments, Name: name},
		{Verb: "list", Of: api.Pods}, {Verb: "watch", Of: api.Pods}, {Verb: "get", Of: api.Pods, Part: "log"},
	}
	if !s.Scales {
		rights = append(rights, api.Right{Verb: "delete", Of: api.Deployments, Name: name})
	}
	if s.Reach == plan.Forwarded {
		rights = append(rights, api.Right{Verb: "create", Of: api.Pods, Part: "portforward"})
	}
	if d.enters() {
		rights = append(rights, api.Right{Verb: "get", Of: api.Pods, Part: "exec"},
			api.Right{Verb: "create", Of: api.Pods, Part: "exec"})
	}
	missing, err := c.Missing(ctx, rights...)
	if err != nil || len(missing) == 0 {
		return told(err)
	}
	var list []string
	for _, r := range missing {
		list = append(list, r.String())
	}
	return fmt.Errorf("whoever the kubeconfig is for has no right to %s", strings.Join(list, ", "))
}

// enters reports whether something is asked from inside pods, or read there.
func (d *Driver) enters() bool { return len(d.part.Needs) > 0 || len(d.part.Configuration) > 0 }

// gated is why a pod that runs gets nothing yet: somebody has not opened one of its readiness gates.
const gated = "ReadinessGatesNotReady"

// comes reports whether a pod waits for what may come by waiting: an image, a node for it, or somebody's word.
func comes(reason string) bool {
	return slices.Contains([]string{"ErrImagePull", "ImagePullBackOff", "Unschedulable", gated}, reason)
}

// stuck reports whether a pod waits for what will not come by waiting.
func stuck(reason string) bool {
	return slices.Contains([]string{"InvalidImageName", "ErrImageNeverPull", "CreateContainerConfigError",
		"CreateContainerError", "RunContainerError", "CrashLoopBackOff"}, reason)
}

// until looks at a side's pods whenever they have changed.
func (d *Driver) until(ctx context.Context, c *api.Client, side split.Side, so func([]pod) (bool, error)) error {
	var last error
	err := c.Until(ctx, func() (bool, error) {
		list, err := d.pods(ctx, c, side)
		if err == nil {
			last = fmt.Errorf("its pods are not as they should be in time: %s", inWords(list))
			return so(list)
		}
		if ctx.Err() == nil {
			last = err
		}
		return false, nil
	}, d.watched(side))
	if err != nil && ctx.Err() != nil && last != nil {
		return last
	}
	return err
}

func inWords(list []pod) string {
	var words []string
	for _, p := range list {
		state := "running"
		if !p.running {
			state = cmp.Or(p.exit, "beginning")
		}
		if p.going {
			state = "ending"
		}
		words = append(words, p.name+" "+state)
	}
	if len(words) == 0 {
		return "no pods"
	}
	return strings.Join(words, ", ")
}

// watched is what tells of changes of a side's pods.
func (d *Driver) watched(side split.Side) api.Watched {
	return api.Watched{Of: api.Pods, Labels: d.selector(side)}
}

// selector is what the pods of a side have.
func (d *Driver) selector(side split.Side) string {
	return fmt.Sprintf("%s=%s,%s=%v", partLabel, d.part.Name, sideLabel, side)
}

// pod is one as the API has it.
type pod struct {
	name, version, build, ip, node string
	container                      string // of its containers, the one that is the part's
	running, going                 bool
	over                           bool   // it has ended for good, and another one is made in its place
	reason                         string // why it waits, as the API says it; "" if it does not
	exit                           string // the same, or how it ended, in words
	started                        time.Time
	restarts                       int64
	spec                           object // of its container
}

// same reports whether nothing has become of a pod.
func (p pod) same(now pod) bool {
	return p.running == now.running && p.exit == now.exit && p.started.Equal(now.started) && p.restarts == now.restarts
}

// beginning are the reasons for which a container waits that has only just begun.
var beginning = []string{"ContainerCreating", "PodInitializing"}

// own is the container of a pod that is the part's: the one that is called so, or the first.
func (d *Driver) own(containers []any) object {
	var first object
	for _, one := range containers {
		c, _ := one.(object)
		if c["name"] == d.part.Name {
			return c
		}
		if first == nil {
			first = c
		}
	}
	return first
}

// instance is what it is called as one of a side.
func (p pod) instance(side split.Side) string {
	return side.String() + "-" + p.name[strings.LastIndexByte(p.name, '-')+1:]
}

// pods are those of a side.
func (d *Driver) pods(ctx context.Context, c *api.Client, side split.Side) ([]pod, error) {
	objects, err := c.List(ctx, api.Pods, d.selector(side))
	if err != nil {
		return nil, told(err)
	}
	var list []pod
	for _, o := range objects {
		if o.GetLabels()[appLabel] != d.service && o.GetAnnotations()[serviceNote] != d.service {
			continue // of another service
		}
		p := pod{name: o.GetName(), version: o.GetAnnotations()[versionNote], build: o.GetAnnotations()[buildNote],
			going: o.GetDeletionTimestamp() != nil}
		p.ip, _, _ = unstructured.NestedString(o.Object, "status", "podIP")
		p.node, _, _ = unstructured.NestedString(o.Object, "spec", "nodeName")
		containers, _, _ := unstructured.NestedSlice(o.Object, "spec", "containers")
		p.spec = d.own(containers)
		p.container, _ = p.spec["name"].(string)
		if phase, _, _ := unstructured.NestedString(o.Object, "status", "phase"); phase == "Failed" ||
			phase == "Succeeded" {
			p.over, p.exit = true, phase
			if reason, _, _ := unstructured.NestedString(o.Object, "status", "reason"); reason != "" {
				message, _, _ := unstructured.NestedString(o.Object, "status", "message")
				p.exit = strings.TrimSuffix(reason+": "+message, ": ")
			}
			list = append(list, p)
			continue
		}
		conditions, _, _ := unstructured.NestedSlice(o.Object, "status", "conditions")
		for _, condition := range conditions {
			m, _ := condition.(object)
			if m["type"] == "PodScheduled" && m["status"] == "False" {
				p.reason, _ = m["reason"].(string)
				p.exit = strings.TrimSpace(fmt.Sprintf("%s: %v", p.reason, m["message"]))
			}
		}
		statuses, _, _ := unstructured.NestedSlice(o.Object, "status", "containerStatuses")
		if n := slices.IndexFunc(statuses, func(s any) bool { return s.(object)["name"] == p.container }); n >= 0 {
			s, _ := statuses[n].(object)
			p.restarts, _, _ = unstructured.NestedInt64(s, "restartCount")
			if at, _, _ := unstructured.NestedString(s, "state", "running", "startedAt"); at != "" {
				p.running = true
				p.started, _ = time.Parse(time.RFC3339Nano, at)
			}
			if reason, _, _ := unstructured.NestedString(s, "state", "waiting", "reason"); reason != "" &&
				!slices.Contains(beginning, reason) {
				message, _, _ := unstructured.NestedString(s, "state", "waiting", "message")
				p.reason, p.exit = reason, strings.TrimSuffix(reason+": "+message, ": ")
			}
			if p.reason == "CrashLoopBackOff" || !p.running && p.reason == "" {
				for _, state := range []string{"state", "lastState"} {
					if code, found, _ := unstructured.NestedInt64(s, state, "terminated", "exitCode"); found {
						reason, _, _ := unstructured.NestedString(s, state, "terminated", "reason")
						p.exit = fmt.Sprintf("exit status %d (%s)", code, reason)
						if p.restarts > 0 {
							p.exit += fmt.Sprintf(", started %d times", p.restarts)
						}
						break
					}
				}
			}
		}
		if gate := closed(&o, conditions); p.running && gate != "" {
			p.running, p.reason, p.exit = false, gated, "the readiness gate "+gate+" is not open"
		}
		list = append(list, p)
	}
	slices.SortFunc(list, func(a, b pod) int { return strings.Compare(a.name, b.name) })
	return list, nil
}

// closed is the first of a pod's readiness gates that nobody has opened; "" if none is.
func closed(o *unstructured.Unstructured, conditions []any) string {
	gates, _, _ := unstructured.NestedSlice(o.Object, "spec", "readinessGates")
	for _, g := range gates {
		m, _ := g.(object)
		gate, _ := m["conditionType"].(string)
		if !slices.ContainsFunc(conditions, func(c any) bool {
			m, _ := c.(object)
			return m["type"] == gate && m["status"] == "True"
		}) {
			return gate
		}
	}
	return ""
}

// outputLines is how many lines of a pod's log are read.
const outputLines = 40

// outputAge is how long what a pod has said is not asked for again, if nothing has become of the pod meanwhile.
const outputAge = 5 * time.Second

// output is what a pod has said at a time.
type output struct {
	lines []string
	at    time.Time
	of    pod
}

// List is every pod of the side that has begun, or cannot, as watches tell it.
func (d *Driver) List(ctx context.Context, side split.Side) ([]reading.Instance, error) {
	ctx, cancel := context.WithTimeout(ctx, stack.ReadLimit)
	defer cancel()
	c, err := d.client(side)
	if err != nil {
		return nil, err
	}
	if _, err := c.Get(ctx, api.Deployments, d.name(side)); err != nil && !errors.Is(err, api.ErrMissing) {
		return nil, told(err) // a watch that is silent does not say that the API answers
	}
	all, err := d.kept[side].Get(c, func() ([]pod, error) { return d.pods(ctx, c, side) }, d.watched(side))
	if err != nil {
		return nil, err
	}
	var pods []pod
	for _, p := range all {
		if !p.going && !p.over && (p.running || p.exit != "") {
			pods = append(pods, p)
		}
	}
	d.mu.Lock()
	before, now := d.said[side], map[string]output{}
	d.mu.Unlock()
	outputs := make([]output, len(pods))
	list := make([]reading.Instance, len(pods))
	var wait sync.WaitGroup
	for n, p := range pods {
		list[n] = reading.Instance{
			Name: p.instance(side), Part: d.part.Name, Side: side, Version: p.version, Build: p.build, Place: p.node,
			Address: net.JoinHostPort(p.ip, strconv.Itoa(d.part.Stacks[side].Port)), Started: p.started,
			Running: p.running,
		}
		switch {
		case p.running:
		case comes(p.reason):
			list[n].Waits = p.exit
		default:
			list[n].Exit = p.exit
		}
		if o := before[p.name]; time.Since(o.at) < outputAge && o.of.same(p) {
			outputs[n] = o
			continue
		}
		wait.Go(func() {
			at := time.Now()
			text, err := c.Log(ctx, api.Container{Pod: p.name, Name: p.container}, outputLines, stack.OutputTail)
			outputs[n] = output{before[p.name].lines, at, p}
			if err == nil {
				outputs[n].lines = stack.Lines(bytes.TrimLeft(text, "\n"))
			} else if outputs[n].lines == nil { // how it is stands in its status, whatever its node says
				outputs[n].lines = []string{fmt.Sprintf("(its log cannot be read: %v)", told(err))}
			}
		})
	}
	wait.Wait()
	for n, p := range pods {
		list[n].Output, now[p.name] = outputs[n].lines, outputs[n]
	}
	d.mu.Lock()
	d.said[side] = now
	d.mu.Unlock()
	return list, nil
}

// Stop takes the side's Deployment away, or leaves it there without pods, and waits until they are gone. The
// orchestrator asks each to end first.
func (d *Driver) Stop(ctx context.Context, side split.Side) error {
	if err := d.turn.Take(ctx); err != nil {
		return err
	}
	defer d.turn.Give()
	c, err := d.client(side)
	if err != nil {
		return err
	}
	if err := permit.Ask(ctx); err != nil {
		return err
	}
	defer d.kept[side].Forget()
	s := d.part.Stacks[side]
	limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), s.Grace+stopLimit)
	defer cancel()
	now, err := c.Get(limited, api.Deployments, d.name(side))
	switch {
	case errors.Is(err, api.ErrMissing):
		err = nil
	case err != nil:
	case s.Cluster.Scales || !d.made(side, now): // what others have made is not ours to take away
		_, err = c.Patch(limited, api.Deployments, d.name(side),
			[]byte(`[{"op":"add","path":"/spec/replicas","value":0}]`), false)
		if errors.Is(err, api.ErrMissing) {
			err = nil
		}
	default:
		err = c.Delete(limited, api.Deployments, d.name(side))
	}
	if err != nil {
		return told(err)
	}
	return d.until(limited, c, side, func(list []pod) (bool, error) {
		return !slices.ContainsFunc(list, func(p pod) bool { return !p.over }), nil
	})
}

// stopLimit is how long a cluster may take to take pods away, beside what they have to end.
const stopLimit = 30 * time.Second

// find is the pod of an instance.
func (d *Driver) find(ctx context.Context, i reading.Instance) (*api.Client, pod, error) {
	c, err := d.client(i.Side)
	if err != nil {
		return nil, pod{}, err
	}
	list, err := d.pods(ctx, c, i.Side)
	if err != nil {
		return nil, pod{}, err
	}
	n := slices.IndexFunc(list, func(p pod) bool { return p.instance(i.Side) == i.Name })
	if n < 0 {
		return nil, pod{}, fmt.Errorf("%s is not there", i.Name)
	}
	return c, list[n], nil
}

// Describe says what a pod runs with: what its Deployment gives it. What stands in other objects is not looked up.
func (d *Driver) Describe(ctx context.Context, i reading.Instance) (stack.Description, error) {
	_, p, err := d.find(ctx, i)
	if err != nil {
		return stack.Description{}, err
	}
	about := stack.Description{Environment: map[string]string{}, Limits: map[string]string{}}
	host, port, _ := net.SplitHostPort(i.Address)
	own := strings.NewReplacer("$("+hostVariable+"):"+port, i.Address, "$("+hostVariable+")", host)
	for _, part := range []string{"command", "args"} {
		words, _, _ := unstructured.NestedStringSlice(p.spec, part)
		for _, w := range words {
			about.Command = append(about.Command, own.Replace(w))
		}
	}
	list, _, _ := unstructured.NestedSlice(p.spec, "env")
	for _, e := range list {
		m, _ := e.(object)
		name, _ := m["name"].(string)
		if value, ok := m["value"].(string); ok && name != instanceVariable && name != hostVariable {
			about.Environment[name] = own.Replace(value)
		}
	}
	limits, _, _ := unstructured.NestedStringMap(p.spec, "resources", "limits")
	maps.Copy(about.Limits, limits)
	return about, nil
}

// From is this machine, which has to reach the pods' network, or the API where the plan wants that.
func (d *Driver) From(side split.Side) place.Place {
	if d.part.Stacks[side].Cluster.Reach == plan.Forwarded {
		return forwarded{asks: &d.asks[side]}
	}
	return place.Local{}
}

// Place is a pod from inside.
func (d *Driver) Place(ctx context.Context, i reading.Instance) (place.Place, error) {
	c, p, err := d.find(ctx, i)
	if err != nil {
		return nil, err
	}
	return site{c, api.Container{Pod: p.name, Name: p.container}}, nil
}
