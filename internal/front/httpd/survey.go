package httpd

import (
	"context"
	"fmt"
	"maps"
	"net"
	"net/http"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/include"
	"vaiven/internal/front/logged"
	"vaiven/internal/world/place"
)

var (
	surveyPass   = regexp.MustCompile(`(?i)^(?:ProxyPass(?:Match)?\s+.*?|RewriteRule\s+.*?)"?balancer://([^/"\s]+)`)
	surveyDirect = regexp.MustCompile(
		`(?i)^(ProxyPass\s+(?:"?/[^"\s]*"?\s+)?"?)http://([^/"\s]+)((?:/[^"\s]*)?"?)(.*)$`)
	surveyBack   = regexp.MustCompile(`(?i)^(ProxyPassReverse\s+(?:"?/[^"\s]*"?\s+)?"?)http://([^/"\s]+)(.*)$`)
	surveyMember = regexp.MustCompile(`(?i)^BalancerMember\s+"?https?://([^/"\s]+)/?"?(.*)$`)
	surveyListen = regexp.MustCompile(`(?i)^Listen\s+"?(\S+?)"?(?:\s|$)`)
	surveyName   = regexp.MustCompile(`(?i)^ServerName\s+"?(?:https?://)?([^":\s]+)`)
	surveySecure = regexp.MustCompile(`(?i)^SSLEngine\s+on\b`)
	surveyLog    = regexp.MustCompile(`(?i)^(?:CustomLog|TransferLog)\s+"?([^"|\s]+)"?`)
	surveyBlock  = regexp.MustCompile(`(?i)^<(VirtualHost|Proxy|Location|LocationMatch)\s+"?([^">]*?)"?\s*>`)
	surveyHandle = regexp.MustCompile(`(?i)^SetHandler\s+"?balancer-manager`)
	surveySticky = regexp.MustCompile(`(?i)\bstickysession=(\S+)`)
	surveyMethod = regexp.MustCompile(`(?i)\blbmethod=(\w+)`)
	surveyOff    = regexp.MustCompile(`(?i)status=\+?[A-Z]*[DSH]`)
	surveyOwn    = regexp.MustCompile(`(?i)(route|loadfactor|status)=\S+`)
)

// host is a virtual host, or what stands outside of all, as far as a survey goes by it.
type host struct {
	listen, name string
	secure       bool
	balancers    []string
	passes       []string // where a line leads to a balancer, in words
	logs         []string // lines
	persists     bool     // it keeps over a reload what the manager was told
	file         string
	begin        int // behind its first line; 0 outside of all
}

// memberAt is the line of a balancer's member, from its first byte to behind its end.
type memberAt struct {
	text     string
	from, to int
}

// group is a balancer of a configuration.
type group struct {
	front.Surveyed
	file       string
	from       int // where its block begins
	indent     string
	members    []memberAt
	parameters string
	sticky     string // the name of its sessions
	direct     bool   // it is an address that requests are passed to, and no balancer yet
	edits      []rewritten
}

// rewritten is a line of a file that is to name a balancer in the place of an address, with a %s for the balancer's
// name.
type rewritten struct {
	file     string
	from, to int
	text     string
}

// surveyed is a configuration that is being read.
type surveyed struct {
	server         *server
	texts          map[string]string
	groups         []*group
	hosts          []*host
	outside        host
	manager, where string // the balancer manager's path, and where its host listens
	of             front.Target
}

