package planfile

import (
	"fmt"
	"maps"
	"net"
	"os"
	"os/exec"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/difference"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
	"vaiven/internal/world/cluster"
	"vaiven/internal/world/section"
)

// newPart is a part with every key left out.
func newPart(name string) plan.Part {
	stack := plan.Stack{
		Instances: 1, Folder: ".", Raise: 30 * time.Second, Grace: 10 * time.Second, Restart: true,
		Output: plan.Output{Size: 10 << 20, Keep: 3},
		Engine: "/var/run/docker.sock", Network: "host",
	}
	return plan.Part{
		Name: name, Stacks: [2]plan.Stack{stack, stack}, Settle: 2 * time.Second,
		Health: plan.Check{
			Name: "health", Every: time.Second, Within: 500 * time.Millisecond, Up: 2, Down: 3,
			What: plan.HTTP{Method: "GET", URL: "/healthz", Caches: true},
		},
	}
}

// partKeys are the keys of a part. Those of the part that the front sends requests
// to stand at the top of a plan.
func (r *reader) partKeys(p *plan.Part) []section.Key {
	return []section.Key{
		section.May("versions", section.Parsed(r.Reader, "versions", &p.Versions, versions)),
		section.Need("stack", func(n ast.Node) { r.stacks(n, p) }),
		section.May("health", func(n ast.Node) { r.health(n, &p.Health) }),
		section.May("settle", section.Parsed(r.Reader, "settle", &p.Settle, section.TimeOrNone)),
		section.Need("smoke", func(n ast.Node) {
			if p.Smoke = r.checks(n, "smoke", smokeCheck); len(p.Smoke) == 0 {
				r.Wrong(n, "there is no smoke check", "a side is proven by checks: add at least one")
			}
		}),
		section.May("needs", func(n ast.Node) { p.Needs = r.checks(n, "needs", needCheck) }),
		section.May("says", func(n ast.Node) { r.says(n, &p.Says) }),
		section.May("figures", func(n ast.Node) { r.figures(n, &p.Figures) }),
		section.May("configuration", func(n ast.Node) {
			r.List(n, "configuration", func(n ast.Node) {
				var file string
				r.open("a file of the configuration", &file)(n)
				p.Configuration = append(p.Configuration, file)
			})
		}),
	}
}

// parts reads the parts behind the one that the front knows.
func (r *reader) parts(n ast.Node, p *plan.Plan) {
	for name, e := range r.Named(n, "parts") {
		if slices.ContainsFunc(p.Parts, func(q plan.Part) bool { return q.Name == name }) {
			r.Wrong(e.Key, fmt.Sprintf("a part is called %q already", name),
				"give each part a name of its own; that of the front's part stands in \"part\"")
			continue
		}
		part := newPart(name)
		r.part = len(p.Parts)
		r.Mapping(e.Value, "part "+name, r.partKeys(&part)...)
		r.portsApart(e.Key, p, part)
		p.Parts = append(p.Parts, part)
	}
}

// portsApart holds the ranges of ports of different parts apart.
func (r *reader) portsApart(n ast.Node, p *plan.Plan, part plan.Part) {
	for _, other := range p.Parts {
		for _, side := range split.Sides {
			a, b := other.Stacks[side], part.Stacks[side]
			if b.FirstPort > 0 && a.FirstPort <= b.LastPort && b.FirstPort <= a.LastPort {
				r.Wrong(n, fmt.Sprintf("the ports %d-%d of part %s overlap those of part %s", b.FirstPort, b.LastPort,
					part.Name, other.Name),
					"give each part a range of its own")
				return
			}
		}
	}
}

