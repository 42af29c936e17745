package difference

import (
	"encoding/json"
	"fmt"
	"slices"
	"sort"
)

// Flatten turns a document of maps, lists and values, as decoders make them, into
// paths and values: "fares.0.price" → "900". Strings keep their quotes, so that
// "1" and 1 differ, and so do empty maps and lists from missing ones.
func Flatten(document any) map[string]string {
	flat := map[string]string{}
	flatten(flat, "", document)
	return flat
}

func flatten(flat map[string]string, path string, at any) {
	below := func(step string) string {
		if path == "" {
			return step
		}
		return path + "." + step
	}
	switch v := at.(type) {
	case map[string]any:
		for name, value := range v {
			flatten(flat, below(name), value)
		}
		if len(v) > 0 {
			return
		}
	case map[any]any:
		for name, value := range v {
			flatten(flat, below(fmt.Sprint(name)), value)
		}
		if len(v) > 0 {
			return
		}
	case []any:
		for n, value := range v {
			flatten(flat, below(fmt.Sprint(n)), value)
		}
		if len(v) > 0 {
			return
		}
	}
	text, err := json.Marshal(at)
	if err != nil {
		text = fmt.Appendf(nil, "%v", at)
	}
	flat[path] = string(text)
}

// Paths are the paths at which two flat documents differ, in order, but for
// those that a pattern covers.
func Paths(a, b map[string]string, ignored []string) []string {
	var paths []string
	for path, value := range a {
		if other, ok := b[path]; !ok || other != value {
			paths = append(paths, path)
		}
	}
	for path := range b {
		if _, ok := a[path]; !ok {
			paths = append(paths, path)
		}
	}
	paths = slices.DeleteFunc(paths, func(path string) bool {
		return slices.ContainsFunc(ignored, func(pattern string) bool { return Matches(pattern, path) })
	})
	sort.Strings(paths)
	return paths
}