// survey reads an httpd by the URL of its balancer manager, or by its configuration.
func survey(ctx context.Context, on place.Machine, of front.Target) ([]front.Surveyed, error) {
	target := of.Name
	if strings.HasPrefix(target, "http://") || strings.HasPrefix(target, "https://") {
		return surveyManager(ctx, on, target)
	}
	data, err := on.ReadFile(ctx, target)
	if err != nil {
		return nil, err
	}
	if !regexp.MustCompile(`(?mi)^\s*(ServerRoot|<VirtualHost|Listen|Include(Optional)?|LoadModule)\s`).Match(data) {
		return nil, front.ErrNotOurs
	}
	s := surveyed{server: &server{on: on, config: include.Settings{Config: target, Program: []string{"apachectl"}}},
		texts: map[string]string{}, of: of}
	files, _, err := s.server.Files(ctx)
	if err != nil {
		return nil, fmt.Errorf("httpd does not take its configuration: %w", err)
	}
	for _, file := range files {
		if _, twice := s.texts[file]; twice {
			continue
		}
		data, err := on.ReadFile(ctx, file)
		if err != nil {
			return nil, err
		}
		s.texts[file] = string(data)
		s.read(file)
	}
	s.hosts = append(s.hosts, &s.outside)
	var all []front.Surveyed
	for _, g := range s.groups {
		if s.describe(g); g.Listen != "" && len(g.Servers) > 0 {
			all = append(all, g.Surveyed)
		}
	}
	return all, nil
}

// read reads one file.
func (s *surveyed) read(file string) {
	var of *group
	at, location, pos, outer := &s.outside, "", 0, 0
	for whole := range strings.Lines(s.texts[file]) {
		from := pos
		pos += len(whole)
		line := strings.TrimSpace(whole)
		if m := surveyBlock.FindStringSubmatch(line); m != nil {
			switch strings.ToLower(m[1]) {
			case "virtualhost":
				at = &host{listen: front.AtPort(strings.Fields(m[2] + " *")[0], "80"), file: file, begin: pos}
				s.hosts = append(s.hosts, at)
			case "proxy":
				if name, ok := strings.CutPrefix(m[2], "balancer://"); ok {
					of = s.group(strings.TrimSuffix(name, "/"), file, from, whole)
				}
			default:
				location, outer = m[2], from
			}
			continue
		}
		switch lower := strings.ToLower(line); {
		case lower == "</virtualhost>":
			at = &s.outside
		case lower == "</proxy>":
			of = nil
		case lower == "</location>", lower == "</locationmatch>":
			location = ""
		case surveyHandle.MatchString(line) && location != "":
			s.manager, s.where = location, at.listen
		}
		if m := surveyMember.FindStringSubmatch(line); m != nil && of != nil {
			s.member(of, m, memberAt{whole, from, pos})
		}
		if location == "" {
			outer = from
		}
		s.direct(at, file, whole, from, outer)
		if m := surveyPass.FindStringSubmatch(line); m != nil {
			at.balancers = append(at.balancers, m[1])
			at.passes = append(at.passes, front.Position(file, s.texts[file], from))
			if of := s.group(m[1], "", 0, ""); of != nil {
				of.keeps(line)
			}
		}
		if of != nil {
			of.keeps(line)
		}
		if m := surveyName.FindStringSubmatch(line); m != nil && at.name == "" && at != &s.outside {
			at.name = m[1]
		}
		at.persists = at.persists || persists.MatchString(line)
		if surveyLog.MatchString(line) {
			at.logs = append(at.logs, line)
		}
		at.secure = at.secure || at != &s.outside && surveySecure.MatchString(line)
		if m := surveyListen.FindStringSubmatch(line); m != nil && at == &s.outside && at.listen == "" {
			at.listen = front.AtPort(m[1], "80")
		}
	}
}