// portsEnough looks whether both sides find room in the ranges of ports that they share on this
// machine, beside each other and beside the fronts.
func (r *reader) portsEnough(p *plan.Plan) {
	for _, part := range p.Parts {
		blue, green := part.Stacks[split.Blue], part.Stacks[split.Green]
		for _, side := range split.Sides {
			s := part.Stacks[side]
			here := s.Kind() == plan.Processes || s.Kind() == plan.Containers && s.Network == "host"
			at := r.portsAt[[2]int{s.FirstPort, s.LastPort}]
			if !here || at == nil {
				continue
			}
			for _, f := range p.Fronts() {
				host, port, err := net.SplitHostPort(f.Listen)
				if n, bad := strconv.Atoi(port); err == nil && bad == nil && s.FirstPort <= n && n <= s.LastPort &&
					(host == "" || host == "0.0.0.0" || host == "127.0.0.1" || host == "localhost") {
					r.Wrong(at, fmt.Sprintf("the front listens at port %d, which is among the ports of part %s", n,
						part.Name), "give instances a range without it")
				}
			}
			room, need := s.Room(), blue.Most()+green.Most()
			if p.Route.Controls() && part.Name == p.Main().Name { // as many as the new side has
				need += max(blue.Planned(), green.Planned())
			}
			if blue.FirstPort == green.FirstPort && blue.LastPort == green.LastPort && room < need && room >= s.Most() {
				if len(s.Addresses) > 0 {
					r.Wrong(at, fmt.Sprintf("%d addresses with their ports are too few for both sides of part %s: "+
						"they have %d instances together while both stand", room, part.Name, need),
						"give them more addresses")
					break
				}
				r.Wrong(at, fmt.Sprintf("%d ports are too few for both sides of part %s: they have %d instances "+
					"together while both stand", room, part.Name, need),
					fmt.Sprintf("widen the range, to %d-%d at least", s.FirstPort, s.FirstPort+need-1))
			}
			if blue.FirstPort == green.FirstPort {
				break // the same range: said once
			}
		}
	}
}

// stacks reads the keys that both sides share, then what each side has of its
// own.
func (r *reader) stacks(n ast.Node, p *plan.Part) {
	var own [2]ast.Node
	both := p.Stacks[0]
	keep := func(side split.Side) func(ast.Node) {
		return func(n ast.Node) {
			if own[side] = n; r.Discovering() {
				s := clone(both)
				r.Mapping(n, side.String(), r.stackKeys(&s)...)
			}
		}
	}
	keys := append(r.stackKeys(&both),
		section.May("blue", keep(split.Blue)),
		section.May("green", keep(split.Green)))
	if r.Mapping(n, "stack", keys...); r.Discovering() {
		return
	}
	for _, side := range split.Sides {
		s := clone(both)
		at := n
		if own[side] != nil {
			at = own[side]
			r.Mapping(at, side.String(), r.stackKeys(&s)...)
		}
		if s.Kind() == plan.Standing {
			s.Instances = counted(s)
		}
		r.stackWhole(at, side, s)
		p.Stacks[side] = s
		if own[split.Blue] == nil && own[split.Green] == nil {
			p.Stacks[split.Green] = clone(s)
			return // both are the same: say what is wrong once
		}
	}
}

// counted is how many instances of a standing stack there are to be: those that are named one by
// one, and as many as are said where a label or a command finds them.
func counted(s plan.Stack) int {
	if slices.ContainsFunc(s.Stands, func(t plan.Stand) bool { return !t.Counted() }) {
		return max(s.Instances, len(s.Stands))
	}
	return len(s.Stands)
}

// clone is a stack that shares nothing with the first.
func clone(s plan.Stack) plan.Stack {
	s.Environment = maps.Clone(s.Environment)
	s.Command = slices.Clone(s.Command)
	s.Hosts = slices.Clone(s.Hosts)
	s.Tool = slices.Clone(s.Tool)
	s.Stands = slices.Clone(s.Stands)
	s.Renew = slices.Clone(s.Renew)
	return s
}

