package parts

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"

	"vaiven/internal/core/engine"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
)

// parted are the types whose fields, and the array whose sides, are parts of their own.
var parted = map[reflect.Type]bool{
	reflect.TypeFor[keeper.Snapshot]():    true,
	reflect.TypeFor[engine.View]():        true,
	reflect.TypeFor[engine.SideView]():    true,
	reflect.TypeFor[[2]engine.SideView](): true,
}

// Each calls with each part of a snapshot and its name, such as "front" and "sides.green.instances". A part can be set.
func Each(s *keeper.Snapshot, do func(name string, part reflect.Value)) {
	each(reflect.ValueOf(s).Elem(), "", do)
}

func each(v reflect.Value, name string, do func(name string, part reflect.Value)) {
	t := v.Type()
	switch {
	case !parted[t]:
		do(name, v)
	case t.Kind() == reflect.Array:
		for n := range v.Len() {
			each(v.Index(n), join(name, split.Side(n).String()), do)
		}
	default:
		for n := range v.NumField() {
			f := t.Field(n)
			tag, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			switch {
			case f.Anonymous:
				each(v.Field(n), name, do)
			case tag != "-":
				each(v.Field(n), join(name, tag), do)
			}
		}
	}
}

func join(name, more string) string {
	if name == "" {
		return more
	}
	return name + "." + more
}

// Put puts parts, as JSON, in their places in a snapshot. Those that this version does not know are
// passed over.
func Put(s *keeper.Snapshot, parts map[string]json.RawMessage) error {
	var failed error
	Each(s, func(name string, place reflect.Value) {
		data, ok := parts[name]
		if !ok || failed != nil {
			return
		}
		fresh := reflect.New(place.Type()) // snapshots share what has not changed
		if err := json.Unmarshal(data, fresh.Interface()); err != nil {
			failed = fmt.Errorf("view's part %s: %w", name, err)
			return
		}
		place.Set(fresh.Elem())
	})
	return failed
}
