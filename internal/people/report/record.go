package report

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/past"
	"vaiven/internal/core/proof"
	"vaiven/internal/core/raise"
	"vaiven/internal/core/route"
	"vaiven/internal/people/drawing"
	"vaiven/internal/people/script"
	"vaiven/internal/words"
)

// Record is what is handed in of a crossing: what was released, what was done and decided, and what came of it.
type Record struct {
	Crossing past.Crossing    `json:"crossing"`
	Why      string           `json:"why,omitempty"` // it ended as it did, in words
	Usual    past.Usual       `json:"usual"`
	Odd      []past.Odd       `json:"stands_out,omitempty"`
	Guards   []past.Strong    `json:"guards,omitempty"` // at their strongest moments, as far as it was recorded
	Events   []crossing.Event `json:"events"`
	Points   []engine.Point   `json:"track,omitempty"`
	Digest   past.Digest      `json:"digest"`
	Mark     string           `json:"mark"` // the digest, where [past.DigestIn] finds it
	Made     time.Time        `json:"made"`
	In       *time.Location   `json:"-"` // the zone that times are told in
}

// RecordForms are the ends of the files that a record is written to.
var RecordForms = []string{".pdf", ".svg", ".md", ".html", ".json"}

// Write writes the record into a file, in the form that its name ends with: see [RecordForms].
func (r Record) Write(file string) error {
	if err := r.whole(); err != nil {
		return err
	}
	form := strings.ToLower(filepath.Ext(file))
	var data []byte
	var err error
	switch form {
	case ".pdf", ".svg":
		s := r.sheet()
		return s.Save(file)
	case ".md":
		data = r.markdown()
	case ".html":
		data, err = r.page()
	case ".json":
		r.Mark = r.Digest.String()
		data, err = script.Marshal("record", r.Crossing.Target, r)
		data = append(data, '\n')
	default:
		return fmt.Errorf("%s: the file's name has to end in one of %s", file, strings.Join(RecordForms, " "))
	}
	if err != nil {
		return err
	}
	return os.WriteFile(file, data, 0o644)
}

// section is some lines of the record, each with what it is about.
type section struct {
	Title string
	Rows  []row
}

type row struct{ Name, Text string }

func (s *section) add(name, format string, args ...any) {
	if text := fmt.Sprintf(format, args...); text != "" {
		s.Rows = append(s.Rows, row{name, text})
	}
}

// clock is a time of the crossing.
func (r Record) clock(t time.Time) string { return t.In(r.In).Format("15:04:05") }

// both is a time in the zone and in UTC.
func (r Record) both(t time.Time) string {
	return t.In(r.In).Format("2006-01-02 15:04:05 MST") + " (" + t.UTC().Format("15:04:05 UTC") + ")"
}

// title is the crossing in one line.
func (r Record) title() string {
	c := r.Crossing
	return fmt.Sprintf("%s: crossing %d, %s: %s", c.Service, c.Number, words.Versions(c), c.Stage)
}

// says is what has to be known first.
func (r Record) says() string {
	c := r.Crossing
	text := fmt.Sprintf("%s released version %s of %s to %v. ", cmp.Or(c.By, "Somebody"), c.Version, c.Service,
		c.Target)
	why := ""
	if r.Why != "" {
		why = ": " + strings.TrimSuffix(r.Why, ".")
	}
	switch c.Stage {
	case crossing.Settled:
		return text + "All requests go there since, and the crossing settled."
	case crossing.RolledBack:
		return text + fmt.Sprintf("It was rolled back%s. All requests go to %v again.", why, c.Target.Other())
	case crossing.CalledOff:
		return text + fmt.Sprintf("It was called off before any request went there%s.", why)
	}
	return text + "It is under way."
}

// sections are all that it has to say beside the track.
func (r Record) sections() []section {
	return filled(r.released(), r.outcome(), r.steps(), r.proven(), r.guarded(), r.approved(), r.told(), r.digest())
}

