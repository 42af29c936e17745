package standin

import (
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gorilla/websocket"
	jsonpatch "gopkg.in/evanphx/json-patch.v4"
	selects "k8s.io/apimachinery/pkg/fields"
)

// bodyLimit bounds what is read of a request, in bytes.
const bodyLimit = 4 << 20

// call is a request, taken apart.
type call struct {
	s         *Server
	r         *resource
	namespace string
	name      string // "" for all
	part      string // "status", "scale", "log", "exec", "portforward", or ""
	q         *http.Request
}

func (s *Server) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	s.mu.Lock()
	ill := s.ill
	if s.ill.Busy > 0 {
		s.ill.Busy--
	}
	s.mu.Unlock()
	if ill.Delay > 0 {
		select {
		case <-time.After(ill.Delay):
		case <-q.Context().Done():
			return
		}
	}
	if ill.Busy > 0 {
		w.Header().Set("Retry-After", "1")
		say(w, http.StatusTooManyRequests,
			(&problem{code: http.StatusTooManyRequests, reason: "TooManyRequests",
				message: "the server has received too many requests and has asked us to try again later",
				after:   1}).status())
		return
	}
	if found := discovery(q.URL.Path); found != nil {
		say(w, http.StatusOK, found)
		return
	}
	if strings.HasSuffix(q.URL.Path, "/selfsubjectaccessreviews") && q.Method == http.MethodPost {
		s.review(w, q)
		return
	}
	c, p := s.call(q)
	if p != nil {
		say(w, p.code, p.status())
		return
	}
	if q.Method == http.MethodGet && q.URL.Query().Get("watch") == "true" {
		c.watch(w)
		return
	}
	switch c.part {
	case "log":
		c.log(w)
		return
	case "exec", "portforward":
		switch {
		case ill.Refuses == c.r.plural+"/"+c.part:
			p := c.forbidden("create", c.r.plural+"/"+c.part)
			say(w, p.code, p.status())
		case ill.Old && websocket.IsWebSocketUpgrade(q):
			p := badRequest("Upgrade request required")
			say(w, p.code, p.status())
		case c.part == "exec":
			c.exec(w)
		default:
			c.forward(w)
		}
		return
	}
	code, o, p := c.answer()
	if p != nil {
		say(w, p.code, p.status())
		return
	}
	say(w, code, o)
}

func say(w http.ResponseWriter, code int, o any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(code)
	_ = json.NewEncoder(w).Encode(o) // who has gone hears nothing
}

// call takes a path apart: /api/v1/namespaces/NAMESPACE/PLURAL/NAME/PART, and /apis/GROUP/VERSION/... .
func (s *Server) call(q *http.Request) (call, *problem) {
	c := call{s: s, q: q}
	nowhere := &problem{code: http.StatusNotFound, reason: "NotFound",
		message: "the server could not find the requested resource", details: true}
	words := strings.Split(strings.Trim(q.URL.Path, "/"), "/")
	group, version := "", ""
	switch {
	case len(words) > 2 && words[0] == "api":
		version, words = words[1], words[2:]
	case len(words) > 3 && words[0] == "apis":
		group, version, words = words[1], words[2], words[3:]
	default:
		return c, nowhere
	}
	if len(words) > 2 && words[0] == "namespaces" {
		c.namespace, words = words[1], words[2:]
	}
	n := slices.IndexFunc(resources,
		func(r *resource) bool { return r.group == group && r.version == version && r.plural == words[0] })
	if n < 0 || len(words) > 3 {
		return c, nowhere
	}
	c.r = resources[n]
	if len(words) > 1 {
		c.name = words[1]
	}
	if len(words) > 2 {
		c.part = words[2]
		switch c.part {
		case "status":
			n = slices.IndexFunc(resources, func(r *resource) bool { return r == c.r && r.status })
		case "scale":
			n = slices.Index([]string{"deployments"}, c.r.plural)
		default:
			n = slices.Index([]string{"pods log", "pods exec", "pods portforward"}, c.r.plural+" "+c.part)
		}
		if n < 0 {
			return c, nowhere
		}
	}
	return c, nil
}

// forbidden says that somebody has no right to something.
func (c call) forbidden(verb, what string) *problem {
	return &problem{code: http.StatusForbidden, reason: "Forbidden",
		message: fmt.Sprintf("%s %q is forbidden: User \"anybody\" cannot %s resource %q", c.r.plural, c.name, verb,
			what)}
}