// stackWhole looks whether a stack has what its kind needs.
func (r *reader) stackWhole(at ast.Node, side split.Side, s plan.Stack) {
	kind := s.Kind()
	if kind == plan.Standing && (s.Until > 0 || s.AsLive()) {
		r.Wrong(at, fmt.Sprintf("%v stands, so there are as many as there are", side),
			"leave instances out, or say how many there are to be at least")
	}
	if (kind == plan.Processes || kind == plan.Hosts) && len(s.Command) == 0 {
		r.Wrong(at, fmt.Sprintf("%v has no command to start an instance", side),
			`add a line such as "command: ./builds/{version}/server --listen {address}"`)
		return
	}
	own := kind == plan.Containers && s.Network != "host"
	switch {
	case kind == plan.Standing:
		if n := slices.IndexFunc(s.Stands, func(t plan.Stand) bool {
			return (t.Kind == plan.StandContainer || t.Kind == plan.StandContainers) && s.Port == 0
		}); n >= 0 {
			r.Wrong(at, fmt.Sprintf("%v has containers, and no port that they listen on", side),
				`add a line such as "port: 8080"`)
		}
		return
	case len(s.Renew) > 0:
		r.Wrong(at, fmt.Sprintf("%v has a command to renew what stands, and nothing stands", side),
			`say where instances stand: "stands: [10.1.0.5:8080]", or leave renew out`)
	case kind == plan.Tool:
	case kind == plan.Clustered && s.Port == 0:
		r.Wrong(at, fmt.Sprintf("%v runs in a cluster, and it is not said at which port its pods listen", side),
			`add a line such as "port: 8080"`)
	case kind == plan.Clustered && s.Image == "" && s.Cluster.Template == "":
		r.Wrong(at, fmt.Sprintf("%v runs in a cluster, and it is not said what", side),
			`add "image: REGISTRY/NAME:{version}", or "template: FILE" with a Deployment`)
	case kind == plan.Clustered && (s.Until > 0 || s.AsLive()):
		r.Wrong(at, "in a cluster a side has a number of pods that does not change by itself",
			`write a number: "instances: 3"`)
	case kind == plan.Clustered:
	case own && s.Port == 0:
		r.Wrong(at, fmt.Sprintf("%v has containers in a network of their own, and no port that they listen on", side),
			`add a line such as "port: 8080"`)
	case own:
	case s.FirstPort == 0: // which is right for some; see doorless
		r.portless = append(r.portless, portless{at, r.part, side})
	case s.Room() < s.Most():
		r.Wrong(at, fmt.Sprintf("the range of ports has room for %d, and there are to be %d instances", s.Room(),
			s.Most()),
			"widen the range, and leave room for instances that are being replaced")
	}
}

// The ports of workers that listen nowhere, beyond those that systems give away: parts of what they are called.
const (
	doorlessFirst = 64000
	doorlessLast  = 64999
)

// doorless gives names to the workers of a queue that listen nowhere. Whoever else has no ports lacks them.
func (r *reader) doorless(p *plan.Plan) {
	_, queued := p.Front.Settings.(plan.Queued)
	for _, of := range r.portless {
		if of.part >= len(p.Parts) {
			continue
		}
		part := &p.Parts[of.part]
		s := &part.Stacks[of.side]
		_, runs := part.Health.What.(plan.Runs)
		told := strings.Join(slices.Concat(s.Command, slices.Collect(maps.Values(s.Environment))), " ")
		if !queued || !runs || strings.Contains(told, "{address}") ||
			strings.Contains(told, "{port}") {
			r.Wrong(of.at, fmt.Sprintf("%v has no ports for its instances", of.side),
				`add a range such as "ports: 18100-18199"`)
			continue
		}
		for _, side := range split.Sides {
			if s := &part.Stacks[side]; s.FirstPort == 0 {
				s.FirstPort, s.LastPort = doorlessFirst, doorlessLast
			}
		}
	}
}

