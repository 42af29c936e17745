package oneof

import (
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
)

// Set is a list of types with their names. T is an interface that all of them have, and [Newer] where it is embedded.
type Set[T any] struct {
	tag   string
	name  func(T) string
	newer func(Newer) T
	types map[string]reflect.Type
}

// New is the set of the types of some values. Name is the one name of a type, whatever its fields; it is written in
// the field tag. newer makes a value of the interface of one that is not known.
func New[T any](tag string, name func(T) string, newer func(Newer) T, list ...T) *Set[T] {
	s := &Set[T]{tag: tag, name: name, newer: newer, types: map[string]reflect.Type{}}
	for _, v := range list {
		s.types[name(v)] = reflect.TypeOf(v)
	}
	return s
}

// Types are the types by their names.
func (s *Set[T]) Types() map[string]reflect.Type { return maps.Clone(s.types) }

// Zeroes are a value of each type, in order of their names, with nothing in it.
func (s *Set[T]) Zeroes() (list []T) {
	for _, name := range slices.Sorted(maps.Keys(s.types)) {
		list = append(list, reflect.Zero(s.types[name]).Interface().(T))
	}
	return list
}

// Name is that of a value's type, "" for none.
func (s *Set[T]) Name(v T) string {
	if any(v) == nil {
		return ""
	}
	return s.name(v)
}

// Write is a value as JSON, with the fields of others before its own; of none it is their fields alone.
func (s *Set[T]) Write(v T, before ...any) ([]byte, error) {
	if any(v) == nil {
		return Flat(before...)
	}
	if n, ok := any(v).(interface{ data() string }); ok {
		return []byte(n.data()), nil
	}
	return Flat(append(before, map[string]string{s.tag: s.name(v)}, v)...)
}

// Read reads what Write writes; the value is nil if the object names none. One whose fields are not those that its
// type has is an error.
func (s *Set[T]) Read(data []byte) (v T, err error) {
	var fields map[string]json.RawMessage
	if err := json.Unmarshal(data, &fields); err != nil {
		return v, err
	}
	var name string
	if tag := fields[s.tag]; tag != nil {
		if err := json.Unmarshal(tag, &name); err != nil {
			return v, fmt.Errorf("%s: %w", s.tag, err)
		}
	}
	if name == "" {
		return v, nil
	}
	t, known := s.types[name]
	if !known {
		return s.newer(Newer{name, string(data)}), nil
	}
	return Of[T](t, data)
}

// Newer is a value of a type that is not known: a newer Vaiven wrote it.
type Newer struct {
	Called string // its name
	Data   string // the object, as it was read
}

func (n Newer) data() string { return n.Data }

// One is a value of one of the types of the set that L gives, nil for none.
type One[T any, L Lister[T]] struct{ Is T }

// Lister gives a set. It is asked of the zero value.
type Lister[T any] interface{ Set() *Set[T] }

// Held is what those who print or describe values need of one: the [One]s and others like them are that.
type Held interface {
	Kind() string                   // the type's name, "" for none
	Value() any                     // nil for none
	Head() any                      // a struct of what all of them have beside it, nil if nothing
	Types() map[string]reflect.Type // all that there are, by their names
}

// IsA reports whether a value is of a type.
func IsA[K any, V Held](v V) bool {
	_, is := v.Value().(K)
	return is
}

// As is a value as one of a type, with nothing in it if it is of another.
func As[K any, V Held](v V) K {
	k, _ := v.Value().(K)
	return k
}

func set[T any, L Lister[T]]() *Set[T] {
	var l L
	return l.Set()
}

// Kind is the name of the value's type, "" for none.
func (o One[T, L]) Kind() string { return set[T, L]().Name(o.Is) }

// Value is the value itself.
func (o One[T, L]) Value() any { return o.Is }

// Head is nothing.
func (o One[T, L]) Head() any { return nil }

// Types are all that there are.
func (o One[T, L]) Types() map[string]reflect.Type { return set[T, L]().Types() }

// String is the value in its own words if it has any, and its kind else: for tests and the program's log.
func (o One[T, L]) String() string {
	if own, ok := any(o.Is).(fmt.Stringer); ok {
		return own.String()
	}
	return o.Kind()
}

// MarshalJSON writes one flat object.
func (o One[T, L]) MarshalJSON() ([]byte, error) { return set[T, L]().Write(o.Is) }

// UnmarshalJSON reads what MarshalJSON writes.
func (o *One[T, L]) UnmarshalJSON(data []byte) (err error) {
	o.Is, err = set[T, L]().Read(data)
	return err
}

// Of reads a value of a type: its fields as JSON, among which there may be others.
func Of[T any](t reflect.Type, fields []byte) (T, error) {
	v := reflect.New(t)
	if err := json.Unmarshal(fields, v.Interface()); err != nil {
		var none T
		return none, err
	}
	return v.Elem().Interface().(T), nil
}

// Flat is one JSON object with the fields of several values, each of which is an object.
func Flat(values ...any) ([]byte, error) {
	all := []byte{'{'}
	for _, v := range values {
		fields, err := json.Marshal(v)
		if err != nil {
			return nil, err
		}
		if len(fields) <= len("{}") {
			continue
		}
		if len(all) > 1 {
			all = append(all, ',')
		}
		all = append(all, fields[1:len(fields)-1]...)
	}
	return append(all, '}'), nil
}
