package report

import (
	"bytes"
	"fmt"
	"html/template"
	"os"
	"path/filepath"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/people/drawing"
	"vaiven/internal/words"
)

// WallEvery is how often a page for the wall is loaded again. It has to be written more often.
const WallEvery = 3 * time.Second

// wallPage is what is seen of a service. Nothing runs in it. A browser goes to and fro between it and a second one with
// the same content, by a name that says which one was there before: one that is still there then is old, and says so.
// That there are two is because a browser that is sent to where it is loads nothing.
var wallPage = template.Must(template.New("wall").Parse(`<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'">
<meta http-equiv="refresh" content="{{.Every}};url={{.Turn}}#{{.Mark}}">
<title>{{.Title}}</title>
<style>
:root { color-scheme: light dark; --ink: #1c222a; --paper: #fff; --label: #5c6670; --hair: #d5dade; --amber: #885000;
  --red: #b81f2d; --blue: #1d5fb0; --green: #17794a; }
@media (prefers-color-scheme: dark) { :root { --ink: #e8edf2; --paper: #0b0e13; --label: #919daa; --hair: #2b333c;
  --amber: #f2b14b; --red: #f27a85; --blue: #5ea2ff; --green: #43d17f; } }
body { font: 1.2rem/1.4 "Go", "Liberation Sans", Arial, sans-serif; color: var(--ink); background: var(--paper);
  margin: 0; padding: 1.2rem 2vw; }
header { display: flex; flex-wrap: wrap; gap: 0 1.5rem; color: var(--label); } header b { color: var(--ink); }
header time { margin-left: auto; }
h1 { font-size: 2rem; line-height: 1.2; margin: .5rem 0 .8rem; } p { margin: .3rem 0; } .waits { color: var(--amber); } .wrong { color: var(--red); }
main { display: grid; grid-template-columns: 1fr minmax(20rem, 1.3fr) 1fr; gap: 0 2vw; }
h2 { font-size: 1.3rem; margin: 0 0 .3rem; } .blue { color: var(--blue); } .green { color: var(--green); }
table { border-collapse: collapse; width: 100%; } th { text-align: left; font-weight: normal; color: var(--label); }
td { text-align: right; overflow-wrap: anywhere; } figure { margin: 0; background: #fff; } svg { width: 100%; height: auto; }
section { grid-column: 1 / -1; border-top: 1px solid var(--hair); margin-top: 1rem; padding-top: .6rem; }
section ul { columns: 2; margin: 0; padding: 0; list-style: none; font-size: 1.05rem; } section li { break-inside: avoid; }
section span { color: var(--label); margin-right: .8rem; }
.old { display: none; } #{{.Mark}}:target .old, .last .old { display: block; background: var(--red); color: var(--paper);
  padding: .4rem 1rem; font-weight: bold; }
#{{.Mark}}:target main, #{{.Mark}}:target h1, .last main, .last h1 { opacity: .4; }
</style>
</head>
<body id="{{.Mark}}"{{if .Last}} class="last"{{end}}>
<p class="old" role="alert">OLD: this was so at {{.At}}. {{if .Last}}Nobody writes this page any more.{{else}}Nobody has
written this page since: whoever does may have stopped, or its disk is full.{{end}}</p>
<header><span>vaiven <b>{{.Service}}</b></span><span>{{.Head}}</span><time>as of {{.At}}, front {{.Read}}</time></header>
<h1 class="{{.Gravity}}">{{.Says}}</h1>
{{with .Next}}<p>{{.}}</p>{{end}}
<main>{{range $n, $side := .Sides}}{{if $n}}<figure>{{$.Track}}</figure>{{end}}
<div><h2 class="{{.Name}}">{{.Name}} {{.Version}}</h2><p>{{.Role}}</p>
<table>{{range .Rows}}<tr><th scope="row">{{.Name}}</th><td>{{.Text}}</td></tr>{{end}}</table></div>
{{end}}<section><ul>{{range .Rest}}<li><span>{{.Name}}</span>{{.Text}}</li>{{end}}</ul></section>
</main>
</body>
</html>
`))

type wallSide struct {
	Name, Version, Role string
	Rows                []row
}

// Wall replaces a file with a page of what is known of a service, and one beside it, whose name ends in .again.html:
// whoever reads them finds the one before or this one, whole. last says that there will be no other.
func Wall(file string, s keeper.Snapshot, is situation.Situation, now time.Time, in *time.Location, last bool) error {
	c, read := s.Crossing, "not read yet"
	if !s.Front.At.IsZero() {
		read = "read " + words.Age(now.Sub(s.Front.At)) + " before"
	}
	head := "nothing has crossed yet"
	if c.Stage != crossing.None {
		head = fmt.Sprintf("crossing %d: %s", c.Number, words.State(c))
	}
	text := words.Situation(is, s.View, "", now)
	again := strings.TrimSuffix(file, filepath.Ext(file)) + ".again.html"
	page := wallContent{
		Title: s.Service + ": " + text, Service: s.Service, Head: head, At: now.In(in).Format("15:04:05 MST"),
		Read: read, Says: text, Next: words.NextOf(is, c), Mark: fmt.Sprintf("at%d", now.UnixMilli()),
		Gravity: map[situation.Gravity]string{situation.Waits: "waits", situation.Wrong: "wrong"}[is.Gravity],
		Every:   int(WallEvery / time.Second), Last: last, Track: template.HTML(wallTrack(s, now, in)),
		Sides: []wallSide{sideOf(s, split.Blue), sideOf(s, split.Green)}, Rest: rest(s, now),
	}
	page.Turn = filepath.Base(file)
	if err := page.write(again); err != nil {
		return err
	}
	page.Turn = filepath.Base(again)
	return page.write(file)
}

