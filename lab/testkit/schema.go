package testkit

import (
	"bytes"
	"fmt"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// Schema is a JSON Schema, of which the definitions may be asked for by their names.
type Schema struct {
	mu       sync.Mutex // one compiles at a time
	compiler *jsonschema.Compiler
	whole    *jsonschema.Schema
}

// NewSchema reads a schema, and says what is wrong with it by the draft that it names.
func NewSchema(data []byte) (*Schema, error) {
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	s := &Schema{compiler: jsonschema.NewCompiler()}
	s.compiler.AssertFormat()
	if err := s.compiler.AddResource("schema.json", v); err != nil {
		return nil, err
	}
	s.whole, err = s.compiler.Compile("schema.json")
	return s, err
}

// Validate says where a value does not fit the schema, nil if it does. What says its kind is held to the definition
// of that name, so that the mistake is named.
func (s *Schema) Validate(data []byte) error {
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
	if err != nil {
		return err
	}
	of := s.whole
	if o, ok := v.(map[string]any); ok {
		if kind, ok := o["kind"].(string); ok {
			s.mu.Lock()
			defer s.mu.Unlock()
			if of, err = s.compiler.Compile("schema.json#/$defs/" + kind); err != nil {
				return fmt.Errorf("there is no kind %q: %w", kind, err)
			}
		}
	}
	return of.Validate(v)
}
