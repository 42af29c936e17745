package cluster

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/dynamic"
	restclient "k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"
	"k8s.io/client-go/tools/remotecommand"
	"k8s.io/client-go/util/exec"
	"k8s.io/klog/v2"

	"vaiven/internal/core/plan"
)

// Labels of pods.
const (
	Serves = "vaiven/serves" // the side whose requests it takes
	Side   = "vaiven/side"   // the side that it was raised for
)

// Manager is who changes things, as the API notes it.
const Manager = "vaiven"

// What is asked for.
var (
	Pods           = schema.GroupVersionResource{Version: "v1", Resource: "pods"}
	Services       = schema.GroupVersionResource{Version: "v1", Resource: "services"}
	EndpointSlices = schema.GroupVersionResource{Group: "discovery.k8s.io", Version: "v1", Resource: "endpointslices"}
	Deployments    = schema.GroupVersionResource{Group: "apps", Version: "v1", Resource: "deployments"}
	HTTPRoutes     = schema.GroupVersionResource{Group: "gateway.networking.k8s.io", Version: "v1",
		Resource: "httproutes"}
	Autoscalers = schema.GroupVersionResource{Group: "autoscaling", Version: "v2", Resource: "horizontalpodautoscalers"}
	reviews     = schema.GroupVersionResource{Group: "authorization.k8s.io", Version: "v1",
		Resource: "selfsubjectaccessreviews"}
)

// Errors that callers branch on.
var (
	// ErrUnreachable is wrapped when the API does not answer.
	ErrUnreachable = errors.New("the cluster's API does not answer")
	// ErrChanged is wrapped when something is other than it was read.
	ErrChanged = errors.New("it was changed by somebody else")
	// ErrMissing is wrapped when there is no such thing.
	ErrMissing = errors.New("there is no such thing")
	// ErrRefused is wrapped when the API will not do it: for want of rights, or because it makes no sense.
	ErrRefused = errors.New("the cluster's API refuses")
)

// Client asks the API. It is safe for concurrent use.
type Client struct {
	Namespace string
	api       dynamic.Interface
	base      *url.URL     // of the API
	http      *http.Client // as the kubeconfig says
	config    *restclient.Config
	ways      ways // to pods
	alive     alive
}

// askLimit bounds a question and its answer.
const askLimit = 5 * time.Second

// chunk is how many objects of a list are asked for at once.
const chunk = 500

// quiet has the libraries that ask the API say nothing of their own on our standard error, which is a screen's: what
// matters are errors, and they are returned.
var quiet = sync.OnceFunc(func() { klog.SetSlogLogger(slog.New(slog.DiscardHandler)) })

// Open reads a configuration. Nothing is asked yet.
func Open(c plan.API) (*Client, error) {
	quiet()
	rules := clientcmd.NewDefaultClientConfigLoadingRules()
	rules.ExplicitPath = c.File
	config := clientcmd.NewNonInteractiveDeferredLoadingClientConfig(rules,
		&clientcmd.ConfigOverrides{CurrentContext: c.Context})
	rest, err := config.ClientConfig()
	if err != nil {
		return nil, fmt.Errorf("%w: the kubeconfig: %w", ErrRefused, err)
	}
	rest.UserAgent = Manager
	rest.QPS, rest.Burst = -1, 0 // it is not for a client to hold up going home
	rest.Wrap(func(next http.RoundTripper) http.RoundTripper { return repeated{next} })
	namespace := c.Namespace
	if namespace == "" {
		if namespace, _, err = config.Namespace(); err != nil {
			return nil, fmt.Errorf("%w: the kubeconfig: %w", ErrRefused, err)
		}
	}
	api, err := dynamic.NewForConfig(rest)
	if err != nil {
		return nil, fmt.Errorf("%w: the kubeconfig: %w", ErrRefused, err)
	}
	asks, err := restclient.HTTPClientFor(rest)
	if err != nil {
		return nil, fmt.Errorf("%w: the kubeconfig: %w", ErrRefused, err)
	}
	base, _, err := restclient.DefaultServerUrlFor(rest)
	if err != nil {
		return nil, fmt.Errorf("%w: the kubeconfig: %w", ErrRefused, err)
	}
	return &Client{Namespace: namespace, api: api, base: base, http: asks, config: rest}, nil
}

