package include

import (
	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/world/section"
)

// Settings is what a plan says of a server that is steered by a file of ours that its
// configuration includes.
type Settings struct {
	Config  string   // its main configuration
	File    string   // ours
	Program []string // the server's own command, to which arguments are added
	Log     string   // access log with the requests counted, "" if there is none
}

// Keys are the settings' keys in a plan.
func (s *Settings) Keys(r *section.Reader) []section.Key {
	return []section.Key{
		section.May("config", func(n ast.Node) { r.Text(n, "config", &s.Config) }),
		section.May("include", func(n ast.Node) { r.Text(n, "include", &s.File) }),
		section.May("program", func(n ast.Node) { r.Words(n, "program", &s.Program) }),
		section.May("log", func(n ast.Node) { r.Text(n, "log", &s.Log) }),
	}
}

// Resolve makes files absolute.
func (s *Settings) Resolve(file, program func(*string)) {
	file(&s.Config)
	file(&s.File)
	file(&s.Log)
	if len(s.Program) > 0 {
		program(&s.Program[0])
	}
}

// AccessLog is the log's file.
func (s *Settings) AccessLog() string { return s.Log }

// Configuration is the server's main file.
func (s *Settings) Configuration() string { return s.Config }
