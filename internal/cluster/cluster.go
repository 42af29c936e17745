package cluster

import (
	"context"
	"errors"
	"fmt"
	"time"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/apimachinery/pkg/watch"
	"k8s.io/client-go/dynamic"
	"k8s.io/client-go/tools/clientcmd"
)

// Manager is who changes things, as the API notes it.
const Manager = "vaiven"

// What is asked for.
var (
	Pods           = schema.GroupVersionResource{Version: "v1", Resource: "pods"}
	Services       = schema.GroupVersionResource{Version: "v1", Resource: "services"}
	EndpointSlices = schema.GroupVersionResource{Group: "discovery.k8s.io", Version: "v1", Resource: "endpointslices"}
	HTTPRoutes     = schema.GroupVersionResource{Group: "gateway.networking.k8s.io", Version: "v1", Resource: "httproutes"}
	reviews        = schema.GroupVersionResource{Group: "authorization.k8s.io", Version: "v1", Resource: "selfsubjectaccessreviews"}
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

// Config says which cluster, and as whom.
type Config struct {
	File      string // kubeconfig; "" for KUBECONFIG and ~/.kube/config
	Context   string // of it; "" for the current one
	Namespace string // "" for the context's
}

// Client asks the API. It is safe for concurrent use.
type Client struct {
	Namespace string
	api       dynamic.Interface
}

// askLimit bounds a question and its answer.
const askLimit = 5 * time.Second

// chunk is how many objects of a list are asked for at once.
const chunk = 500

// Open reads a configuration. Nothing is asked yet.
func Open(c Config) (*Client, error) {
	rules := clientcmd.NewDefaultClientConfigLoadingRules()
	rules.ExplicitPath = c.File
	config := clientcmd.NewNonInteractiveDeferredLoadingClientConfig(rules, &clientcmd.ConfigOverrides{CurrentContext: c.Context})
	rest, err := config.ClientConfig()
	if err != nil {
		return nil, fmt.Errorf("%w: the kubeconfig: %w", ErrRefused, err)
	}
	rest.UserAgent = Manager
	rest.QPS, rest.Burst = -1, 0 // it is not for a client to hold up going home
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
	return &Client{Namespace: namespace, api: api}, nil
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
	case apierrors.IsForbidden(err), apierrors.IsUnauthorized(err), apierrors.IsInvalid(err), apierrors.IsBadRequest(err), apierrors.IsMethodNotSupported(err), apierrors.IsUnsupportedMediaType(err):
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	return fmt.Errorf("%w: %w", ErrUnreachable, err)
}

// Get is one object.
func (c *Client) Get(ctx context.Context, of schema.GroupVersionResource, name string) (*unstructured.Unstructured, error) {
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	o, err := c.api.Resource(of).Namespace(c.Namespace).Get(ctx, name, metav1.GetOptions{})
	return o, said(err)
}

// List are all that have the labels, in chunks. One that ends in the middle because the server has forgotten the moment is begun anew.
func (c *Client) List(ctx context.Context, of schema.GroupVersionResource, labels string) ([]unstructured.Unstructured, error) {
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
func (c *Client) Patch(ctx context.Context, of schema.GroupVersionResource, name string, patch []byte, dry bool) (*unstructured.Unstructured, error) {
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	options := metav1.PatchOptions{FieldManager: Manager}
	if dry {
		options.DryRun = []string{metav1.DryRunAll}
	}
	o, err := c.api.Resource(of).Namespace(c.Namespace).Patch(ctx, name, types.JSONPatchType, patch, options)
	if s := apierrors.APIStatus(nil); errors.As(err, &s) && apierrors.IsInvalid(err) && s.Status().Details == nil {
		return nil, fmt.Errorf("%w: %s %s", ErrChanged, of.Resource, name) // of a failed test the API says no more than that
	}
	return o, said(err)
}

// The pauses before a watch that could not begin is tried again.
const (
	firstPause = 100 * time.Millisecond
	mostPause  = 2 * time.Second
)

// Follow wakes whoever waits on the channel when something has changed that has the labels, until the context ends; the first time at
// once. A watch that breaks goes on where it was; where the server has forgotten that, it begins anew, and wakes, as something
// may have been missed.
func (c *Client) Follow(ctx context.Context, of schema.GroupVersionResource, labels string) <-chan struct{} {
	wakes := make(chan struct{}, 1)
	go func() {
		from, pause := "", firstPause
		for ctx.Err() == nil {
			w, err := c.api.Resource(of).Namespace(c.Namespace).Watch(ctx, metav1.ListOptions{LabelSelector: labels, ResourceVersion: from, AllowWatchBookmarks: true})
			if err != nil {
				from = ""
				select {
				case <-time.After(pause):
				case <-ctx.Done():
				}
				pause = min(2*pause, mostPause)
				continue
			}
			if from == "" {
				wake(wakes)
			}
			for e := range w.ResultChan() {
				if e.Type == watch.Error {
					from = ""
					break
				}
				if o, ok := e.Object.(*unstructured.Unstructured); ok {
					from, pause = o.GetResourceVersion(), firstPause
				}
				if e.Type != watch.Bookmark {
					wake(wakes)
				}
			}
			w.Stop()
			select { // one that breaks at once is not begun over and over
			case <-time.After(firstPause):
			case <-ctx.Done():
			}
		}
	}()
	return wakes
}

func wake(wakes chan<- struct{}) {
	select {
	case wakes <- struct{}{}:
	default:
	}
}

// Create makes an object.
func (c *Client) Create(ctx context.Context, of schema.GroupVersionResource, o *unstructured.Unstructured) error {
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	_, err := c.api.Resource(of).Namespace(c.Namespace).Create(ctx, o, metav1.CreateOptions{FieldManager: Manager})
	return said(err)
}

// Right is what somebody has to be allowed to do.
type Right struct {
	Verb string
	Of   schema.GroupVersionResource
	Name string // "" for all
}

func (r Right) String() string {
	text := r.Verb + " " + r.Of.Resource
	if r.Of.Group != "" {
		text += "." + r.Of.Group
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
			"spec": map[string]any{"resourceAttributes": map[string]any{"namespace": c.Namespace, "verb": r.Verb, "group": r.Of.Group, "resource": r.Of.Resource, "name": r.Name}},
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