// direct takes in a line that passes requests to an address, or has its name replaced in answers. outer is where a
// block begins that the line is within, else the line.
func (s *surveyed) direct(at *host, file, whole string, from, outer int) {
	line := strings.TrimSpace(whole)
	indent := whole[:len(whole)-len(strings.TrimLeft(whole, " \t"))]
	to := from + len(whole)
	if m := surveyBack.FindStringSubmatch(line); m != nil {
		if g := s.group(m[2], "", 0, ""); g != nil && g.direct {
			g.edits = append(g.edits, rewritten{file, to, to, indent + m[1] + "balancer://%s" + m[3] + "\n"})
		}
		return
	}
	m := surveyDirect.FindStringSubmatch(line)
	if m == nil {
		return
	}
	g := s.group(m[2], file, outer, whole)
	if !g.direct {
		g.direct, g.parameters = true, strings.TrimSpace(m[4])
		if at.begin > 0 && at.file == file && outer != from {
			g.from = at.begin
		}
		g.Servers = []front.SurveyedServer{{Name: m[2], Address: front.WithPort(m[2]), In: true}}
	}
	at.balancers = append(at.balancers, g.Name)
	at.passes = append(at.passes, front.Position(file, s.texts[file], from))
	g.edits = append(g.edits, rewritten{file, from, to, indent + m[1] + "balancer://%s" + m[3] + "\n"})
}

// group is the balancer of a name, which a block begins if it has a file.
func (s *surveyed) group(name, file string, from int, line string) *group {
	n := slices.IndexFunc(s.groups, func(g *group) bool { return g.Name == name })
	switch {
	case n >= 0:
		return s.groups[n]
	case file == "":
		return nil
	}
	g := &group{Surveyed: front.Surveyed{Name: name}, file: file, from: from,
		indent: line[:len(line)-len(strings.TrimLeft(line, " \t"))]}
	s.groups = append(s.groups, g)
	return g
}

// member takes in a member's line.
func (s *surveyed) member(g *group, m []string, line memberAt) {
	v := front.SurveyedServer{Name: fmt.Sprintf("%s-%d", g.Name, len(g.Servers)+1), Address: front.WithPort(m[1]),
		In: !surveyOff.MatchString(m[2])}
	if route := regexp.MustCompile(`\broute=(\S+)`).FindStringSubmatch(m[2]); route != nil {
		v.Name = route[1]
	}
	if strings.Contains(m[2], "status=+H") {
		g.Notes = append(g.Notes, fmt.Sprintf("%s is a hot standby: it stays where it is, and gets requests when all others are "+
			"down", v.Address))
		return
	}
	g.Servers = append(g.Servers, v)
	g.members = append(g.members, line)
	rest := strings.Join(strings.Fields(surveyOwn.ReplaceAllString(m[2], "")), " ")
	if len(g.members) == 1 {
		g.parameters = rest
	} else if rest != g.parameters {
		g.Notes = append(g.Notes, fmt.Sprintf("%s has other parameters than the first member of %s: all get those of the first",
			v.Address, g.Name))
	}
}

// keeps takes in what a line says of a balancer's sessions, and of how it chooses.
func (g *group) keeps(line string) {
	if m := surveySticky.FindStringSubmatch(line); m != nil && g.sticky == "" {
		g.sticky = m[1]
	}
	if m := surveyMethod.FindStringSubmatch(line); m != nil && m[1] != "byrequests" {
		g.Notes = append(g.Notes, fmt.Sprintf("%s chooses %s: a side gets its share of that, and not of the requests", g.Name, m[1]))
	}
}