func (r *reader) stackKeys(s *plan.Stack) []section.Key {
	return []section.Key{
		section.May("instances", func(n ast.Node) {
			var c count
			if section.Parsed(r.Reader, "instances", &c, instances)(n); c.first != 0 {
				s.Instances, s.Until, s.Then = c.first, c.until, c.then
			}
		}),
		section.May("command", func(n ast.Node) {
			if r.command(n, &s.Command); len(s.Command) > 0 {
				r.commandAt[s.Command[0]] = n
			}
		}),
		section.May("build", r.open("build", &s.Build)),
		section.May("folder", r.open("folder", &s.Folder)),
		section.May("environment", func(n ast.Node) { r.environment(n, &s.Environment) }),
		section.May("ports", func(n ast.Node) {
			var p [2]int
			section.Parsed(r.Reader, "ports", &p, section.Ports)(n)
			s.FirstPort, s.LastPort = p[0], p[1]
			r.portsAt[p] = n
		}),
		section.May("addresses", section.Parsed(r.Reader, "addresses", &s.Addresses, addresses)),
		section.May("raise", section.Parsed(r.Reader, "raise", &s.Raise, section.Duration)),
		section.May("grace", section.Parsed(r.Reader, "grace", &s.Grace, section.Duration)),
		section.May("capacity", section.Parsed(r.Reader, "capacity", &s.Capacity.Each, section.PerSecond)),
		section.May("capacities", func(n ast.Node) { r.capacities(n, &s.Capacity) }),
		section.May("price", section.Parsed(r.Reader, "price", &s.Price, price)),
		section.May("restart", func(n ast.Node) {
			word := "always"
			section.Parsed(r.Reader, "restart", &word,
				func(text string) (string, error) { return section.OneOf(text, "always", "never") })(n)
			s.Restart = word == "always"
		}),
		section.May("output", func(n ast.Node) {
			r.Mapping(n, "output",
				section.May("size", section.Parsed(r.Reader, "size", &s.Output.Size, section.Size)),
				section.May("keep", section.Parsed(r.Reader, "keep", &s.Output.Keep, section.Between(0, 100))))
		}),
		section.May("hosts", func(n ast.Node) {
			s.Hosts = nil
			r.List(n, "hosts", func(n ast.Node) {
				var h plan.Host
				section.Parsed(r.Reader, "a host", &h, host)(n)
				s.Hosts = append(s.Hosts, h)
			})
		}),
		section.May("identity", func(n ast.Node) { r.Text(n, "identity", &s.Identity) }),
		section.May("known-hosts", func(n ast.Node) { r.Text(n, "known-hosts", &s.KnownHosts) }),
		section.May("image", r.open("image", &s.Image)),
		section.May("engine", func(n ast.Node) { r.Text(n, "engine", &s.Engine) }),
		section.May("network", func(n ast.Node) { r.Text(n, "network", &s.Network) }),
		section.May("port", section.Parsed(r.Reader, "port", &s.Port, section.Between(1, 65535))),
		section.May("memory", section.Parsed(r.Reader, "memory", &s.Memory, section.Size)),
		section.May("cpus", section.Parsed(r.Reader, "cpus", &s.CPUs, section.Positive)),
		section.May("cluster", func(n ast.Node) { r.cluster(n, &s.Cluster) }),
		section.May("tool", func(n ast.Node) { r.command(n, &s.Tool) }),
		section.May("stands", func(n ast.Node) { r.standing(n, &s.Stands) }),
		section.May("renew", func(n ast.Node) { r.command(n, &s.Renew) }),
	}
}

// cluster reads where in an orchestrator a part runs.
func (r *reader) cluster(n ast.Node, c *plan.Cluster) {
	*c = plan.Cluster{On: true}
	r.Mapping(n, "cluster", cluster.Keys(r.Reader, &c.API,
		section.May("deployment", r.open("deployment", &c.Name)),
		section.May("template", func(n ast.Node) {
			if r.Text(n, "template", &c.Template) {
				r.Files = append(r.Files, section.File{At: n, What: "template", Name: c.Template})
			}
		}),
		section.May("stop", func(n ast.Node) {
			word := "delete"
			section.Parsed(r.Reader, "stop", &word,
				func(text string) (string, error) { return section.OneOf(text, "delete", "scale down") })(n)
			c.Scales = word == "scale down"
		}))...)
}

// standing reads where instances stand that somebody else started.
func (r *reader) standing(n ast.Node, to *[]plan.Stand) {
	*to = nil
	one := func(n ast.Node) {
		var s plan.Stand
		section.Parsed(r.Reader, "where an instance stands", &s, stand)(n)
		*to = append(*to, s)
	}
	if _, list := n.(*ast.SequenceNode); !list {
		one(n)
		return
	}
	r.List(n, "stands", one)
	if len(*to) == 0 && !r.Discovering() {
		r.Wrong(n, "it is not said where instances stand",
			`name them: "- 10.1.0.5:8080", "- unit sailings.service at 127.0.0.1:8080", "- container sailings-1", "- front"`)
	}
}

