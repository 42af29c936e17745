package testkit

import (
	"encoding/json"
	"fmt"
	"reflect"
	"regexp"
	"strings"
	"time"
)

// Schema is a JSON Schema, as much of it as ours use.
type Schema struct{ root map[string]any }

// NewSchema reads a schema.
func NewSchema(data []byte) (*Schema, error) {
	s := &Schema{}
	return s, json.Unmarshal(data, &s.root)
}

// Validate says where a value does not fit the schema, nil if it does.
func (s *Schema) Validate(data []byte) error {
	var v any
	if err := json.Unmarshal(data, &v); err != nil {
		return err
	}
	// What says its kind is held to that kind, so that the mistake is named.
	if o, ok := v.(map[string]any); ok {
		if kind, ok := o["kind"].(string); ok {
			if d, known := s.root["$defs"].(map[string]any)[kind]; known {
				return s.check(d.(map[string]any), v, kind)
			}
			return fmt.Errorf("there is no kind %q", kind)
		}
	}
	return s.check(s.root, v, "")
}

func (s *Schema) check(d map[string]any, v any, at string) error {
	if ref, ok := d["$ref"].(string); ok {
		return s.check(s.root["$defs"].(map[string]any)[strings.TrimPrefix(ref, "#/$defs/")].(map[string]any), v, at)
	}
	for _, word := range []string{"anyOf", "oneOf"} {
		if list, ok := d[word].([]any); ok {
			var first error
			fits := false
			for _, one := range list {
				err := s.check(one.(map[string]any), v, at)
				if fits = fits || err == nil; err != nil && first == nil {
					first = err
				}
			}
			if !fits {
				return first
			}
		}
	}
	if want, ok := d["const"]; ok && !reflect.DeepEqual(want, v) {
		return fmt.Errorf("%s is %v, not %v", at, v, want)
	}
	if list, ok := d["enum"].([]any); ok {
		among := false
		for _, one := range list {
			among = among || reflect.DeepEqual(one, v)
		}
		if !among {
			return fmt.Errorf("%s is %v, none of %v", at, v, list)
		}
	}
	if err := kindOf(d["type"], v, at); err != nil {
		return err
	}
	switch v := v.(type) {
	case string:
		if p, ok := d["pattern"].(string); ok && !regexp.MustCompile(p).MatchString(v) {
			return fmt.Errorf("%s is %q, which does not match %s", at, v, p)
		}
		if d["format"] == "date-time" {
			if _, err := time.Parse(time.RFC3339Nano, v); err != nil {
				return fmt.Errorf("%s: %w", at, err)
			}
		}
	case []any:
		if items, ok := d["items"].(map[string]any); ok {
			for n, one := range v {
				if err := s.check(items, one, fmt.Sprintf("%s[%d]", at, n)); err != nil {
					return err
				}
			}
		}
	case map[string]any:
		return s.object(d, v, at)
	}
	return nil
}

func (s *Schema) object(d, v map[string]any, at string) error {
	properties, _ := d["properties"].(map[string]any)
	for _, name := range list(d["required"]) {
		if _, there := v[name]; !there {
			return fmt.Errorf("%s has no %q", at, name)
		}
	}
	for name, value := range v {
		if p, ok := properties[name].(map[string]any); ok {
			if err := s.check(p, value, at+"."+name); err != nil {
				return err
			}
			continue
		}
		switch more := d["additionalProperties"].(type) {
		case bool:
			if !more {
				return fmt.Errorf("%s has a %q that the schema does not know", at, name)
			}
		case map[string]any:
			if err := s.check(more, value, at+"."+name); err != nil {
				return err
			}
		}
	}
	return nil
}

func list(v any) []string {
	var names []string
	all, _ := v.([]any)
	for _, one := range all {
		names = append(names, one.(string))
	}
	return names
}

func kindOf(want, v any, at string) error {
	var kinds []string
	switch w := want.(type) {
	case nil:
		return nil
	case string:
		kinds = []string{w}
	default:
		kinds = list(w)
	}
	for _, kind := range kinds {
		fits := false
		switch v := v.(type) {
		case nil:
			fits = kind == "null"
		case bool:
			fits = kind == "boolean"
		case string:
			fits = kind == "string"
		case float64:
			fits = kind == "number" || kind == "integer" && v == float64(int64(v))
		case []any:
			fits = kind == "array"
		case map[string]any:
			fits = kind == "object"
		}
		if fits {
			return nil
		}
	}
	return fmt.Errorf("%s is %v, want %s", at, v, strings.Join(kinds, " or "))
}