// repeated has net/http repeat a PATCH or POST on another connection if the API closed the kept one without an answer.
// By itself it repeats only what says that it may be repeated (http.Transport). Ours may: a change names what it
// changes, so a second one is refused or changes nothing. The header has no value, and is not sent.
type repeated struct{ next http.RoundTripper }

// RoundTrip carries out one request.
func (r repeated) RoundTrip(asked *http.Request) (*http.Response, error) {
	asked = asked.Clone(asked.Context())
	asked.Header["X-Idempotency-Key"] = nil
	return r.next.RoundTrip(asked)
}

// Later opens a client when it is needed first: the kubeconfig may come later than the plan. It is safe for
// concurrent use.
type Later struct {
	Config plan.API

	mu    sync.Mutex // protects what follows
	made  *Client
	files string // what the configuration's files were when it was made
}

// Open is the client: the same one for as long as the configuration is, as tokens in it are renewed. A configuration
// that cannot be read just now leaves the one that there is.
func (l *Later) Open() (*Client, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	files := stands(l.Config)
	if l.made != nil && files == l.files {
		return l.made, nil
	}
	made, err := Open(l.Config)
	if err != nil && l.made != nil {
		return l.made, nil
	}
	if err == nil {
		l.made, l.files = made, files
	}
	return made, err
}

// stands is the same text for as long as the files of a configuration are the same.
func stands(c plan.API) string {
	rules := clientcmd.NewDefaultClientConfigLoadingRules()
	rules.ExplicitPath = c.File
	var b strings.Builder
	for _, name := range rules.GetLoadingPrecedence() {
		if info, err := os.Stat(name); err == nil {
			fmt.Fprintln(&b, name, info.ModTime().UnixNano(), info.Size())
		}
	}
	return b.String()
}

// Dial connects to a pod; see [Client.Dial].
func (l *Later) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	c, err := l.Open()
	if err != nil {
		return nil, err
	}
	return c.Dial(ctx, network, address)
}

