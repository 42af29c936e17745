package standin

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	selects "k8s.io/apimachinery/pkg/fields"
	"k8s.io/apimachinery/pkg/labels"
)

// resource is a kind of objects.
type resource struct {
	group, version, plural, kind string
	shorts                       []string
	status                       bool // it has a status of its own, which a change of the rest does not touch
}

var resources = []*resource{
	{"", "v1", "pods", "Pod", []string{"po"}, true},
	{"apps", "v1", "deployments", "Deployment", []string{"deploy"}, true},
	{"", "v1", "services", "Service", []string{"svc"}, true},
	{"discovery.k8s.io", "v1", "endpointslices", "EndpointSlice", nil, false},
	{"gateway.networking.k8s.io", "v1", "httproutes", "HTTPRoute", nil, true},
}

// apiVersion is what objects of it say.
func (r *resource) apiVersion() string {
	if r.group == "" {
		return r.version
	}
	return r.group + "/" + r.version
}

func kind(plural string) *resource {
	n := slices.IndexFunc(resources, func(r *resource) bool { return r.plural == plural })
	return resources[n]
}

// object is one as it is told: maps, lists, texts, numbers.
type object = map[string]any

// key is where an object stands.
type key struct{ namespace, name string }

// change is one that watches are told of.
type change struct {
	version  int64
	of       *resource
	what     string // ADDED, MODIFIED or DELETED
	object   object
	previous object // nil of ADDED
}

// problem is what an API says of a request that it does not do.
type problem struct {
	code    int
	reason  string
	message string
	after   int    // seconds
	of      string // what it is about
	causes  []any  // of a conflict of server-side apply
	details bool   // there are some, and nothing in them
}

func (p *problem) Error() string { return p.message }

func (p *problem) status() object {
	o := object{"kind": "Status", "apiVersion": "v1", "metadata": object{}, "status": "Failure", "message": p.message,
		"reason": p.reason, "code": p.code}
	details := object{}
	if p.after > 0 {
		details["retryAfterSeconds"] = p.after
	}
	if p.causes != nil {
		details["causes"] = p.causes
	}
	if p.of != "" {
		details["kind"] = p.of
	}
	if len(details) > 0 || p.details {
		o["details"] = details
	}
	return o
}

func notFound(r *resource, name string) *problem {
	return &problem{code: http.StatusNotFound, reason: "NotFound",
		message: fmt.Sprintf("%s %q not found", r.plural, name), of: r.plural}
}

func invalid(format string, args ...any) *problem {
	return &problem{code: http.StatusUnprocessableEntity, reason: "Invalid", message: fmt.Sprintf(format, args...)}
}

func badRequest(format string, args ...any) *problem {
	return &problem{code: http.StatusBadRequest, reason: "BadRequest", message: fmt.Sprintf(format, args...)}
}

// copied is an object that has nothing in common with another.
func copied(o object) object {
	data, err := json.Marshal(o)
	if err != nil {
		panic(err) // it came of JSON
	}
	var c object
	if err := json.Unmarshal(data, &c); err != nil {
		panic(err)
	}
	return c
}

// at is what stands in an object at a path of names, nil if nothing does.
func at(o any, path ...string) any {
	for _, name := range path {
		m, ok := o.(object)
		if !ok {
			return nil
		}
		o = m[name]
	}
	return o
}

func text(o any, path ...string) string {
	s, _ := at(o, path...).(string)
	return s
}

// texts is a map of texts.
func texts(o any, path ...string) map[string]string {
	m, _ := at(o, path...).(object)
	list := map[string]string{}
	for name, v := range m {
		if s, ok := v.(string); ok {
			list[name] = s
		}
	}
	return list
}

// meta are the metadata of an object, made if there are none.
func meta(o object) object {
	m, ok := o["metadata"].(object)
	if !ok {
		m = object{}
		o["metadata"] = m
	}
	return m
}

func keyOf(o object) key { return key{text(o, "metadata", "namespace"), text(o, "metadata", "name")} }

