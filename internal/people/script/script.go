package script

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/split"
)

// Version is the schema number: it grows when a field changes its meaning or goes.
const Version = 1

// Marshal writes a value of a kind as one JSON object. Shares are told of green and of the new
// side.
func Marshal(kind string, newSide split.Side, value any) ([]byte, error) {
	e := encoder{newSide: newSide}
	e.buf.WriteString(fmt.Sprintf(`{"schema":%d,"kind":%q`, Version, kind))
	if err := e.fields(reflect.ValueOf(value)); err != nil {
		return nil, fmt.Errorf("write %s as JSON: %w", kind, err)
	}
	e.buf.WriteByte('}')
	return e.buf.Bytes(), nil
}

type encoder struct {
	buf     bytes.Buffer
	newSide split.Side
}

var (
	durationType = reflect.TypeFor[time.Duration]()
	timeType     = reflect.TypeFor[time.Time]()
	shareType    = reflect.TypeFor[split.Share]()
	sideType     = reflect.TypeFor[split.Side]()
	eventType    = reflect.TypeFor[crossing.Event]()
	rawType      = reflect.TypeFor[json.RawMessage]()
	heldType     = reflect.TypeFor[oneof.Held]()
)

// field is one field of a struct as it is written.
type field struct {
	name  string
	index []int
	empty bool // is left out when it is empty
	kind  reflect.Type
}

// fieldsOf are a struct's fields, those of what is embedded among them.
func fieldsOf(t reflect.Type) []field {
	var list []field
	for n := range t.NumField() {
		f := t.Field(n)
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case name == "-" || !f.IsExported():
			continue
		case f.Anonymous && name == "" && f.Type.Kind() == reflect.Struct && f.Type != eventType:
			for _, inner := range fieldsOf(f.Type) {
				inner.index = append([]int{n}, inner.index...)
				list = append(list, inner)
			}
			continue
		case name == "":
			name = strings.ToLower(f.Name)
		}
		list = append(list, field{name: name, index: []int{n}, empty: strings.Contains(options, "omit"), kind: f.Type})
	}
	return list
}

// fields writes what follows an object's beginning.
func (e *encoder) fields(v reflect.Value) error {
	for v.Kind() == reflect.Pointer || v.Kind() == reflect.Interface {
		if v.IsNil() {
			return nil
		}
		v = v.Elem()
	}
	switch {
	case v.Type() == eventType:
		return e.event(v.Interface().(crossing.Event))
	case v.Type().Implements(heldType):
		return e.held(v.Interface().(oneof.Held))
	case v.Kind() == reflect.Map:
		return e.entries(v)
	case v.Kind() != reflect.Struct:
		return fmt.Errorf("a %v is no object", v.Type())
	}
	for _, f := range fieldsOf(v.Type()) {
		if err := e.field(f.name, v.FieldByIndex(f.index), f.empty); err != nil {
			return err
		}
	}
	return nil
}

// key writes the name of the next field.
func (e *encoder) key(name string) {
	if last := e.buf.Bytes()[e.buf.Len()-1]; last != '{' {
		e.buf.WriteByte(',')
	}
	text, _ := json.Marshal(name) // a string: cannot fail
	e.buf.Write(text)
	e.buf.WriteByte(':')
}

// field writes one field, under the name that its unit gives it.
func (e *encoder) field(name string, v reflect.Value, mayGo bool) error {
	if mayGo && v.IsZero() ||
		(v.Kind() == reflect.Pointer || v.Kind() == reflect.Interface || v.Kind() == reflect.Map ||
			v.Kind() == reflect.Slice) && v.IsNil() && mayGo {
		return nil
	}
	switch v.Type() {
	case durationType:
		e.key(name + "_s")
		e.number(v.Interface().(time.Duration).Seconds())
		return nil
	case shareType:
		share := v.Interface().(split.Share)
		if name == "part" { // of the new side
			e.key("part_new")
			e.number(percent(share))
			return nil
		}
		e.key(name + "_green")
		e.number(percent(share))
		e.key(name + "_new")
		e.number(percent(share.Of(e.newSide)))
		return nil
	case timeType:
		if v.Interface().(time.Time).IsZero() {
			return nil
		}
	}
	e.key(name)
	return e.value(v)
}

func percent(s split.Share) float64 { return 100 * s.Fraction() }

func (e *encoder) number(n float64) {
	text, err := json.Marshal(n)
	if err != nil { // not a number, or beyond all
		text = []byte("null")
	}
	e.buf.Write(text)
}

