package planfile

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
)

// Read reads and checks a plan file. If the file was read but is wrong, the
// error is a [Problems] with every mistake in it.
func Read(file string) (*plan.Plan, error) { return read(file, Parse) }

// Check reads a plan file as Read does, and looks whether what it names is there, on this machine
// and now: the programs of its commands, and its secrets.
func Check(file string) (*plan.Plan, error) {
	return read(file, func(name string, data []byte) (*plan.Plan, error) {
		abs, err := filepath.Abs(file)
		if err != nil {
			return nil, err
		}
		return parse(name, data, nil, func(r *reader, n ast.Node, p *plan.Plan) {
			if r.plan(n, p); len(r.Problems.List) == 0 {
				r.commandsThere(filepath.Dir(abs), p)
				r.buildsThere(filepath.Dir(abs), p)
				r.commandsSay(p)
				r.secretsSet(filepath.Dir(abs), p)
				r.filesThere(filepath.Dir(abs))
			}
		})
	})
}

// ReadFront reads where the front of a plan is, and nothing else: for going home, which a
// mistake elsewhere in the file must not hold up. The plan has no parts then.
func ReadFront(file string) (*plan.Plan, error) { return read(file, parseFront) }

func read(file string, parse func(name string, data []byte) (*plan.Plan, error)) (*plan.Plan, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	abs, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	p, err := parse(file, data)
	if err != nil {
		return nil, err
	}
	p.File = abs
	resolve(p, filepath.Dir(abs))
	return p, nil
}

// resolve makes paths absolute that are relative to the plan's folder.
func resolve(p *plan.Plan, dir string) {
	if p.Base != "" {
		p.Base = within(dir, p.Base)
	}
	if p.State == "" {
		p.State = p.Service + ".vaiven"
	}
	p.State = within(dir, p.State)
	for _, name := range []*string{&p.Closed, &p.Embargo} {
		if *name != "" && !strings.Contains(*name, "://") {
			*name = within(dir, *name)
		}
	}
	resolveFront(p, &p.Front, dir)
	resolveOrder(&p.Front, p.Service, p.State, "order")
	for i := range p.Beside {
		resolveFront(p, &p.Beside[i], dir)
		resolveOrder(&p.Beside[i], p.Service, p.State, fmt.Sprintf("order-%d", i+2))
	}
	for _, file := range []*string{&p.Door.CA, &p.Door.Certificate, &p.Door.Key} {
		if *file != "" {
			*file = within(dir, *file)
		}
	}
	for i := range p.Hooks {
		if h := &p.Hooks[i]; len(h.Words) > 0 && !h.There {
			h.Words[0] = program(dir, h.Words[0])
		}
	}
	for i := range p.Guards {
		if words := p.Guards[i].Figure.Query.Words; len(words) > 0 {
			words[0] = program(dir, words[0])
		}
	}
	for _, rule := range p.Notices.Rules {
		for n := range rule.To {
			if words := rule.To[n].Words; len(words) > 0 {
				words[0] = program(dir, words[0])
			}
		}
	}
	for _, file := range []*string{&p.Notices.Mail.Trust.CA, &p.Notices.Answers.Certificate, &p.Notices.Answers.Key} {
		if *file != "" {
			*file = within(dir, *file)
		}
	}
	for _, server := range []*plan.Server{&p.Sources.Prometheus, &p.Sources.Alertmanager} {
		if server.Trust.CA != "" {
			server.Trust.CA = within(dir, server.Trust.CA)
		}
	}
	if p.Build.On() {
		p.Build.Words[0] = program(dir, p.Build.Words[0])
	}
	for i := range p.Parts {
		resolveClusters(p, &p.Parts[i])
		resolvePart(&p.Parts[i], dir)
	}
	for i := range p.WayBack.Checks {
		resolveCheck(&p.WayBack.Checks[i], dir, p.Main().Stacks[split.Blue].Kind() == plan.Processes &&
			p.Main().Stacks[split.Green].Kind() == plan.Processes)
	}
	for name, secret := range p.Secrets {
		if secret.File != "" {
			secret.File = within(dir, secret.File)
			p.Secrets[name] = secret
		}
	}
	for _, file := range []*string{&p.Pairs.Log, &p.Pairs.HAR} {
		if *file != "" {
			*file = within(dir, *file)
		}
	}
}