// command reads words on one line, or a list where words hold spaces.
func (r *reader) command(n ast.Node, to *[]string) {
	*to = nil
	if _, list := n.(*ast.SequenceNode); !list {
		var line string
		r.open("command", &line)(n)
		*to = fields(line)
		return
	}
	r.List(n, "command", func(n ast.Node) {
		var word string
		r.open("a word of the command", &word)(n)
		*to = append(*to, word)
	})
}

// fields are the words of a line. A placeholder for a secret holds a space and is
// one word.
func fields(line string) []string {
	const joint = "\x00"
	line = strings.ReplaceAll(line, "{secret ", "{secret"+joint)
	words := strings.Fields(line)
	for i := range words {
		words[i] = strings.ReplaceAll(words[i], joint, " ")
	}
	return words
}

func (r *reader) says(n ast.Node, s *plan.Says) {
	r.Mapping(n, "says",
		section.Need("path", section.Parsed(r.Reader, "path", &s.Path, pathOf)),
		section.May("build", section.Parsed(r.Reader, "build", &s.Build, field)),
		section.May("version", section.Parsed(r.Reader, "version", &s.Version, field)),
		section.May("runtime", section.Parsed(r.Reader, "runtime", &s.Runtime, field)),
	)
}

// capacities reads what single instances carry.
func (r *reader) capacities(n ast.Node, c *plan.Capacity) {
	c.Of = map[string]float64{}
	one := func(name string, n ast.Node) {
		var of float64
		section.Parsed(r.Reader, "the capacity of "+name, &of, section.PerSecond)(n)
		c.Of[name] = of
	}
	if r.Discovering() {
		r.Names(n, func(n ast.Node) { one("an instance", n) })
		return
	}
	entries, _ := r.Entries(n, "capacities")
	for _, e := range entries {
		one(section.Scalar(e.Key), e.Value)
	}
	if c.Each == 0 {
		r.Wrong(n, "it is not said what the other instances carry", `put "capacity: 120 /s" before it`)
	}
}

func (r *reader) differences(n ast.Node, d *plan.Differences) {
	r.Mapping(n, "differences",
		section.May("planned", func(n ast.Node) {
			r.List(n, "planned", func(n ast.Node) {
				var m plan.Meant
				section.Parsed(r.Reader, "a meant difference", &m, meant)(n)
				d.Meant = append(d.Meant, m)
			})
		}),
		section.May("secret", func(n ast.Node) { r.names(n, "secret", &d.Secret) }),
		section.May("shown", func(n ast.Node) { r.names(n, "shown", &d.Shown) }),
		section.May("then", section.Parsed(r.Reader, "then", &d.Then, judgement)),
	)
}

// names reads a list of patterns of names.
func (r *reader) names(n ast.Node, what string, to *[]string) {
	r.List(n, what, func(n ast.Node) {
		var name string
		if r.Text(n, "a name", &name) {
			*to = append(*to, name)
		}
	})
}

