package cluster

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/world/cluster"
	"vaiven/internal/world/place"
	"vaiven/lab/fronttest"
	"vaiven/lab/stacktest"
	"vaiven/lab/testkit"
)

// onPlane is a namespace of a real control plane, which `make cluster-test` has stood up, with pods of both sides.
func onPlane(t *testing.T, settings *Settings) *stood {
	t.Helper()
	_, config, namespace := stacktest.Plane(t)
	c := &stood{settings: settings, folder: t.TempDir()}
	settings.File, settings.Pods = config, "app=sailings"
	c.Front = plan.Front{Key: plan.Key{From: plan.KeyRandom}, Settings: settings}
	c.kubectl(t, "create", "namespace", namespace)
	t.Cleanup(func() { c.kubectl(t, "delete", "namespace", namespace, "--wait=false") })
	var err error
	if c.client, err = cluster.Open(settings.API); err != nil {
		t.Fatal(err)
	}
	return c
}

// apply is kubectl apply.
func (c *stood) apply(t *testing.T, manifest string) {
	t.Helper()
	file := filepath.Join(c.folder, "manifest.yaml")
	fronttest.Write(t, file, "---\n"+manifest)
	c.kubectl(t, "apply", "-f", file)
}

// raise stands two pods of a side up, and waits until they are ready.
func (c *stood) raise(t *testing.T, side split.Side) (list []reading.Server) {
	t.Helper()
	c.apply(t, fmt.Sprintf(`{apiVersion: apps/v1, kind: Deployment, metadata: {name: %[1]v}, spec: {replicas: 2,
 selector: {matchLabels: {side: %[1]v}}, template: {metadata: {labels: {app: sailings, side: %[1]v, vaiven/serves: %[1]v}},
 spec: {terminationGracePeriodSeconds: 1, containers: [{name: web, image: "registry.lineavessa.example/web:1", args: ["-listen", "$(IP):8080"],
 env: [{name: IP, valueFrom: {fieldRef: {fieldPath: status.podIP}}}]}]}}}}`, side))
	testkit.Until(t, "the pods are ready", func() error {
		text := c.kubectl(t, "get", "pods", "-l", "side="+side.String(), "-o",
			`jsonpath={range .items[*]}{.status.podIP} {.status.conditions[?(@.type=="Ready")].status}{"\n"}{end}`)
		list = nil
		for n, line := range strings.Split(strings.TrimSpace(text), "\n") {
			ip, ready, _ := strings.Cut(line, " ")
			if ready != "True" {
				return fmt.Errorf("%s", text)
			}
			list = append(list, reading.Server{Name: fmt.Sprintf("%v-%d", side, n+1),
				Address: net.JoinHostPort(ip, "8080"), Version: "1"})
		}
		if len(list) != 2 {
			return errors.New("not yet")
		}
		return nil
	})
	return list
}

