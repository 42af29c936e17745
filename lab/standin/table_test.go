package standin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"vaiven/lab/testkit"

	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"
)

// asked is a request to an API server, of those that are made one after the other.
type asked struct {
	Name, Method, Path, Kind, Body string
}

// answer is what comes of it, as far as clients branch on it.
type answer struct {
	Name   string   `json:"name"`
	Code   int      `json:"code"`
	Reason string   `json:"reason,omitempty"`
	Of     string   `json:"of,omitempty"`     // what its details are about
	Causes []string `json:"causes,omitempty"` // of its details, their fields
	Is     string   `json:"is,omitempty"`     // of an object or a list: its kind
	Says   string   `json:"says,omitempty"`   // a part of it
	Nil    bool     `json:"nil,omitempty"`    // of a refusal: it has no details
}

const (
	jsonPatch  = "application/json-patch+json"
	mergePatch = "application/merge-patch+json"
	applyPatch = "application/apply-patch+yaml"
)

// asks are the requests. NS is the namespace.
var asks = []asked{
	{"create a service", "POST", "/api/v1/namespaces/NS/services", "", `{"apiVersion":"v1","kind":"Service","metadata":{"name":"sailings"},"spec":{"selector":{"app":"sailings"},"ports":[{"port":80}]}}`},
	{"create it again", "POST", "/api/v1/namespaces/NS/services", "", `{"apiVersion":"v1","kind":"Service","metadata":{"name":"sailings"},"spec":{"selector":{"app":"sailings"},"ports":[{"port":80}]}}`},
	{"create what makes no sense", "POST", "/api/v1/namespaces/NS/services", "", `{"apiVersion":"v1"`},
	{"get it", "GET", "/api/v1/namespaces/NS/services/sailings", "", ""},
	{"get another", "GET", "/api/v1/namespaces/NS/services/fares", "", ""},
	{"get of no kind", "GET", "/api/v1/namespaces/NS/ferries/fares", "", ""},
	{"list", "GET", "/api/v1/namespaces/NS/services", "", ""},
	{"list what has a label", "GET", "/api/v1/namespaces/NS/services?labelSelector=app%3Dnobody", "", ""},
	{"list by a selector that is none", "GET", "/api/v1/namespaces/NS/services?labelSelector=a%3D%3D%3Db", "", ""},
	{"patch", "PATCH", "/api/v1/namespaces/NS/services/sailings", jsonPatch, `[{"op":"add","path":"/metadata/annotations","value":{"a":"1"}}]`},
	{"patch with a test that holds", "PATCH", "/api/v1/namespaces/NS/services/sailings", jsonPatch, `[{"op":"test","path":"/metadata/annotations/a","value":"1"},{"op":"add","path":"/metadata/annotations/a","value":"2"}]`},
	{"patch with a test that fails", "PATCH", "/api/v1/namespaces/NS/services/sailings", jsonPatch, `[{"op":"test","path":"/metadata/annotations/a","value":"1"},{"op":"add","path":"/metadata/annotations/a","value":"3"}]`},
	{"patch what is not there", "PATCH", "/api/v1/namespaces/NS/services/sailings", jsonPatch, `[{"op":"remove","path":"/metadata/annotations/b"}]`},
	{"a patch that is none", "PATCH", "/api/v1/namespaces/NS/services/sailings", jsonPatch, `{"op":"add"}`},
	{"patch another", "PATCH", "/api/v1/namespaces/NS/services/fares", jsonPatch, `[]`},
	{"patch with another version", "PATCH", "/api/v1/namespaces/NS/services/sailings", mergePatch, `{"metadata":{"resourceVersion":"1","annotations":{"a":"4"}}}`},
	{"patch on trial", "PATCH", "/api/v1/namespaces/NS/services/sailings?dryRun=All", mergePatch, `{"metadata":{"annotations":{"a":"5"}}}`},
	{"apply", "PATCH", "/apis/apps/v1/namespaces/NS/deployments/web?fieldManager=vaiven", applyPatch, `{"apiVersion":"apps/v1","kind":"Deployment","metadata":{"name":"web"},"spec":{"replicas":0,"selector":{"matchLabels":{"app":"web"}},"template":{"metadata":{"labels":{"app":"web"}},"spec":{"containers":[{"name":"web","image":"web:1"}]}}}}`},
	{"apply as somebody else", "PATCH", "/apis/apps/v1/namespaces/NS/deployments/web?fieldManager=marit", applyPatch, `{"apiVersion":"apps/v1","kind":"Deployment","metadata":{"name":"web"},"spec":{"replicas":3}}`},
	{"apply over it", "PATCH", "/apis/apps/v1/namespaces/NS/deployments/web?fieldManager=marit&force=true", applyPatch, `{"apiVersion":"apps/v1","kind":"Deployment","metadata":{"name":"web"},"spec":{"replicas":0}}`},
	{"apply without a manager", "PATCH", "/apis/apps/v1/namespaces/NS/deployments/web", applyPatch, `{"apiVersion":"apps/v1","kind":"Deployment","metadata":{"name":"web"},"spec":{"replicas":0}}`},
	{"delete", "DELETE", "/api/v1/namespaces/NS/services/sailings", "", ""},
	{"delete it again", "DELETE", "/api/v1/namespaces/NS/services/sailings", "", ""},
	{"the log of nobody", "GET", "/api/v1/namespaces/NS/pods/nobody/log", "", ""},
	{"may it", "POST", "/apis/authorization.k8s.io/v1/selfsubjectaccessreviews", "", `{"apiVersion":"authorization.k8s.io/v1","kind":"SelfSubjectAccessReview","spec":{"resourceAttributes":{"namespace":"NS","verb":"get","resource":"pods"}}}`},
	{"which version it is", "GET", "/version", "", ""},
}

