package api

import (
	"encoding/json"
	"fmt"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/guard"
	"vaiven/internal/core/past"
	"vaiven/internal/core/split"
	"vaiven/internal/core/wayback"
	"vaiven/internal/front"
	"vaiven/internal/keeper"
)

// described is what docs/keeper.openapi.yaml says, as far as it is held true here.
type described struct {
	OpenAPI string `yaml:"openapi"`
	Info    struct {
		Version string `yaml:"version"`
	} `yaml:"info"`
	Paths map[string]map[string]struct {
		Parameters []struct {
			Name string `yaml:"name"`
		} `yaml:"parameters"`
		Responses map[string]any `yaml:"responses"`
	} `yaml:"paths"`
	Components struct {
		Schemas map[string]schema `yaml:"schemas"`
	} `yaml:"components"`
}

type schema struct {
	Type       any               `yaml:"type"`
	Enum       []string          `yaml:"enum"`
	Required   []string          `yaml:"required"`
	Properties map[string]schema `yaml:"properties"`
	Items      *schema           `yaml:"items"`
	Ref        string            `yaml:"$ref"`
}

func description(t *testing.T) described {
	t.Helper()
	text, err := os.ReadFile("../../../docs/keeper.openapi.yaml")
	if err != nil {
		t.Fatal(err)
	}
	var d described
	if err := yaml.Unmarshal(text, &d); err != nil {
		t.Fatal(err)
	}
	return d
}

// What is described is what is answered to, and the other way round.
func TestEveryEndpointIsDescribed(t *testing.T) {
	d := description(t)
	if !strings.HasPrefix(d.OpenAPI, "3.1.") || d.Info.Version != fmt.Sprint(Protocol) {
		t.Errorf("OpenAPI %s, version %s", d.OpenAPI, d.Info.Version)
	}
	var there, told []string
	for _, e := range append(endpoints, standbys...) {
		there = append(there, e.pattern)
	}
	for path, methods := range d.Paths {
		for method, m := range methods {
			told = append(told, strings.ToUpper(method)+" "+path)
			if m.Responses["200"] == nil || m.Responses["default"] == nil {
				t.Errorf("%s %s: it is not said what is answered", method, path)
			}
		}
	}
	slices.Sort(there)
	there = slices.Compact(there) // some are of both
	slices.Sort(told)
	if !slices.Equal(there, told) {
		t.Errorf("there are\n%s\nand described are\n%s", strings.Join(there, "\n"), strings.Join(told, "\n"))
	}
}

// fieldsOf are the names of a type's fields on the wire.
func fieldsOf(t reflect.Type) []string {
	var list []string
	for n := range t.NumField() {
		f := t.Field(n)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case f.Anonymous && name == "":
			list = append(list, fieldsOf(f.Type)...)
		case name != "-" && name != "" && f.IsExported():
			list = append(list, name)
		}
	}
	slices.Sort(list)
	return list
}

// The fields that are described are those that there are.
func TestEveryFieldIsDescribed(t *testing.T) {
	d := description(t)
	for name, of := range map[string]any{
		"Info": Info{}, "Standing": Standing{},
		"View": keeper.Snapshot{}, "Person": keeper.Person{}, "Offer": keeper.Offer{},
		"Wheel": crossing.Wheel{},
		"Point": engine.Point{}, "Rehearsal": wayback.Rehearsal{}, "Step": wayback.Step{}, "Change": front.Change{},
		"Said": said{}, "Done": done{}, "Update": update{}, "Track": pointsTold{}, "Tried": tried{},
		"Stories": stories{}, "Story": guard.Story{}, "GuardPoint": guard.Point{},
		"Logbook": keeper.Logbook{}, "PastCrossing": past.Crossing{}, "Told": keeper.Told{}, "Digest": past.Digest{},
	} {
		s, ok := d.Components.Schemas[name]
		if !ok {
			t.Errorf("%s is not described", name)
			continue
		}
		var told []string
		for property := range s.Properties {
			told = append(told, property)
		}
		slices.Sort(told)
		if there := fieldsOf(reflect.TypeOf(of)); !slices.Equal(told, there) {
			t.Errorf("%s has %v, and described are %v", name, there, told)
		}
		for _, r := range s.Required {
			if _, ok := s.Properties[r]; !ok {
				t.Errorf("%s needs %q, which it does not have", name, r)
			}
		}
	}
}

// actsBegin and actsEnd are around what the description has of acts and refusals, which is made of their types.
const (
	actsBegin = "    # Acts and refusals, as their types have them.\n"
	actsEnd   = "    # End of the acts.\n"
)

// Acts and refusals are described by their types: UPDATE_SCHEMA=1 writes them anew.
func TestActsAreDescribed(t *testing.T) {
	const file = "../../../docs/keeper.openapi.yaml"
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	before, rest, _ := strings.Cut(string(data), actsBegin)
	told, after, found := strings.Cut(rest, actsEnd)
	if !found {
		t.Fatalf("%s has no place for acts", file)
	}
	want := describeActs()
	if told == want {
		return
	}
	if os.Getenv("UPDATE_SCHEMA") == "" {
		t.Errorf("%s has other acts than there are: UPDATE_SCHEMA=1 writes them anew; review the difference", file)
		return
	}
	if err := os.WriteFile(file, []byte(before+actsBegin+want+actsEnd+after), 0o644); err != nil {
		t.Fatal(err)
	}
}

