package cluster

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/klog/v2"

	"vaiven/internal/core/plan"
	"vaiven/lab/standin"
	"vaiven/lab/testkit"
)

func start(t *testing.T, c standin.Config) (*standin.Server, *Client, string) {
	t.Helper()
	port, _ := testkit.Ports(t, 1)
	c.Address = fmt.Sprintf("127.0.0.1:%d", port)
	s, err := standin.Start(c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Stop() })
	file := filepath.Join(t.TempDir(), "kubeconfig")
	if err := os.WriteFile(file, []byte(s.Kubeconfig("ferries")), 0o600); err != nil {
		t.Fatal(err)
	}
	client, err := Open(plan.API{File: file})
	if err != nil || client.Namespace != "ferries" {
		t.Fatalf("%+v, %v", client, err)
	}
	return s, client, "http://" + c.Address
}

// An API that closes a connection which was kept, as one that is idle, is asked once more on another one. One that
// closes a new connection is not.
func TestAClosedConnectionIsReplaced(t *testing.T) {
	_, _, behind := start(t, standin.Config{})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	var most atomic.Int64 // requests that are let through on one connection
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				in := bufio.NewReader(c)
				for range most.Load() {
					q, err := http.ReadRequest(in)
					if err != nil {
						return
					}
					q.RequestURI, q.URL.Scheme, q.URL.Host = "", "http", strings.TrimPrefix(behind, "http://")
					w, err := http.DefaultClient.Do(q)
					if err != nil {
						return
					}
					_ = w.Write(c)
					w.Body.Close()
				}
				_, _ = http.ReadRequest(in) // and the next one is read, and not answered
			}()
		}
	}()
	file := filepath.Join(t.TempDir(), "kubeconfig")
	text := fmt.Sprintf(`{apiVersion: v1, kind: Config, current-context: x, clusters: [{name: x, cluster: {server: "http://%s"}}],
 contexts: [{name: x, context: {cluster: x, namespace: ferries}}]}`, l.Addr())
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	c, err := Open(plan.API{File: file})
	if err != nil {
		t.Fatal(err)
	}
	most.Store(1)
	for n := range 5 {
		name := fmt.Sprintf("sailings-%d", n)
		if err := c.Create(t.Context(), Pods, pod(name, map[string]any{"app": "sailings"})); err != nil {
			t.Fatalf("POST %d: %v", n, err)
		}
		if _, err := c.Patch(t.Context(), Pods, name, []byte(`[{"op":"add","path":"/metadata/labels/side","value":"blue"}]`),
			false); err != nil {
			t.Fatalf("PATCH %d: %v", n, err)
		}
	}
	most.Store(0)
	if err := c.Create(t.Context(), Pods, pod("sailings-9", nil)); err == nil {
		t.Error("what is never answered was done")
	}
}

func pod(name string, labels map[string]any) *unstructured.Unstructured {
	return &unstructured.Unstructured{Object: map[string]any{"apiVersion": "v1", "kind": "Pod",
		"metadata": map[string]any{"name": name, "labels": labels}}}
}

// A list comes in chunks, is of who has the labels, and is begun anew where the server has forgotten its beginning.
func TestList(t *testing.T) {
	s, c, _ := start(t, standin.Config{})
	for n := range chunk + 20 {
		if err := c.Create(t.Context(), Pods,
			pod(fmt.Sprintf("sailings-%04d", n),
				map[string]any{"app": "sailings", "odd": fmt.Sprint(n%2 == 1)})); err != nil {
			t.Fatal(err)
		}
	}
	for labels, want := range map[string]int{"": chunk + 20, "app=sailings": chunk + 20, "odd=true": (chunk + 20) / 2,
		"odd!=true,app": (chunk + 20) / 2, "odd in (true,false)": chunk + 20, "!app": 0} {
		if list, err := c.List(t.Context(), Pods, labels); err != nil || len(list) != want {
			t.Errorf("%q: %d, %v; want %d", labels, len(list), err, want)
		}
	}
	s.Forget()
	if list, err := c.List(t.Context(), Pods, ""); err != nil || len(list) != chunk+20 {
		t.Errorf("after it has forgotten: %d, %v", len(list), err)
	}
}

// What the libraries have to say of themselves does not come on a screen.
func TestNothingIsSaidBeside(t *testing.T) {
	_, c, _ := start(t, standin.Config{})
	file, err := os.Create(filepath.Join(t.TempDir(), "stderr"))
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	was := os.Stderr
	os.Stderr = file
	defer func() { os.Stderr = was }()
	klog.ErrorS(errors.New("gone"), "copying failed")
	_, _ = c.List(t.Context(), Pods, "app=sailings")
	klog.Flush()
	if said, err := os.ReadFile(file.Name()); err != nil || len(said) > 0 {
		t.Errorf("it says %q, %v", said, err)
	}
}