// TestAnswers holds the stand-in to what a real API server has answered: the table is recorded on one, where
// VAIVEN_PLANE names it and VAIVEN_RECORD says so.
func TestAnswers(t *testing.T) {
	const table = "testdata/answers.json"
	config, record := "", false
	if folder := os.Getenv("VAIVEN_PLANE"); folder != "" {
		config, record = filepath.Join(folder, "admin.kubeconfig"), os.Getenv("VAIVEN_RECORD") != ""
	} else {
		port, _ := testkit.Ports(t, 1)
		s, err := Start(Config{Address: fmt.Sprintf("127.0.0.1:%d", port), Remembers: 3})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = s.Stop() })
		config = filepath.Join(t.TempDir(), "kubeconfig")
		if err := os.WriteFile(config, []byte(s.Kubeconfig("ferries")), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	c, err := clientcmd.BuildConfigFromFlags("", config)
	if err != nil {
		t.Fatal(err)
	}
	client, err := rest.HTTPClientFor(c)
	if err != nil {
		t.Fatal(err)
	}
	namespace := "ferries"
	if os.Getenv("VAIVEN_PLANE") != "" {
		namespace = "n" + strconv.FormatInt(time.Now().UnixNano(), 36)
		if a := ask(t, client, c.Host, namespace, asked{"", "POST", "/api/v1/namespaces", "",
			`{"apiVersion":"v1","kind":"Namespace","metadata":{"name":"NS"}}`}); a.Code != http.StatusCreated {
			t.Fatalf("%+v", a)
		}
	}
	var got []answer
	for _, q := range asks {
		got = append(got, ask(t, client, c.Host, namespace, q))
	}
	text, err := json.MarshalIndent(got, "", "  ")
	if err != nil {
		t.Fatal(err)
	}
	text = append(text, '\n')
	if record {
		if err := os.WriteFile(table, text, 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	recorded, err := os.ReadFile(table)
	if err != nil {
		t.Fatal(err)
	}
	var want []answer
	if err := json.Unmarshal(recorded, &want); err != nil || len(want) != len(got) {
		t.Fatalf("%d are recorded, %v: make cluster-test RECORD=yes", len(want), err)
	}
	for n := range want {
		if fmt.Sprint(want[n]) != fmt.Sprint(got[n]) {
			t.Errorf("%s:\n got %+v\nwant %+v", want[n].Name, got[n], want[n])
		}
	}
}

// ask asks, and takes of the answer what clients branch on.
func ask(t *testing.T, client *http.Client, host, namespace string, q asked) answer {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), q.Method, host+strings.ReplaceAll(q.Path, "NS", namespace),
		strings.NewReader(strings.ReplaceAll(q.Body, "NS", namespace)))
	if err != nil {
		t.Fatal(err)
	}
	if q.Kind == "" {
		q.Kind = "application/json"
	}
	r.Header.Set("Content-Type", q.Kind)
	r.Header.Set("Accept", "application/json")
	w, err := client.Do(r)
	if err != nil {
		t.Fatalf("%s: %v", q.Name, err)
	}
	defer w.Body.Close()
	text, err := io.ReadAll(io.LimitReader(w.Body, 1<<20))
	if err != nil {
		t.Fatalf("%s: %v", q.Name, err)
	}
	var o struct {
		Kind, Type, Status, Reason string
		Code                       int
		Details                    *struct {
			Kind   string
			Causes []struct{ Field string }
		}
		Object struct {
			Code   int
			Reason string
		}
	}
	a := answer{Name: q.Name, Code: w.StatusCode}
	line, _, _ := bytes.Cut(text, []byte("\n"))
	if json.Unmarshal(text, &struct{}{}) != nil {
		text = line // of a watch, its first event
	}
	var status struct{ Status any }
	_ = json.Unmarshal(text, &status)
	if _, is := status.Status.(string); !is { // of an object it is something else
		var whole map[string]any
		_ = json.Unmarshal(text, &whole)
		delete(whole, "status")
		text, _ = json.Marshal(whole)
	}
	_ = json.Unmarshal(text, &o)
	a.Reason, a.Is, a.Nil = o.Reason, o.Kind, o.Kind == "Status" && o.Details == nil
	if o.Details != nil {
		a.Of = o.Details.Kind
		for _, c := range o.Details.Causes {
			a.Causes = append(a.Causes, c.Field)
		}
	}
	if o.Type != "" {
		a.Says = fmt.Sprint(o.Type, " ", o.Object.Code, " ", o.Object.Reason)
	}
	return a
}
