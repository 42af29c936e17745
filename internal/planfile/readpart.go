package planfile

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/difference"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
)

// newPart is a part with every key left out.
func newPart(name string) plan.Part {
	stack := plan.Stack{
		Instances: 1, Folder: ".", Raise: 30 * time.Second, Grace: 10 * time.Second,
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
func (r *reader) partKeys(p *plan.Part) []key {
	return []key{
		{"versions", false, parsed(r, "versions", &p.Versions, versions)},
		{"stack", true, func(n ast.Node) { r.stacks(n, p) }},
		{"health", false, func(n ast.Node) { r.health(n, &p.Health) }},
		{"settle", false, parsed(r, "settle", &p.Settle, timeOrNone)},
		{"smoke", true, func(n ast.Node) {
			if p.Smoke = r.checks(n, "smoke", smokeCheck); len(p.Smoke) == 0 {
				r.wrong(n, "there is no smoke check", "a side is proven by checks: add at least one")
			}
		}},
		{"needs", false, func(n ast.Node) { p.Needs = r.checks(n, "needs", needCheck) }},
		{"says", false, func(n ast.Node) { r.says(n, &p.Says) }},
		{"configuration", false, func(n ast.Node) {
			r.list(n, "configuration", func(n ast.Node) {
				var file string
				r.template("a file of the configuration", &file)(n)
				p.Configuration = append(p.Configuration, file)
			})
		}},
	}
}

// parts reads the parts behind the one that the front knows.
func (r *reader) parts(n ast.Node, p *plan.Plan) {
	for name, e := range r.named(n, "parts") {
		if slices.ContainsFunc(p.Parts, func(q plan.Part) bool { return q.Name == name }) {
			r.wrong(e.Key, fmt.Sprintf("a part is called %q already", name), "give each part a name of its own; that of the front's part stands in \"part\"")
			continue
		}
		part := newPart(name)
		r.mapping(e.Value, "part "+name, r.partKeys(&part)...)
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
				r.wrong(n, fmt.Sprintf("the ports %d-%d of part %s overlap those of part %s", b.FirstPort, b.LastPort, part.Name, other.Name),
					"give each part a range of its own")
				return
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
		return func(n ast.Node) { own[side] = n }
	}
	keys := append(r.stackKeys(&both),
		key{"blue", false, keep(split.Blue)},
		key{"green", false, keep(split.Green)})
	r.mapping(n, "stack", keys...)
	for _, side := range split.Sides {
		s := clone(both)
		at := n
		if own[side] != nil {
			at = own[side]
			r.mapping(at, side.String(), r.stackKeys(&s)...)
		}
		r.stackWhole(at, side, s)
		p.Stacks[side] = s
		if own[split.Blue] == nil && own[split.Green] == nil {
			p.Stacks[split.Green] = clone(s)
			return // both are the same: say what is wrong once
		}
	}
}

// clone is a stack that shares nothing with the first.
func clone(s plan.Stack) plan.Stack {
	s.Environment = maps.Clone(s.Environment)
	s.Command = slices.Clone(s.Command)
	s.Hosts = slices.Clone(s.Hosts)
	s.Tool = slices.Clone(s.Tool)
	return s
}

// stackWhole looks whether a stack has what its kind needs.
func (r *reader) stackWhole(at ast.Node, side split.Side, s plan.Stack) {
	kind := s.Kind()
	if (kind == plan.Processes || kind == plan.Hosts) && len(s.Command) == 0 {
		r.wrong(at, fmt.Sprintf("%v has no command to start an instance", side), `add a line such as "command: ./builds/{version}/server --listen {address}"`)
		return
	}
	own := kind == plan.Containers && s.Network != "host"
	switch {
	case kind == plan.Tool:
	case own && s.Port == 0:
		r.wrong(at, fmt.Sprintf("%v has containers in a network of their own, and no port that they listen on", side), `add a line such as "port: 8080"`)
	case own:
	case s.FirstPort == 0:
		r.wrong(at, fmt.Sprintf("%v has no ports for its instances", side), `add a range such as "ports: 18100-18199"`)
	case s.LastPort-s.FirstPort+1 < s.Instances:
		r.wrong(at, fmt.Sprintf("the range of ports has room for %d, and there are to be %d instances", s.LastPort-s.FirstPort+1, s.Instances),
			"widen the range, and leave room for instances that are being replaced")
	}
}

func (r *reader) stackKeys(s *plan.Stack) []key {
	return []key{
		{"instances", false, parsed(r, "instances", &s.Instances, between(1, 1000))},
		{"command", false, func(n ast.Node) { r.command(n, &s.Command) }},
		{"build", false, r.template("build", &s.Build)},
		{"folder", false, r.template("folder", &s.Folder)},
		{"environment", false, func(n ast.Node) { r.templates(n, "environment", &s.Environment) }},
		{"ports", false, func(n ast.Node) {
			var p [2]int
			parsed(r, "ports", &p, ports)(n)
			s.FirstPort, s.LastPort = p[0], p[1]
		}},
		{"raise", false, parsed(r, "raise", &s.Raise, duration)},
		{"grace", false, parsed(r, "grace", &s.Grace, duration)},
		{"capacity", false, parsed(r, "capacity", &s.Capacity, perSecond)},
		{"price", false, parsed(r, "price", &s.Price, price)},
		{"hosts", false, func(n ast.Node) {
			s.Hosts = nil
			r.list(n, "hosts", func(n ast.Node) {
				var h plan.Host
				parsed(r, "a host", &h, host)(n)
				s.Hosts = append(s.Hosts, h)
			})
		}},
		{"identity", false, func(n ast.Node) { r.text(n, "identity", &s.Identity) }},
		{"known-hosts", false, func(n ast.Node) { r.text(n, "known-hosts", &s.KnownHosts) }},
		{"image", false, r.template("image", &s.Image)},
		{"engine", false, func(n ast.Node) { r.text(n, "engine", &s.Engine) }},
		{"network", false, func(n ast.Node) { r.text(n, "network", &s.Network) }},
		{"port", false, parsed(r, "port", &s.Port, between(1, 65535))},
		{"memory", false, parsed(r, "memory", &s.Memory, size)},
		{"cpus", false, parsed(r, "cpus", &s.CPUs, positive)},
		{"tool", false, func(n ast.Node) { r.command(n, &s.Tool) }},
	}
}

// command reads words on one line, or a list where words hold spaces.
func (r *reader) command(n ast.Node, to *[]string) {
	*to = nil
	if _, list := n.(*ast.SequenceNode); !list {
		var line string
		r.template("command", &line)(n)
		*to = fields(line)
		return
	}
	r.list(n, "command", func(n ast.Node) {
		var word string
		r.template("a word of the command", &word)(n)
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
	r.mapping(n, "says",
		key{"path", true, parsed(r, "path", &s.Path, pathOf)},
		key{"build", false, parsed(r, "build", &s.Build, field)},
		key{"version", false, parsed(r, "version", &s.Version, field)},
		key{"runtime", false, parsed(r, "runtime", &s.Runtime, field)},
	)
}

func (r *reader) differences(n ast.Node, d *plan.Differences) {
	r.mapping(n, "differences",
		key{"meant", false, func(n ast.Node) {
			r.list(n, "meant", func(n ast.Node) {
				var m plan.Meant
				parsed(r, "a meant difference", &m, meant)(n)
				d.Meant = append(d.Meant, m)
			})
		}},
		key{"then", false, parsed(r, "then", &d.Then, judgement)},
	)
}

func (r *reader) pairs(n ast.Node, p *plan.Pairs) {
	r.mapping(n, "same-request",
		key{"requests", false, func(n ast.Node) {
			r.list(n, "requests", func(n ast.Node) {
				var req [2]string
				parsed(r, "a request", &req, request)(n)
				p.Requests = append(p.Requests, plan.Request{Method: req[0], Path: req[1]})
			})
		}},
		key{"log", false, func(n ast.Node) { r.text(n, "log", &p.Log) }},
		key{"har", false, func(n ast.Node) { r.text(n, "har", &p.HAR) }},
		key{"rate", false, parsed(r, "rate", &p.Rate, perSecond)},
		key{"repeat", false, parsed(r, "repeat", &p.Repeat, between(1, 100_000))},
		key{"ignore", false, func(n ast.Node) {
			r.list(n, "ignore", func(n ast.Node) {
				var f plan.Field
				parsed(r, "what to ignore", &f, field)(n)
				switch {
				case f.Header != "":
					p.Ignore = append(p.Ignore, "header "+f.Header)
				case f.JSON != "":
					p.Ignore = append(p.Ignore, "json "+f.JSON)
				}
			})
		}},
		key{"writes", false, parsed(r, "writes", &p.Writes, yesNo)},
		key{"within", false, parsed(r, "within", &p.Within, duration)},
		key{"then", false, parsed(r, "then", &p.Then, judgement)},
	)
	if !p.Writes {
		for _, q := range p.Requests {
			if q.Method != "GET" && q.Method != "HEAD" {
				r.wrong(n, fmt.Sprintf("%v is not a read, and both sides would get it", q), `say "writes: yes" if that does no harm`)
			}
		}
	}
}

func (r *reader) secrets(n ast.Node, to map[string]plan.Secret) {
	for name, e := range r.named(n, "secrets") {
		var s plan.Secret
		before := len(r.problems.List)
		parsed(r, "a secret", &s, secret)(e.Value)
		for i := before; i < len(r.problems.List); i++ {
			r.problems.List[i].Source = "  " + name + ": (not shown)" // somebody may have put the secret itself there
		}
		to[name] = s
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
		if near := nearest(u.name, names); near != "" {
			try = fmt.Sprintf("did you mean {secret %s}?", near)
		}
		r.wrong(u.at, fmt.Sprintf("no secret is called %q", u.name), try)
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
	build := s.Build
	if build == "" && len(s.Command) > 0 {
		build = s.Command[0]
	}
	if !path.IsAbs(build) {
		build = path.Join(s.Folder, build)
	}
	if folder, ok := versionFolder(build); ok && s.Kind() == plan.Processes {
		part.Versions = plan.Versions{Kind: plan.VersionFolder, Where: folder}
		return
	}
	if len(r.problems.List) == 0 {
		r.wrong(at, "it is not said which versions there are", `add a line such as "versions: folder builds", "versions: registry registry.internal/sailings" or "versions: git ../sailings tags"`)
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