func (c call) key() key { return key{c.namespace, c.name} }

func (c call) trial() bool { return c.q.URL.Query().Get("dryRun") == "All" }

// answer does what is asked for.
func (c call) answer() (code int, o any, p *problem) {
	s := c.s
	var body []byte
	if c.q.Method != http.MethodGet {
		var err error
		if body, err = io.ReadAll(io.LimitReader(c.q.Body, bodyLimit)); err != nil {
			return 0, nil, badRequest("%v", err)
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if c.q.Method != http.MethodGet && s.ill.Refuses == c.r.plural {
		return 0, nil, c.forbidden("patch", c.r.plural)
	}
	switch {
	case c.q.Method == http.MethodGet && c.name == "":
		o, p = c.list()
		return http.StatusOK, o, p
	case c.q.Method == http.MethodPost && c.name == "":
		o, p = c.create(body)
		return http.StatusCreated, o, p
	}
	applies := c.q.Method == http.MethodPatch && c.q.Header.Get("Content-Type") == applied
	was, found := s.objects[c.r][c.key()]
	if !found && !applies {
		return 0, nil, notFound(c.r, c.name)
	}
	if c.part == "scale" {
		o, p = c.scaled(was, body)
		return http.StatusOK, o, p
	}
	switch c.q.Method {
	case http.MethodGet:
		return http.StatusOK, was, nil
	case http.MethodDelete:
		if c.trial() {
			return http.StatusOK, was, nil
		}
		grace := -1.0
		var options struct{ GracePeriodSeconds *float64 }
		if json.Unmarshal(body, &options) == nil && options.GracePeriodSeconds != nil {
			grace = *options.GracePeriodSeconds
		}
		s.remove(c.r, c.key(), grace)
		return http.StatusOK, was, nil
	case http.MethodPut:
		var now object
		if err := json.Unmarshal(body, &now); err != nil {
			return 0, nil, badRequest("%v", err)
		}
		o, p = c.replace(was, now)
		return http.StatusOK, o, p
	case http.MethodPatch:
		if applies {
			code, o, p = c.apply(was, body)
			return code, o, p
		}
		now, p := c.patched(was, body)
		if p != nil {
			return 0, nil, p
		}
		o, p = c.replace(was, now)
		return http.StatusOK, o, p
	}
	return 0, nil, &problem{code: http.StatusMethodNotAllowed, reason: "MethodNotAllowed",
		message: "the server does not allow this method on the requested resource"}
}

// list is a chunk of a list. Chunks are of one moment only as long as nothing is forgotten.
func (c call) list() (any, *problem) {
	s, v := c.s, c.q.URL.Query()
	wants, p := parse(v.Get("labelSelector"), v.Get("fieldSelector"))
	if p != nil {
		return nil, p
	}
	all := s.list(c.r, c.namespace, wants)
	m := object{"resourceVersion": strconv.FormatInt(s.version, 10)}
	from := 0
	if token := v.Get("continue"); token != "" {
		version, name, _ := strings.Cut(token, " ")
		if n, err := strconv.ParseInt(version, 10, 64); err != nil || n < s.forgotten {
			return nil, &problem{code: http.StatusGone, reason: "Expired",
				message: "The provided continue parameter is too old to display a consistent list result."}
		}
		m["resourceVersion"] = version
		for from < len(all) && text(all[from], "metadata", "namespace")+"/"+
			text(all[from], "metadata", "name") <= name {
			from++
		}
	}
	all = all[from:]
	if limit, _ := strconv.Atoi(v.Get("limit")); limit > 0 && len(all) > limit {
		last := all[limit-1]
		m["continue"] = fmt.Sprintf("%s %s/%s", m["resourceVersion"], text(last, "metadata", "namespace"),
			text(last, "metadata", "name"))
		m["remainingItemCount"] = len(all) - limit
		all = all[:limit]
	}
	if all == nil {
		all = []object{}
	}
	return object{"kind": c.r.kind + "List", "apiVersion": c.r.apiVersion(), "metadata": m, "items": all}, nil
}

func (c call) create(body []byte) (any, *problem) {
	var o object
	if err := json.Unmarshal(body, &o); err != nil {
		return nil, badRequest("%v", err)
	}
	m := meta(o)
	if c.namespace != "" {
		m["namespace"] = c.namespace
	}
	k := keyOf(o)
	if k.name == "" || k.namespace == "" {
		return nil, invalid("%s: metadata.name: Required value: name or generateName is required", c.r.kind)
	}
	if _, there := c.s.objects[c.r][k]; there {
		return nil, &problem{code: http.StatusConflict, reason: "AlreadyExists",
			message: fmt.Sprintf("%s %q already exists", c.r.plural, k.name), of: c.r.plural}
	}
	c.owned(object{}, o)
	if c.trial() {
		return o, nil
	}
	return c.s.put(c.r, o), nil
}

// replace puts an object in the place of another, if it is of the version that there is.
func (c call) replace(was, now object) (any, *problem) {
	if version := text(now, "metadata", "resourceVersion"); version != "" &&
		version != text(was, "metadata", "resourceVersion") {
		return nil, &problem{code: http.StatusConflict, reason: "Conflict",
			message: fmt.Sprintf("Operation cannot be fulfilled on %s %q: the object has been modified; please apply "+
				"your changes to the latest version and try again", c.r.plural, c.name), of: c.r.plural}
	}
	if keyOf(now) != c.key() {
		return nil, badRequest("the name of the object (%s) does not match the name on the URL (%s)",
			text(now, "metadata", "name"), c.name)
	}
	if c.r.status {
		if kept := copied(was); c.part == "status" {
			kept["status"] = now["status"]
			now = kept
		} else {
			now["status"] = kept["status"]
		}
	}
	if p := check(c.r, now); p != nil {
		return nil, p
	}
	c.owned(was, now)
	if c.trial() {
		return now, nil
	}
	if same(unversioned(was), unversioned(now)) {
		return was, nil // nothing has changed, and nobody is told
	}
	return c.s.put(c.r, now), nil
}

// scaled is how many pods a deployment is to have, as an object of its own, when the request has changed it.
func (c call) scaled(was object, body []byte) (any, *problem) {
	scale := func(o object) object {
		m := meta(o)
		return object{
			"apiVersion": "autoscaling/v1", "kind": "Scale",
			"metadata": object{"name": m["name"], "namespace": m["namespace"], "resourceVersion": m["resourceVersion"]},
			"spec":     object{"replicas": at(o, "spec", "replicas")},
			"status":   object{"replicas": at(o, "status", "replicas")},
		}
	}
	wanted := scale(was)
	switch c.q.Method {
	case http.MethodGet:
		return wanted, nil
	case http.MethodPut:
		if err := json.Unmarshal(body, &wanted); err != nil {
			return nil, badRequest("%v", err)
		}
	case http.MethodPatch:
		var p *problem
		if wanted, p = c.patched(wanted, body); p != nil {
			return nil, p
		}
	}
	now := copied(was)
	meta(now)["resourceVersion"] = at(wanted, "metadata", "resourceVersion")
	if spec, ok := now["spec"].(object); ok {
		spec["replicas"] = at(wanted, "spec", "replicas")
	}
	o, p := c.replace(was, now)
	if p != nil {
		return nil, p
	}
	return scale(o.(object)), nil
}

func unversioned(o object) object {
	o = copied(o)
	delete(meta(o), "managedFields")
	return o
}

// owned notes who has changed which fields of an object.
func (c call) owned(was, now object) {
	if same(was["spec"], now["spec"]) && same(at(was, "metadata", "labels"), at(now, "metadata", "labels")) &&
		same(at(was, "metadata", "annotations"), at(now, "metadata", "annotations")) {
		return
	}
	before, changed := leaves(was), map[string]any{}
	for path, value := range leaves(now) {
		if !same(before[path], value) {
			changed[path] = value
		}
	}
	c.manage(was, now, "Update", changed, false)
}

// check is what an API server looks at before it stores an object, as far as Vaiven can get it wrong.
func check(r *resource, o object) *problem {
	if r.plural != "httproutes" {
		return nil
	}
	rules, _ := at(o, "spec", "rules").([]any)
	for n, rule := range rules {
		refs, _ := at(rule, "backendRefs").([]any)
		for k, ref := range refs {
			if weight, ok := at(ref, "weight").(float64); ok && (weight < 0 || weight > 1e6) {
				return invalid("HTTPRoute %q is invalid: spec.rules[%d].backendRefs[%d].weight: should be 0 to 1000000",
					text(o, "metadata", "name"), n, k)
			}
		}
	}
	return nil
}

// patched is an object with a patch.
func (c call) patched(was object, patch []byte) (object, *problem) {
	before, err := json.Marshal(was)
	if err != nil {
		return nil, badRequest("%v", err)
	}
	kind, _, _ := mime.ParseMediaType(c.q.Header.Get("Content-Type"))
	var after []byte
	switch kind {
	case "application/json-patch+json":
		p, errPatch := jsonpatch.DecodePatch(patch)
		if errPatch != nil {
			return nil, badRequest("%v", errPatch)
		}
		if after, err = p.Apply(before); err != nil {
			return nil, &problem{code: http.StatusUnprocessableEntity, reason: "Invalid",
				message: "the server rejected our request due to an error in our request", details: true}
		}
	case "application/merge-patch+json", "application/strategic-merge-patch+json": // lists are replaced whole in both
		after, err = jsonpatch.MergePatch(before, patch)
	default:
		return nil, &problem{code: http.StatusUnsupportedMediaType, reason: "UnsupportedMediaType",
			message: "the body of the request was in an unknown format - accepted media types include: " +
				"application/json-patch+json, application/merge-patch+json"}
	}
	var now object
	if err == nil {
		err = json.Unmarshal(after, &now)
	}
	if err != nil {
		return nil, badRequest("%v", err)
	}
	return now, nil
}

// review says that somebody may do everything, except what is refused.
func (s *Server) review(w http.ResponseWriter, q *http.Request) {
	var o object
	if err := json.NewDecoder(io.LimitReader(q.Body, bodyLimit)).Decode(&o); err != nil {
		p := badRequest("%v", err)
		say(w, p.code, p.status())
		return
	}
	s.mu.Lock()
	refused := s.ill.Refuses
	s.mu.Unlock()
	asked := text(o, "spec", "resourceAttributes", "resource")
	if part := text(o, "spec", "resourceAttributes", "subresource"); part != "" {
		asked += "/" + part
	}
	verb := text(o, "spec", "resourceAttributes", "verb")
	o["status"] = object{"allowed": asked != refused || verb == "get" || verb == "list" || verb == "watch"}
	say(w, http.StatusCreated, o)
}

// watch tells of changes, one line each, until somebody goes.
func (c call) watch(w http.ResponseWriter) {
	s, v := c.s, c.q.URL.Query()
	wants, p := parse(v.Get("labelSelector"), v.Get("fieldSelector"))
	if p != nil {
		say(w, p.code, p.status())
		return
	}
	if c.name != "" {
		wants.fields = selects.AndSelectors(wants.fields, selects.OneTermEqualSelector("metadata.name", c.name))
	}
	s.mu.Lock()
	seen := s.version
	var first []object
	if asked := v.Get("resourceVersion"); asked != "" && asked != "0" {
		n, err := strconv.ParseInt(asked, 10, 64)
		if err != nil {
			s.mu.Unlock()
			p := badRequest("invalid resource version %q", asked)
			say(w, p.code, p.status())
			return
		}
		seen = n
	} else {
		first = s.list(c.r, c.namespace, wants)
	}
	s.mu.Unlock()
	w.Header().Set("Content-Type", "application/json")
	flush := http.NewResponseController(w)
	lines := json.NewEncoder(w)
	told := 0
	line := func(what string, o object) bool {
		if err := lines.Encode(object{"type": what, "object": o}); err != nil {
			return false
		}
		told++
		return flush.Flush() == nil
	}
	for _, o := range first {
		if !line("ADDED", o) {
			return
		}
	}
	_ = flush.Flush() // who asks is to know that it has begun
	ends := make(<-chan time.Time)
	if seconds, _ := strconv.Atoi(v.Get("timeoutSeconds")); seconds > 0 {
		t := time.NewTimer(time.Duration(seconds) * time.Second)
		defer t.Stop()
		ends = t.C
	}
	marks := time.NewTicker(s.config.Bookmarks)
	defer marks.Stop()
	for {
		s.mu.Lock()
		list, more, gone, breaks, now := s.since(seen), s.more, seen < s.forgotten, s.ill.Break, s.version
		s.mu.Unlock()
		if gone {
			line("ERROR", (&problem{code: http.StatusGone, reason: "Expired",
				message: fmt.Sprintf("too old resource version: %d (%d)", seen, now)}).status())
			return
		}
		for _, e := range list {
			if what := e.means(c, wants); what != "" && !line(what, e.object) || breaks > 0 && told >= breaks {
				return
			}
		}
		if breaks > 0 && told >= breaks {
			return
		}
		seen = max(seen, now)
		select {
		case <-more:
		case <-marks.C:
			if v.Get("allowWatchBookmarks") == "true" &&
				!line("BOOKMARK", object{"kind": c.r.kind, "apiVersion": c.r.apiVersion(),
					"metadata": object{"resourceVersion": strconv.FormatInt(seen, 10)}}) {
				return
			}
		case <-ends:
			return
		case <-c.q.Context().Done():
			return
		}
	}
}

// since are the changes after a version. The caller holds the lock.
func (s *Server) since(version int64) []change {
	n, _ := slices.BinarySearchFunc(s.log, version+1, func(c change, v int64) int { return int(c.version - v) })
	return slices.Clone(s.log[n:])
}

// means is what a change is for a watch: what comes to be wanted is added, and what is wanted no more is deleted; ""
// for nothing.
func (e change) means(c call, wants selector) string {
	if e.of != c.r || c.namespace != "" && text(e.object, "metadata", "namespace") != c.namespace {
		return ""
	}
	is, was := e.what != "DELETED" && wants.takes(e.object), e.previous != nil && wants.takes(e.previous)
	switch {
	case is && was:
		return "MODIFIED"
	case is:
		return "ADDED"
	case was:
		return "DELETED"
	}
	return ""
}

// discovery is what there is to be asked for, nil if that is not what a path asks.
func discovery(path string) any {
	groups := map[string]string{}
	for _, r := range resources {
		if r.group != "" {
			groups[r.group] = r.version
		}
	}
	groups["authorization.k8s.io"] = "v1"
	switch path {
	case "/version":
		return object{"major": "1", "minor": "31", "gitVersion": "v1.31.0", "platform": "linux/amd64"}
	case "/api":
		return object{"kind": "APIVersions", "versions": []string{"v1"}, "serverAddressByClientCIDRs": []any{}}
	case "/apis":
		var list []any
		for group, version := range groups {
			v := object{"groupVersion": group + "/" + version, "version": version}
			list = append(list, object{"name": group, "versions": []any{v}, "preferredVersion": v})
		}
		return object{"kind": "APIGroupList", "apiVersion": "v1", "groups": list}
	}
	asked := ""
	switch words := strings.Split(strings.Trim(path, "/"), "/"); {
	case path == "/api/v1":
		asked = "v1"
	case len(words) == 3 && words[0] == "apis" && groups[words[1]] == words[2]:
		asked = words[1] + "/" + words[2]
	default:
		return nil
	}
	list := []any{}
	for _, r := range resources {
		if r.apiVersion() != asked {
			continue
		}
		verbs := []string{"create", "delete", "get", "list", "patch", "update", "watch"}
		list = append(list, object{"name": r.plural, "singularName": strings.ToLower(r.kind), "namespaced": true,
			"kind": r.kind, "verbs": verbs, "shortNames": r.shorts})
		if r.status {
			list = append(list, object{"name": r.plural + "/status", "singularName": "", "namespaced": true,
				"kind": r.kind, "verbs": []string{"get", "patch", "update"}})
		}
		if r.plural == "deployments" {
			list = append(list, object{"name": "deployments/scale", "singularName": "", "namespaced": true,
				"group": "autoscaling", "version": "v1", "kind": "Scale", "verbs": []string{"get", "patch", "update"}})
		}
	}
	if asked == "authorization.k8s.io/v1" {
		list = append(list, object{"name": "selfsubjectaccessreviews", "singularName": "selfsubjectaccessreview",
			"namespaced": false, "kind": "SelfSubjectAccessReview", "verbs": []string{"create"}})
	}
	return object{"kind": "APIResourceList", "apiVersion": "v1", "groupVersion": asked, "resources": list}
}