// filled are those of some sections that have something to say.
func filled(list ...section) []section {
	return slices.DeleteFunc(list, func(s section) bool { return len(s.Rows) == 0 })
}

func (r Record) released() section {
	c, s := r.Crossing, section{Title: "What was released"}
	s.add("service", "%s, to %v", c.Service, c.Target)
	s.add("versions", "%s", words.Versions(c))
	s.add("build", "%s", c.Build)
	s.add("commit", "%s", c.Commit)
	for _, e := range r.Events {
		if f, ok := e.What.(crossing.Begun); ok && len(f.Choices) > 1 {
			for _, choice := range f.Choices {
				s.add("part "+choice.Part, "%s, build %s", choice.Version, raise.Short(choice.Build))
			}
		}
	}
	s.add("begun", "%s by %s", r.both(c.Begun), r.person(r.Events[0]))
	for _, w := range c.Approved {
		for _, f := range w.Accepted {
			s.add("accepted", "%s (by %s)", words.Finding(f), w.By)
		}
	}
	return s
}

// person is who did something, as they say and as the keeper's machine knows them.
func (r Record) person(e crossing.Event) string {
	if e.Peer == (crossing.Peer{}) {
		return cmp.Or(e.By, "nobody known")
	}
	return fmt.Sprintf("%s, %v", e.By, e.Peer)
}

func (r Record) outcome() section {
	c, n, s := r.Crossing, r.Crossing.Counted, section{Title: "What came of it"}
	s.add("outcome", "%s", string(c.Stage))
	s.add("why", "%s", r.Why)
	if !c.Ended.IsZero() {
		s.add("ended", "%s, after %s", r.both(c.Ended), route.Short(c.Ended.Sub(c.Begun).Round(time.Second)))
	}
	if n.All > 0 {
		s.add("requests", "%s on the new side, of which %s failed; %s on both, of which %s failed",
			words.Thousands(n.Requests), words.Thousands(n.Failed), words.Thousands(n.All),
			words.Thousands(n.AllFailed))
	}
	if n.Asked > 0 {
		s.add("front door", "%s probes, %s lost; longest time without an answer %s", words.Thousands(n.Asked),
			words.Thousands(n.Lost), words.Milliseconds(n.LongestGap))
	}
	if n.Unwatched > 0 {
		s.add("not watched", "for %s", route.Short(n.Unwatched.Round(time.Second)))
	}
	s.add("cost", "%s", words.Both(c.Both))
	s.add("stands out", "%s", words.Odd(r.Odd))
	return s
}

func (r Record) steps() section {
	c, s := r.Crossing, section{Title: "Steps"}
	took := func(name string, d time.Duration) {
		if d > 0 {
			s.add(name, "in %s", route.Short(d))
		}
	}
	took("raised", c.Took.Raise)
	took("proven", c.Took.Prove)
	for n := 1; n < len(c.Steps); n++ {
		step, until := c.Steps[n], c.Ended
		if n+1 < len(c.Steps) {
			until = c.Steps[n+1].At
		}
		text := fmt.Sprintf("%v on %v, in force after %s", step.Part, c.Target,
			route.Short(max(step.At.Sub(step.Asked), 0)))
		if until.After(step.At) {
			text += ", for " + route.Short(until.Sub(step.At).Round(time.Second))
		}
		s.add(r.clock(step.At), "%s", text)
	}
	took("rolled back", c.Took.Home)
	for _, e := range r.Events {
		if f, ok := e.What.(crossing.Retired); ok {
			s.add(r.clock(e.At), "%v was retired", f.Side)
		}
	}
	return s
}

