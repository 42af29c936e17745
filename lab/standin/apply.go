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

	"github.com/goccy/go-yaml"
)

// applied is the content type of server-side apply.
const applied = "application/apply-patch+yaml"

// leaves are the values of an object that somebody can own, by their paths. Lists are one value, as are maps with
// nothing in them. What the server writes is nobody's.
func leaves(o object) map[string]any {
	all := map[string]any{}
	var walk func(path []string, value any)
	walk = func(path []string, value any) {
		if m, ok := value.(object); ok && len(m) > 0 {
			for name, v := range m {
				walk(append(path[:len(path):len(path)], name), v)
			}
			return
		}
		all[strings.Join(path, "\x00")] = value
	}
	walk([]string{"spec"}, o["spec"])
	for _, what := range []string{"labels", "annotations"} {
		if m, ok := at(o, "metadata", what).(object); ok {
			walk([]string{"metadata", what}, m)
		}
	}
	if o["spec"] == nil {
		delete(all, "spec")
	}
	return all
}

// fields are paths as managedFields have them, and paths those of such fields.
func fields(paths map[string]any) object {
	top := object{}
	for path := range paths {
		m := top
		for _, name := range strings.Split(path, "\x00") {
			next, ok := m["f:"+name].(object)
			if !ok {
				next = object{}
				m["f:"+name] = next
			}
			m = next
		}
	}
	return top
}

func paths(of any) map[string]any {
	all := map[string]any{}
	var walk func(path []string, value any)
	walk = func(path []string, value any) {
		m, _ := value.(object)
		if len(m) == 0 && len(path) > 0 {
			all[strings.Join(path, "\x00")] = true
			return
		}
		for name, v := range m {
			walk(append(path[:len(path):len(path)], strings.TrimPrefix(name, "f:")), v)
		}
	}
	walk(nil, of)
	return all
}

// manager is who asks, as the API notes it.
func (c call) manager() string {
	if m := c.q.URL.Query().Get("fieldManager"); m != "" {
		return m
	}
	m, _, _ := strings.Cut(c.q.UserAgent(), "/")
	return m
}

// manage writes into an object who owns which of its fields: whoever asks owns those that are given, beside what they
// owned already unless they own no others any more; what an update changes is nobody else's.
func (c call) manage(was, now object, operation string, own map[string]any, alone bool) {
	var kept []any
	list, _ := at(was, "metadata", "managedFields").([]any)
	for _, m := range list {
		theirs := paths(at(m, "fieldsV1"))
		if text(m, "manager") == c.manager() && text(m, "operation") == operation {
			if !alone {
				maps.Copy(own, theirs)
			}
			continue
		}
		if operation == "Update" {
			maps.DeleteFunc(theirs, func(path string, _ any) bool { _, changed := own[path]; return changed })
		}
		if len(theirs) > 0 {
			m = copied(m.(object))
			m.(object)["fieldsV1"] = fields(theirs)
			kept = append(kept, m)
		}
	}
	if len(own) > 0 {
		kept = append(kept, object{"manager": c.manager(), "operation": operation, "apiVersion": c.r.apiVersion(),
			"time": time.Now().UTC().Format(time.RFC3339), "fieldsType": "FieldsV1", "fieldsV1": fields(own)})
	}
	meta(now)["managedFields"] = kept
}

// apply is server-side apply: whoever asks owns the fields that they give, and those that they gave before and do not
// any more go. A field that somebody else owns and that is to be another is a conflict, unless it is forced.
func (c call) apply(was object, body []byte) (int, any, *problem) {
	written, err := yaml.YAMLToJSON(body)
	var given object
	if err == nil {
		err = json.Unmarshal(written, &given)
	}
	if err != nil {
		return 0, nil, badRequest("error decoding YAML: %v", err)
	}
	if c.q.URL.Query().Get("fieldManager") == "" {
		p := invalid("PatchOptions.meta.k8s.io \"\" is invalid: fieldManager: Required value: is required for apply patch")
		p.of, p.causes = "PatchOptions", []any{object{"reason": "FieldValueRequired", "field": "fieldManager"}}
		return 0, nil, p
	}
	force, _ := strconv.ParseBool(c.q.URL.Query().Get("force"))
	wanted := leaves(given)
	now := object{"metadata": object{"name": c.name, "namespace": c.namespace}}
	code := http.StatusCreated
	if was != nil {
		now, code = copied(was), http.StatusOK
	}
	have := leaves(now)
	var causes, who []string
	var details []any
	mine := map[string]any{}
	list, _ := at(was, "metadata", "managedFields").([]any)
	theirs := map[string]string{} // by path: whose it is
	for _, m := range list {
		name, _ := at(m, "manager").(string)
		for path := range paths(at(m, "fieldsV1")) {
			if name == c.manager() && at(m, "operation") == "Apply" {
				mine[path] = true
			} else { // somebody else, or the same by another kind of change
				theirs[path] = name
			}
		}
	}
	for path, value := range wanted {
		if name := theirs[path]; name != "" && !same(have[path], value) && !force {
			field := "." + strings.ReplaceAll(path, "\x00", ".")
			causes, who = append(causes, field), append(who, name)
			details = append(details,
				object{"reason": "FieldManagerConflict",
					"message": fmt.Sprintf("conflict with %q using %s", name, c.r.apiVersion()), "field": field})
		}
	}
	if len(causes) > 0 {
		slices.Sort(causes)
		slices.Sort(who)
		plural := map[bool]string{false: "", true: "s"}[len(causes) > 1]
		return 0, nil, &problem{code: http.StatusConflict, reason: "Conflict",
			message: fmt.Sprintf("Apply failed with %d conflict%s: conflict%[2]s with %q: %s", len(causes), plural,
				strings.Join(slices.Compact(who), ", "), strings.Join(causes, ", ")), causes: details}
	}
	for path := range mine {
		if _, still := wanted[path]; !still && theirs[path] == "" {
			unset(now, strings.Split(path, "\x00"))
		}
	}
	for path, value := range wanted {
		set(now, strings.Split(path, "\x00"), value)
	}
	c.manage(was, now, "Apply", wanted, true)
	if was != nil && same(unversioned(was), unversioned(now)) {
		return code, was, nil
	}
	if c.trial() {
		return code, now, nil
	}
	return code, c.s.put(c.r, now), nil
}

func set(o object, path []string, value any) {
	for _, name := range path[:len(path)-1] {
		next, ok := o[name].(object)
		if !ok {
			next = object{}
			o[name] = next
		}
		o = next
	}
	o[path[len(path)-1]] = value
}

func unset(o object, path []string) {
	for _, name := range path[:len(path)-1] {
		next, ok := o[name].(object)
		if !ok {
			return
		}
		o = next
	}
	delete(o, path[len(path)-1])
}