// value writes a value that is not named by its unit.
func (e *encoder) value(v reflect.Value) error {
	switch v.Type() {
	case durationType:
		e.number(v.Interface().(time.Duration).Seconds())
		return nil
	case shareType:
		e.number(percent(v.Interface().(split.Share)))
		return nil
	case sideType:
		fmt.Fprintf(&e.buf, "%q", v.Interface().(split.Side).String())
		return nil
	case rawType:
		if v.Len() == 0 {
			e.buf.WriteString("null")
			return nil
		}
		e.buf.Write(v.Interface().(json.RawMessage))
		return nil
	}
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() {
			e.buf.WriteString("null")
			return nil
		}
		return e.value(v.Elem())
	case reflect.String:
		return e.text(v)
	case reflect.Struct:
		if v.Type() == timeType {
			return e.plain(v)
		}
		fallthrough
	case reflect.Map:
		e.buf.WriteByte('{')
		if err := e.fields(v); err != nil {
			return err
		}
		e.buf.WriteByte('}')
		return nil
	case reflect.Array:
		if bySide(v.Type()) {
			e.buf.WriteByte('{')
			for n, side := range split.Sides {
				if err := e.field(side.String(), v.Index(n), false); err != nil {
					return err
				}
			}
			e.buf.WriteByte('}')
			return nil
		}
		return e.list(v)
	case reflect.Slice:
		return e.list(v)
	case reflect.Float32, reflect.Float64:
		e.number(v.Float())
		return nil
	}
	return e.plain(v)
}

// bySide reports whether an array has one element for each side.
func bySide(t reflect.Type) bool { return t.Kind() == reflect.Array && t.Len() == len(split.Sides) }

func (e *encoder) plain(v reflect.Value) error {
	data, err := json.Marshal(v.Interface())
	e.buf.Write(data)
	return err
}

// text writes a string; a word for a state has no spaces.
func (e *encoder) text(v reflect.Value) error {
	text := v.String()
	if v.Type().PkgPath() != "" {
		text = Word(text)
	}
	data, err := json.Marshal(text)
	e.buf.Write(data)
	return err
}

// Word is a state's name as scripts are told it.
func Word(text string) string { return strings.ReplaceAll(text, " ", "_") }

func (e *encoder) list(v reflect.Value) error {
	e.buf.WriteByte('[')
	for n := range v.Len() {
		if n > 0 {
			e.buf.WriteByte(',')
		}
		if err := e.value(v.Index(n)); err != nil {
			return err
		}
	}
	e.buf.WriteByte(']')
	return nil
}

func (e *encoder) entries(v reflect.Value) error {
	names := v.MapKeys()
	slices.SortFunc(names, func(a, b reflect.Value) int {
		return strings.Compare(fmt.Sprint(a.Interface()), fmt.Sprint(b.Interface()))
	})
	for _, name := range names {
		if err := e.field(fmt.Sprint(name.Interface()), v.MapIndex(name), false); err != nil {
			return err
		}
	}
	return nil
}

// held writes a value that is one of several types: its kind, and its own fields.
func (e *encoder) held(v oneof.Held) error {
	if head := v.Head(); head != nil {
		if err := e.fields(reflect.ValueOf(head)); err != nil {
			return err
		}
	}
	e.key("kind")
	fmt.Fprintf(&e.buf, "%q", Word(v.Kind()))
	if v.Value() == nil || v.Types()[v.Kind()] == nil { // of one that is not known no more can be told
		return nil
	}
	return e.fields(reflect.ValueOf(v.Value()))
}

// event writes an event: what it is, and its fact's own fields.
func (e *encoder) event(v crossing.Event) error {
	e.key("event")
	fmt.Fprintf(&e.buf, "%q", Word(v.What.Kind()))
	for _, f := range []struct {
		name  string
		value any
	}{{"seq", v.Seq}, {"crossing", v.Crossing}, {"at", v.At}, {"by", v.By}, {"peer", v.Peer}, {"said", v.Said}} {
		left := f.name == "said" || f.name == "crossing" || f.name == "peer"
		if err := e.field(f.name, reflect.ValueOf(f.value), left); err != nil {
			return err
		}
	}
	if u, unknown := v.What.(crossing.Unknown); unknown {
		if len(u.Data) > 0 {
			e.key("data")
			e.buf.WriteString(u.Data)
		}
		return nil
	}
	return e.fields(reflect.ValueOf(v.What))
}
