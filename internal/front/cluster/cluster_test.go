package cluster

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/asked"
	"vaiven/internal/world/cluster"
	"vaiven/internal/world/place"
	"vaiven/lab/fronttest"
	"vaiven/lab/standin"
	"vaiven/lab/testkit"
)

// stood is a cluster with a route or a service, whose data plane is where the suite sends its requests.
type stood struct {
	plan.Front
	settings *Settings
	server   *standin.Server
	client   *cluster.Client
	folder   string
}

func start(t *testing.T, w *fronttest.World, settings *Settings) *stood {
	t.Helper()
	port, _ := testkit.Ports(t, 2)
	s, err := standin.Start(standin.Config{Address: fronttest.Address(port), Lag: 20 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Stop(); err != nil {
			t.Error(err)
		}
	})
	c := &stood{settings: settings, server: s, folder: t.TempDir()}
	settings.Counts = asked.Counts{Path: fronttest.Page, Requests: fronttest.Counter, Label: "code",
		Open: fronttest.Gauge}
	settings.File, settings.Pods = filepath.Join(c.folder, "kubeconfig"), "app=sailings"
	fronttest.Write(t, settings.File, s.Kubeconfig("ferries"))
	w.Listen = fronttest.Address(port + 1)
	c.Front = plan.Front{Listen: w.Listen, Key: plan.Key{From: plan.KeyRandom}, Settings: settings}
	if c.client, err = cluster.Open(settings.API); err != nil {
		t.Fatal(err)
	}
	n, _ := strconv.Atoi(w.Port())
	if settings.Route != "" {
		for _, side := range split.Sides {
			settings.Services[side] = "sailings-" + side.String()
			c.make(t, cluster.Services, "Service", settings.Services[side], nil, nil,
				object{"selector": object{"app": "sailings", serves: side.String()},
					"ports": []any{object{"port": 80, "targetPort": n}}})
		}
		refs := []any{object{"name": "sailings-blue", "port": 80, "weight": 1},
			object{"name": "sailings-green", "port": 80, "weight": 0}}
		c.make(t, cluster.HTTPRoutes, "HTTPRoute", settings.Route, nil, object{standin.Listen: w.Listen}, object{
			"parentRefs": []any{object{"name": "gate"}},
			"rules": []any{object{"backendRefs": refs, "timeouts": object{"request": "30s"}},
				object{"backendRefs": refs[:1]}, object{"backendRefs": refs}},
		})
	} else {
		host, port, _ := net.SplitHostPort(w.Listen)
		at, _ := strconv.Atoi(port)
		c.make(t, cluster.Services, "Service", settings.Service, nil, nil,
			object{"clusterIP": host, "selector": object{"app": "sailings"},
				"ports": []any{object{"port": at, "targetPort": n}}})
	}
	for _, i := range w.All() {
		c.pod(t, i)
	}
	w.Raised = func(i *fronttest.Instance) { c.pod(t, i) }
	if made, err := c.driver().Prepare(t.Context(), front.Known{}); err != nil || !made {
		t.Fatalf("made %v, %v", made, err)
	}
	return c
}

type object = map[string]any

func (c *stood) driver() *Driver { return New(place.Local{}, c.Front) }

// make makes an object.
func (c *stood) make(t *testing.T, of schema.GroupVersionResource, kind, name string, labels, annotations,
	spec object) {
	t.Helper()
	o := object{"apiVersion": of.GroupVersion().String(), "kind": kind,
		"metadata": object{"name": name, "labels": labels, "annotations": annotations}, "spec": spec}
	text, err := (&unstructured.Unstructured{Object: o}).MarshalJSON()
	if err != nil {
		t.Fatal(err)
	}
	u := new(unstructured.Unstructured)
	if err := errors.Join(u.UnmarshalJSON(text), c.client.Create(t.Context(), of, u)); err != nil {
		t.Fatal(err)
	}
}

// pod is what an instance is in the cluster.
func (c *stood) pod(t *testing.T, i *fronttest.Instance) {
	t.Helper()
	c.podWith(t, i, object{"app": "sailings"})
}