// Errors are told apart.
func TestErrors(t *testing.T) {
	s, c, _ := start(t, standin.Config{})
	if err := c.Create(t.Context(), Pods, pod("sailings-1", map[string]any{"app": "sailings"})); err != nil {
		t.Fatal(err)
	}
	patch := func(text string) error {
		_, err := c.Patch(t.Context(), Pods, "sailings-1", []byte(text), false)
		return err
	}
	if err := patch(`[{"op":"test","path":"/metadata/labels/app","value":"berths"},{"op":"add","path":"/metadata/labels/side","value":"blue"}]`); !errors.Is(err, ErrChanged) {
		t.Errorf("a test that fails: %v", err)
	}
	if o, err := c.Patch(t.Context(), Pods, "sailings-1",
		[]byte(`[{"op":"add","path":"/metadata/labels/side","value":"blue"}]`), true); err != nil ||
		o.GetLabels()["side"] != "blue" {
		t.Errorf("a trial: %v, %v", o, err)
	}
	if o, err := c.Get(t.Context(), Pods, "sailings-1"); err != nil || o.GetLabels()["side"] != "" {
		t.Errorf("after a trial there is %v, %v", o, err)
	}
	if err := patch(`nonsense`); !errors.Is(err, ErrRefused) {
		t.Errorf("no patch: %v", err)
	}
	if _, err := c.Get(t.Context(), Pods, "berths-1"); !errors.Is(err, ErrMissing) ||
		!strings.Contains(err.Error(), `pods "berths-1" not found`) {
		t.Errorf("what is not there: %v", err)
	}
	if err := c.Create(t.Context(), Pods, pod("sailings-1", nil)); err == nil ||
		!strings.Contains(err.Error(), "already exists") {
		t.Errorf("made twice: %v", err)
	}
	s.Fall(standin.Illness{Refuses: "pods"})
	if err := patch(`[]`); !errors.Is(err, ErrRefused) || !strings.Contains(err.Error(), "forbidden") {
		t.Errorf("without the right: %v", err)
	}
	if missing, err := c.Missing(t.Context(), Right{Verb: "list", Of: Pods},
		Right{Verb: "patch", Of: Pods, Name: "sailings-1"}, Right{Verb: "patch", Of: Services}); err != nil ||
		len(missing) != 1 || missing[0].String() != "patch pods/sailings-1" {
		t.Errorf("missing: %v, %v", missing, err)
	}
	s.Fall(standin.Illness{Delay: time.Minute})
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	if _, err := c.Get(ctx, Pods, "sailings-1"); !errors.Is(err, ErrUnreachable) {
		t.Errorf("no answer: %v", err)
	}
	s.Stop()
	if _, err := c.Get(t.Context(), Pods, "sailings-1"); !errors.Is(err, ErrUnreachable) ||
		!strings.Contains(err.Error(), "connection refused") {
		t.Errorf("nobody there: %v", err)
	}
	if _, err := Open(plan.API{File: filepath.Join(t.TempDir(), "none")}); !errors.Is(err, ErrRefused) ||
		!strings.Contains(err.Error(), "kubeconfig") {
		t.Errorf("without a kubeconfig: %v", err)
	}
}

// The stand-in's watches tell what has changed since a version, mark where they are, end as they were asked to or as
// they please, and say when a version is gone.
func TestTheStandInsWatches(t *testing.T) {
	s, c, url := start(t, standin.Config{Bookmarks: 20 * time.Millisecond})
	first := pod("sailings-1", map[string]any{"app": "sailings"})
	if err := c.Create(t.Context(), Pods, first); err != nil {
		t.Fatal(err)
	}
	type event struct {
		Type   string
		Object struct {
			Code     int
			Metadata struct{ Name, ResourceVersion string }
		}
	}
	watch := func(query string) func() (event, bool) {
		t.Helper()
		q, err := http.NewRequestWithContext(t.Context(), http.MethodGet,
			url+"/api/v1/namespaces/ferries/pods?watch=true&"+query, nil)
		if err != nil {
			t.Fatal(err)
		}
		w, err := http.DefaultClient.Do(q)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { w.Body.Close() })
		lines := bufio.NewScanner(w.Body)
		return func() (e event, ok bool) {
			if !lines.Scan() {
				return e, false
			}
			if err := json.Unmarshal(lines.Bytes(), &e); err != nil {
				t.Fatal(err)
			}
			return e, true
		}
	}
	next := watch("labelSelector=app%3Dsailings")
	if e, ok := next(); !ok || e.Type != "ADDED" || e.Object.Metadata.Name != "sailings-1" {
		t.Fatalf("what there is: %+v, %v", e, ok)
	}
	e, _ := func() (event, bool) {
		if _, err := c.Patch(t.Context(), Pods, "sailings-1",
			[]byte(`[{"op":"add","path":"/metadata/labels/side","value":"blue"}]`), false); err != nil {
			t.Fatal(err)
		}
		return next()
	}()
	if e.Type != "MODIFIED" {
		t.Errorf("a change is told as %+v", e)
	}
	from := e.Object.Metadata.ResourceVersion
	if _, err := c.Patch(t.Context(), Pods, "sailings-1",
		[]byte(`[{"op":"replace","path":"/metadata/labels/app","value":"berths"}]`), false); err != nil {
		t.Fatal(err)
	}
	if e, _ := next(); e.Type != "DELETED" {
		t.Errorf("what is wanted no more is told as %+v", e)
	}
	next = watch("allowWatchBookmarks=true&resourceVersion=" + from)
	if e, ok := next(); !ok || e.Type != "MODIFIED" {
		t.Errorf("since %s: %+v, %v", from, e, ok)
	}
	if e, ok := next(); !ok || e.Type != "BOOKMARK" || e.Object.Metadata.ResourceVersion == from {
		t.Errorf("a mark: %+v, %v", e, ok)
	}
	s.Fall(standin.Illness{Break: 1})
	next = watch("")
	if _, ok := next(); !ok {
		t.Error("it ends before it begins")
	}
	if e, ok := next(); ok {
		t.Errorf("it does not break: %+v", e)
	}
	s.Fall(standin.Illness{})
	s.Forget()
	next = watch("resourceVersion=" + from)
	if e, ok := next(); !ok || e.Type != "ERROR" || e.Object.Code != http.StatusGone {
		t.Errorf("what is forgotten: %+v, %v", e, ok)
	}
}