// A Service of both address families, whose pods are in two slices each, is steered; and where nobody serves yet what
// is raised gets nothing before it is led there.
func TestPlaneService(t *testing.T) {
	c := onPlane(t, &Settings{Service: "sailings"})
	c.apply(t, `{apiVersion: v1, kind: Service, metadata: {name: sailings}, spec: {ipFamilyPolicy: RequireDualStack,
 selector: {app: sailings}, ports: [{port: 80, targetPort: 8080}]}}`)
	d := c.driver()
	if made, err := d.Prepare(t.Context(), front.Known{}); err != nil || !made {
		t.Fatalf("made %v, %v", made, err)
	}
	green := c.raise(t, split.Green)
	listed := func() []string {
		s, err := d.look(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		return s.endpoints["sailings"]
	}
	if err := d.SetInstances(t.Context(), split.Green, green); err != nil {
		t.Fatal(err)
	}
	if names := listed(); len(names) > 0 {
		t.Errorf("nothing was proven, and it leads to %v", names)
	}
	if err := d.SetInstances(t.Context(), split.Blue, c.raise(t, split.Blue)); err != nil {
		t.Fatal(err)
	}
	if names := listed(); len(names) != 2 || !strings.HasPrefix(names[0], "blue-") {
		t.Errorf("it leads to %v", names)
	}
	for _, share := range []split.Share{split.Whole, 0} {
		r, err := d.Read(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if done, err := d.Set(t.Context(), share, front.AsRead(r)); err != nil || done.Share != share {
			t.Fatalf("%v to green: %+v, %v", share, done, err)
		}
		if _, err := d.Set(t.Context(), split.Whole-share, front.AsRead(r)); !errors.Is(err, front.ErrChanged) {
			t.Errorf("by what was read before: %v", err)
		}
	}
	if done, err := d.Home(t.Context(), front.Homing{Side: split.Green, By: "marit", Why: "a trial"}); err != nil ||
		done.Share != split.Whole {
		t.Errorf("home to green: %+v, %v", done, err)
	}
	if names := listed(); len(names) != 2 || !strings.HasPrefix(names[0], "green-") {
		t.Errorf("it leads to %v", names)
	}
}

// An HTTPRoute is steered by its weights; what a gateway says that it has no more holds nothing up, and one that
// cannot find a service is not taken for one that goes by the route.
func TestPlaneRoute(t *testing.T) {
	c := onPlane(t, &Settings{Route: "sailings", Services: [2]string{"sailings-blue", "sailings-green"}})
	c.kubectl(t, "apply", "--server-side", "-f", os.Getenv("VAIVEN_HTTPROUTES"))
	testkit.Until(t, "the kind is established", func() error { // at once after apply it may have no conditions yet
		_, err := c.tries(t, "wait", "--for=condition=Established", "crd/httproutes.gateway.networking.k8s.io")
		return err
	})
	for _, side := range split.Sides {
		c.apply(t, fmt.Sprintf(`{apiVersion: v1, kind: Service, metadata: {name: sailings-%[1]v}, spec: {
 selector: {app: sailings, vaiven/serves: %[1]v}, ports: [{port: 80, targetPort: 8080}]}}`, side))
	}
	testkit.Until(t, "the route is made", func() error { // the API learns of its kind in a moment
		file := filepath.Join(c.folder, "route.yaml")
		fronttest.Write(t, file, `---
{apiVersion: gateway.networking.k8s.io/v1, kind: HTTPRoute, metadata: {name: sailings}, spec: {parentRefs: [{name: gate}],
 rules: [{backendRefs: [{name: sailings-blue, port: 80, weight: 1}, {name: sailings-green, port: 80, weight: 0}]}]}}
`)
		c.kubectl(t, "apply", "-f", file)
		return nil
	})
	says := func(generation int64, resolved string) string {
		parent := func(name string, of int64) string {
			return fmt.Sprintf(`{"parentRef":{"name":%q,"group":"gateway.networking.k8s.io","kind":"Gateway"},"controllerName":"lineavessa.example/gate","conditions":[`+
				`{"type":"Accepted","status":"True","reason":"Accepted","message":"","observedGeneration":%d,"lastTransitionTime":"2026-05-04T06:00:00Z"},`+
				`{"type":"ResolvedRefs","status":%q,"reason":"BackendNotFound","message":"no sailings-green","observedGeneration":%[2]d,"lastTransitionTime":"2026-05-04T06:00:00Z"}]}`,
				name, of, resolved)
		}
		return fmt.Sprintf(`{"status":{"parents":[%s,%s]}}`, parent("gate", generation), parent("an-old-gate", 1))
	}
	tell := func(resolved string) {
		o, err := c.client.Get(t.Context(), cluster.HTTPRoutes, "sailings")
		if err != nil {
			t.Fatal(err)
		}
		c.kubectl(t, "patch", "httproutes", "sailings", "--subresource=status", "--type=merge", "-p",
			says(o.GetGeneration(), resolved))
	}
	d := New(place.Local{}, c.Front)
	if made, err := d.Prepare(t.Context(), front.Known{}); err != nil || !made {
		t.Fatalf("made %v, %v", made, err)
	}
	for _, side := range split.Sides {
		if err := d.SetInstances(t.Context(), side, c.raise(t, side)); err != nil {
			t.Fatal(err)
		}
	}
	tell("True")
	set := func(share split.Share, resolved string) error {
		r, err := d.Read(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		ended := make(chan error, 1)
		go func() {
			_, err := d.Set(t.Context(), share, front.AsRead(r))
			ended <- err
		}()
		testkit.Until(t, "the change is there", func() error {
			now, err := d.look(t.Context())
			if err == nil && now.weights[split.Green] != int64(share) {
				err = fmt.Errorf("weights %v", now.weights)
			}
			return err
		})
		tell(resolved)
		return <-ended
	}
	if err := set(2500, "True"); err != nil {
		t.Errorf("beside a gateway that it has no more: %v", err)
	}
	if err := set(5000, "False"); err == nil {
		t.Error("a gateway cannot find a service, and the change is taken for one in force")
	}
	if r, err := d.Read(t.Context()); err != nil || !strings.Contains(r.Notice, "no sailings-green") {
		t.Errorf("it is read as %q, %v", r.Notice, err)
	}
}
