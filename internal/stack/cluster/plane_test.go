package cluster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	api "vaiven/internal/world/cluster"
	"vaiven/internal/world/place"
	"vaiven/lab/stacktest"
	"vaiven/lab/testkit"
)

// onPlane is a namespace of a real control plane, which `make cluster-test` has stood up.
func onPlane(t *testing.T, change func(*plan.Stack)) *world {
	t.Helper()
	folder, config, namespace := stacktest.Plane(t)
	w := &world{T: t, plane: folder, folder: t.TempDir()}
	stack := plan.Stack{
		Instances: 2, Image: "registry.lineavessa.example/web:{version}", Port: 8080,
		Command: []string{"-listen", "{address}"}, Grace: 2 * time.Second, Raise: 20 * time.Second,
		Cluster: plan.Cluster{On: true, API: plan.API{File: config}},
	}
	if change != nil {
		change(&stack)
	}
	w.plan = &plan.Plan{Service: "sailings", State: w.folder,
		Parts: []plan.Part{{Name: "web", Stacks: [2]plan.Stack{stack, stack}}}}
	w.kubectl("create", "namespace", namespace)
	t.Cleanup(func() { _, _ = w.tries("delete", "namespace", namespace, "--wait=false") })
	return w
}

// freeze stops a part of the plane until it is thawed.
func (w *world) freeze(name string) (thaw func()) {
	text, err := os.ReadFile(filepath.Join(w.plane, name+".pid"))
	w.must(err)
	id, err := strconv.Atoi(strings.TrimSpace(string(text)))
	w.must(err)
	return testkit.Freeze(w, id)
}

// template writes one, and has the plan use it.
func (w *world) template(text string) func(*plan.Stack) {
	file := filepath.Join(w.TempDir(), "web.yaml")
	w.must(os.WriteFile(file, []byte(text), 0o600))
	return func(s *plan.Stack) { s.Cluster.Template = file }
}

var first = stack.Build{Version: "1", ID: "first"}

// A sidecar is not the part, whatever its name.
func TestPlaneSidecars(t *testing.T) {
	text := `{apiVersion: apps/v1, kind: Deployment, spec: {template: {spec: {containers: [
  {name: aside, image: "registry.lineavessa.example/aside:1"},
  {name: web, image: "registry.lineavessa.example/web:1", args: ["-listen", "$(IP):8080"],
   env: [{name: IP, valueFrom: {fieldRef: {fieldPath: status.podIP}}}]}]}}}}`
	w := onPlane(t, (&world{T: t}).template(text))
	d := w.driver()
	w.must(d.Raise(t.Context(), split.Green, first))
	var list []reading.Instance
	testkit.Eventually(t, "what they say", func() bool {
		list = w.list(d, split.Green)
		return len(list) == 2 && len(list[0].Output) > 0 && strings.HasPrefix(list[0].Output[0], "listening")
	})
	from, err := d.Place(t.Context(), list[0])
	w.must(err)
	out, err := from.Run(t.Context(), place.Command{Words: []string{"sh", "-c", "echo $IP"}})
	if host, _, _ := strings.Cut(list[0].Address, ":"); err != nil || strings.TrimSpace(string(out.Output)) != host {
		t.Errorf("a command says %q, %v", out.Output, err)
	}
	w.must(d.Stop(t.Context(), split.Green))
}

// A pod that was evicted is no instance, and in nobody's way.
func TestPlaneEvicted(t *testing.T) {
	w := onPlane(t, nil)
	d := w.driver()
	w.must(d.Raise(t.Context(), split.Green, first))
	evicted := w.kubectl("get", "pods", "-o", "jsonpath={.items[0].metadata.name}")
	w.kubectl("patch", "pod", evicted, "--subresource=status", "--type=merge", "-p",
		`{"status": {"phase": "Failed", "reason": "Evicted", "message": "The node was low on memory"}}`)
	w.must(d.Raise(t.Context(), split.Green, first))
	if list := w.list(d, split.Green); len(list) != 2 || strings.HasSuffix(evicted, list[0].Name[6:]) {
		t.Errorf("there are %+v", list)
	}
	w.must(d.Raise(t.Context(), split.Green, stack.Build{Version: "2", ID: "second"}))
	w.must(d.Stop(t.Context(), split.Green))
}