// What is kept is as the API has it, also where watches break all the time, and where the server forgets and comes
// back; and as long as nothing changes it is not asked for again.
func TestKept(t *testing.T) {
	s, c, _ := start(t, standin.Config{})
	var kept Kept[int]
	reads := 0
	get := func() int {
		t.Helper()
		n, err := kept.Get(c, func() (int, error) {
			reads++
			list, err := c.List(t.Context(), Pods, "app=sailings")
			return len(list), err
		}, Watched{Pods, "app=sailings"}, Watched{Services, ""})
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	quiet := func() bool { // it is not read any more
		before := reads
		get()
		return reads == before
	}
	testkit.Eventually(t, "watches stand", quiet)
	for n, illness := range []standin.Illness{{}, {Break: 1}, {Break: 1}, {Busy: 1}, {}} {
		s.Fall(illness)
		if n == 2 {
			s.Forget()
		}
		if err := c.Create(t.Context(), Pods,
			pod(fmt.Sprintf("sailings-%d", n), map[string]any{"app": "sailings"})); err != nil {
			t.Fatal(err)
		}
		testkit.Eventually(t, fmt.Sprintf("change %d is seen", n+1), func() bool { return get() == n+1 })
		if illness.Break == 0 {
			testkit.Eventually(t, "it is quiet again", quiet)
		}
	}
	if err := c.Create(t.Context(), Pods, pod("berths-1", map[string]any{"app": "berths"})); err != nil {
		t.Fatal(err)
	}
	if !quiet() {
		t.Error("somebody else's change has it read again")
	}
	kept.Forget()
	if quiet() {
		t.Error("what is forgotten is not read again")
	}
	// What changes while it is read is not kept.
	_, _ = kept.Get(c, func() (int, error) {
		kept.Forget()
		return -1, nil
	})
	testkit.Eventually(t, "it is read again", func() bool { return get() == 5 })
	s.Stop()
	testkit.Eventually(t, "that nobody is there is said", func() bool {
		_, err := kept.Get(c, func() (int, error) {
			_, err := c.List(t.Context(), Pods, "")
			return 0, err
		})
		return errors.Is(err, ErrUnreachable)
	})
}

// Nobody watches for nobody, and whoever asks again finds what has changed meanwhile.
func TestNobodyWatchesForNobody(t *testing.T) {
	_, c, _ := start(t, standin.Config{})
	synctest.Test(t, func(t *testing.T) {
		var kept Kept[int]
		n := 0
		read := func() (int, error) { n++; return n, nil }
		get := func() int {
			v, _ := kept.Get(c, read)
			return v
		}
		if a, b := get(), get(); a != 1 || b != 1 {
			t.Errorf("read as %d, then %d", a, b)
		}
		time.Sleep(keptFor - time.Second)
		if v := get(); v != 1 {
			t.Errorf("it is read again: %d", v)
		}
		time.Sleep(2 * time.Second)
		if v := get(); v != 2 {
			t.Errorf("what is old is not read again: %d", v)
		}
		watched := func() bool {
			kept.mu.Lock()
			defer kept.mu.Unlock()
			return kept.watching != nil
		}
		if !watched() {
			t.Error("nobody watches")
		}
		time.Sleep(idle + time.Second)
		synctest.Wait()
		if watched() {
			t.Error("somebody watches for nobody")
		}
		if v := get(); v != 3 {
			t.Errorf("what nobody has watched is not read again: %d", v)
		}
		kept.mu.Lock()
		kept.watching.end.Stop()
		kept.mu.Unlock()
	})
}
