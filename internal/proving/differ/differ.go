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

	"vaiven/internal/core/difference"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/stack"
	"vaiven/internal/world/check"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
)

// Standing is what is asked of the stacks.
type Standing interface {
	// From is where connections to an instance are made from.
	From(reading.Instance) place.Place
	// Place is where it stands.
	Place(context.Context, reading.Instance) (place.Place, error)
	// Describe says what it runs with.
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
	facts := q.Checks
	names := q.names()
	texts := map[string][2]text{} // of text files, by part and name
	var missing []string
	var wait sync.WaitGroup
	var both [2]read
	for _, side := range split.Sides {
		wait.Go(func() { both[side] = q.read(ctx, side) })
	}
	wait.Wait()
	for _, side := range split.Sides {
		facts[side] = append(facts[side], both[side].facts...)
		missing = append(missing, both[side].missing...)
		for name, content := range both[side].texts {
			pair := texts[name]
			pair[side] = content
			texts[name] = pair
		}
		for _, part := range q.Plan.Parts {
			if part.Stacks[0].Until+part.Stacks[1].Until == 0 { // else the plan has fewer of them at first
				facts[side] = append(facts[side],
					difference.Fact{Part: part.Name, Area: difference.Instances,
						Value: strconv.Itoa(q.running(part, side))})
			}
		}
	}
	rules := make([]difference.Rule, 0, len(q.Plan.Differences.Meant))
	for _, m := range q.Plan.Differences.Meant {
		rules = append(rules, difference.Rule{Area: difference.Area(m.Area), Name: m.Name})
	}
	several := [2]map[string]int{distinct(facts[split.Blue]), distinct(facts[split.Green])}
	report := difference.Compare(facts, rules, names).WithoutShell(q.adopted)
	slices.Sort(missing)
	report.Missing = slices.Compact(missing)
	for n := range report.List {
		d := &report.List[n]
		if both, ok := texts[d.Part+"\x00"+d.Name]; ok && d.Area == difference.Configuration {
			hidden := difference.Mask{Names: names} // one for both: what differs has another number
			var shown [2]string
			large := max(len(both[split.Blue].content), len(both[split.Green].content)) > largestShown
			for _, side := range split.Sides {
				if !large {
					shown[side] = hidden.File(q.Secrets.Hide(both[side].content))
				}
				if d.Has[side] {
					d.Value[side] = fmt.Sprintf("%d lines", strings.Count(both[side].content, "\n"))
				}
				if several[side][d.Part+"\x00"+d.Name] > 1 {
					d.Value[side] = "its instances disagree, " + both[side].of.Name + " has " + d.Value[side]
				}
			}
			if !large {
				d.Lines = unified(shown, d.Name)
			}
		}
	}
	return report
}

// names are those of the plan that hide and show more.
func (q Question) names() difference.Names {
	return difference.Names{Secret: q.Plan.Differences.Secret, Shown: q.Plan.Differences.Shown}
}

// running is how many instances of a part run.
func (q Question) running(part plan.Part, side split.Side) int {
	n := 0
	for _, i := range q.Sides[side] {
		if i.Part == part.Name && i.Running {
			n++
		}
	}
	return n
}

// read is what was read of a side.
type read struct {
	facts   []difference.Fact
	missing []string
	texts   map[string]text // of its first instance that has one, by part and name
}

// read reads all instances of a side that run.
func (q Question) read(ctx context.Context, side split.Side) read {
	all := read{texts: map[string]text{}}
	var mu sync.Mutex // protects it
	var wait sync.WaitGroup
	for _, part := range q.Plan.Parts {
		for _, i := range q.Sides[side] {
			if i.Part != part.Name || !i.Running {
				continue
			}
			wait.Go(func() {
				ctx, cancel := context.WithTimeout(ctx, readLimit)
				defer cancel()
				r := looked{Question: q, names: q.names(), part: part, i: i}
				r.read(ctx)
				mu.Lock()
				defer mu.Unlock()
				all.facts = append(all.facts, r.facts...)
				for _, what := range r.missing {
					all.missing = append(all.missing, q.Secrets.Hide(what))
				}
				for name, content := range r.texts {
					at := part.Name + "\x00" + name
					// the same in every run
					if first, known := all.texts[at]; !known || stack.Compare(i, first.of) < 0 {
						all.texts[at] = text{i, content}
					}
				}
			})
		}
	}
	wait.Wait()
	return all
}

// largestShown is how many bytes a text may have to be shown line by line. Larger ones are
// compared as a whole.
const largestShown = 1 << 20

// text is a text file of one instance.
type text struct {
	of      reading.Instance
	content string
}