// A node that comes, and an image that comes, are waited for; what keeps pods from being made is said.
func TestPlaneWaits(t *testing.T) {
	w := onPlane(t, nil)
	later := func(change func()) {
		go func() {
			time.Sleep(3 * time.Second) // that it is late is the test's input
			change()
		}()
	}
	w.kubectl("cordon", "node-1")
	w.kubectl("cordon", "node-2")
	later(func() {
		_, _ = w.tries("uncordon", "node-1")
		_, _ = w.tries("uncordon", "node-2")
	})
	d := w.driver()
	ended := make(chan error, 1)
	go func() { ended <- d.Raise(t.Context(), split.Green, first) }()
	testkit.Eventually(t, "that there is no node is told", func() bool {
		list := w.list(d, split.Green)
		return len(list) == 2 && strings.Contains(list[0].Waits, "Unschedulable")
	})
	w.must(<-ended)
	w.must(d.Stop(t.Context(), split.Green))
	w.kubectl("create", "quota", "few", "--hard=pods=1")
	if err := d.Raise(t.Context(), split.Green, first); err == nil || !strings.Contains(err.Error(), "exceeded quota") {
		t.Errorf("with a quota of one it says %v", err)
	}
	w.must(d.Stop(t.Context(), split.Green))
}

// A Deployment that somebody else has made is taken on with what Vaiven needs and no more, and an autoscaler's number
// is left alone.
func TestPlaneTakenOn(t *testing.T) {
	w := onPlane(t, func(s *plan.Stack) { s.Cluster.Name = "theirs" })
	file := filepath.Join(w.folder, "theirs.yaml")
	w.must(os.WriteFile(file, []byte("---\n"+`{apiVersion: apps/v1, kind: Deployment, metadata: {name: theirs, labels: {team: piers}}, spec: {replicas: 3,
 selector: {matchLabels: {app: their-app}}, template: {metadata: {labels: {app: their-app}}, spec: {containers: [
  {name: main, image: "registry.lineavessa.example/web:0", args: ["-listen", "127.0.0.1:1"], resources: {limits: {memory: 77Mi}}}]}}}}`), 0o600))
	w.kubectl("apply", "-f", file)
	d := w.driver()
	w.must(d.Raise(t.Context(), split.Green, first))
	if list := w.list(d, split.Green); len(list) != 2 || list[0].Version != "1" {
		t.Errorf("there are %+v", list)
	}
	if got := w.kubectl("get", "deployment", "theirs", "-o", "jsonpath={.spec.selector.matchLabels} {.metadata.labels.team} "+
		"{.spec.template.spec.containers[0].resources.limits.memory}"); got != `{"app":"their-app"} piers 77Mi` {
		t.Errorf("of theirs is left %s", got)
	}
	w.kubectl("autoscale", "deployment", "theirs", "--min=3", "--max=5", "--cpu-percent=80")
	if err := d.Raise(t.Context(), split.Green, first); err == nil || !strings.Contains(err.Error(), "instances: 3") {
		t.Errorf("with an autoscaler of three it says %v", err)
	}
	for side := range w.plan.Parts[0].Stacks {
		w.plan.Parts[0].Stacks[side].Instances = 3
	}
	w.must(w.driver().Raise(t.Context(), split.Green, stack.Build{Version: "2", ID: "second"}))
	w.must(d.Stop(t.Context(), split.Green))
	if got := w.kubectl("get", "deployment", "theirs", "-o", "jsonpath={.spec.replicas}"); got != "0" {
		t.Errorf("after it was stopped it is to have %s pods", got)
	}
	w.must(w.driver().Raise(t.Context(), split.Green, stack.Build{Version: "3", ID: "third"}))
}