func (c *stood) podWith(t *testing.T, i *fronttest.Instance, labels object) {
	t.Helper()
	host, _, _ := net.SplitHostPort(i.Address)
	u := &unstructured.Unstructured{Object: object{
		"apiVersion": "v1", "kind": "Pod",
		"metadata": object{"name": "sailings-" + strings.ReplaceAll(host, ".", "-"), "labels": labels},
		"status": object{"podIP": host, "phase": "Running",
			"conditions": []any{object{"type": "Ready", "status": "True"}}},
	}}
	if err := c.client.Create(t.Context(), cluster.Pods, u); err != nil {
		t.Fatal(err)
	}
}

// kubectl is somebody else, with Debian's own program.
func (c *stood) kubectl(t *testing.T, args ...string) string {
	t.Helper()
	out, err := c.tries(t, args...)
	if err != nil {
		t.Fatalf("kubectl %v: %v: %s", args, err, out)
	}
	return out
}

// tries is kubectl where it may not succeed.
func (c *stood) tries(t *testing.T, args ...string) (string, error) {
	t.Helper()
	cmd := exec.Command(fronttest.Need(t, "kubectl"),
		append([]string{"--kubeconfig", c.settings.File, "--cache-dir", filepath.Join(c.folder, "cache")}, args...)...)
	cmd.Env = append(os.Environ(), "HOME="+c.folder)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

func TestConformance(t *testing.T) {
	fronttest.Run(t, fronttest.System{
		Lacks: []fronttest.Ability{
			fronttest.Ends, fronttest.Warns, fronttest.Reloads, fronttest.Disk, fronttest.Checker, fronttest.Door,
			fronttest.Ports, fronttest.Divides,
		},
		Open: func(t *testing.T, w *fronttest.World) fronttest.Proxy {
			c := start(t, w, &Settings{Route: "sailings"})
			return fronttest.Proxy{
				Driver: func() front.Driver { return c.driver() },
				Foreign: func(t *testing.T, share split.Share) {
					var steps []string
					for _, rule := range []int{0, 2} {
						for n, weight := range []split.Share{split.Whole - share, share} {
							steps = append(steps, fmt.Sprintf(`{"op":"replace","path":"/spec/rules/%d/backendRefs/%d/weight","value":%d}`, rule, n, weight))
						}
					}
					c.kubectl(t, "patch", "httproutes", "sailings", "--type=json", "-p",
						"["+strings.Join(steps, ",")+"]")
				},
				Kill: func(t *testing.T) {
					if err := c.server.Stop(); err != nil {
						t.Error(err)
					}
				},
			}
		},
	})
}

// A service's selector leads all to one side, and somebody who edits it by hand is noticed, and not written over but
// by going home.
func TestAService(t *testing.T) {
	w := fronttest.System{Lacks: []fronttest.Ability{fronttest.Ports, fronttest.Each}}.World(t)
	blue := w.Raise(split.Blue, 1, 2)
	c := start(t, w, &Settings{Service: "sailings"}) // somebody's, which leads to all who have the label
	d := c.driver()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	testkit.Until(t, "it leads to blue", func() error {
		s, err := d.look(t.Context())
		if err == nil && len(s.endpoints["sailings"]) != 2 {
			err = fmt.Errorf("it leads to %v", s.endpoints)
		}
		return err
	})
	if err := d.SetInstances(t.Context(), split.Blue, blue[:1]); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), "an instance of neither side") {
		t.Errorf("it leads to a pod that is not named: %v", err)
	}
	must(d.SetInstances(t.Context(), split.Blue, blue))
	green := w.Raise(split.Green, 1, 2)
	must(d.SetInstances(t.Context(), split.Green, green))
	only := func(side split.Side) {
		t.Helper()
		testkit.Until(t, "all answers of "+side.String(), func() error {
			if _, sides := w.Count(20, false, nil); sides[side.Other()] > 0 {
				return fmt.Errorf("answers of %v", sides)
			}
			return nil
		})
	}
	answers := func() { // the data plane follows, where it led nowhere
		t.Helper()
		testkit.Until(t, "the first answer", func() error {
			a, err := http.Get("http://" + w.Listen + "/count")
			if err == nil {
				a.Body.Close()
			}
			return err
		})
	}
	answers()
	only(split.Blue)
	load := w.Flow()
	r, err := d.Read(t.Context())
	must(err)
	if _, err := d.Set(t.Context(), 2500, front.AsRead(r)); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), "neither all nor nothing") {
		t.Errorf("a part: %v", err)
	}
	done, err := d.Set(t.Context(), split.Whole, front.AsRead(r))
	if err != nil || done.Share != split.Whole || len(done.Did) != 1 {
		t.Fatalf("all to green: %+v, %v", done, err)
	}
	only(split.Green)
	if got := c.kubectl(t, "get", "service", "sailings", "-o",
		"jsonpath={.spec.selector}"); got != `{"app":"sailings","vaiven/serves":"green"}` {
		t.Errorf("the selector is %s", got)
	}
	if got := c.kubectl(t, "get", "service", "sailings", "--show-managed-fields", "-o",
		"jsonpath={.metadata.managedFields[*].manager}"); !strings.Contains(got, "vaiven") {
		t.Errorf("the selector was changed by %s", got)
	}
	r, err = d.Read(t.Context())
	must(err)
	c.kubectl(t, "patch", "service", "sailings", "--type=merge", "-p", `{"spec":{"selector":{"vaiven/serves":"blue"}}}`)
	if _, err := d.Set(t.Context(), split.Whole, front.AsRead(r)); !errors.Is(err, front.ErrChanged) {
		t.Errorf("over somebody's change: %v", err)
	}
	if r, err := d.Read(t.Context()); err != nil || r.Split.Share != 0 {
		t.Errorf("it is read as %+v, %v", r.Split, err)
	}
	only(split.Blue)
	if lost, first := load.End(); lost > 0 {
		t.Errorf("%d requests were lost, the first: %v", lost, first)
	}
	c.kubectl(t, "patch", "service", "sailings", "--type=merge", "-p",
		`{"spec":{"selector":{"vaiven/serves":"purple"}}}`)
	if _, err := d.Read(t.Context()); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), `"purple", which is no side`) {
		t.Errorf("of no side: %v", err)
	}
	if done, err := d.Home(t.Context(), front.Homing{Side: split.Blue, By: "marit", Why: "hail"}); err != nil ||
		done.Share != 0 || done.Order.Why != "hail" {
		t.Errorf("home: %+v, %v", done, err)
	}
	answers()
	only(split.Blue)
	// An order of a pod that is out, and of one whose address nobody has.
	out := append([]reading.Server(nil), blue...)
	out[0].Out = true
	must(d.SetInstances(t.Context(), split.Blue, out))
	if r, err := d.Read(t.Context()); err != nil || !r.Sides[split.Blue].Instances[0].Out ||
		r.Sides[split.Blue].Instances[1].Out {
		t.Errorf("with one out: %+v, %v", r.Sides[split.Blue], err)
	}
	// Others instead of those that serve: nobody goes before they are there.
	load = w.Flow()
	must(d.SetInstances(t.Context(), split.Blue, w.Raise(split.Blue, 3, 2)))
	only(split.Blue)
	if lost, first := load.End(); lost > 0 {
		t.Errorf("%d requests were lost while instances were replaced, the first: %v", lost, first)
	}
	if got := strings.Fields(c.kubectl(t, "get", "endpointslices", "sailings-1", "-o",
		"jsonpath={.endpoints[*].targetRef.name}")); len(got) != 2 {
		t.Errorf("the service leads to %v", got)
	}
	out[1].Address = "127.0.0.99:1"
	if err := d.SetInstances(t.Context(), split.Blue, out); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), "no pod") {
		t.Errorf("an address of no pod: %v", err)
	}
}