// describe says how users come to a balancer, and how it would be steered.
func (s *surveyed) describe(g *group) {
	var ways []string
	for _, h := range s.hosts {
		if !slices.Contains(h.balancers, g.Name) {
			continue
		}
		for n, name := range h.balancers {
			if name == g.Name {
				ways = append(ways, h.passes[n])
			}
		}
		if g.Listen == "" {
			g.Listen, g.Secure, g.Host = h.listen, h.secure, h.name
			for _, line := range append(slices.Clone(h.logs), s.outside.logs...) {
				if m := surveyLog.FindStringSubmatch(line); g.Log == "" && !strings.Contains(m[1], "${") {
					g.Log = m[1]
				}
			}
		}
	}
	if len(ways) > 1 {
		g.Notes = append(g.Notes, fmt.Sprintf("%d lines lead to %s, and a split is of all their requests: %s", len(ways), g.Name,
			strings.Join(ways, ", ")))
	}
	if g.Log != "" {
		g.Requests = logged.Lines(s.server.on, g.Log)
	}
	url := ""
	if s.manager != "" {
		if s.where == "" {
			s.where = g.Listen
		}
		url = "http://" + s.where + s.manager
	}
	describe(&g.Surveyed, s.server.config.Config, url, g.logFor("SERVICE"))
	wanted := g.sticky != "" || s.of.Sticky
	switch {
	case url != "":
		if wanted {
			g.Section = "  sticky: yes\n" + g.Section
		}
		if s.room(g) {
			g.Adopt = func(ctx context.Context, service string) front.Adoption {
				return s.adoptManaged(ctx, g, service)
			}
		}
	case wanted && g.sticky == "":
		g.Needs = []string{fmt.Sprintf("a balancer manager (docs/begin.md): a file that httpd loads anew with each change keeps "+
			"nobody on a member of %s", g.Name)}
	case g.sticky != "":
		g.Needs = []string{fmt.Sprintf("a balancer manager (docs/begin.md): %s keeps clients on a member by %s, and a file that httpd "+
			"loads anew with each change would lose that", g.Name, g.sticky)}
	default:
		if g.parameters != "" {
			g.Section += fmt.Sprintf("    parameters: %s\n", g.parameters)
		}
		if g.direct {
			g.Section = strings.Replace(g.Section, "balancer: "+g.Name, "balancer: SERVICE", 1)
		}
		if len(g.members) > 0 || g.direct {
			g.Adopt = func(ctx context.Context, service string) front.Adoption { return s.adopt(ctx, g, service) }
		}
	}
}

// logFor is the log that a service's requests are to be counted in, beside the one that they are written to now.
func (g *group) logFor(service string) string {
	dir := "/var/log/apache2"
	if filepath.IsAbs(g.Log) {
		dir = filepath.Dir(g.Log)
	}
	return filepath.Join(dir, service+".log")
}

// adopt makes the change that a balancer needs, and has httpd test it on a copy.
func (s *surveyed) adopt(ctx context.Context, g *group, service string) front.Adoption {
	edits := map[string][]front.Edit{}
	ours, log := filepath.Join(s.server.config.Config, "..", "vaiven", service+".conf"), g.logFor(service)
	edits[g.file] = []front.Edit{{From: g.from, To: g.from, Text: g.indent + "Include " + ours + "\n"}}
	balancer := g.Name
	if g.direct {
		balancer = service
	}
	for _, e := range g.edits {
		edits[e.file] = append(edits[e.file], front.Edit{From: e.from, To: e.to, Text: fmt.Sprintf(e.text, balancer)})
	}
	for _, m := range g.members {
		edits[g.file] = append(edits[g.file], front.Edit{From: m.from, To: m.to})
	}
	for _, h := range s.hosts {
		if !slices.Contains(h.balancers, g.Name) {
			continue
		}
		lines := ""
		if len(h.logs) == 0 { // one of its own ends those that stand outside
			for _, l := range s.outside.logs {
				lines += "\t" + l + "\n"
			}
		}
		lines += fmt.Sprintf("\tCustomLog %s %s\n", log, front.Variable(service))
		if h == &s.outside {
			h = &host{file: g.file, begin: g.from}
			lines = strings.TrimPrefix(lines[strings.LastIndex(lines, "\tCustomLog"):], "\t")
		}
		edits[h.file] = append(edits[h.file], front.Edit{From: h.begin, To: h.begin, Text: lines})
	}
	a := s.edited(edits)
	var sides [2][]reading.Server
	for _, v := range g.Servers {
		side := split.Blue
		if !v.In {
			side = split.Green
		}
		sides[side] = append(sides[side], reading.Server{Name: v.Name, Address: v.Address})
	}
	f := form{service: service, balancer: balancer, parameters: g.parameters}
	a.Err = include.File{On: s.server.on, Path: ours, Server: s.server}.Try(ctx, a.Files,
		f.Render(include.Setting{Sides: sides}))
	return a
}

