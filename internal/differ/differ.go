package differ

import (
	"context"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/aymanbagabas/go-udiff"

	"vaiven/internal/check"
	"vaiven/internal/core/difference"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/place"
	"vaiven/internal/plan"
	"vaiven/internal/secret"
	"vaiven/internal/stack"
)

// Standing is what is asked of the stacks.
type Standing interface {
	Place(context.Context, reading.Instance) (place.Place, error)
	Describe(context.Context, reading.Instance) (stack.Description, error)
}

// Question is what is to be compared.
type Question struct {
	Plan     *plan.Plan
	Secrets  secret.Values
	Standing Standing
	Sides    [2][]reading.Instance
	Checks   [2][]difference.Fact // what checks came to, where they were made on both sides
}

// readLimit bounds how long one instance is read.
const readLimit = 10 * time.Second

// Compare reads both sides and says what differs. What could not be read is named
// in the report and compared as missing on neither side.
func Compare(ctx context.Context, q Question) difference.Report {
	var mu sync.Mutex // protects facts and missing
	var missing []string
	facts := q.Checks
	texts := map[string][2]string{} // of text files, by part and name
	var wait sync.WaitGroup
	for _, side := range split.Sides {
		for _, part := range q.Plan.Parts {
			n := 0
			for _, i := range q.Sides[side] {
				if i.Part != part.Name || !i.Running {
					continue
				}
				n++
				wait.Go(func() {
					ctx, cancel := context.WithTimeout(ctx, readLimit)
					defer cancel()
					r := looked{Question: q, part: part, i: i}
					r.read(ctx)
					mu.Lock()
					defer mu.Unlock()
					facts[side] = append(facts[side], r.facts...)
					for _, what := range r.missing {
						missing = append(missing, q.Secrets.Hide(what))
					}
					for name, text := range r.texts {
						both := texts[part.Name+"\x00"+name]
						both[side] = text
						texts[part.Name+"\x00"+name] = both
					}
				})
			}
			mu.Lock()
			facts[side] = append(facts[side], difference.Fact{Part: part.Name, Area: difference.Instances, Value: strconv.Itoa(n)})
			mu.Unlock()
		}
	}
	wait.Wait()
	rules := make([]difference.Rule, 0, len(q.Plan.Differences.Meant))
	for _, m := range q.Plan.Differences.Meant {
		rules = append(rules, difference.Rule{Area: difference.Area(m.Area), Name: m.Name})
	}
	report := difference.Compare(facts, rules)
	slices.Sort(missing)
	report.Missing = slices.Compact(missing)
	for n := range report.List {
		d := &report.List[n]
		if both, ok := texts[d.Part+"\x00"+d.Name]; ok && d.Area == difference.Configuration {
			d.Lines = unified(both, d.Name)
			for _, side := range split.Sides {
				if d.Has[side] {
					d.Value[side] = fmt.Sprintf("%d lines", strings.Count(both[side], "\n"))
				}
			}
		}
	}
	return report
}

// mostLines bounds how much of a text's difference is kept.
const mostLines = 400

// unified is the difference of two texts, blue to green, line by line.
func unified(both [2]string, name string) []string {
	text := udiff.Unified("blue "+name, "green "+name, both[split.Blue], both[split.Green])
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	if len(lines) > mostLines {
		lines = append(lines[:mostLines], fmt.Sprintf("... and %d more", len(lines)-mostLines))
	}
	return lines
}

// looked is what is read of one instance.
type looked struct {
	Question
	part    plan.Part
	i       reading.Instance
	facts   []difference.Fact
	texts   map[string]string
	missing []string
}

func (r *looked) add(area difference.Area, name, value string) {
	hidden := r.Secrets.In(value) || sensitive.MatchString(name)
	r.facts = append(r.facts, difference.Fact{Part: r.part.Name, Area: area, Name: name, Value: value, Secret: hidden})
}

// sensitive are names of values that nobody should see, wherever they come from.
var sensitive = regexp.MustCompile(`(?i)(passw|passphrase|secret|token|credential|private|api_?key|access_?key)`)

