package cluster

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	"vaiven/lab/testkit"
)

// gatekeeper is an admission webhook for what is done to Deployments of the namespace: it takes its time, and lets
// everything pass. It is away until it listens.
type gatekeeper struct {
	w       *world
	address string
	files   *testkit.Certified
}

func (w *world) gatekeeper() *gatekeeper {
	w.Helper()
	dir := w.TempDir()
	authority := testkit.Certify(w.T, dir, "harbour", 1, nil)
	g := &gatekeeper{w: w, address: testkit.Address(w.T), files: testkit.Certify(w.T, dir, "localhost", 2, authority)}
	_, port, _ := net.SplitHostPort(g.address)
	trusted, err := os.ReadFile(authority.File)
	w.must(err)
	file := filepath.Join(w.folder, "webhook.yaml")
	w.must(os.WriteFile(file, fmt.Appendf(nil, `---
{apiVersion: admissionregistration.k8s.io/v1, kind: ValidatingWebhookConfiguration, metadata: {name: %[1]s}, webhooks: [{
 name: gate.lineavessa.example, admissionReviewVersions: [v1], sideEffects: None, failurePolicy: Fail, timeoutSeconds: 3,
 namespaceSelector: {matchLabels: {kubernetes.io/metadata.name: %[1]s}},
 rules: [{apiGroups: [apps], apiVersions: [v1], operations: ["*"], resources: ["deployments", "deployments/*"]}],
 clientConfig: {url: "https://localhost:%[2]s/", caBundle: %[3]s}}]}
`, w.namespace(), port, base64.StdEncoding.EncodeToString(trusted)), 0o600))
	w.kubectl("apply", "-f", file)
	w.Cleanup(func() { _, _ = w.tries("delete", "validatingwebhookconfiguration", w.namespace()) })
	return g
}

// comes has it listen, and answer after a while.
func (g *gatekeeper) comes(after time.Duration) {
	server := &http.Server{Addr: g.address, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var asked struct{ Request struct{ UID string } }
		_ = json.NewDecoder(r.Body).Decode(&asked)
		time.Sleep(after) // its slowness is the test's input
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprintf(w, `{"apiVersion": "admission.k8s.io/v1", "kind": "AdmissionReview", "response": {"uid": %q, "allowed": true}}`,
			asked.Request.UID)
	})}
	go func() { _ = server.ListenAndServeTLS(g.files.File, g.files.Key) }()
	g.w.Cleanup(func() { _ = server.Close() })
}

// What an admission webhook holds up or away is told with its name, and goes on when it is there.
func TestPlaneWebhook(t *testing.T) {
	w := onPlane(t, nil)
	g := w.gatekeeper()
	d := w.driver()
	testkit.Eventually(t, "the webhook is heeded", func() bool {
		err := d.Raise(t.Context(), split.Green, first)
		return err != nil && strings.Contains(err.Error(), "gate.lineavessa.example")
	})
	g.comes(1500 * time.Millisecond)
	testkit.Eventually(t, "the API asks it", func() bool {
		_, err := w.tries("create", "deployment", "trial", "--image=registry.lineavessa.example/web:1", "--dry-run=server")
		return err == nil
	})
	w.must(d.Raise(t.Context(), split.Green, first))
	w.must(d.Raise(t.Context(), split.Green, stack.Build{Version: "2", ID: "second"}))
	w.must(d.Stop(t.Context(), split.Green))
}

// A node that is drained takes its pods along: where a budget forbids it they stay, and else they come again elsewhere.
func TestPlaneDrained(t *testing.T) {
	w := onPlane(t, nil)
	d := w.driver()
	w.must(d.Raise(t.Context(), split.Green, first))
	node := w.kubectl("get", "pods", "-o", "jsonpath={.items[0].spec.nodeName}")
	w.Cleanup(func() { _, _ = w.tries("uncordon", node) })
	labels := map[string]string{}
	w.must(json.Unmarshal([]byte(w.kubectl("get", "pods", "-o", "jsonpath={.items[0].metadata.labels}")), &labels))
	delete(labels, "pod-template-hash")
	var selector []string
	for name, value := range labels {
		selector = append(selector, name+"="+value)
	}
	w.kubectl("create", "poddisruptionbudget", "all", "--selector="+strings.Join(selector, ","), "--min-available=2")
	testkit.Eventually(t, "the budget is known", func() bool {
		return w.kubectl("get", "poddisruptionbudget", "all", "-o", "jsonpath={.status.expectedPods}") == "2"
	})
	drain := func() (string, error) {
		return w.tries("drain", node, "--ignore-daemonsets", "--delete-emptydir-data", "--timeout=4s")
	}
	if said, err := drain(); err == nil {
		t.Errorf("a budget of two is no budget: %s", said)
	}
	for n, i := range w.list(d, split.Green) {
		if !i.Running || n > 1 {
			t.Errorf("with a budget there is %+v", i)
		}
	}
	w.kubectl("delete", "poddisruptionbudget", "all")
	said, err := w.tries("drain", node, "--ignore-daemonsets", "--delete-emptydir-data", "--timeout=30s")
	if err != nil {
		t.Fatalf("drained: %v: %s", err, said)
	}
	testkit.Eventually(t, "both run elsewhere", func() bool {
		list := w.list(d, split.Green)
		return len(list) == 2 && list[0].Running && list[1].Running && !strings.Contains(
			w.kubectl("get", "pods", "-o", "jsonpath={.items[*].spec.nodeName}"), node)
	})
	w.must(d.Raise(t.Context(), split.Green, first))
	w.must(d.Stop(t.Context(), split.Green))
}

// A raise waits for a readiness gate that somebody else opens, and says so.
func TestPlaneReadinessGate(t *testing.T) {
	text := `{apiVersion: apps/v1, kind: Deployment, spec: {template: {spec: {readinessGates: [{conditionType: lineavessa.example/open}],
 containers: [{name: web, image: "registry.lineavessa.example/web:1", args: ["-listen", "$(IP):8080"],
   env: [{name: IP, valueFrom: {fieldRef: {fieldPath: status.podIP}}}]}]}}}}`
	w := onPlane(t, (&world{T: t}).template(text))
	d := w.driver()
	ended := make(chan error, 1)
	go func() { ended <- d.Raise(t.Context(), split.Green, first) }()
	testkit.Eventually(t, "that they are not ready is told", func() bool {
		list := w.list(d, split.Green)
		return len(list) == 2 && strings.Contains(list[0].Waits, "lineavessa.example/open")
	})
	for _, pod := range strings.Fields(w.kubectl("get", "pods", "-o", "jsonpath={.items[*].metadata.name}")) {
		w.kubectl("patch", "pod", pod, "--subresource=status", "-p",
			`{"status": {"conditions": [{"type": "lineavessa.example/open", "status": "True"}]}}`)
	}
	w.must(<-ended)
	for _, i := range w.list(d, split.Green) {
		if !i.Running || i.Waits != "" {
			t.Errorf("when they are open there is %+v", i)
		}
	}
	w.must(d.Stop(t.Context(), split.Green))
}