// Who may do less is told what, and a token that is renewed in the kubeconfig is used.
func TestPlaneRights(t *testing.T) {
	w := onPlane(t, nil)
	w.kubectl("create", "serviceaccount", "harbourmaster")
	w.kubectl("create", "role", "some", "--verb=get,list,watch,create,patch,delete",
		"--resource=pods,pods/log,deployments.apps")
	w.kubectl("create", "rolebinding", "some", "--role=some", "--serviceaccount="+w.namespace()+":harbourmaster")
	w.plan.Parts[0].Needs = []plan.Check{{Name: "tides"}}
	admin := w.plan.Parts[0].Stacks[0].Cluster.File
	text, err := os.ReadFile(admin)
	w.must(err)
	theirs := filepath.Join(w.folder, "theirs.kubeconfig")
	write := func(token string) {
		i := strings.Index(string(text), "user: {")
		w.must(os.WriteFile(theirs, []byte(string(text[:i])+"user: {token: "+token+"}}\n"+
			string(text[i+strings.Index(string(text[i:]), "\n"):])), 0o600))
	}
	write("none")
	for side := range w.plan.Parts[0].Stacks {
		w.plan.Parts[0].Stacks[side].Cluster.File = theirs
	}
	d := w.driver()
	if _, err := d.List(t.Context(), split.Green); err == nil {
		t.Error("somebody without a name may list")
	}
	as := func(args ...string) string {
		cmd := exec.Command("kubectl", append([]string{"--kubeconfig", admin}, args...)...)
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %s", args, out)
		}
		return strings.TrimSpace(string(out))
	}
	write(as("create", "token", "harbourmaster"))
	if _, err := d.List(t.Context(), split.Green); err != nil {
		t.Errorf("with a token that was renewed: %v", err)
	}
	if err := d.Raise(t.Context(), split.Green, first); err == nil || !strings.Contains(err.Error(), "get pods/exec") {
		t.Errorf("without the right to look into pods it says %v", err)
	}
	w.plan.Parts[0].Needs = nil
	w.must(w.driver().Raise(t.Context(), split.Green, first))
	from, err := d.Place(t.Context(), w.list(d, split.Green)[0])
	w.must(err)
	if _, err := from.Run(t.Context(), place.Command{Words: []string{"true"}}); !errors.Is(err, api.ErrRefused) {
		t.Errorf("a command in a pod without the right to it: %v", err)
	}
	w.must(d.Stop(t.Context(), split.Green))
}

func (w *world) namespace() string {
	return strings.TrimSpace(w.kubectl("config", "view", "--minify", "-o", "jsonpath={..namespace}"))
}

// A node that does not answer hides nobody, and what was changed by somebody else is recognised.
func TestPlaneSilentNode(t *testing.T) {
	w := onPlane(t, func(s *plan.Stack) { s.Instances = 4 })
	d := w.driver()
	w.must(d.Raise(t.Context(), split.Green, first))
	thaw := w.freeze("node-2")
	t.Cleanup(thaw)
	ctx, cancel := context.WithTimeout(t.Context(), 8*time.Second)
	defer cancel()
	list, err := w.driver().List(ctx, split.Green)
	if err != nil || len(list) != 4 {
		t.Errorf("with a node that is silent there are %d, %v", len(list), err)
	}
	thaw()
	c, err := api.Open(w.plan.Parts[0].Stacks[0].Cluster.API)
	w.must(err)
	patch, err := json.Marshal([]any{map[string]any{"op": "test", "path": "/spec/replicas", "value": 9},
		map[string]any{"op": "replace", "path": "/spec/replicas", "value": 1}})
	w.must(err)
	if _, err := c.Patch(t.Context(), api.Deployments, "sailings-green", patch, false); !errors.Is(err,
		api.ErrChanged) {
		t.Errorf("a test that fails: %v", err)
	}
	if _, err := c.Patch(t.Context(), api.Deployments, "sailings-green",
		fmt.Appendf(nil, `[{"op":"replace","path":"/spec/replicas","value":-1}]`), false); !errors.Is(err, api.ErrRefused) {
		t.Errorf("a number that is none: %v", err)
	}
	w.must(d.Stop(t.Context(), split.Green))
}