func (r *looked) cannot(what string, err error) {
	r.missing = append(r.missing, fmt.Sprintf("%s of %s: %v", what, r.i.Name, err))
}

func (r *looked) read(ctx context.Context) {
	r.add(difference.Build, "", raise.Short(r.i.Build))
	s := r.part.Stacks[r.i.Side]
	about, err := r.Standing.Describe(ctx, r.i)
	if err != nil {
		r.cannot("start command and environment", err)
	} else {
		words := make([]string, len(about.Command))
		for n, word := range about.Command {
			words[n] = r.general(word, "")
		}
		if len(words) > 0 {
			command := strings.Join(words, " ")
			r.facts = append(r.facts, difference.Fact{Part: r.part.Name, Area: difference.Command, Value: r.Secrets.Hide(command)})
		}
		for name, value := range about.Environment {
			r.add(difference.Environment, name, r.general(value, s.Environment[name]))
		}
		for name, value := range about.Limits {
			r.add(difference.Limits, name, value)
		}
	}
	if r.part.Says.On() {
		t := check.Target{From: place.Local{}, Values: stack.Values(r.i, r.Plan.Service), Secrets: r.Secrets}
		if self, err := t.Ask(ctx, r.part.Says, r.part.Health.Within); err != nil {
			r.cannot("what it says of itself", err)
		} else if self.Runtime != "" {
			r.add(difference.Runtime, "", self.Runtime)
		}
	}
	r.configuration(ctx)
}

// configuration reads the files that the plan names.
func (r *looked) configuration(ctx context.Context) {
	if len(r.part.Configuration) == 0 {
		return
	}
	from, err := r.Standing.Place(ctx, r.i)
	if err != nil {
		r.cannot("configuration", err)
		return
	}
	defer from.Close()
	values := stack.Values(r.i, r.Plan.Service)
	folder := plan.Expand(r.part.Stacks[r.i.Side].Folder, values)
	for _, name := range r.part.Configuration {
		file := plan.Expand(name, values)
		if !path.IsAbs(file) {
			file = path.Join(folder, file)
		}
		data, err := from.ReadFile(ctx, file)
		if err != nil {
			r.cannot("configuration "+name, err)
			continue
		}
		name := r.shortName(name)
		keys, ok := structured(file, data)
		if !ok {
			if r.texts == nil {
				r.texts = map[string]string{}
			}
			r.texts[name] = r.Secrets.Hide(strings.ToValidUTF8(string(data), "?"))
			r.facts = append(r.facts, difference.Fact{Part: r.part.Name, Area: difference.Configuration, Name: name, Value: string(data), Text: true})
			continue
		}
		for key, value := range keys {
			r.add(difference.Configuration, name+" "+key, r.general(value, ""))
		}
	}
}

// shortName is a file of the configuration without its folder, unless another has
// the same name.
func (r *looked) shortName(file string) string {
	base := path.Base(file)
	for _, other := range r.part.Configuration {
		if other != file && path.Base(other) == base {
			return file
		}
	}
	return base
}

// general puts the placeholders back into a text of an instance: whatever its
// plan's template made of it, and its own address and name, version and build.
func (r *looked) general(text, template string) string {
	values := stack.Values(r.i, r.Plan.Service)
	if template != "" && text == r.Secrets.Fill(template, values, nil) {
		return template
	}
	for _, name := range []string{"address", "instance", "build", "version"} {
		text = replaceWord(text, values[name], "{"+name+"}")
	}
	return text
}

// replaceWord replaces a text where no letter or digit touches it.
func replaceWord(text, old, new string) string {
	if old == "" {
		return text
	}
	var b strings.Builder
	for {
		at := strings.Index(text, old)
		if at < 0 {
			b.WriteString(text)
			return b.String()
		}
		end := at + len(old)
		b.WriteString(text[:at])
		if at > 0 && wordy(text[at-1]) || end < len(text) && wordy(text[end]) {
			b.WriteString(old)
		} else {
			b.WriteString(new)
		}
		text = text[end:]
	}
}

func wordy(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}