func (r *reader) pairs(n ast.Node, p *plan.Pairs) {
	r.Mapping(n, "same-request",
		section.May("requests", func(n ast.Node) {
			r.List(n, "requests", func(n ast.Node) {
				var req [2]string
				section.Parsed(r.Reader, "a request", &req, request)(n)
				p.Requests = append(p.Requests, plan.Request{Method: req[0], Path: req[1]})
			})
		}),
		section.May("log", func(n ast.Node) { r.Text(n, "log", &p.Log) }),
		section.May("har", func(n ast.Node) { r.Text(n, "har", &p.HAR) }),
		section.May("hosts", func(n ast.Node) { r.names(n, "hosts", &p.Hosts) }),
		section.May("headers", func(n ast.Node) { r.templates(n, "headers", &p.Headers) }),
		section.May("rate", section.Parsed(r.Reader, "rate", &p.Rate, section.PerSecond)),
		section.May("repeat", section.Parsed(r.Reader, "repeat", &p.Repeat, section.Between(1, 100_000))),
		section.May("ignore", func(n ast.Node) {
			r.List(n, "ignore", func(n ast.Node) {
				var f plan.Field
				section.Parsed(r.Reader, "what to ignore", &f, field)(n)
				switch {
				case f.Header != "":
					p.Ignore = append(p.Ignore, "header "+f.Header)
				case f.JSON != "":
					p.Ignore = append(p.Ignore, "json "+f.JSON)
				}
			})
		}),
		section.May("writes", section.Parsed(r.Reader, "writes", &p.Writes, section.YesNo)),
		section.May("within", section.Parsed(r.Reader, "within", &p.Within, section.Duration)),
		section.May("then", section.Parsed(r.Reader, "then", &p.Then, judgement)),
	)
	if !p.Writes {
		for _, q := range p.Requests {
			if q.Method != "GET" && q.Method != "HEAD" {
				r.Wrong(n, fmt.Sprintf("%v is not a read, and both sides would get it", q),
					`say "writes: yes" if that does no harm`)
			}
		}
	}
}

func (r *reader) secrets(n ast.Node, to map[string]plan.Secret) {
	for name, e := range r.Named(n, "secrets") {
		var s plan.Secret
		before := len(r.Problems.List)
		section.Parsed(r.Reader, "a secret", &s, secret)(e.Value)
		for i := before; i < len(r.Problems.List); i++ {
			r.Problems.List[i].Source = "  " + name + ": (not shown)" // somebody may have put the secret itself there
		}
		r.secretAt[name] = e.Value
		line, _ := r.Place(e.Value)
		s.At = fmt.Sprintf("%s:%d", r.Problems.File, line)
		to[name] = s
	}
}

// commandsThere looks whether the programs that are started on this machine are there; those
// whose name depends on the version are found out when one is raised.
func (r *reader) commandsThere(dir string, p *plan.Plan) {
	said := map[string]bool{}
	there := func(dir, word string) {
		name := program(dir, word)
		if _, err := exec.LookPath(name); err == nil || said[word] {
			return
		}
		said[word] = true
		what := fmt.Sprintf("there is no program %q that can be run", name)
		if !strings.Contains(name, "/") {
			what = fmt.Sprintf("no program %q is found on PATH", name)
		}
		r.Wrong(r.commandAt[word], what, "install it, or correct the path: it is relative to the plan's folder, or to "+
			"\"folder\"")
	}
	for _, part := range p.Parts {
		for _, s := range part.Stacks {
			if s.Kind() == plan.Processes && len(s.Command) > 0 && !strings.Contains(s.Command[0], "{") {
				there(within(dir, s.Folder), s.Command[0])
			}
		}
	}
	for _, rule := range p.Notices.Rules {
		for _, to := range rule.To {
			if len(to.Words) > 0 {
				there(dir, to.Words[0])
			}
		}
	}
	for _, g := range p.Guards {
		if words := g.Figure.Query.Words; len(words) > 0 {
			there(dir, words[0])
		}
	}
}

// mostVersions is how many versions of a folder are looked at for what a command names.
const mostVersions = 50

// buildsThere looks whether the files that commands name of a version are there, of any version of a folder: what no
// version has is a mistake that else only starting one would find.
func (r *reader) buildsThere(dir string, p *plan.Plan) {
	for _, part := range p.Parts {
		if part.Versions.Kind != plan.VersionFolder {
			continue
		}
		var versions []string
		entries, err := os.ReadDir(within(dir, part.Versions.Where))
		for _, e := range entries {
			if !strings.HasPrefix(e.Name(), ".") && len(versions) < mostVersions {
				versions = append(versions, e.Name())
			}
		}
		if err != nil || len(versions) == 0 {
			continue // there are none yet
		}
		said := map[string]bool{}
		for _, s := range part.Stacks {
			if s.Kind() != plan.Processes || strings.Contains(s.Folder, "{") {
				continue
			}
			for _, word := range s.Command {
				_, value, option := strings.Cut(word, "=")
				if !option {
					value = word
				}
				rest, names := strings.ReplaceAll(value, "{version}", ""), strings.Contains(value, "{version}")
				if !names || said[value] || !strings.Contains(value, "/") || strings.Contains(value, "://") ||
					strings.Contains(rest, "{") {
					continue
				}
				said[value] = true
				if !slices.ContainsFunc(versions, func(v string) bool {
					_, err := os.Stat(within(within(dir, s.Folder), strings.ReplaceAll(value, "{version}", v)))
					return err == nil
				}) {
					r.Wrong(r.commandAt[s.Command[0]], fmt.Sprintf("no version has %s: there are %s in %s", value,
						strings.Join(versions[:min(3, len(versions))], ", "), part.Versions.Where),
						"correct the path: it is relative to the plan's folder, or to \"folder\"")
				}
			}
		}
	}
}