// put stores an object, and tells who watches. The caller holds the lock.
func (s *Server) put(r *resource, o object) object {
	o = copied(o)
	k := keyOf(o)
	previous := s.objects[r][k]
	s.version++
	m := meta(o)
	m["resourceVersion"] = strconv.FormatInt(s.version, 10)
	o["kind"], o["apiVersion"] = r.kind, r.apiVersion()
	what := "MODIFIED"
	generation := 1.0
	if previous == nil {
		what = "ADDED"
		m["uid"] = fmt.Sprintf("00000000-0000-4000-8000-%012d", s.version)
		m["creationTimestamp"] = time.Now().UTC().Format(time.RFC3339)
	} else {
		m["uid"], m["creationTimestamp"] = at(previous, "metadata", "uid"),
			at(previous, "metadata", "creationTimestamp")
		generation, _ = at(previous, "metadata", "generation").(float64)
		if !same(o["spec"], previous["spec"]) {
			generation++
		}
	}
	m["generation"] = generation
	s.objects[r][k] = o
	s.tell(change{s.version, r, what, o, previous})
	return copied(o)
}

func same(a, b any) bool {
	x, _ := json.Marshal(a)
	y, _ := json.Marshal(b)
	return string(x) == string(y)
}

// take removes an object. The caller holds the lock.
func (s *Server) take(r *resource, k key) object {
	previous := s.objects[r][k]
	delete(s.objects[r], k)
	s.version++
	last := copied(previous)
	meta(last)["resourceVersion"] = strconv.FormatInt(s.version, 10)
	s.tell(change{s.version, r, "DELETED", last, previous})
	return last
}

// tell appends to the log and wakes who waits for it. The caller holds the lock.
func (s *Server) tell(c change) {
	s.log = append(s.log, c)
	if n := len(s.log) - s.config.Remembers; n > 0 {
		s.forgotten = s.log[n-1].version
		s.log = slices.Delete(s.log, 0, n)
	}
	close(s.more)
	s.more = make(chan struct{})
}

// Forget has the server remember no change any more: watches that begin at one are told that it is gone.
func (s *Server) Forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.log, s.forgotten = nil, s.version
	close(s.more)
	s.more = make(chan struct{})
}

// list are the objects of a resource that are wanted, in the order of their names. The caller holds the lock.
func (s *Server) list(r *resource, namespace string, wants selector) []object {
	keys := slices.SortedFunc(maps.Keys(s.objects[r]), func(a, b key) int {
		return strings.Compare(a.namespace+"/"+a.name, b.namespace+"/"+b.name)
	})
	var list []object
	for _, k := range keys {
		if o := s.objects[r][k]; (namespace == "" || k.namespace == namespace) && wants.takes(o) {
			list = append(list, o)
		}
	}
	return list
}

// selector is which objects are wanted.
type selector struct {
	labels labels.Selector  // nil for all
	fields selects.Selector // of selectable; nil for all
}

// selectable are the fields that objects can be selected by.
var selectable = []string{"metadata.name", "metadata.namespace", "status.podIP", "status.phase"}

// parse reads a label selector and a field selector.
func parse(wanted, of string) (s selector, p *problem) {
	var err error
	if s.labels, err = labels.Parse(wanted); err == nil {
		s.fields, err = selects.ParseSelector(of)
	}
	if err != nil {
		return s, badRequest("unable to parse requirement: %v", err)
	}
	for _, r := range s.fields.Requirements() {
		if !slices.Contains(selectable, r.Field) {
			return s, badRequest("field label not supported: %s", r.Field)
		}
	}
	return s, nil
}

func (s selector) takes(o object) bool {
	if s.labels != nil && !s.labels.Matches(labels.Set(texts(o, "metadata", "labels"))) {
		return false
	}
	if s.fields != nil {
		for _, r := range s.fields.Requirements() {
			if text(o, strings.Split(r.Field, ".")...) != r.Value {
				return false
			}
		}
	}
	return true
}