// resolveClusters has a part's stacks in the orchestrator that the front is, where the plan does not say otherwise.
func resolveClusters(p *plan.Plan, part *plan.Part) {
	for _, f := range p.Fronts() {
		o, ok := f.Settings.(plan.Orchestrated)
		if !ok {
			continue
		}
		for i := range part.Stacks {
			if c := &part.Stacks[i].Cluster; c.On {
				c.API = c.API.After(o.Orchestrator())
			}
		}
		return
	}
}

// resolvePart makes the paths of a part absolute. Those on other machines stay as
// they are.
func resolvePart(p *plan.Part, dir string) {
	if k := p.Versions.Kind; k == plan.VersionFolder ||
		(k == plan.VersionTags || k == plan.VersionBranch) && !strings.Contains(p.Versions.Where, ":") {
		p.Versions.Where = within(dir, p.Versions.Where)
	}
	for i := range p.Stacks {
		s := &p.Stacks[i]
		for _, file := range []*string{&s.Identity, &s.KnownHosts, &s.Cluster.File, &s.Cluster.Template} {
			if *file != "" {
				*file = within(dir, *file)
			}
		}
		switch s.Kind() {
		case plan.Processes:
			s.Folder = within(dir, s.Folder)
			if s.Build == "" {
				s.Build = buildOf(s.Command)
			}
			s.Build = within(s.Folder, s.Build)
			s.Command[0] = program(s.Folder, s.Command[0])
		case plan.Tool:
			s.Tool[0] = program(dir, s.Tool[0])
		case plan.Standing:
			if len(s.Renew) > 0 {
				s.Renew[0] = program(dir, s.Renew[0])
			}
			for n := range s.Stands {
				if words := s.Stands[n].Words; len(words) > 0 {
					words[0] = program(dir, words[0])
				}
			}
		}
	}
	here := p.Stacks[split.Blue].Kind() == plan.Processes && p.Stacks[split.Green].Kind() == plan.Processes
	resolveCheck(&p.Health, dir, here)
	for _, list := range [][]plan.Check{p.Smoke, p.Needs} {
		for i := range list {
			resolveCheck(&list[i], dir, here)
		}
	}
}

// resolveCheck makes the files that a check reads absolute. Its command stands where
// the instances do, which may be here.
func resolveCheck(c *plan.Check, dir string, here bool) {
	trusted := func(t plan.Trust) plan.Trust {
		if t.CA != "" {
			t.CA = within(dir, t.CA)
		}
		return t
	}
	switch w := c.What.(type) {
	case plan.HTTP:
		w.Trust = trusted(w.Trust)
		c.What = w
	case plan.TLS:
		w.Trust = trusted(w.Trust)
		c.What = w
	case plan.GRPC:
		w.Trust = trusted(w.Trust)
		c.What = w
	case plan.Command:
		if here && len(w.Words) > 0 {
			w.Words[0] = program(dir, w.Words[0])
		}
	}
}

// program is a command's first section.Word, absolute unless it is looked up.
func program(dir, name string) string {
	if strings.Contains(name, "/") {
		return within(dir, name)
	}
	return name
}

func within(dir, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(dir, path)
}

// resolveFront makes the paths of a front absolute.
func resolveFront(p *plan.Plan, f *plan.Front, dir string) {
	file := func(path *string) {
		if *path != "" {
			*path = within(dir, *path)
		}
	}
	if f.Spare.Asks() {
		f.Spare.File = p.SpareSecret()
	}
	file(&f.At.Identity)
	file(&f.At.KnownHosts)
	if f.At.Host != "" {
		return // its files are there
	}
	file(&f.Order)
	f.Settings.Resolve(file, func(name *string) { *name = program(dir, *name) })
}

// resolveOrder gives a front that does not hold the order of going home itself a file
// for it.
func resolveOrder(f *plan.Front, service, state, name string) {
	switch {
	case f.Order != "" || !f.Settings.Marks():
	case f.At.Host != "": // beside the front, where everybody who steers it finds it
		f.Order = path.Join(".vaiven", service, name)
	default:
		f.Order = filepath.Join(state, name)
	}
}