// shells are programs that only start others: none is what a version is built as.
var shells = []string{"sh", "bash", "dash", "zsh", "ksh", "env", "exec", "nohup", "setsid", "timeout"}

// commandsSay looks whether commands say which files a version is, and where an instance listens.
func (r *reader) commandsSay(p *plan.Plan) {
	said := map[string]bool{}
	for _, part := range p.Parts {
		for _, s := range part.Stacks {
			if s.Kind() != plan.Processes && s.Kind() != plan.Hosts || len(s.Command) == 0 || said[s.Command[0]] {
				continue
			}
			said[s.Command[0]] = true
			at := r.commandAt[s.Command[0]]
			if first := path.Base(s.Command[0]); s.Build == "" && slices.Contains(shells, first) &&
				buildOf(s.Command) == s.Command[0] {
				r.Wrong(at, fmt.Sprintf("%s is the first word, and is no build of this service", first),
					`name the file or folder that a version is in, such as "build: ./builds/{version}", or begin with the `+
						"program itself")
			}
			texts := append(slices.Collect(maps.Values(s.Environment)), s.Command...)
			names := func(text string) bool {
				return strings.Contains(text, "{version}") || strings.Contains(text, "{build}")
			}
			if s.Build == "" && s.Kind() == plan.Processes && part.Versions.Kind == plan.VersionFolder &&
				!names(s.Folder) && !slices.ContainsFunc(texts, names) {
				r.Wrong(at, "nothing says which version is started: every one would be the same program",
					"write {version} where the command or the environment names it, such as ./builds/{version}/run, or say "+
						"\"build: builds/{version}\"")
			}
			listens := func(text string) bool {
				return strings.Contains(text, "{address}") || strings.Contains(text, "{port}")
			}
			if s.FirstPort != doorlessFirst && !slices.ContainsFunc(texts, listens) {
				r.Wrong(at, "an instance is not told where to listen",
					"write {address} (host:port) or {port} into the command or the environment, such as --listen {address}")
			}
		}
	}
}

// filesThere looks whether the files that the plan names are there.
func (r *reader) filesThere(dir string) {
	for _, f := range r.Files {
		if _, err := os.Stat(within(dir, f.Name)); err != nil {
			r.Wrong(f.At, fmt.Sprintf("the %s cannot be read: %v", f.What, err),
				"correct the path: it is relative to the plan's folder; or put the file there")
		}
	}
}

// secretsSet looks whether the plan's secrets can be read here, now.
func (r *reader) secretsSet(dir string, p *plan.Plan) {
	for name, s := range p.Secrets {
		at := r.secretAt[name]
		switch {
		case s.Env != "":
			if value, ok := os.LookupEnv(s.Env); !ok || value == "" {
				r.Wrong(at, fmt.Sprintf("the environment variable %s of secret %q is not set here", s.Env, name),
					"export it where vaiven runs (of a keeper, in its unit's EnvironmentFile)")
			}
		case s.File != "":
			if _, err := os.Stat(within(dir, s.File)); err != nil {
				r.Wrong(at, fmt.Sprintf("the file of secret %q cannot be read: %v", name, err),
					"put the secret into it, readable to who runs vaiven")
			}
		}
	}
}

