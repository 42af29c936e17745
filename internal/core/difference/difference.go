package difference

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"vaiven/internal/core/split"
)

// Fact is one thing that is known of a side.
type Fact struct {
	Part     string
	Area     Area
	Name     string // of the variable, the key, the limit; may be empty
	Instance string // of which it is known; "" for the side as a whole
	Value    string // with placeholders for what the release is about
	Raw      string // without; "" if it is the same
	Secret   bool   // compared, never shown
	Text     bool   // the whole of a text file: compared, and shown by whoever read it
}

// Area is what kind of thing a fact is about.
type Area string

// The areas, in the order in which differences are shown.
const (
	Build         Area = "build"
	Runtime       Area = "runtime"
	Command       Area = "command"
	Environment   Area = "environment"
	Configuration Area = "configuration" // the name is the file, then the key
	Limits        Area = "limits"
	Instances     Area = "instances"
	Checks        Area = "checks"
)

// Areas lists all areas in their order.
var Areas = []Area{Build, Runtime, Command, Environment, Configuration, Limits, Instances, Checks}

// Rule declares differences as meant.
type Rule struct {
	Area Area
	Name string // with * for any text; "" and "*" are every name
}

// Difference is something that is not the same on both sides. A side that has no
// such thing has Has false there.
type Difference struct {
	Part  string    `json:"part"`
	Area  Area      `json:"area"`
	Name  string    `json:"name,omitempty"`
	Value [2]string `json:"value"` // by side; a secret one is only called so
	Has   [2]bool   `json:"has"`
	Meant bool      `json:"meant"`
	Lines []string  `json:"lines,omitempty"` // of a text file, as a unified difference
}

// What is the difference's place in words: "environment FARES_URL".
func (d Difference) What() string { return strings.TrimSpace(string(d.Area) + " " + d.Name) }

// Report is every difference, those that were not meant first.
type Report struct {
	List     []Difference `json:"differences"`
	Compared int          `json:"compared"` // facts that were compared
	Missing  []string     `json:"missing,omitempty"`
}

// Questioned are the differences that were not meant.
func (r Report) Questioned() []Difference {
	n := slices.IndexFunc(r.List, func(d Difference) bool { return d.Meant })
	if n < 0 {
		return r.List
	}
	return r.List[:n]
}

// place is what a fact is about.
type place struct {
	part string
	area Area
	name string
}

// group is what is read of an instance at once: an instance that has nothing of it was not
// read, one that lacks a name of it has none.
func (p place) group() place {
	if p.area == Configuration {
		p.name, _, _ = strings.Cut(p.name, " ")
	} else {
		p.name = ""
	}
	return p
}

// known is what is known of a place on one side.
type known struct {
	values, raw []string
	instances   map[string]bool
}

// Compare finds what differs. A fact of which a side's instances do not agree has all of its
// values, whether the sides differ or not. Values that are the same as they stand, or with
// placeholders for what the release is about, do not differ.
func Compare(facts [2][]Fact, meant []Rule, names Names) Report {
	type pair struct {
		sides  [2]known
		secret bool
		text   bool
	}
	all := map[place]*pair{}
	read := [2]map[place]map[string]bool{{}, {}} // the instances of each group
	for _, side := range split.Sides {
		for _, f := range facts[side] {
			at := place{f.Part, f.Area, f.Name}
			p := all[at]
			if p == nil {
				p = &pair{}
				all[at] = p
			}
			p.secret, p.text = p.secret || f.Secret, p.text || f.Text
			k := &p.sides[side]
			k.values, k.raw = with(k.values, f.Value), with(k.raw, cmp.Or(f.Raw, f.Value))
			if f.Instance == "" {
				continue
			}
			if k.instances == nil {
				k.instances = map[string]bool{}
			}
			k.instances[f.Instance] = true
			group := at.group()
			if read[side][group] == nil {
				read[side][group] = map[string]bool{}
			}
			read[side][group][f.Instance] = true
		}
	}
	r := Report{Compared: len(all), List: []Difference{}}
	for at, p := range all {
		var lacks [2]bool // some instances have it, and some have not
		for _, side := range split.Sides {
			k := p.sides[side]
			lacks[side] = len(k.instances) > 0 && len(k.instances) < len(read[side][at.group()])
		}
		blue, green := p.sides[split.Blue], p.sides[split.Green]
		same := lacks[split.Blue] == lacks[split.Green] &&
			(slices.Equal(blue.values, green.values) || slices.Equal(blue.raw, green.raw))
		agree := len(blue.values) <= 1 && len(green.values) <= 1 || len(blue.raw) <= 1 && len(green.raw) <= 1
		if same && agree && lacks == [2]bool{} {
			continue
		}
		d := Difference{Part: at.part, Area: at.area, Name: at.name}
		hidden := Mask{Names: names}
		for _, side := range split.Sides {
			d.Has[side] = len(p.sides[side].values) > 0
			if !p.text {
				d.Value[side] = p.sides[side].shown(p.secret, lacks[side], &hidden)
			}
		}
		// each side agrees: it is what the release is about
		release := d.Area == Build && len(blue.values) == 1 && len(green.values) == 1
		d.Meant = release || slices.ContainsFunc(meant, func(r Rule) bool { return r.covers(d) })
		r.List = append(r.List, d)
	}
	r.List = sorted(r.List)
	return r
}

// sorted are differences in their order, those that were not meant first.
func sorted(list []Difference) []Difference {
	slices.SortFunc(list, func(a, b Difference) int {
		return cmp.Or(order(a.Meant)-order(b.Meant), cmp.Compare(a.Part, b.Part),
			slices.Index(Areas, a.Area)-slices.Index(Areas, b.Area), cmp.Compare(a.Name, b.Name))
	})
	return list
}

// with is a sorted list with one more value in it, if it is not there.
func with(list []string, value string) []string {
	if at, there := slices.BinarySearch(list, value); !there {
		return slices.Insert(list, at, value)
	}
	return list
}

// shown is what is known of a place in words.
func (k known) shown(secret, lacks bool, hidden *Mask) string {
	values := make([]string, len(k.values))
	for n, value := range k.values {
		values[n] = hidden.Text(value)
	}
	if secret && len(values) > 0 {
		values = []string{"secret, not shown"}
		if len(k.values) > 1 {
			return fmt.Sprintf("its instances have %d secrets, not shown", len(k.values))
		}
	}
	if lacks {
		values = append(values, "none")
	}
	if len(values) > 1 {
		return "its instances disagree: " + strings.Join(values, " | ")
	}
	return strings.Join(values, "")
}

func order(meant bool) int {
	if meant {
		return 1
	}
	return 0
}

func (r Rule) covers(d Difference) bool {
	return r.Area == d.Area && (r.Name == "" || Matches(r.Name, d.Name))
}

// Matches reports whether a text fits a pattern in which * stands for any text,
// also for none.
func Matches(pattern, text string) bool {
	head, rest, star := strings.Cut(pattern, "*")
	if !star {
		return pattern == text
	}
	if !strings.HasPrefix(text, head) {
		return false
	}
	text = text[len(head):]
	for {
		middle, after, more := strings.Cut(rest, "*")
		if !more {
			return strings.HasSuffix(text, middle)
		}
		at := strings.Index(text, middle)
		if at < 0 {
			return false
		}
		text, rest = text[at+len(middle):], after
	}
}
