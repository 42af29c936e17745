package report

import (
	"bytes"
	"html/template"
)

// recordPage is the record in one file, with its track as a drawing and nothing that runs.
var recordPage = template.Must(template.New("record").Parse(`<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'">
<title>{{.Title}}</title>
<style>
body { font: 15px/1.5 "Go", "Liberation Sans", Arial, sans-serif; color: #1c222a; background: #fff; max-width: 60rem;
  margin: 2rem auto; padding: 0 1rem; }
h1 { font-size: 1.5rem; } h2 { font-size: 1.05rem; margin: 1.6rem 0 .3rem; }
table { border-collapse: collapse; width: 100%; } th { text-align: left; font-weight: normal; color: #5c6670;
  width: 9rem; vertical-align: top; padding: .1rem 1rem .1rem 0; }
td { vertical-align: top; padding: .1rem .8rem .1rem 0; overflow-wrap: anywhere; }
figure { margin: 1rem 0; } svg { width: 100%; height: auto; }
.events td { border-top: 1px solid #d5dade; } .events td:first-child { white-space: nowrap; }
@media print { body { margin: 0; max-width: none; font-size: 11px; } }
</style>
</head>
<body>
<h1>{{.Title}}</h1>
<p>{{.Says}}</p>
<figure>{{.Track}}</figure>
{{range .Sections}}<h2>{{.Title}}</h2>
<table>{{range .Rows}}<tr><th scope="row">{{.Name}}</th><td>{{.Text}}</td></tr>
{{end}}</table>
{{end}}<h2>What happened</h2>
<table class="events">{{range .Happened}}<tr><td>{{.At}}</td><td>{{.By}}</td><td>{{.What}}</td><td>{{.Text}}</td></tr>
{{end}}</table>
</body>
</html>
`))

func (r Record) page() ([]byte, error) {
	var b bytes.Buffer
	err := recordPage.Execute(&b, struct {
		Title, Says string
		Track       template.HTML
		Sections    []section
		Happened    []happening
	}{r.title(), r.says(), template.HTML(r.track()), r.sections(), r.happened()})
	return b.Bytes(), err
}