func describeActs() string {
	var b strings.Builder
	b.WriteString("    Command:\n      description: who wants something, and one act, by its name\n      allOf:\n    " +
		"    - {$ref: \"#/components/schemas/Asks\"}\n        - oneOf:\n")
	for _, a := range crossing.Acts {
		fmt.Fprintf(&b, "            - {$ref: \"#/components/schemas/Act.%s\"}\n", a.About().Name)
	}
	b.WriteString("    Asks:\n      type: object\n      required: [by]\n      properties:\n")
	describeFields(&b, reflect.TypeFor[keeper.Command]())
	for _, a := range crossing.Acts {
		about := a.About()
		fmt.Fprintf(&b, "    Act.%s:\n      type: object\n      description: %q\n      required: [do]\n      "+
			"properties:\n        do: {const: %q}\n", about.Name, about.Does, about.Name)
		describeFields(&b, reflect.TypeOf(a))
	}
	b.WriteString("    Refusal:\n      description: why something that was asked for is not done\n      oneOf:\n")
	for _, r := range crossing.Reasons.Zeroes() {
		fmt.Fprintf(&b, "        - {type: object, required: [kind], properties: {kind: {const: %q}", r.Name())
		for _, f := range keeper.Fields(reflect.TypeOf(r)) {
			fmt.Fprintf(&b, ", %s: {%s}", f.Name, kindOf(f.Type))
		}
		b.WriteString("}}\n")
	}
	return b.String()
}

func describeFields(b *strings.Builder, t reflect.Type) {
	for _, f := range keeper.Fields(t) {
		fmt.Fprintf(b, "        %s: {%s, description: %q}\n", f.Name, kindOf(f.Type), f.Tag.Get("says"))
	}
}

// kindOf is a type in the description's words.
func kindOf(t reflect.Type) string {
	switch {
	case t == reflect.TypeFor[split.Share]():
		return `$ref: "#/components/schemas/Share"`
	case t == reflect.TypeFor[split.Side]():
		return `$ref: "#/components/schemas/Side"`
	case t == reflect.TypeFor[time.Time]():
		return "type: string, format: date-time"
	case t.Kind() == reflect.Pointer:
		return kindOf(t.Elem())
	}
	switch t.Kind() {
	case reflect.String:
		return "type: string"
	case reflect.Bool:
		return "type: boolean"
	case reflect.Float64:
		return "type: number"
	case reflect.Slice:
		return `type: [array, "null"], items: {type: object}`
	case reflect.Map:
		return "type: object, additionalProperties: {" + kindOf(t.Elem()) + "}"
	case reflect.Struct:
		return "type: object"
	}
	return "type: integer"
}

// holds looks whether a value is as a schema says, as far as types, names and what is required go.
func (d described) holds(s schema, value any, at string) []string {
	if name, ok := strings.CutPrefix(s.Ref, "#/components/schemas/"); ok {
		s = d.Components.Schemas[name]
	}
	var wrong []string
	kinds := []string{}
	switch kind := s.Type.(type) {
	case string:
		kinds = []string{kind}
	case []any:
		for _, k := range kind {
			kinds = append(kinds, fmt.Sprint(k))
		}
	}
	is := "null"
	switch v := value.(type) {
	case string:
		is = "string"
		if len(s.Enum) > 0 && !slices.Contains(s.Enum, v) {
			wrong = append(wrong, fmt.Sprintf("%s is %q", at, v))
		}
	case bool:
		is = "boolean"
	case float64:
		is = "number"
		if v == float64(int64(v)) {
			is = "integer"
		}
	case []any:
		is = "array"
		if s.Items != nil {
			for n, e := range v {
				wrong = append(wrong, d.holds(*s.Items, e, fmt.Sprintf("%s[%d]", at, n))...)
			}
		}
	case map[string]any:
		is = "object"
		for _, r := range s.Required {
			if _, ok := v[r]; !ok {
				wrong = append(wrong, at+" has no "+r)
			}
		}
		for name, e := range v {
			if p, ok := s.Properties[name]; ok {
				wrong = append(wrong, d.holds(p, e, at+"."+name)...)
			}
		}
	}
	if len(kinds) > 0 && !slices.Contains(kinds, is) {
		wrong = append(wrong, fmt.Sprintf("%s is of type %s, not %v", at, is, kinds))
	}
	return wrong
}

// What is really answered is as it is described.
func TestAnswersAreAsDescribed(t *testing.T) {
	s := serve(t, 2)
	d := description(t)
	for path, name := range map[string]string{
		"/v1/keeper": "Info", "/v1/view": "View", "/v1/views": "Update", "/v1/track": "Track",
		"/v1/change?share=5000": "Change", "/v1/events?since=40": "Event", "/v1/tryout": "Said",
		"/v1/evidence": "Stories", "/v1/change?share=x": "Said", "/v1/crossings": "Logbook", "/v1/crossings/3": "Told",
		"/v1/crossings/0": "Said", "/v1/crossings/3/recording": "Said",
	} {
		next, stop := s.raw(path)
		value := map[string]any{}
		for key, data := range next() {
			var v any
			if err := json.Unmarshal(data, &v); err != nil {
				t.Fatal(err)
			}
			value[key] = v
		}
		stop()
		for _, w := range d.holds(schema{Ref: "#/components/schemas/" + name}, value, name) {
			t.Errorf("%s: %s", path, w)
		}
	}
}
