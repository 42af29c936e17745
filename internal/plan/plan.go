package plan

import (
	"os"
	"path/filepath"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
)

// Plan is a plan file, read and complete: what the file leaves out has its
// default. Paths are absolute.
type Plan struct {
	File    string // the file it was read from
	Service string
	State   string // folder for socket, logbook and the notes on instances
	Secrets map[string]Secret
	Front   Front   // the first, or the only one
	Beside  []Front // further ones in front of the same service
	Parts   []Part  // the first is the one that the front sends requests to
	Route   route.Route
	Keep    time.Duration
	Then    crossing.Then
	Guards  Guards
	Prober  Prober

	Differences Differences
	Pairs       Pairs
	WarmUp      WarmUp
}

// Main is the part that the front sends requests to.
func (p *Plan) Main() *Part { return &p.Parts[0] }

// Wanted is how many instances a side is to have, of all parts.
func (p *Plan) Wanted(side split.Side) int {
	n := 0
	for _, part := range p.Parts {
		n += part.Stacks[side].Instances
	}
	return n
}

// RaiseLimit is how long all parts of a side may take to become healthy.
func (p *Plan) RaiseLimit(side split.Side) time.Duration {
	limit := time.Duration(0)
	for _, part := range p.Parts {
		limit = max(limit, part.Stacks[side].Raise)
	}
	return limit
}

// HealthEvery is how often the part that is read most often is read.
func (p *Plan) HealthEvery() time.Duration {
	most := p.Main().Health.Every
	for _, part := range p.Parts {
		most = min(most, part.Health.Every)
	}
	return most
}

// Guards are the rules watched during shift and keep.
type Guards struct {
	Failing   Comparing
	Slow      Comparing
	SlowAfter time.Duration // an answer that takes longer is slow
	Unhealthy Counting
	Lost      Counting
}

// Comparing is a guard that compares the target with the live side.
type Comparing struct {
	Off   bool
	Bound evidence.Bound
	Over  time.Duration // how far back answers count
	Then  crossing.Action
}

// Counting is a guard that trips when something is counted more than so often.
type Counting struct {
	Off  bool
	Most int
	Then crossing.Action
}

// Prober is the steady stream of Vaiven's own requests.
type Prober struct {
	Path    string
	Rate    float64 // requests a second
	Within  time.Duration
	Status  int
	Side    Field // where an answer names its side, if the front does not
	Version Field
}

// Socket is the path of the front's admin socket.
func (p *Plan) Socket() string { return filepath.Join(p.State, "front.sock") }

// FrontState is the file in which the front keeps its split.
func (p *Plan) FrontState() string { return filepath.Join(p.State, "front.json") }

// Secret is the file with the prober's secret.
func (p *Plan) Secret() string { return filepath.Join(p.State, "probe.secret") }

// Logbook is the database of all crossings.
func (p *Plan) Logbook() string { return filepath.Join(p.State, "logbook.db") }

// Instances is the folder with the notes on instances.
func (p *Plan) Instances() string { return filepath.Join(p.State, "instances") }

// Lock is the file whose lock the one that steers holds.
func (p *Plan) Lock() string { return filepath.Join(p.State, "keeper.lock") }

// Read reads and checks a plan file. If the file was read but is wrong, the
// error is a [Problems] with every mistake in it.
func Read(file string) (*Plan, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	abs, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	p, err := Parse(file, data)
	if err != nil {
		return nil, err
	}
	p.File = abs
	p.resolve(filepath.Dir(abs))
	return p, nil
}

// resolve makes paths absolute that are relative to the plan's folder.
func (p *Plan) resolve(dir string) {
	if p.State == "" {
		p.State = p.Service + ".vaiven"
	}
	p.State = within(dir, p.State)
	p.Front.resolve(dir)
	for i := range p.Beside {
		p.Beside[i].resolve(dir)
	}
	for i := range p.Parts {
		p.Parts[i].resolve(dir)
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

// resolve makes the paths of a part absolute. Those on other machines stay as
// they are.
func (p *Part) resolve(dir string) {
	if k := p.Versions.Kind; k == VersionFolder || (k == VersionTags || k == VersionBranch) && !strings.Contains(p.Versions.Where, ":") {
		p.Versions.Where = within(dir, p.Versions.Where)
	}
	for i := range p.Stacks {
		s := &p.Stacks[i]
		for _, file := range []*string{&s.Identity, &s.KnownHosts} {
			if *file != "" {
				*file = within(dir, *file)
			}
		}
		switch s.Kind() {
		case Processes:
			s.Folder = within(dir, s.Folder)
			if s.Build == "" {
				s.Build = s.Command[0]
			}
			s.Build = within(s.Folder, s.Build)
			s.Command[0] = program(s.Folder, s.Command[0])
		case Tool:
			s.Tool[0] = program(dir, s.Tool[0])
		}
	}
	here := p.Stacks[split.Blue].Kind() == Processes && p.Stacks[split.Green].Kind() == Processes
	p.Health.resolve(dir, here)
	for _, list := range [][]Check{p.Smoke, p.Needs} {
		for i := range list {
			list[i].resolve(dir, here)
		}
	}
}

// resolve makes the files that a check reads absolute. Its command stands where
// the instances do, which may be here.
func (c *Check) resolve(dir string, here bool) {
	trusted := func(t Trust) Trust {
		if t.CA != "" {
			t.CA = within(dir, t.CA)
		}
		return t
	}
	switch w := c.What.(type) {
	case HTTP:
		w.Trust = trusted(w.Trust)
		c.What = w
	case TLS:
		w.Trust = trusted(w.Trust)
		c.What = w
	case GRPC:
		w.Trust = trusted(w.Trust)
		c.What = w
	case Command:
		if here && len(w.Words) > 0 {
			w.Words[0] = program(dir, w.Words[0])
		}
	}
}

// program is a command's first word, absolute unless it is looked up.
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

// Placeholders are the names that a command, folder, build, environment or check
// may use in braces. Beside them stands {secret NAME}.
var Placeholders = []string{"version", "build", "side", "part", "instance", "host", "port", "address", "service"}

// Expand replaces each {name} by its value. Braces around anything that is not a
// placeholder stay as they are.
func Expand(text string, values map[string]string) string {
	pairs := make([]string, 0, 2*len(values))
	for name, value := range values {
		pairs = append(pairs, "{"+name+"}", value)
	}
	return strings.NewReplacer(pairs...).Replace(text)
}