// said wraps what callers branch on.
func said(err error) error {
	switch {
	case err == nil:
		return nil
	case apierrors.IsNotFound(err):
		return fmt.Errorf("%w: %w", ErrMissing, err)
	case apierrors.IsConflict(err):
		return fmt.Errorf("%w: %w", ErrChanged, err)
	case apierrors.IsForbidden(err), apierrors.IsUnauthorized(err), apierrors.IsInvalid(err),
		apierrors.IsBadRequest(err), apierrors.IsMethodNotSupported(err), apierrors.IsUnsupportedMediaType(err):
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	return fmt.Errorf("%w: %w", ErrUnreachable, err)
}

// alive is whether the API answered when it was asked for no more than that.
type alive struct {
	mu  sync.Mutex // protects what follows, while it is asked
	at  time.Time
	err error
}

// How often the API is asked whether it answers, and within which time it does.
const (
	aliveEvery  = 500 * time.Millisecond
	aliveWithin = time.Second
)

// Answers is why the API does not answer, nil if it does, with whatever. However many ask, it is asked a few times a
// second.
func (c *Client) Answers(ctx context.Context) error {
	c.alive.mu.Lock()
	defer c.alive.mu.Unlock()
	if time.Since(c.alive.at) < aliveEvery {
		return c.alive.err
	}
	ctx, cancel := context.WithTimeout(ctx, aliveWithin)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base.JoinPath("version").String(), nil)
	if err != nil {
		return err
	}
	w, err := c.http.Do(r)
	if err == nil {
		err = w.Body.Close()
	}
	if err != nil {
		err = fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	c.alive.at, c.alive.err = time.Now(), err
	return err
}

// Get is one object.
func (c *Client) Get(ctx context.Context, of schema.GroupVersionResource, name string) (*unstructured.Unstructured,
	error) {
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	o, err := c.api.Resource(of).Namespace(c.Namespace).Get(ctx, name, metav1.GetOptions{})
	return o, said(err)
}

// List are all that have the labels, in chunks. One that ends in the middle because the server has forgotten the
// moment is begun anew.
func (c *Client) List(ctx context.Context, of schema.GroupVersionResource, labels string) ([]unstructured.Unstructured,
	error) {
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	for tries := 0; ; tries++ {
		var all []unstructured.Unstructured
		options := metav1.ListOptions{LabelSelector: labels, Limit: chunk}
		for {
			list, err := c.api.Resource(of).Namespace(c.Namespace).List(ctx, options)
			if apierrors.IsResourceExpired(err) && options.Continue != "" && tries < 3 {
				break
			}
			if err != nil {
				return nil, said(err)
			}
			all = append(all, list.Items...)
			if options.Continue = list.GetContinue(); options.Continue == "" {
				return all, nil
			}
		}
	}
}

// Patch changes an object by a JSON Patch (RFC 6902). A test in it that fails wraps [ErrChanged]. With dry it is
// only looked whether it would be done.
func (c *Client) Patch(ctx context.Context, of schema.GroupVersionResource, name string, patch []byte,
	dry bool) (*unstructured.Unstructured, error) {
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	options := metav1.PatchOptions{FieldManager: Manager}
	if dry {
		options.DryRun = []string{metav1.DryRunAll}
	}
	o, err := c.api.Resource(of).Namespace(c.Namespace).Patch(ctx, name, types.JSONPatchType, patch, options)
	if s := apierrors.APIStatus(nil); errors.As(err, &s) && apierrors.IsInvalid(err) && nothingIn(s.Status().Details) {
		// of a failed test the API says no more than that
		return nil, fmt.Errorf("%w: %s %s", ErrChanged, of.Resource, name)
	}
	return o, said(err)
}

// nothingIn reports whether an answer has no details.
func nothingIn(d *metav1.StatusDetails) bool {
	return d == nil || d.Name == "" && d.Kind == "" && len(d.Causes) == 0
}

// Create makes an object.
func (c *Client) Create(ctx context.Context, of schema.GroupVersionResource, o *unstructured.Unstructured) error {
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	_, err := c.api.Resource(of).Namespace(c.Namespace).Create(ctx, o, metav1.CreateOptions{FieldManager: Manager})
	return said(err)
}

// Apply makes an object what is given of it, by server-side apply as [Manager]: what others have written elsewhere
// stays, and where they have written something else in the same place, the error wraps [ErrChanged] and says who and
// where. With over it is written all the same.
func (c *Client) Apply(ctx context.Context, of schema.GroupVersionResource, o *unstructured.Unstructured,
	dry, over bool) (*unstructured.Unstructured, error) {
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	options := metav1.ApplyOptions{FieldManager: Manager, Force: over}
	if dry {
		options.DryRun = []string{metav1.DryRunAll}
	}
	now, err := c.api.Resource(of).Namespace(c.Namespace).Apply(ctx, o.GetName(), o, options)
	if ourselves(err) {
		options.Force = true
		now, err = c.api.Resource(of).Namespace(c.Namespace).Apply(ctx, o.GetName(), o, options)
	}
	return now, said(err)
}

// ourselves reports whether something is in the way that we have written ourselves, by a patch.
func ourselves(err error) bool {
	var s apierrors.APIStatus
	if !apierrors.IsConflict(err) || !errors.As(err, &s) || s.Status().Details == nil ||
		len(s.Status().Details.Causes) == 0 {
		return false
	}
	return !slices.ContainsFunc(s.Status().Details.Causes, func(c metav1.StatusCause) bool {
		return !strings.HasPrefix(c.Message, fmt.Sprintf("conflict with %q", Manager))
	})
}

// Delete takes an object away, and in the background everything that belongs to it. One that is not there is as good.
func (c *Client) Delete(ctx context.Context, of schema.GroupVersionResource, name string) error {
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	background := metav1.DeletePropagationBackground
	err := c.api.Resource(of).Namespace(c.Namespace).Delete(ctx, name,
		metav1.DeleteOptions{PropagationPolicy: &background})
	if apierrors.IsNotFound(err) {
		return nil
	}
	return said(err)
}

// Container is one of a pod.
type Container struct{ Pod, Name string }

// logLimit bounds a question for a log: a node that does not answer holds up nobody else.
const logLimit = time.Second

// Log is the end of what a container has said, so many lines of it and at most so many bytes; nothing of one that has
// not begun.
func (c *Client) Log(ctx context.Context, of Container, lines int, most int64) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, logLimit)
	defer cancel()
	at := c.base.JoinPath("api", "v1", "namespaces", c.Namespace, "pods", of.Pod, "log")
	at.RawQuery = url.Values{"container": {of.Name}, "tailLines": {strconv.Itoa(lines)}}.Encode()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, at.String(), nil)
	if err != nil {
		return nil, err
	}
	w, err := c.http.Do(r)
	if err != nil {
		return nil, said(err)
	}
	defer w.Body.Close()
	text, err := io.ReadAll(io.LimitReader(w.Body, most))
	switch {
	case err != nil:
		return nil, said(err)
	case w.StatusCode == http.StatusBadRequest: // it has not begun
		return nil, nil
	case w.StatusCode == http.StatusNotFound:
		return nil, fmt.Errorf("%w: pod %s", ErrMissing, of.Pod)
	case w.StatusCode != http.StatusOK:
		return nil, fmt.Errorf("%w: the log of %s: %s", ErrRefused, of.Pod, w.Status)
	}
	return text, nil
}