// edited is a change of files.
func (s *surveyed) edited(edits map[string][]front.Edit) front.Adoption {
	a := front.Adoption{Reload: []string{"apachectl configtest", "systemctl reload apache2"}}
	for _, file := range slices.Sorted(maps.Keys(edits)) {
		was := []byte(s.texts[file])
		a.Files = append(a.Files, front.Edited{Name: file, Was: was, Now: front.Apply(was, edits[file])})
	}
	return a
}

// room reports whether there is a member for each address that an instance of green may have, or is one to be made.
func (s *surveyed) room(g *group) bool {
	switch {
	case len(g.members) == 0:
		return false
	case slices.ContainsFunc(g.Servers, func(v front.SurveyedServer) bool { return !v.In }), s.of.Ports != [2]int{}:
		return true
	}
	g.Notes = append(g.Notes, fmt.Sprintf("the change can be made for you when it is known which ports green's instances may "+
		"have: survey again with --ports FROM-TO, and --apply; httpd has to know each address of %s before", g.Name))
	return false
}

// adoptManaged makes the change that a balancer with a manager needs, and has httpd test it on a copy.
func (s *surveyed) adoptManaged(ctx context.Context, g *group, service string) front.Adoption {
	edits, log := map[string][]front.Edit{}, g.logFor(service)
	edit := func(file string, at int, text string) {
		edits[file] = append(edits[file], front.Edit{From: at, To: at, Text: text})
	}
	var addresses []string
	for port := s.of.Ports[0]; port > 0 && port <= s.of.Ports[1]; port++ {
		for _, v := range g.Servers {
			host, _, err := net.SplitHostPort(v.Address)
			address := net.JoinHostPort(host, strconv.Itoa(port))
			if err == nil && v.In && !slices.Contains(addresses, address) &&
				!slices.ContainsFunc(g.Servers, func(v front.SurveyedServer) bool { return v.Address == address }) {
				addresses = append(addresses, address)
			}
		}
	}
	needs := append([]string{fmt.Sprintf("max=%d", max(60/(len(g.members)+len(addresses)), 1))}, memberNeeds...)
	last := g.members[len(g.members)-1]
	lacking := func(text string) (more string) {
		for _, p := range needs {
			if name, _, _ := strings.Cut(p, "="); !strings.Contains(text, " "+name+"=") {
				more += " " + p
			}
		}
		return more
	}
	for _, m := range g.members {
		if more := lacking(m.text); more != "" {
			edit(g.file, m.from+len(strings.TrimRight(m.text, " \t\r\n")), more)
		}
	}
	indent := last.text[:len(last.text)-len(strings.TrimLeft(last.text, " \t"))]
	own := " " + g.parameters
	for _, address := range addresses {
		edit(g.file, last.to, fmt.Sprintf("%sBalancerMember \"http://%s\" status=+D%s%s\n", indent, address,
			strings.TrimRight(own, " "), lacking(own)))
	}
	begins := ""
	if s.of.Sticky && g.sticky == "" {
		edit(g.file, last.to, fmt.Sprintf("%sProxySet stickysession=%s-session\n", indent, service))
		begins = beginning(service)
	}
	for _, h := range s.hosts {
		if !slices.Contains(h.balancers, g.Name) {
			continue
		}
		lines := []string{managedFormat(service)}
		if !h.persists {
			lines = append(lines, "BalancerPersist On")
		}
		if begins != "" {
			lines = append(lines, begins)
		}
		file, at, tab := h.file, h.begin, "\t"
		if h == &s.outside {
			file, at, tab = g.file, g.from, ""
		} else if len(h.logs) == 0 { // one of its own ends those that stand outside
			lines = append(lines, s.outside.logs...)
		}
		lines = append(lines, fmt.Sprintf("CustomLog %s %s", log, front.Variable(service)))
		edit(file, at, tab+strings.Join(lines, "\n"+tab)+"\n")
	}
	a := s.edited(edits)
	nothing := filepath.Join(s.server.config.Config, "..", "vaiven", service+".conf") // this way has no file of ours
	a.Err = include.File{On: s.server.on, Path: nothing, Server: s.server}.Try(ctx, a.Files, nil)
	return a
}