// proven is what the last proof of the new side found.
func (r Record) proven() section {
	s := section{Title: "Proof"}
	var last *proof.Proof
	for _, e := range r.Events {
		if f, ok := e.What.(crossing.Proved); ok {
			last = &f.Proof
		}
	}
	if last == nil {
		return s
	}
	s.add("checks", "%d of %d passed", last.Passing(), len(last.Results))
	for _, r := range last.Open(nil) {
		s.add("finding", "%s", words.Finding(r.Finding()))
	}
	return s
}

func (r Record) guarded() section {
	s := section{Title: "Guards, each at its strongest moment"}
	for _, g := range r.Guards {
		s.add(g.Name, "%s: %s", r.clock(g.At), words.Guard(g.Status))
	}
	return s
}

func (r Record) approved() section {
	s := section{Title: "Who said yes to what"}
	for _, w := range r.Crossing.Approved {
		text := w.By
		if w.Peer != (crossing.Peer{}) {
			text += ", " + w.Peer.String()
		}
		if w.To.ID != 0 {
			text += ": " + words.Question(w.To, crossing.State{Target: r.Crossing.Target, Version: r.Crossing.Version})
		}
		if w.Said != "" {
			text += " (" + w.Said + ")"
		}
		s.add(r.clock(w.At), "%s", text)
	}
	return s
}

func (r Record) told() section {
	s := section{Title: "Who was told"}
	for _, n := range r.Crossing.Notices {
		text := fmt.Sprintf("%s, %s", n.Letter.To, n.Letter.About)
		if n.Failed != "" {
			text += ": not delivered: " + n.Failed
		}
		s.add(r.clock(n.At), "%s", text)
	}
	return s
}

func (r Record) digest() section {
	s := section{Title: "Of these events"}
	s.add("digest", "%v", r.Digest)
	s.add("made", "%s", r.both(r.Made))
	return s
}

var errNothing = errors.New("the crossing does not begin with its beginning")

func (r Record) whole() error {
	if len(r.Events) == 0 {
		return errNothing
	}
	if _, ok := r.Events[0].What.(crossing.Begun); !ok {
		return errNothing
	}
	return nil
}

// A record's page is A4 upright.
const (
	uprightWidth  = 595.0
	uprightHeight = 842.0
)

// sheet is the record as one page: the track in the middle, and above and below it what is said of it.
func (r Record) sheet() *drawing.Sheet {
	s := drawing.New(uprightWidth, uprightHeight, r.title(), r.says())
	s.Note(r.Digest.String())
	y := margin + titled.Size
	s.Text(margin, y, drawing.Fit(r.title(), titled, uprightWidth-2*margin), titled)
	for _, line := range drawing.Wrap(r.says(), plain, uprightWidth-2*margin) {
		y += 14
		s.Text(margin, y, line, plain)
	}
	y += 12
	const gap, foot = 18.0, 34.0
	width := (uprightWidth - 2*margin - gap) / 2
	left := columns{s, margin, width, y + 150}
	right := columns{s, margin + width + gap, width, y + 150}
	end := max(left.draw(y, filled(r.released())), right.draw(y, filled(r.outcome())))
	track := end + 22
	lower := uprightHeight - margin - foot - 190
	trackArea{left: margin, right: uprightWidth - margin, top: track, bottom: lower - 16, in: r.In}.draw(s, r.Events,
		r.Points, r.Crossing.Target)
	left.bottom, right.bottom = uprightHeight-margin-foot, uprightHeight-margin-foot
	left.draw(lower, filled(r.guarded(), r.proven()))
	right.draw(lower, filled(r.steps(), r.approved(), r.told()))
	bottom := uprightHeight - margin - 10
	hair(s, drawing.Point{X: margin, Y: bottom - 12}, drawing.Point{X: uprightWidth - margin, Y: bottom - 12})
	small := drawing.Words{Size: 6.8, Ink: drawing.Grey}
	s.Text(margin, bottom, drawing.Fit(r.Digest.String(), small, uprightWidth-2*margin), small)
	s.Text(margin, bottom+9, "Line: the share on green, confirmed by the front. Dashes: asked for. Circles: where requests "+
		"went. Red: requests that failed.", small)
	s.Text(margin, bottom+18, "Times are in "+r.Crossing.Begun.In(r.In).Format("MST (UTC-07:00)")+". Made "+
		r.both(r.Made)+".", small)
	return s
}