// Streams are what a command reads and writes. What is nil is not there.
type Streams struct {
	In       io.Reader
	Out, Err io.Writer
}

// Exec runs a command in a container to its end. An exit status above 0 is not an error.
func (c *Client) Exec(ctx context.Context, of Container, s Streams, words ...string) (status int, err error) {
	at := c.base.JoinPath("api", "v1", "namespaces", c.Namespace, "pods", of.Pod, "exec")
	q := url.Values{"container": {of.Name}, "command": words}
	for name, there := range map[string]bool{"stdin": s.In != nil, "stdout": s.Out != nil, "stderr": s.Err != nil} {
		if there {
			q.Set(name, "true")
		}
	}
	at.RawQuery = q.Encode()
	e, err := remotecommand.NewWebSocketExecutor(c.config, http.MethodGet, at.String())
	if err != nil {
		return 0, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	err = e.StreamWithContext(ctx, remotecommand.StreamOptions{Stdin: s.In, Stdout: s.Out, Stderr: s.Err})
	if code := (exec.CodeExitError{}); errors.As(err, &code) {
		return code.Code, nil
	}
	return 0, c.upgraded(err)
}

// upgraded is an error of a connection that was to become a stream: what the API says to that is in its words alone.
func (c *Client) upgraded(err error) error {
	if err != nil && (strings.Contains(err.Error(), "forbidden") || strings.Contains(err.Error(), "403 ") ||
		strings.Contains(err.Error(), "401 ")) {
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	return said(err)
}

// Right is what somebody has to be allowed to do.
type Right struct {
	Verb string
	Of   schema.GroupVersionResource
	Name string // "" for all
	Part string // of it, "" for the thing itself
}

func (r Right) String() string {
	text := r.Verb + " " + r.Of.Resource
	if r.Of.Group != "" {
		text += "." + r.Of.Group
	}
	if r.Part != "" {
		text += "/" + r.Part
	}
	if r.Name != "" {
		text += "/" + r.Name
	}
	return text
}

// Missing are the rights that the API does not give.
func (c *Client) Missing(ctx context.Context, rights ...Right) ([]Right, error) {
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	var missing []Right
	for _, r := range rights {
		review := &unstructured.Unstructured{Object: map[string]any{
			"apiVersion": "authorization.k8s.io/v1", "kind": "SelfSubjectAccessReview",
			"spec": map[string]any{"resourceAttributes": map[string]any{"namespace": c.Namespace, "verb": r.Verb,
				"group": r.Of.Group, "resource": r.Of.Resource, "subresource": r.Part, "name": r.Name}},
		}}
		a, err := c.api.Resource(reviews).Create(ctx, review, metav1.CreateOptions{})
		if err != nil {
			return nil, said(err)
		}
		if allowed, _, _ := unstructured.NestedBool(a.Object, "status", "allowed"); !allowed {
			missing = append(missing, r)
		}
	}
	return missing, nil
}
