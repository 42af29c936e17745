package script

import (
	"encoding/json"
	"maps"
	"path"
	"reflect"
	"slices"
	"strings"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/split"
)

// object is a JSON object under construction. Its keys are written in order of their names.
type object = map[string]any

// Schema is the JSON Schema (draft 2020-12) of the kinds of values, each given by a value of its
// type.
func Schema(kinds map[string]any) ([]byte, error) {
	s := describer{defs: object{}}
	var any []object
	var names []string
	for name := range kinds {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		d := s.object(reflect.TypeOf(kinds[name]))
		properties := d["properties"].(object)
		properties["schema"], properties["kind"] = object{"const": Version}, object{"const": name}
		required, _ := d["required"].([]string)
		d["required"] = append([]string{"schema", "kind"}, required...)
		s.defs[name] = d
		any = append(any, object{"$ref": "#/$defs/" + name})
	}
	return json.MarshalIndent(object{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "What vaiven prints with --json",
		"anyOf": any, "$defs": s.defs,
	}, "", " ")
}

// nameOf is what a type is called among the definitions.
func nameOf(t reflect.Type) string {
	name, _, generic := strings.Cut(t.Name(), "[")
	if generic { // by the interface that its values have
		_, name, _ = strings.Cut(t.String(), "[")
		name, _, _ = strings.Cut(name, ",")
		return strings.ReplaceAll(name[strings.LastIndexByte(name, '/')+1:], ".", "_")
	}
	return path.Base(t.PkgPath()) + "_" + name
}

type describer struct{ defs object }

// object describes a struct.
func (s *describer) object(t reflect.Type) object {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	properties, required := object{}, []string{}
	d := object{"type": "object", "properties": properties, "additionalProperties": false}
	if t == eventType {
		properties["event"] = object{"type": "string", "pattern": "^[a-z_]+$"}
		properties["seq"], properties["crossing"] = object{"type": "integer"}, object{"type": "integer"}
		properties["at"], properties["by"], properties["said"] = moment, object{"type": "string"},
			object{"type": "string"}
		properties["peer"] = s.value(reflect.TypeFor[crossing.Peer]())
		d["required"], d["additionalProperties"] = []string{"event", "seq", "at", "by"}, true // the fact's own fields
		return d
	}
	if t.Implements(heldType) {
		return s.held(reflect.Zero(t).Interface().(oneof.Held))
	}
	s.properties(t, properties, &required)
	slices.Sort(required)
	d["required"] = required
	return d
}

// held describes a value that is one of several types, or none.
func (s *describer) held(v oneof.Held) object {
	var list []object
	add := func(kind string, t reflect.Type) {
		properties, required := object{"kind": object{"const": Word(kind)}}, []string{"kind"}
		if head := v.Head(); head != nil {
			s.properties(reflect.TypeOf(head), properties, &required)
		}
		if t != nil {
			s.properties(t, properties, &required)
		}
		slices.Sort(required)
		list = append(list, object{"type": "object", "properties": properties, "required": required,
			"additionalProperties": false})
	}
	add("", nil)
	types := v.Types()
	for _, kind := range slices.Sorted(maps.Keys(types)) {
		add(kind, types[kind])
	}
	return object{"anyOf": list}
}

// properties describes a struct's fields, and says which are always there.
func (s *describer) properties(t reflect.Type, properties object, required *[]string) {
	for _, f := range fieldsOf(t) {
		for name, kind := range s.field(f.name, f.kind) {
			properties[name] = kind
			if !f.empty && f.kind != timeType && f.kind.Kind() != reflect.Pointer {
				*required = append(*required, name)
			}
		}
	}
}

var moment = object{"type": "string", "format": "date-time"}

// field describes a field under the names that it is written with.
func (s *describer) field(name string, t reflect.Type) object {
	number := func(what string) object { return object{"type": []string{"number", "null"}, "description": what} }
	switch t {
	case durationType:
		return object{name + "_s": number("seconds")}
	case shareType:
		if name == "part" {
			return object{"part_new": number("percent of the requests, on the new side")}
		}
		return object{name + "_green": number("percent of the requests, on green"),
			name + "_new": number("percent of the requests, on the new side")}
	}
	return object{name: s.value(t)}
}

// value describes a value that is not named by its unit.
func (s *describer) value(t reflect.Type) object {
	switch t {
	case timeType:
		return moment
	case sideType:
		return object{"enum": []string{split.Blue.String(), split.Green.String()}}
	case durationType, shareType:
		return object{"type": []string{"number", "null"}}
	case rawType:
		return object{}
	case reflect.TypeFor[crossing.Fact]():
		return object{"type": "object"}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return object{"anyOf": []object{{"type": "null"}, s.value(t.Elem())}}
	case reflect.String:
		if t.PkgPath() != "" {
			return object{"type": "string", "pattern": "^[^ ]*$"}
		}
		return object{"type": "string"}
	case reflect.Bool:
		return object{"type": "boolean"}
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64, reflect.Uint, reflect.Uint8,
		reflect.Uint16, reflect.Uint32, reflect.Uint64:
		return object{"type": "integer"}
	case reflect.Float32, reflect.Float64:
		return object{"type": []string{"number", "null"}}
	case reflect.Slice:
		return object{"type": []string{"array", "null"}, "items": s.value(t.Elem())}
	case reflect.Map:
		return object{"type": []string{"object", "null"}, "additionalProperties": s.value(t.Elem())}
	case reflect.Array:
		if bySide(t) {
			properties, required := object{}, []string{}
			for _, side := range split.Sides {
				for name, kind := range s.field(side.String(), t.Elem()) {
					properties[name] = kind
					required = append(required, name)
				}
			}
			slices.Sort(required)
			return object{"type": "object", "properties": properties, "required": required,
				"additionalProperties": false}
		}
		return object{"type": "array", "items": s.value(t.Elem())}
	case reflect.Struct:
		name := nameOf(t)
		if _, known := s.defs[name]; !known {
			s.defs[name] = object{} // it may be within itself
			s.defs[name] = s.object(t)
		}
		return object{"$ref": "#/$defs/" + name}
	}
	return object{}
}
