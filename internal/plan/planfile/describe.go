package planfile

import (
	"fmt"
	"maps"
	"regexp"
	"strings"
	"sync"

	"vaiven/docs"
	"vaiven/internal/world/section"
)

// told is what docs/plan.md says of keys.
type told struct {
	of       map[[2]string]string // by the section's name, "" for any, and the key
	sections map[string]bool
}

var reference = sync.OnceValue(func() told {
	r := told{map[[2]string]string{}, map[string]bool{}}
	in, began := "", false
	type row struct{ key, text string }
	var rows []row
	for line := range strings.Lines(docs.Plan) {
		if began && in != "" && strings.TrimSpace(line) != "" && !strings.HasPrefix(line, "|") {
			for _, name := range inTicks.FindAllStringSubmatch(in, -1) { // what a section begins with is about its key
				if first := [2]string{"", name[1]}; r.of[first] == "" {
					r.of[first] = plainText(strings.TrimSpace(line))
				}
			}
			began = false
		}
		if title, ok := strings.CutPrefix(line, "## "); ok {
			in, began = title, true
			for _, name := range inTicks.FindAllStringSubmatch(in, -1) {
				r.sections[name[1]] = true
			}
			continue
		}
		cells := strings.Split(strings.Trim(strings.ReplaceAll(line, `\|`, "¦"), "|\n "), " | ")
		if !strings.HasPrefix(line, "| `") || len(cells) < 2 {
			continue
		}
		text := strings.TrimSpace(cells[len(cells)-1])
		if len(cells) > 2 {
			switch by := strings.TrimSpace(cells[1]); by {
			case "none", "see below", "":
			case "needed":
				text += "; needed"
			default:
				text += "; if it is left out: " + by
			}
		}
		rows = append(rows, row{cells[0], strings.Join(cells[1:], " | ")})
		text = plainText(text)
		for _, quoted := range inTicks.FindAllStringSubmatch(cells[0], -1) {
			key, _, _ := strings.Cut(quoted[1], " ")
			key, _, _ = strings.Cut(key, ":")
			sections := []string{""}
			for _, name := range inTicks.FindAllStringSubmatch(in, -1) {
				sections = append(sections, name[1])
			}
			for _, s := range sections {
				if _, known := r.of[[2]string{s, key}]; !known {
					r.of[[2]string{s, key}] = text
				}
			}
		}
	}
	for _, w := range rows { // what is told of within another key's row is told there
		for _, named := range inTicks.FindAllStringSubmatch(w.text, -1) {
			if key := [2]string{"", named[1]}; r.of[key] == "" {
				r.of[key] = plainText(fmt.Sprintf("of %s: %s", strings.TrimSpace(w.key),
					strings.ReplaceAll(w.text, " | ", "; ")))
			}
		}
	}
	return r
})

var (
	inTicks = regexp.MustCompile("`([^`]+)`")
	links   = regexp.MustCompile(`\[([^\]]+)\]\([^)]*\)`)
)

// plainText is a cell without Markdown.
func plainText(text string) string {
	return strings.NewReplacer("`", "", "**", "", "¦", "|").Replace(links.ReplaceAllString(text, "$1"))
}

// describe gives each key of a schema what the reference says of it: in the section that it belongs to, or anywhere.
func describe(s section.Shape, in string) {
	properties, _ := s["properties"].(section.Shape)
	for key, of := range properties {
		property, ok := of.(section.Shape)
		if !ok {
			continue
		}
		property = maps.Clone(property) // what is the same is shared
		properties[key] = property
		inner := in
		if reference().sections[key] {
			inner = key
		}
		for _, section := range []string{in, inner, ""} {
			if text := reference().of[[2]string{section, key}]; text != "" {
				property["description"] = text
				break
			}
		}
		describe(property, inner)
	}
	for _, name := range []string{"items", "additionalProperties"} {
		if inner, ok := s[name].(section.Shape); ok {
			describe(inner, in)
		}
	}
	for _, name := range []string{"anyOf", "oneOf"} {
		list, _ := s[name].([]section.Shape)
		for _, inner := range list {
			describe(inner, in)
		}
	}
}