// surveyManager reads the balancers of a manager.
func surveyManager(ctx context.Context, on place.Machine, url string) ([]front.Surveyed, error) {
	m := NewManager(on, plan.Front{Settings: &Settings{Manager: url}})
	page, err := m.call(ctx, nil)
	if err != nil {
		return nil, err
	}
	sections := sectionPattern.FindAllStringSubmatch(page, -1)
	if sections == nil {
		return nil, fmt.Errorf("%s is no balancer manager: there is no balancer on its page", url)
	}
	var all []front.Surveyed
	for _, s := range sections {
		b, err := parse(page, s[1])
		if err != nil {
			return nil, err
		}
		up := front.Surveyed{Name: s[1], Requests: m.elected(s[1])}
		for _, w := range b.workers {
			up.Servers = append(up.Servers,
				front.SurveyedServer{Name: w.route, Address: w.address, In: w.state == "on" && w.factor > 0})
		}
		describe(&up, "/etc/apache2/apache2.conf", url, "/var/log/apache2/SERVICE.log")
		all = append(all, up)
	}
	return all, nil
}

var electedPattern = regexp.MustCompile(`<td>(\d+)</td><td>\d+</td><td>-?\d+</td><td>\s*[\d.]+[KMG ]*</td>`)

// elected is how many requests a balancer's workers were chosen for.
func (m *Manager) elected(balancer string) func(context.Context) (int64, error) {
	return func(ctx context.Context) (int64, error) {
		page, err := m.call(ctx, nil)
		if err != nil {
			return 0, err
		}
		sections := sectionPattern.FindAllStringSubmatchIndex(page, -1)
		for n, s := range sections {
			if page[s[2]:s[3]] != balancer {
				continue
			}
			text := page[s[0]:]
			if n+1 < len(sections) {
				text = page[s[0]:sections[n+1][0]]
			}
			sum := int64(0)
			for _, m := range electedPattern.FindAllStringSubmatch(text, -1) {
				var k int64
				_, _ = fmt.Sscan(m[1], &k) // figures
				sum += k
			}
			return sum, nil
		}
		return 0, fmt.Errorf("%s has no balancer %s any more: %d", m.config.Manager, balancer, http.StatusNotFound)
	}
}

// describe says of a balancer how it would be steered.
func describe(up *front.Surveyed, config, manager, log string) {
	for n := range up.Servers {
		for _, side := range []string{"blue", "green"} {
			if strings.HasPrefix(up.Servers[n].Name, side+"-") {
				up.Servers[n].Side = side
			}
		}
	}
	up.Section = fmt.Sprintf("  httpd:\n    config: %s\n    balancer: %s\n", config, up.Name)
	if manager == "" {
		up.Section += fmt.Sprintf("    include: %s/SERVICE.conf\n    log: %s\n", filepath.Join(config, "..", "vaiven"), log)
		up.Needs = append(up.Needs,
			fmt.Sprintf("the members of %s in a file of Vaiven's; or a balancer manager, with which a change holds up no "+
				"request (docs/begin.md)", up.Name),
			"an access log in which its requests are counted")
		return
	}
	up.Section += fmt.Sprintf("    manager: %s\n    log: %s\n", manager, log)
	up.Ready = true
	up.Needs = append(up.Needs,
		"a member for every address that an instance of green may have, switched off: 'BalancerMember "+
			"\"http://HOST:PORT\" status=+D' with the settings of the others",
		"\"BalancerPersist On\" where ProxyPass stands, and max, acquire, retry and timeout on each member (\"vaiven "+
			"front PLAN\" says which lack)",
		"the log format and the access log that \"vaiven front PLAN\" prints, by which requests are counted")
}
