package fleetfile

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"

	"vaiven/internal/core/fleet"
	"vaiven/internal/world/section"
	"vaiven/lab/testkit"
)

const full = `fleet: ferries
services:
  fares: plans/fares.yaml
  berths: marit@quay2:/srv/berths.yaml
  sailings:
    plan: /etc/vaiven/sailings.yaml
    needs: [fares for the prices, berths]
    groups: [selling, "24h"]
    together: ./pairs
at-once: 2
a-rollback-stops: dependents
rules:
  - berths before fares
  - both or neither of fares, sailings
`

func TestParse(t *testing.T) {
	f, err := Parse("/srv/fleet/ferries.yaml", []byte(full))
	if err != nil {
		t.Fatal(err)
	}
	want := &fleet.Fleet{File: "/srv/fleet/ferries.yaml", Name: "ferries", AtOnce: 2, Stops: fleet.StopsDependents,
		Members: []fleet.Member{
			{Name: "fares", Plan: "/srv/fleet/plans/fares.yaml"}, {Name: "berths", Plan: "marit@quay2:/srv/berths.yaml"},
			{Name: "sailings", Plan: "/etc/vaiven/sailings.yaml", Groups: []string{"selling", "24h"},
				Together: "/srv/fleet/pairs",
				Needs:    []fleet.Edge{{To: "fares", For: "the prices"}, {To: "berths"}}}},
		Before: []fleet.Before{{First: "berths", Then: "fares"}}, Both: [][]string{{"fares", "sailings"}}}
	if !reflect.DeepEqual(f, want) {
		t.Errorf("it is %+v", f)
	}
	if f, err := Parse("f.yaml", []byte("fleet: x\nservices: {a: a.yaml}\n")); err != nil || f.AtOnce != 1 ||
		f.Stops != fleet.StopsAll {
		t.Errorf("the least is %+v, %v", f, err)
	}
}

// All mistakes are told at once, each with its place and what would be right.
func TestMistakes(t *testing.T) {
	for text, says := range map[string][]string{
		"":                                    {"f.yaml:1:1"},
		"fleet: x\nservices: {}\n":            {"the fleet has no services"},
		"fleet: x y\nservices: {a: a.yaml}\n": {"f.yaml:1:8", "cannot be a name"},
		"services: {a: a.yaml}\nat-onec: 2\n": {`needs "fleet"`, `did you mean "at-once"?`},
		"fleet: x\nservices: {a: {needs: [b]}}\n": {`a service needs "plan"`, `there is no service "b"`},
		"fleet: x\nservices: {a: a.yaml}\nrules: [a befor b]\n": {"f.yaml:3:9", `"a befor b" is no rule`,
			"fares before sailings"},
		"fleet: x\nservices: {fares: a.yaml, b: b.yaml}\nrules: [fare before b]\n": {`did you mean "fares"?`},
		"fleet: x\nservices: {a: a.yaml}\nrules: [both or neither of a]\n":         {"one service alone"},
		"fleet: x\nservices: {a: {plan: p, needs: [b for x, b]}, b: b}\n":          {"b is needed twice"},
		"fleet: x\nservices:\n  a: {plan: p, needs: [b]}\n  b: {plan: p, needs: [a]}\n": {"they wait for each other",
			"a before b before a"},
		"fleet: x\nservices: {a: p}\nrules: [a before a]\n":                    {"a before a"},
		"fleet: x\nservices: {a: p}\nat-once: 0\n":                             {"f.yaml:3:10"},
		"fleet: x\nservices: {a: p}\na-rollback-stops: nothing\n":              {"is not a choice", "dependents"},
		"fleet: x\nservices: {a: p, a: q}\n":                                   {"a second time"},
		"fleet: x\nservices: {a: {plan: p, together: \"ada@quay1:/pairs\"}}\n": {"f.yaml:2:35", "on another machine"},
		"fleet: x\nservices: [a]\n":                                            {"has to be a mapping"},
		"fleet: x\nservices:\n\ta: p\n":                                        {"f.yaml:3"},
	} {
		f, err := Parse("f.yaml", []byte(text))
		var problems section.Problems
		if f != nil || !errors.As(err, &problems) {
			t.Errorf("%q is read as %+v, %v", text, f, err)
			continue
		}
		for _, want := range says {
			if !strings.Contains(err.Error(), want) {
				t.Errorf("%q: %v\ndoes not say %q", text, err, want)
			}
		}
	}
}

// The schema takes what is taken, and refuses what is not, but for what names mean.
func TestSchema(t *testing.T) {
	told, err := json.Marshal(Schema())
	if err != nil {
		t.Fatal(err)
	}
	schema, err := testkit.NewSchema(told)
	if err != nil {
		t.Fatal(err)
	}
	for text, good := range map[string]bool{full: true, "fleet: x\nservices: {a: a.yaml}\n": true,
		"fleet: x\nservices: {a: {needs: [b]}}\n": false, "services: {a: p}\n": false,
		"fleet: x\nservices: {a: p}\nrules: [a befor b]\n": false, "fleet: x\nservices: {a: p}\nat-once: 0\n": false,
		"fleet: x\nservices: {a: p}\nother: 1\n": false} {
		data, err := yaml.YAMLToJSON([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		if err := schema.Validate(data); (err == nil) != good {
			t.Errorf("of %q the schema says %v", text, err)
		}
	}
}

func TestIsFleet(t *testing.T) {
	file := filepath.Join(t.TempDir(), "f.yaml")
	for text, want := range map[string]bool{full: true, "service: sailings\n": false, "a:\n  fleet: x\n": false} {
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if is, err := IsFleet(file); err != nil || is != want {
			t.Errorf("%q: %t, %v", text, is, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(full)
	f.Add("fleet: x\nservices: {a: {plan: p, needs: [b for x]}}\nrules: [a before b]\n")
	f.Fuzz(func(t *testing.T, text string) {
		if got, err := Parse("f.yaml", []byte(text)); err == nil {
			got.Course(got.Names(), nil)
		}
	})
}
