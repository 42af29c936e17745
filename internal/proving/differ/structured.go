package differ

import (
	"bytes"
	"encoding/json"
	"path"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/pelletier/go-toml/v2"
	"gopkg.in/ini.v1"

	"vaiven/internal/core/difference"
)

// What is not worth a parser's time: files that are larger than any that people write,
// or that are taken apart for longer than this. They are compared as text.
const (
	largestFile = 256 << 10
	parseLimit  = 2 * time.Second
)

// structured reads a file of a known form into keys and values. It is false for
// other files, for one that is not in the form that its name says, and for one that
// takes a parser too long: whoever wrote it must not hold up a proof.
func structured(file string, data []byte) (map[string]string, bool) {
	if len(data) > largestFile || !utf8.Valid(data) {
		return nil, false
	}
	type outcome struct {
		keys map[string]string
		ok   bool
	}
	done := make(chan outcome, 1)
	go func() { // ends when the parser does
		keys, ok := parse(file, data)
		done <- outcome{keys, ok}
	}()
	select {
	case o := <-done:
		return o.keys, o.ok
	case <-time.After(parseLimit):
		return nil, false
	}
}

// parse takes a file apart by the form that its name says.
func parse(file string, data []byte) (map[string]string, bool) {
	var document any
	var err error
	name := path.Base(file)
	switch ending := path.Ext(name); {
	case ending == ".json":
		d := json.NewDecoder(bytes.NewReader(data))
		d.UseNumber()
		err = d.Decode(&document)
	case ending == ".yaml" || ending == ".yml":
		err = yaml.Unmarshal(data, &document)
	case ending == ".toml":
		var table map[string]any
		err = toml.Unmarshal(data, &table)
		document = table
	case ending == ".ini" || ending == ".cnf" || ending == ".properties" || ending == ".env" || name == ".env":
		return sections(data)
	default:
		return nil, false
	}
	if err != nil || document == nil {
		return nil, false
	}
	return difference.Flatten(document), true
}

// sections reads "key = value" lines, in sections or without.
func sections(data []byte) (map[string]string, bool) {
	f, err := ini.LoadSources(ini.LoadOptions{AllowBooleanKeys: true, IgnoreInlineComment: true, Loose: false}, data)
	if err != nil {
		return nil, false
	}
	keys := map[string]string{}
	for _, s := range f.Sections() {
		for _, k := range s.Keys() {
			name := strings.TrimPrefix(k.Name(), "export ")
			if s.Name() != ini.DefaultSection {
				name = s.Name() + "." + name
			}
			keys[name] = k.Value()
		}
	}
	return keys, true
}
