package front

import (
	"path/filepath"
	"strings"
	"text/template"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/plan"
	"vaiven/internal/world/place"
	"vaiven/internal/world/section"
)

// Kind is a kind of front, as the package that steers it describes it.
type Kind struct {
	Name plan.FrontKind
	// Read reads what a plan says under the name. The node is nil where it says nothing.
	Read func(*section.Reader, ast.Node) plan.FrontSettings
	// Examples are what a plan may say of such a front, its usual way first; none says nothing.
	Examples []Example
	// Open makes the driver of one front of a plan.
	Open func(on place.Machine, p *plan.Plan, f plan.Front) Driver
	// Program is the proxy's own, and Config its configuration; nil if it needs none.
	Program string
	Config  func(service string, f plan.Front, s Site) Config
	// Survey reads a running one, for a first plan; nil if there is nothing to read.
	Survey SurveyFunc
}

// Example is a front's section of a plan. Files are in a folder "proxy" beside the plan, and
// PROGRAM and ADDRESS are filled in: the proxy's own program, and a free address.
type Example struct {
	Way  string // of steering it, where there are several
	Text string
}

// Example is the example of a way, "" for the usual one; false if there is none.
func (k Kind) Example(way string) (Example, bool) {
	for _, e := range k.Examples {
		if way == "" || e.Way == way {
			return e, true
		}
	}
	return Example{}, false
}

// Site is where a whole configuration is to run. The zero value is nowhere: the text is for a
// configuration that is there already, without what is a matter of the machine.
type Site struct {
	Folder  string   // of everything that it writes; all of its processes' users can reach it
	Slots   int      // instances of each side that there is to be room for; 0 for 10
	Members []string // addresses that instances may have, where the configuration has to name each
	// Standing are instances that are there, by side: they stand in the configuration as they are, so that what serves
	// goes on serving.
	Standing Known
}

// Config is a configuration of a proxy that can be steered.
type Config struct {
	Text   string
	Args   []string          // of the program in the foreground, for a file in the site's folder
	File   string            // that file; "" without a site
	Beside map[string]string // other files that it needs there, by their whole names
}

// Config is a configuration made of a template, in a file of the site that comes last among the
// arguments of the program. The template is constant and has to fit the values.
func (s Site) Config(t *template.Template, values any, file string, args ...string) Config {
	var b strings.Builder
	if err := t.Execute(&b, values); err != nil {
		panic(err)
	}
	c := Config{Text: b.String()}
	if s.Folder != "" {
		c.File = filepath.Join(s.Folder, file)
		c.Args = append(args, c.File)
	}
	return c
}

// Variable is what Vaiven's variables of a service are called in configurations.
func Variable(service string) string { return "vaiven_" + strings.ReplaceAll(service, "-", "_") }