// distinct counts the different contents of each file of a side, by part and name.
func distinct(facts []difference.Fact) map[string]int {
	seen, n := map[string]bool{}, map[string]int{}
	for _, f := range facts {
		key := f.Part + "\x00" + f.Name
		if f.Area == difference.Configuration && !seen[key+"\x00"+f.Value] {
			seen[key+"\x00"+f.Value] = true
			n[key]++
		}
	}
	return n
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

// adopted reports whether somebody else has started a side of a part.
func (q Question) adopted(part string) bool {
	return slices.ContainsFunc(q.Plan.Parts, func(p plan.Part) bool {
		return p.Name == part && slices.ContainsFunc(p.Stacks[:], func(s plan.Stack) bool {
			return s.Kind() == plan.Standing
		})
	})
}

// looked is what is read of one instance.
type looked struct {
	Question
	names   difference.Names
	part    plan.Part
	i       reading.Instance
	facts   []difference.Fact
	texts   map[string]string
	missing []string
}

// add adds what is known of the instance: a value as it stands, and with placeholders.
func (r *looked) add(area difference.Area, name, value, general string) {
	r.facts = append(r.facts, difference.Fact{
		Part: r.part.Name, Area: area, Name: name, Instance: r.i.Name, Value: general, Raw: value,
		Secret: r.Secrets.In(value) || r.names.Sensitive(name),
	})
}

func (r *looked) cannot(what string, err error) {
	r.missing = append(r.missing, fmt.Sprintf("%s of %s: %v", what, r.i.Name, err))
}

func (r *looked) read(ctx context.Context) {
	r.add(difference.Build, "", r.i.Build, raise.Short(r.i.Build))
	s := r.part.Stacks[r.i.Side]
	about, err := r.Standing.Describe(ctx, r.i)
	if err != nil {
		r.cannot("start command and environment", err)
	} else {
		if len(about.Command) > 0 {
			r.command(about.Command, s.Command)
		}
		for name, value := range about.Environment {
			r.add(difference.Environment, name, value, r.general(name, value, s.Environment[name]))
		}
		for name, value := range about.Limits {
			r.add(difference.Limits, name, value, value)
		}
	}
	if r.part.Says.On() {
		t := check.Target{From: r.Standing.From(r.i), Values: r.i.Values(r.Plan.Service), Secrets: r.Secrets}
		if self, err := t.Ask(ctx, r.part.Says, r.part.Health.Within); err != nil {
			r.cannot("what it says of itself", err)
		} else if self.Runtime != "" {
			r.add(difference.Runtime, "", self.Runtime, self.Runtime)
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
	values := r.i.Values(r.Plan.Service)
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
			r.texts[name] = strings.ToValidUTF8(string(data), "?")
			r.facts = append(r.facts, difference.Fact{
				Part: r.part.Name, Area: difference.Configuration, Name: name, Instance: r.i.Name,
				Value: r.general("", string(data), ""), Raw: string(data), Text: true,
			})
			continue
		}
		for key, value := range keys {
			r.add(difference.Configuration, name+" "+key, value, r.general(key, value, ""))
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

// command adds the start command. The words that the plan gives are known by it.
func (r *looked) command(words, templates []string) {
	general := make([]string, len(words))
	for n, word := range words {
		template := ""
		if len(templates) == len(words) {
			template = templates[n]
		}
		if general[n] = r.general("", word, template); general[n] != word || len(templates) == len(words) {
			continue
		}
		for _, t := range templates { // a script that the plan starts has begun something else with the same words
			if strings.Contains(t, "{") && r.general("", word, t) == t {
				general[n] = t
			}
		}
	}
	r.facts = append(r.facts, difference.Fact{
		Part: r.part.Name, Area: difference.Command, Instance: r.i.Name,
		Value: r.Secrets.Hide(strings.Join(general, " ")), Raw: r.Secrets.Hide(strings.Join(words, " ")),
	})
}

// general puts the placeholders back into a text of an instance: whatever its plan's
// template made of it, and otherwise its own address and name, version and build, where
// they stand as a whole word. A version or build that is a mere number, or nearly, is in
// many texts: it counts as an element of a path alone, and where the name says that it is one.
func (r *looked) general(name, text, template string) string {
	values := r.i.Values(r.Plan.Service)
	if template != "" && text == r.Secrets.Fill(template, values, nil) {
		return template
	}
	for _, at := range []string{"address", "instance"} {
		text = replaceWord(text, values[at], "{"+at+"}")
	}
	for _, at := range []string{"build", "version"} {
		value, hole := values[at], "{"+at+"}"
		switch {
		case telling(value):
			text = replaceWord(text, value, hole)
		case text == value && releases.MatchString(name):
			text = hole
		default:
			text = replaceElement(text, value, hole)
		}
	}
	return text
}

// releases are names of variables and keys that say which release something is.
var releases = regexp.MustCompile(`(?i)(version|release|build|revision|commit|tag)$`)

// telling reports whether a version or build can be told from other words and numbers.
func telling(value string) bool {
	const short = 3
	_, err := strconv.ParseFloat(value, 64)
	return len(value) >= short && err != nil
}

// replaceElement replaces a text where it is a whole element of a path.
func replaceElement(text, old, new string) string {
	if old == "" || !strings.Contains(text, "/") {
		return text
	}
	elements := strings.Split(text, "/")
	for n, e := range elements {
		if e == old && n > 0 {
			elements[n] = new
		}
	}
	return strings.Join(elements, "/")
}

// replaceWord replaces a text where it is a whole word: no letter or digit touches it, and
// it is no part of a longer number with dots.
func replaceWord(text, old, new string) string {
	if old == "" {
		return text
	}
	var b strings.Builder
	rest := text
	for {
		at := strings.Index(rest, old)
		if at < 0 {
			b.WriteString(rest)
			return b.String()
		}
		end := at + len(old)
		b.WriteString(rest[:at])
		from := len(text) - len(rest)
		if joined(text, from+at-1, -1) || joined(text, from+end, 1) {
			b.WriteString(old)
		} else {
			b.WriteString(new)
		}
		rest = rest[end:]
	}
}

// joined reports whether the character at a place goes with the word beside it, which lies
// in the other direction than step.
func joined(text string, at, step int) bool {
	if at < 0 || at >= len(text) {
		return false
	}
	if text[at] == '.' {
		at += step
		return at >= 0 && at < len(text) && text[at] >= '0' && text[at] <= '9'
	}
	return wordy(text[at])
}

func wordy(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_'
}
