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
	after   int   // seconds
	causes  []any // of a conflict of server-side apply
}

func (p *problem) Error() string { return p.message }

func (p *problem) status() object {
	o := object{"kind": "Status", "apiVersion": "v1", "metadata": object{}, "status": "Failure", "message": p.message,
		"reason": p.reason, "code": p.code}
	if p.after > 0 {
		o["details"] = object{"retryAfterSeconds": p.after}
	}
	if p.causes != nil {
		o["details"] = object{"causes": p.causes}
	}
	return o
}

func notFound(r *resource, name string) *problem {
	return &problem{code: http.StatusNotFound, reason: "NotFound",
		message: fmt.Sprintf("%s %q not found", r.plural, name)}
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
	labels []requirement
	fields map[string]string // those of selectable
}

// requirement is one on a label.
type requirement struct {
	name   string
	values []string // nil: that it is there
	not    bool
}

// selectable are the fields that objects can be selected by.
var selectable = []string{"metadata.name", "metadata.namespace", "status.podIP", "status.phase"}

// parse reads a label selector and a field selector.
func parse(labels, fields string) (selector, *problem) {
	s := selector{fields: map[string]string{}}
	for _, part := range split(labels) {
		var q requirement
		switch name, value, found := strings.Cut(part, "!="); {
		case found:
			q = requirement{name, []string{value}, true}
		case strings.Contains(part, "="):
			name, value, _ := strings.Cut(strings.Replace(part, "==", "=", 1), "=")
			q = requirement{name, []string{value}, false}
		case strings.Contains(part, " in ("):
			name, list, _ := strings.Cut(strings.TrimSuffix(part, ")"), " in (")
			q = requirement{name, strings.Split(list, ","), false}
		case strings.HasPrefix(part, "!"):
			q = requirement{part[1:], nil, true}
		default:
			q = requirement{name, nil, false}
		}
		s.labels = append(s.labels, q)
	}
	for _, part := range split(fields) {
		name, value, _ := strings.Cut(strings.Replace(part, "==", "=", 1), "=")
		if !slices.Contains(selectable, name) {
			return s, badRequest("field label not supported: %s", name)
		}
		s.fields[name] = value
	}
	return s, nil
}

// split cuts at commas that stand in no brackets.
func split(text string) []string {
	var list []string
	depth, begin := 0, 0
	for n, c := range text + "," {
		switch {
		case c == '(':
			depth++
		case c == ')':
			depth--
		case c == ',' && depth == 0:
			if part := strings.TrimSpace((text + ",")[begin:n]); part != "" {
				list = append(list, part)
			}
			begin = n + 1
		}
	}
	return list
}

func (s selector) takes(o object) bool {
	labels := texts(o, "metadata", "labels")
	for _, q := range s.labels {
		value, has := labels[q.name]
		if ok := has && (q.values == nil || slices.Contains(q.values, value)); ok == q.not {
			return false
		}
	}
	for name, value := range s.fields {
		if text(o, strings.Split(name, ".")...) != value {
			return false
		}
	}
	return true
}