// track is the track alone, as SVG.
func (r Record) track() []byte {
	const width, height = 780.0, 330.0
	s := drawing.New(width, height, r.title(), r.says())
	trackArea{left: 4, right: width - 4, top: 14, bottom: height - 14, in: r.In}.draw(s, r.Events, r.Points,
		r.Crossing.Target)
	return s.SVG()
}

// columns is where sections are drawn one below the other.
type columns struct {
	s        *drawing.Sheet
	x, width float64
	bottom   float64
}

// How sections are set.
const (
	rowHeight = 11.0
	nameWidth = 62.0
)

// draw draws sections as far as there is room, says how many rows there was none for, and gives where it ends.
func (c columns) draw(y float64, list []section) float64 {
	heading := drawing.Words{Size: 9.5, Ink: drawing.Black, Bold: true}
	text := drawing.Words{Size: 8, Ink: drawing.Black}
	name := drawing.Words{Size: 8, Ink: drawing.Grey}
	left := 0
	for n, sec := range list {
		if y+2*rowHeight > c.bottom {
			left += len(sec.Rows)
			continue
		}
		if n > 0 {
			y += 5
		}
		y += rowHeight
		c.s.Text(c.x, y, drawing.Fit(sec.Title, heading, c.width), heading)
		for _, r := range sec.Rows {
			lines := drawing.Wrap(r.Text, text, c.width-nameWidth)
			if len(lines) > 3 {
				lines = append(lines[:2], drawing.Fit(strings.Join(lines[2:], " "), text, c.width-nameWidth))
			}
			if y+rowHeight*float64(len(lines)+1) > c.bottom {
				left++
				continue
			}
			c.s.Text(c.x, y+rowHeight, drawing.Fit(r.Name, name, nameWidth-4), name)
			for _, line := range lines {
				y += rowHeight
				c.s.Text(c.x+nameWidth, y, line, text)
			}
		}
	}
	if left > 0 {
		y += rowHeight
		c.s.Text(c.x, y, fmt.Sprintf("and %d more: the record as .html or .md has them", left), name)
	}
	return y
}

// markdown is the record as text, with its track in one line.
func (r Record) markdown() []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n\n%s\n", r.title(), r.says())
	if small := words.SmallTrack(r.Crossing, 60, r.Made); small != "" {
		fmt.Fprintf(&b, "\n    %s\n\nThe part of the requests that %v had, from the first change to the end.\n", small,
			r.Crossing.Target)
	}
	for _, s := range r.sections() {
		fmt.Fprintf(&b, "\n## %s\n\n", s.Title)
		for _, row := range s.Rows {
			fmt.Fprintf(&b, "- **%s**: %s\n", row.Name, marked.Replace(row.Text))
		}
	}
	fmt.Fprintf(&b, "\n## What happened\n\n| time | by | what | |\n| --- | --- | --- | --- |\n")
	for _, h := range r.happened() {
		fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", h.At, marked.Replace(h.By), h.What, marked.Replace(h.Text))
	}
	return []byte(b.String())
}

// marked keeps text from meaning something to Markdown.
var marked = strings.NewReplacer("|", "\\|", "*", "\\*", "_", "\\_", "<", "&lt;", "\n", " ")

// happening is an event in words.
type happening struct{ At, By, What, Text string }

func (r Record) happened() (list []happening) {
	var s crossing.State
	for _, e := range r.Events {
		s = crossing.Apply(s, e)
		if text := words.Event(e, s); text != "" {
			list = append(list, happening{r.clock(e.At), e.By, e.What.Kind(), text})
		}
	}
	return list
}