// Pods that are made anew while nobody keeps serve, are no strangers, and are there to go home to.
func TestMadeAnewWhileNobodyKeeps(t *testing.T) {
	for name, settings := range map[string]*Settings{"by a route": {Route: "sailings"},
		"by a service": {Service: "sailings"}} {
		t.Run(name, func(t *testing.T) {
			w := fronttest.System{Lacks: []fronttest.Ability{fronttest.Ports, fronttest.Each}}.World(t)
			blue := w.Raise(split.Blue, 1, 2)
			c := start(t, w, settings)
			if err := c.driver().SetInstances(t.Context(), split.Blue, blue); err != nil {
				t.Fatal(err)
			}
			was := strings.Fields(c.kubectl(t, "get", "pods", "-o", "name"))
			w.Raised = func(i *fronttest.Instance) {
				c.podWith(t, i, object{"app": "sailings", serves: "blue", cluster.Side: "blue"})
			}
			anew := w.Raise(split.Blue, 3, 2)
			c.kubectl(t, append([]string{"delete", "--wait=false"}, was...)...)
			testkit.Until(t, "those that were made anew answer", func() error {
				names, sides := w.Count(20, false, nil)
				for _, i := range anew {
					if names[i.Name] == 0 || sides[split.Blue] != 20 || len(names) != 2 {
						return fmt.Errorf("answers of %v", names)
					}
				}
				return nil
			})
			d := c.driver()
			if r, err := d.Read(t.Context()); err != nil || r.Split.Share != 0 ||
				len(r.Sides[split.Blue].Instances) != 0 {
				t.Errorf("it is read as %+v, %v", r, err)
			}
			if done, err := d.Home(t.Context(), front.Homing{Side: split.Blue, By: "marit"}); err != nil ||
				done.Share != 0 {
				t.Errorf("home: %+v, %v", done, err)
			}
			// whoever keeps knows of one so far
			if err := d.SetInstances(t.Context(), split.Blue, anew[:1]); err != nil {
				t.Fatal(err)
			}
			if names, _ := w.Count(40, false, nil); names[anew[0].Name] == 0 || names[anew[1].Name] == 0 {
				t.Errorf("answers of %v", names)
			}
			if err := d.SetInstances(t.Context(), split.Blue, anew); err != nil {
				t.Fatal(err)
			}
			if r, err := d.Read(t.Context()); err != nil || len(r.Sides[split.Blue].Instances) != 2 {
				t.Errorf("it is read as %+v, %v", r, err)
			}
			if lacks, err := d.Lacks(t.Context()); err != nil || len(lacks) > 0 {
				t.Errorf("it lacks %q, %v", lacks, err)
			}
		})
	}
}