// wallContent is what the page has.
type wallContent struct {
	Title, Service, Head, At, Read, Says, Next, Gravity, Mark, Turn string
	Every                                                           int
	Last                                                            bool
	Track                                                           template.HTML
	Sides                                                           []wallSide
	Rest                                                            []row
}

func (c wallContent) write(file string) error {
	var b bytes.Buffer
	if err := wallPage.Execute(&b, c); err != nil {
		return err
	}
	fresh := filepath.Join(filepath.Dir(file), fmt.Sprintf(".%s.%d", filepath.Base(file), os.Getpid()))
	if err := os.WriteFile(fresh, b.Bytes(), 0o644); err != nil {
		_ = os.Remove(fresh) // it may be half written
		return err
	}
	return os.Rename(fresh, file)
}

func sideOf(s keeper.Snapshot, side split.Side) wallSide {
	v, f := s.Sides[side], s.Sides[side].Figures
	w := wallSide{Name: side.String(), Version: v.Version,
		Role: fmt.Sprintf("gets %v", s.Front.Split.Share.Of(side))}
	if len(v.Instances) == 0 {
		w.Role = "nobody stands there"
		return w
	}
	add := func(name, format string, args ...any) {
		w.Rows = append(w.Rows, row{name, fmt.Sprintf(format, args...)})
	}
	add("requests", "%.0f /s", f.Rate)
	if f.Requests > 0 {
		add("failing", "%s", words.Percent(float64(f.Failing)/float64(f.Requests)))
		add("p50, p99", "%s, %s", words.Milliseconds(f.P50), words.Milliseconds(f.P99))
	}
	add("healthy", "%d of %d", v.Healthy, max(v.Wanted, len(v.Instances)))
	for _, i := range v.Instances {
		if i.State != reading.Healthy {
			add(i.Name, "%s %s", i.State, i.Said)
		}
	}
	return w
}

// rest is what stands below the sides.
func rest(s keeper.Snapshot, now time.Time) (list []row) {
	for _, g := range s.Guards {
		list = append(list, row{g.Name, words.Guard(g)})
	}
	if s.WayBack.State != "" {
		text := string(s.WayBack.State)
		if why := words.WayBack(s.WayBack, now); why != "" {
			text += ": " + why
		}
		list = append(list, row{"way back", text})
	}
	if d := s.Door; d.Answers > 0 {
		list = append(list, row{"front door", fmt.Sprintf("%s answers, %s lost; longest gap %s",
			words.Thousands(d.Answers),
			words.Thousands(d.Lost), words.Milliseconds(d.LongestGap))})
	}
	return list
}

// wallSpan is how much of the track is drawn at most.
const wallSpan = 15 * time.Minute

// wallTrack is the track until now, time down.
func wallTrack(s keeper.Snapshot, now time.Time, in *time.Location) []byte {
	const width, height, left, right = 460.0, 360.0, 80.0, 400.0
	from := now.Add(-wallSpan)
	if b := s.Crossing.Begun.Add(-20 * time.Second); b.After(from) {
		from = b
	}
	var points []engine.Point
	for _, p := range s.Track {
		if !p.At.Before(from) {
			points = append(points, p)
		}
	}
	d := drawing.New(width, height, s.Service+": the track", "Which share of the requests went to green, time down.")
	share := drawing.Scale{High: 1, From: left, To: right}
	down := drawing.Scale{High: max(now.Sub(from).Seconds(), 1), From: 34, To: height - 14}
	y := func(t time.Time) float64 { return down.Of(t.Sub(from).Seconds()) }
	d.Text(left, 12, "blue", drawing.Words{Size: 11, Ink: drawing.Blue, Bold: true})
	d.Text(right, 12, "green", drawing.Words{Size: 11, Ink: drawing.Green, Bold: true, At: drawing.End})
	for _, v := range []float64{0, 0.25, 0.5, 0.75, 1} {
		hair(d, drawing.Point{X: share.Of(v), Y: 30}, drawing.Point{X: share.Of(v), Y: height - 12})
		d.Text(share.Of(v), 26, fmt.Sprintf("%.0f", 100*v), at(beside, drawing.Middle))
	}
	for _, v := range down.Ticks(6) {
		d.Text(left-12, down.Of(v)+3, from.Add(time.Duration(v*float64(time.Second))).In(in).Format("15:04:05"),
			at(beside, drawing.End))
	}
	var line []drawing.Point
	for n, p := range points {
		x := share.Of(p.Planned.Fraction())
		if n > 0 && points[n-1].Planned != p.Planned {
			line = append(line, drawing.Point{X: share.Of(points[n-1].Planned.Fraction()), Y: y(p.At)})
		}
		line = append(line, drawing.Point{X: x, Y: y(p.At)})
	}
	d.Line(drawing.Stroke{Ink: drawing.Grey, Width: 2.2}, line...)
	observed(d, points, share, drawing.Scale{High: 10, From: right + 12, To: width - 6}, y)
	return d.SVG()
}