// secretsKnown looks whether every secret that is used is declared.
func (r *reader) secretsKnown(known map[string]plan.Secret) {
	names := slices.Sorted(maps.Keys(known))
	for _, u := range r.secretUses {
		if _, ok := known[u.name]; ok {
			continue
		}
		try := fmt.Sprintf(`declare it: "secrets: {%s: env NAME}", or "file PATH"`, u.name)
		if near := section.Nearest(u.name, names); near != "" {
			try = fmt.Sprintf("did you mean {secret %s}?", near)
		}
		r.Wrong(u.at, fmt.Sprintf("no secret is called %q", u.name), try)
	}
}

// versionsWhole gives a part without a source of versions the folder that its
// builds are in.
func (r *reader) versionsWhole(at ast.Node, p *plan.Plan) {
	part := p.Main() // the others take its versions, unless they have their own
	if part.Versions.Kind != "" {
		return
	}
	s := part.Stacks[split.Blue]
	if s.Kind() == plan.Standing {
		s = part.Stacks[split.Green]
	}
	if s.Kind() == plan.Standing {
		return // what stands there is what there is
	}
	build := s.Build
	if build == "" && len(s.Command) > 0 {
		build = buildOf(s.Command)
	}
	if !path.IsAbs(build) {
		build = path.Join(s.Folder, build)
	}
	if folder, ok := versionFolder(build); ok && s.Kind() == plan.Processes {
		part.Versions = plan.Versions{Kind: plan.VersionFolder, Where: folder}
		return
	}
	if len(r.Problems.List) == 0 {
		r.Wrong(at, "it is not said which versions there are",
			`add a line such as "versions: folder builds", "versions: registry registry.internal/sailings" or "versions: git ../sailings tags"`)
	}
}

// versionFolder is the folder whose entries are the versions, if a path names one
// of them: what stands before the element {version}.
func versionFolder(build string) (string, bool) {
	elements := strings.Split(build, "/")
	at := slices.Index(elements, "{version}")
	if at < 0 {
		return "", false
	}
	folder := path.Clean(strings.Join(elements[:at], "/"))
	if strings.HasPrefix(build, "/") && at == 1 {
		folder = "/"
	}
	return folder, !strings.Contains(folder, "{")
}

// areas are the names of the areas in which sides can differ.
func areas() []string {
	names := make([]string, len(difference.Areas))
	for i, a := range difference.Areas {
		names[i] = string(a)
	}
	return names
}

// count is a number of instances, and another from a part of the traffic on.
type count struct {
	first, then int
	until       split.Share
}

// instances parses "4", "as live", "2 until 25 %, then 8" and "2 until 25 %, then as live".
func instances(text string) (count, error) {
	var c count
	first, rest, grows := strings.Cut(text, " until ")
	until, then, ok := strings.Cut(rest, ", then ")
	var err error
	if c.first, err = number(first); err != nil || !grows {
		return c, err
	}
	if !ok {
		return count{}, fmt.Errorf("%q does not say how many there are then: want such as \"2 until 25 %%, then 8\"",
			text)
	}
	if c.until, err = split.ParseShare(strings.TrimSpace(until)); err != nil {
		return count{}, err
	}
	if c.then, err = number(then); err != nil {
		return count{}, err
	}
	switch {
	case c.until == 0 || c.until == split.Whole:
		return count{}, fmt.Errorf("%v is no share that a leg comes after: want one between 0 and 100 %%", c.until)
	case c.first == plan.AsLive || c.then != plan.AsLive && c.then < c.first:
		return count{}, fmt.Errorf("%q takes instances away from a side that gets more requests: want more of them "+
			"then", text)
	}
	return c, nil
}

func number(text string) (int, error) {
	if text = strings.TrimSpace(text); text == "as live" {
		return plan.AsLive, nil
	}
	n, err := section.Between(1, 1000)(text)
	if err != nil {
		const some = `([0-9]+|as live)`
		err = section.Form(fmt.Errorf("%q is not a number of instances: want one from 1 to 1000, \"as live\", or such as "+
			"\"2 until 25 %%, then as live\"", text), some+`( until `+section.ShareForm+`, then `+some+`)?`)
	}
	return n, err
}