// Where nobody reaches the pods' network, they are asked for their counts through the API.
func TestCountsThroughTheAPI(t *testing.T) {
	w := fronttest.System{Lacks: []fronttest.Ability{fronttest.Ports, fronttest.Each}}.World(t)
	blue := w.Raise(split.Blue, 1, 2)
	c := start(t, w, &Settings{Route: "sailings", API: plan.API{Reach: plan.Forwarded}})
	d := c.driver()
	if err := d.SetInstances(t.Context(), split.Blue, blue); err != nil {
		t.Fatal(err)
	}
	counted := func() (n int64, blind string) {
		r, err := d.Read(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for _, i := range r.Sides[split.Blue].Instances {
			n += i.Requests
		}
		return n, r.Blind
	}
	testkit.Until(t, "the data plane has followed", func() error {
		a, err := http.Get("http://" + w.Listen + "/count")
		if err == nil {
			a.Body.Close()
		}
		return err
	})
	before, _ := counted()
	if _, sides := w.Count(50, false, nil); sides[split.Blue] != 50 {
		t.Fatalf("%v were answered", sides)
	}
	if now, blind := counted(); now-before != 50 || blind != "" {
		t.Errorf("%d were counted, %s", now-before, blind)
	}
	if n := c.server.Forwards(); n != 2 {
		t.Errorf("there were %d connections to pods", n)
	}
	c.server.Fall(standin.Illness{Refuses: "pods/portforward"})
	if lacks, err := d.Lacks(t.Context()); err != nil || len(lacks) != 2 ||
		lacks[0] != "the right to create pods/portforward" ||
		!strings.HasPrefix(lacks[1], "the label vaiven/serves: blue in the template that pod sailings-") {
		t.Errorf("what it lacks: %q, %v", lacks, err)
	}
}

// What the API says no to is said with its words, and what is accepted and never comes true is not called in force.
func TestAnAPIThatDoesNotDoAsItSays(t *testing.T) {
	w := fronttest.System{Lacks: []fronttest.Ability{fronttest.Ports}}.World(t)
	c := start(t, w, &Settings{Route: "sailings"})
	d := c.driver()
	if err := errors.Join(d.SetInstances(t.Context(), split.Blue, w.Raise(split.Blue, 1, 2)),
		d.SetInstances(t.Context(), split.Green, w.Raise(split.Green, 1, 2))); err != nil {
		t.Fatal(err)
	}
	read := func() front.Expect {
		t.Helper()
		r, err := d.Read(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		return front.AsRead(r)
	}
	c.server.Fall(standin.Illness{Busy: 2})
	if done, err := d.Set(t.Context(), 2500, read()); err != nil || done.Share != 2500 {
		t.Errorf("asked to come again: %+v, %v", done, err)
	}
	c.server.Fall(standin.Illness{Refuses: "httproutes"})
	if lacks, err := d.Lacks(t.Context()); err != nil || len(lacks) != 3 ||
		lacks[0] != "the right to patch httproutes.gateway.networking.k8s.io/sailings" {
		t.Errorf("what it lacks: %q, %v", lacks, err)
	}
	if _, err := d.Rehearse(t.Context(), split.Blue); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), "forbidden") {
		t.Errorf("without the right: %v", err)
	}
	if _, err := d.Set(t.Context(), 5000, read()); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), "cannot patch") {
		t.Errorf("without the right: %v", err)
	}
	c.server.Fall(standin.Illness{Deaf: true})
	e := read()
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
	defer cancel()
	if done, err := d.Set(ctx, 7500, e); err == nil {
		t.Errorf("no gateway goes by it, and it is called in force: %+v", done)
	}
	if r, err := d.Read(t.Context()); err != nil || !strings.Contains(r.Notice, "does not say that it goes by that") {
		t.Errorf("it is read with %q, %v", r.Notice, err)
	}
	c.server.Fall(standin.Illness{})
	if done, err := d.Home(t.Context(), front.Homing{Side: split.Blue}); err != nil || done.Share != 0 {
		t.Errorf("home: %+v, %v", done, err)
	}
	c.kubectl(t, "patch", "httproutes", "sailings", "--type=json", "-p",
		`[{"op":"replace","path":"/spec/rules/2/backendRefs/1/weight","value":7}]`)
	if _, err := d.Read(t.Context()); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), "different weights") {
		t.Errorf("rules that differ: %v", err)
	}
	c.kubectl(t, "patch", "httproutes", "sailings", "--type=json", "-p",
		`[{"op":"replace","path":"/spec/rules/2/backendRefs/1/weight","value":0},{"op":"add","path":"/spec/rules/2/backendRefs/-","value":{"name":"berths","port":80}}]`)
	if _, err := d.Read(t.Context()); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), "rule 3 of httproutes/sailings leads to berths as well") {
		t.Errorf("another backend: %v", err)
	}
	c.kubectl(t, "patch", "httproutes", "sailings", "--type=json", "-p",
		`[{"op":"remove","path":"/spec/rules/2/backendRefs/2"}]`)
	c.kubectl(t, "annotate", "--overwrite", "httproutes", "sailings", orderNote+"=nonsense")
	if _, err := d.Read(t.Context()); !errors.Is(err, front.ErrRefused) || !strings.Contains(err.Error(), orderNote) {
		t.Errorf("a damaged order: %v", err)
	}
	if done, err := d.Home(t.Context(), front.Homing{Side: split.Green, By: "marit"}); err != nil ||
		done.Share != split.Whole {
		t.Errorf("home over a damaged order: %+v, %v", done, err)
	}
	c.kubectl(t, "annotate", "httproutes", "sailings", orderNote+"-", standin.Listen+"-")
	if _, err := d.Read(t.Context()); !errors.Is(err, front.ErrNotMade) {
		t.Errorf("without annotations: %v", err)
	}
	if done, err := c.driver().Home(t.Context(), front.Homing{Side: split.Blue, By: "marit"}); err != nil ||
		done.Share != 0 {
		t.Errorf("home without annotations: %+v, %v", done, err)
	}
	c.kubectl(t, "delete", "httproutes", "sailings")
	if _, err := d.Read(t.Context()); !errors.Is(err, front.ErrRefused) ||
		!strings.Contains(err.Error(), `"sailings" not found`) {
		t.Errorf("without the route: %v", err)
	}
}
