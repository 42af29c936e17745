package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"vaiven/internal/core/split"
)

// Tie is something that one machine alone has: a keeper on another one would keep the service without it.
type Tie struct {
	What  string `json:"what"`            // such as "the front" or "blue's instances"
	Where string `json:"where,omitempty"` // file, socket, address or command
}

// String is such as "the front (/run/haproxy/admin.sock)".
func (t Tie) String() string {
	if t.Where == "" {
		return t.What
	}
	return fmt.Sprintf("%s (%s)", t.What, t.Where)
}

// Elsewhere is what keeping a plan on another machine takes.
type Elsewhere struct {
	// what ties the plan to this machine; a standby is for plans that have none
	Ties []Tie `json:"ties,omitempty"`
	// files and environment variables that have to be on the other machine too
	Copies []string `json:"copies,omitempty"`
	// fronts that do not refuse a keeper's change themselves when another one has taken over
	Unsure []string `json:"unsure,omitempty"`
}

// Elsewhere is what keeping the plan on another machine takes. here reports whether a host is this machine.
func (p *Plan) Elsewhere(here func(host string) bool) Elsewhere {
	var e Elsewhere
	for _, f := range p.Fronts() {
		what := "the front"
		if len(p.Beside) > 0 {
			what = "the front " + f.Name()
		}
		e.front(f, what, here)
		if !f.Settings.Compares() {
			e.Unsure = append(e.Unsure, f.Name())
		}
		e.copy(f.At.Identity, f.At.KnownHosts, f.Spare.File)
	}
	for _, part := range p.Parts {
		e.copy(part.Configuration...)
		if part.Versions.Kind == VersionFolder {
			e.copy(part.Versions.Where)
		}
		for _, side := range split.Sides {
			what := fmt.Sprintf("%v's instances", side)
			if len(p.Parts) > 1 {
				what = fmt.Sprintf("%v's instances of %s", side, part.Name)
			}
			e.stack(part.Stacks[side], what, here)
		}
	}
	e.figures(p, here)
	for _, name := range slices.Sorted(maps.Keys(p.Secrets)) {
		if s := p.Secrets[name]; s.Env != "" {
			e.copy("$" + s.Env)
		} else {
			e.copy(s.File)
		}
	}
	if !strings.Contains(p.Closed, "://") {
		e.copy(p.Closed)
	}
	if p.Embargo != "" && !strings.Contains(p.Embargo, "://") {
		e.tie("the embargo", p.Embargo)
	}
	for _, h := range p.Hooks {
		if !h.There {
			e.copy(first(h.Words))
		}
	}
	e.copy(first(p.Build.Words))
	slices.Sort(e.Copies)
	e.Copies = slices.Compact(e.Copies)
	return e
}

func (e *Elsewhere) tie(what, where string) {
	if t := (Tie{what, where}); !slices.Contains(e.Ties, t) {
		e.Ties = append(e.Ties, t)
	}
}

func (e *Elsewhere) copy(files ...string) {
	for _, f := range files {
		if f != "" {
			e.Copies = append(e.Copies, f)
		}
	}
}

// front is what a front takes.
func (e *Elsewhere) front(f Front, what string, here func(string) bool) {
	if f.At.Host != "" {
		if host := f.At.Host[strings.LastIndex(f.At.Host, "@")+1:]; here(hostOf(host)) {
			e.tie(what, f.At.Host)
		}
		return
	}
	addresses, byFiles := f.Settings.Reached()
	if f.Listen != "" {
		addresses = append([]string{f.Listen}, addresses...)
	}
	before := len(e.Ties)
	for _, a := range addresses {
		if here(hostOf(a)) {
			e.tie(what, a)
			break
		}
	}
	if byFiles && f.Order != "" {
		e.tie(what, f.Order)
	}
	f.Settings.Resolve(func(file *string) {
		switch {
		case *file == "":
		case byFiles:
			e.tie(what, *file)
		default:
			e.copy(*file)
		}
	}, func(program *string) { e.tie(what, *program) })
	if byFiles && len(e.Ties) == before { // it names none
		e.tie(what, "")
	}
}

// stack is what a side's instances of a part take.
func (e *Elsewhere) stack(s Stack, what string, here func(string) bool) {
	e.copy(s.Identity, s.KnownHosts)
	switch s.Kind() {
	case Processes:
		e.tie(what, "processes of this machine")
	case Containers:
		e.tie(what, s.Engine)
	case Tool:
		e.tie(what, first(s.Tool)) // nobody knows what that needs
	case Clustered:
		e.copy(s.Cluster.File, s.Cluster.Template)
	case Hosts:
		e.copy(s.Build)
		for _, h := range s.Hosts {
			if here(h.Name()) {
				e.tie(what, h.String())
			}
		}
	case Standing:
		for _, one := range s.Stands {
			switch {
			case one.Kind == StandCommand:
				e.tie(what, first(one.Words))
			case one.Kind == StandContainer, one.Kind == StandContainers:
				e.tie(what, s.Engine)
			case one.Kind == StandUnit && (one.On == Host{} || here(one.On.Name())):
				e.tie(what, one.Name)
			case one.Kind == StandAddress && here(hostOf(one.Address)):
				e.tie(what, one.Address)
			}
		}
	}
}

// figures is what asking for figures takes.
func (e *Elsewhere) figures(p *Plan, here func(string) bool) {
	for _, url := range []string{p.Sources.Prometheus.URL, p.Sources.Alertmanager.URL, p.Sources.SQL.URL} {
		if host := hostOf(url); url != "" && here(host) {
			e.tie("figures", host)
		}
	}
	for _, g := range p.Guards {
		if g.Figure.From == FromCommand {
			e.copy(first(g.Figure.Query.Words))
		}
	}
	e.copy(p.Pairs.HAR)
	if p.Pairs.Log != "" {
		e.tie("the access log that pairs are taken from", p.Pairs.Log)
	}
}

// hostOf is the host of an address or URL; "" for all of a machine's.
func hostOf(address string) string {
	if _, rest, ok := strings.Cut(address, "://"); ok {
		address, _, _ = strings.Cut(rest, "/")
		address = address[strings.LastIndex(address, "@")+1:]
	}
	if n := strings.LastIndex(address, ":"); n > strings.LastIndex(address, "]") {
		address = address[:n]
	}
	return strings.Trim(address, "[]")
}

func first(words []string) string {
	if len(words) == 0 {
		return ""
	}
	return words[0]
}
