package nginx

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/include"
	"vaiven/internal/front/logged"
	"vaiven/internal/world/place"
)

// surveyed is a running configuration that is being read.
type surveyed struct {
	on     place.Machine
	main   string
	texts  map[string]string
	list   []statement // with what is included
	log    string      // that nginx writes where the configuration names none
	sticky bool        // sessions are to stay
}

// way is how requests come to a group of servers: a statement such as proxy_pass, and what it is within.
type way struct {
	statement
	within []statement
	host   string // that it names: of the group, or an address
	uri    string // that it puts in the place of the location's
}

// found is a group of servers, or an address that requests are passed to.
type found struct {
	front.Surveyed
	block   statement   // upstream; the zero value for an address
	servers []statement // that Vaiven takes over
	ways    []way
	ours    bool     // its servers stand in a file of Vaiven's
	keeps   plan.Key // that it places clients by itself; random if each request is placed anew
	sticky  bool     // sessions stay on their side
	makes   bool     // our file makes a variable and blocks of its own, and does not stand within the group's
	options []string // its other lines
	common  string   // what all its servers have
}

// survey reads the configuration of an nginx, as nginx itself puts it together.
func survey(ctx context.Context, on place.Machine, of front.Target) ([]front.Surveyed, error) {
	target := of.Name
	data, err := on.ReadFile(ctx, target)
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(parse(target, string(data)), func(s statement) bool {
		return s.block && len(s.words) == 1 && (s.words[0] == "http" || s.words[0] == "events")
	}) {
		return nil, front.ErrNotOurs
	}
	s, err := configuration(ctx, &server{on: on, config: include.Settings{Config: target, Program: []string{"nginx"}}})
	if err != nil {
		return nil, fmt.Errorf("nginx does not take its configuration: %w", err)
	}
	if built, err := include.Command(ctx, on, "nginx", "-V"); err == nil {
		if m := logBuilt.FindStringSubmatch(built); m != nil {
			s.log = m[1]
		}
	}
	s.sticky = of.Sticky
	var all []front.Surveyed
	for _, f := range s.found() {
		if len(f.ways) == 0 {
			continue
		}
		f.sticky = f.sticky || s.sticky
		s.describe(f)
		all = append(all, f.Surveyed)
	}
	return all, nil
}

// configuration reads what an nginx loads.
func configuration(ctx context.Context, n *server) (surveyed, error) {
	s := surveyed{on: n.on, main: n.config.Config, texts: map[string]string{}}
	names, _, err := n.Files(ctx)
	if err != nil {
		return s, err
	}
	for _, name := range names {
		text, err := n.on.ReadFile(ctx, name)
		if err != nil {
			return s, err
		}
		s.texts[name] = string(text)
	}
	s.list = whole(names, s.texts)
	return s, nil
}

// lacks is what a configuration that includes our file does not have yet.
func lacks(ctx context.Context, n *server, service string, sticky bool, of *Settings) ([]string, error) {
	s, err := configuration(ctx, n)
	if err != nil {
		return nil, err
	}
	var list []string
	name, passes := front.Variable(service), of.Upstream != ""
	each(s.list, "proxy_pass", func(p statement, within []statement) {
		ours := p.is("proxy_pass", 1) && strings.HasSuffix(strings.TrimSuffix(p.words[1], "/"), "$"+name)
		passes = passes || ours
		if ours && sticky && !s.begins(within, name) {
			list = append(list, fmt.Sprintf("a line \"%s\" beside %s: without it nobody who comes there gets a session",
				beginning(name), s.at(p)))
		}
	})
	if !passes {
		list = append(list, fmt.Sprintf("a line \"proxy_pass http://$%s;\" where requests are passed on", name))
	}
	_, included := s.texts[of.File]
	within := of.Upstream == "" || !included
	each(s.list, "upstream", func(u statement, _ []statement) {
		within = within || u.is("upstream", 1) && u.words[1] == of.Upstream &&
			slices.ContainsFunc(u.within, func(l statement) bool { return l.file == of.File })
	})
	if !within {
		list = append(list, fmt.Sprintf("the line that includes %s within upstream %s", of.File, of.Upstream))
	}
	logged := of.Log == ""
	each(s.list, "access_log", func(l statement, _ []statement) {
		logged = logged || l.is("access_log", 2) && l.words[1] == of.Log && l.words[2] == name
	})
	if !logged {
		list = append(list, fmt.Sprintf("a line \"access_log %s %s;\" where requests are passed on: without it they are not "+
			"counted", of.Log, name))
	}
	return list, nil
}

// beginning is the line by which clients get their session.
func beginning(name string) string { return fmt.Sprintf("add_header Set-Cookie $%s_begins;", name) }

// begins reports whether it holds within some blocks.
func (s *surveyed) begins(within []statement, name string) bool {
	list, _ := inherited(s.list, within, "add_header")
	return slices.ContainsFunc(list, func(h statement) bool {
		return h.is("add_header", 2) && h.words[2] == "$"+name+"_begins"
	})
}

var logBuilt = regexp.MustCompile(`--http-log-path=(\S+)`)

// at is where a statement stands, in words.
func (s *surveyed) at(of statement) string {
	return front.Position(of.file, s.texts[of.file], of.from)
}

// raw is a statement as it stands there.
func (s *surveyed) raw(of statement) string { return s.texts[of.file][of.from:of.to] }

// found are the groups and addresses that requests are passed to.
func (s *surveyed) found() []*found {
	var all []*found
	each(s.list, "upstream", func(of statement, _ []statement) {
		if of.is("upstream", 1) && of.block {
			all = append(all, s.upstream(of))
		}
	})
	for _, name := range []string{"proxy_pass", "grpc_pass", "uwsgi_pass", "fastcgi_pass", "scgi_pass"} {
		each(s.list, name, func(of statement, within []statement) {
			if !of.is(name, 1) {
				return
			}
			w := way{statement: of, within: within}
			scheme, rest, hasScheme := strings.Cut(of.words[1], "://")
			if !hasScheme {
				rest = of.words[1]
			}
			w.host, w.uri = rest, ""
			if at := strings.IndexAny(rest, "/?"); at >= 0 && !strings.HasPrefix(rest, "unix:") {
				w.host, w.uri = rest[:at], rest[at:]
			}
			n := slices.IndexFunc(all, func(f *found) bool { return f.Name == w.host })
			switch {
			case strings.Contains(w.host, "$"):
				for _, f := range all {
					if s.mayLead(w.host, f.Name) {
						f.Notes = append(f.Notes, fmt.Sprintf("%s passes requests by a variable, %s, which may name %s: those "+
							"go where all others of it go, and are not counted", s.at(of), of.words[1], f.Name))
						w.uri = ""
						f.ways = append(f.ways, w)
					}
				}
				return
			case n < 0 && name == "proxy_pass" && strings.Contains(w.host, ":") && !strings.HasPrefix(w.host, "unix:"):
				n = len(all)
				all = append(all, &found{keeps: plan.Key{From: plan.KeyRandom}, Surveyed: front.Surveyed{Name: w.host,
					Servers: []front.SurveyedServer{{Name: w.host, Address: front.WithPort(w.host), In: true}}}})
			case n < 0:
				return
			}
			if name != "proxy_pass" || scheme == "https" {
				all[n].Notes = append(all[n].Notes, fmt.Sprintf("%s speaks %s with the instances, which checks of a plan "+
					"do not unless they say so", s.at(of), strings.TrimSuffix(strings.TrimSuffix(name, "_pass"), "proxy")+
					map[bool]string{true: "https"}[scheme == "https"]))
			}
			all[n].ways = append(all[n].ways, w)
		})
	}
	return all
}

// mayLead reports whether a text with variables may come to a name: whether some set or map gives that out.
func (s *surveyed) mayLead(text, name string) (may bool) {
	gives := func(of statement, _ []statement) {
		for _, w := range of.words[1:] {
			may = may || w == name || strings.TrimPrefix(strings.TrimPrefix(w, "http://"), "https://") == name
		}
	}
	each(s.list, "set", gives)
	for _, kind := range []string{"map", "split_clients", "geo"} {
		each(s.list, kind, func(of statement, _ []statement) {
			for _, line := range of.within {
				gives(line, nil)
			}
		})
	}
	return may && strings.Contains(text, "$")
}

// upstream reads a group.
func (s *surveyed) upstream(of statement) *found {
	f := &found{Surveyed: front.Surveyed{Name: of.words[1]}, block: of, keeps: plan.Key{From: plan.KeyRandom}}
	weights := map[string]bool{}
	for _, line := range of.within {
		switch {
		case !line.is("server", 1):
			s.option(f, line)
		case slices.Contains(line.words, "backup"):
			f.Notes = append(f.Notes, fmt.Sprintf("%s is a backup: it stays where it is, and gets requests when all others "+
				"are down", s.at(line)))
		case strings.HasPrefix(line.words[1], "unix:"):
			f.Notes = append(f.Notes, fmt.Sprintf("%s is a socket, which Vaiven cannot ask: give that instance a port before "+
				"anything of %s is steered", s.at(line), f.Name))
		default:
			f.servers = append(f.servers, line)
			v := front.SurveyedServer{Name: fmt.Sprintf("%s-%d", f.Name, len(f.servers)),
				Address: front.WithPort(line.words[1]), In: !slices.Contains(line.words, "down"), Side: sideOf(f.Name)}
			if strings.HasPrefix(s.texts[line.file], written) {
				f.ours = true
				from, to := s.lineOf(line)
				if m := memberLine.FindStringSubmatch(strings.TrimRight(s.texts[line.file][from:to], "\n")); m != nil {
					v.Side, v.Name = m[4], strings.Trim(m[5], `"`)
				}
			}
			var rest []string
			weight := "weight=1"
			for _, w := range line.words[2:] {
				switch {
				case strings.HasPrefix(w, "weight="):
					weight = w
				case w != "down":
					rest = append(rest, w)
				}
			}
			weights[weight] = true
			if common := strings.Join(rest, " "); len(f.servers) == 1 {
				f.common = common
			} else if common != f.common {
				f.Notes = append(f.Notes, fmt.Sprintf("%s has other parameters than the first server of %s: all get those of "+
					"the first", s.at(line), f.Name))
			}
			f.Servers = append(f.Servers, v)
		}
	}
	if len(weights) > 1 && !f.ours {
		f.Notes = append(f.Notes, fmt.Sprintf("the servers of %s have different weights (%s): say in the plan what each "+
			"carries (capacity), or all of a side get as much", f.Name,
			strings.Join(slices.Sorted(maps.Keys(weights)), ", ")))
	}
	return f
}

// option takes in what a group says beside its servers.
func (s *surveyed) option(f *found, line statement) {
	switch line.words[0] {
	case "zone": // its name is one group's
		return
	case "ip_hash":
		f.keeps = plan.Key{From: plan.KeyClient}
	case "hash":
		f.keeps = plan.Key{From: plan.KeyClient}
		if m := keyed.FindStringSubmatch(strings.Join(line.words, " ")); m != nil && m[1] == "cookie" {
			f.keeps = plan.Key{From: plan.KeyCookie, Name: m[2]}
		} else if m != nil {
			f.keeps = plan.Key{From: plan.KeyHeader, Name: strings.ReplaceAll(m[2], "_", "-")}
		}
	case "sticky": // it keeps clients on an instance, which is within a side
		f.sticky = true
	}
	f.options = append(f.options, strings.TrimSuffix(strings.TrimSpace(s.raw(line)), ";"))
}

var keyed = regexp.MustCompile(`^hash \$(cookie|http)_(\w+)`)

// sideOf is the side that a group's name says, "" if it says none.
func sideOf(name string) string {
	for _, side := range []string{"blue", "green"} {
		if strings.Contains(strings.ToLower(name), side) {
			return side
		}
	}
	return ""
}

// describe says of a group how users come to it, and how it would be steered.
func (s *surveyed) describe(f *found) {
	for _, w := range f.ways {
		if f.Listen == "" {
			s.door(f, w)
		}
	}
	if f.Log != "" {
		f.Requests = logged.Lines(s.on, f.Log)
	}
	if len(f.ways) > 1 {
		var where []string
		for _, w := range f.ways {
			where = append(where, s.at(w.statement))
		}
		f.Notes = append(f.Notes, fmt.Sprintf("%d places lead to %s, and a split is of all their requests: %s", len(f.ways),
			f.Name, strings.Join(where, ", ")))
	}
	file := filepath.Join(filepath.Dir(s.main), "vaiven", "SERVICE.conf")
	if f.ours {
		file = f.servers[0].file
	}
	log := filepath.Join(filepath.Dir(s.logOf(f)), "SERVICE.log")
	f.Section = fmt.Sprintf("  nginx:\n    config: %s\n    include: %s\n", s.main, file)
	if f.makes = f.keeps.From != plan.KeyRandom || f.sticky; f.sticky {
		f.Section = "  sticky: yes\n" + f.Section
		f.Needs = append(f.Needs, "a line that gives who has no session one, in each location that leads there")
	}
	if f.keeps.From != plan.KeyRandom {
		f.Section = fmt.Sprintf("  key: %s\n%s", f.keeps, f.Section)
		f.Notes = append(f.Notes, fmt.Sprintf("%s keeps clients together, and so does the split, by %s", f.Name, f.keeps))
	}
	switch {
	case f.makes:
		if len(f.options) > 0 {
			quoted := make([]string, len(f.options))
			for n, o := range f.options {
				quoted[n] = fmt.Sprintf("%q", o)
			}
			f.Section += fmt.Sprintf("    options: [%s]\n", strings.Join(quoted, ", "))
		}
		f.Needs = append(f.Needs, fmt.Sprintf("a split by a variable, in the place of upstream %s", f.Name))
	case !f.ours:
		f.Needs = append(f.Needs, fmt.Sprintf("its servers in a file of Vaiven's, which stands within upstream %s",
			s.groupOf(f, "SERVICE")))
	}
	if !f.makes {
		f.Section += fmt.Sprintf("    upstream: %s\n", s.groupOf(f, "VARIABLE"))
	}
	if f.common != "" {
		f.Section += fmt.Sprintf("    parameters: %s\n", f.common)
	}
	f.Section += fmt.Sprintf("    log: %s\n", log)
	if f.ours {
		f.Ready = true
		return
	}
	f.Needs = append(f.Needs, "an access log in which its requests are counted")
	if !slices.ContainsFunc(f.block.within, func(l statement) bool {
		return l.is("server", 1) && strings.HasPrefix(l.words[1], "unix:")
	}) {
		f.Adopt = func(ctx context.Context, service string) front.Adoption { return s.adopt(ctx, f, service) }
	}
}

// groupOf is the name of the upstream block of a group: its own, or for an address one that is made.
func (s *surveyed) groupOf(f *found, variable string) string {
	if f.block.block {
		return f.Name
	}
	return variable
}

// logOf is the log that a group's requests are written to now, as far as it is a file.
func (s *surveyed) logOf(f *found) string {
	if f.Log != "" {
		return f.Log
	}
	if s.log != "" {
		return s.log
	}
	return filepath.Join(filepath.Dir(s.main), "access.log")
}

// door is where users come to a group by some way.
func (s *surveyed) door(f *found, w way) {
	logs, _ := inherited(s.list, w.within, "access_log")
	for _, log := range logs {
		if name := log.words[1]; f.Log == "" && name != "off" && !strings.ContainsAny(name, "$:") {
			if f.Log = name; !filepath.IsAbs(name) {
				f.Log = filepath.Join(filepath.Dir(s.main), name)
			}
		}
	}
	for _, b := range w.within {
		if len(b.words) != 1 || b.words[0] != "server" {
			continue
		}
		f.Listen = "127.0.0.1:80" // as nginx does where nothing is said
		for _, l := range b.within {
			if l.is("listen", 1) && !strings.HasPrefix(l.words[1], "unix:") {
				f.Listen, f.Secure = front.AtPort(l.words[1], "80"), slices.Contains(l.words, "ssl")
				if f.Secure || !strings.HasPrefix(l.words[1], "[") {
					break
				}
			}
		}
		if names := first(b.within, "server_name"); names != nil && names[0] != "_" && names[0] != "" &&
			!strings.ContainsAny(names[0], "*~") {
			f.Host = names[0]
		}
	}
}

// adopt makes the change that a group needs, and has nginx test it on a copy.
func (s *surveyed) adopt(ctx context.Context, f *found, service string) front.Adoption {
	edits := map[string][]front.Edit{}
	edit := func(file string, from, to int, text string) {
		edits[file] = append(edits[file], front.Edit{From: from, To: to, Text: text})
	}
	name := front.Variable(service)
	ours := filepath.Join(filepath.Dir(s.main), "vaiven", service+".conf")
	log := filepath.Join(filepath.Dir(s.logOf(f)), service+".log")
	var file include.Form = group{service: service, parameters: f.common}
	http := s.http()
	line := "include " + ours + ";"
	switch {
	case f.makes:
		file = form{service: service, key: f.keeps, options: f.options, sticky: f.sticky, parameters: f.common}
		s.insert(edit, http, line)
	case f.block.block:
		for n, v := range f.servers {
			from, to := s.lineOf(v)
			if n == 0 {
				edit(v.file, v.from, v.to, line)
			} else {
				edit(v.file, from, to, "")
			}
		}
		s.insert(edit, http, strings.ReplaceAll(strings.TrimSpace(logFormat(name, "", "", "")), "\n    ", "\n\t\t"))
	default:
		s.insert(edit, http, strings.ReplaceAll(strings.TrimSpace(logFormat(name, "", "", "")), "\n    ", "\n\t\t"),
			fmt.Sprintf("upstream %s {\n\t\t%s\n\t}", name, line))
	}
	for _, w := range f.ways {
		if strings.Contains(w.host, "$") {
			continue
		}
		s.pass(edit, f, w, name)
		s.count(edit, w, log, name)
		if f.sticky {
			edit(w.file, w.to, w.to, s.more(w, "add_header", beginning(name)))
		}
	}
	c := front.Adoption{Reload: []string{"nginx -t", "systemctl reload nginx"}}
	tried := make([]front.Edited, 0, len(edits))
	for _, named := range slices.Sorted(maps.Keys(edits)) {
		was := []byte(s.texts[named])
		e := front.Edited{Name: named, Was: was, Now: front.Apply(was, edits[named])}
		c.Files = append(c.Files, e)
		e.Now = []byte(strings.ReplaceAll(string(e.Now), "access_log "+log+" ", "access_log /dev/null ")) // a test opens it
		tried = append(tried, e)
	}
	var sides [2][]reading.Server
	for _, v := range f.Servers {
		side := split.Blue
		if !v.In {
			side = split.Green
		}
		sides[side] = append(sides[side], reading.Server{Name: v.Name, Address: v.Address})
	}
	n := &server{on: s.on, config: include.Settings{Config: s.main, Program: []string{"nginx"}}}
	c.Err = include.File{On: s.on, Path: ours, Server: n}.Try(ctx, tried,
		file.Render(include.Setting{Sides: sides}))
	return c
}

// http is the block of all that is about HTTP.
func (s *surveyed) http() statement {
	n := slices.IndexFunc(s.list, func(b statement) bool {
		return b.block && len(b.words) == 1 && b.words[0] == "http"
	})
	return s.list[n] // who has a proxy_pass has one
}

// insert puts lines at the beginning of a block.
func (s *surveyed) insert(edit func(string, int, int, string), block statement, lines ...string) {
	edit(block.file, block.begin, block.begin, "\n\t"+strings.Join(lines, "\n\t"))
}

// pass changes where a way leads, if that has to be.
func (s *surveyed) pass(edit func(string, int, int, string), f *found, w way, name string) {
	if !f.makes && f.block.block {
		return
	}
	text, target := s.raw(w.statement), w.words[1]
	if !f.makes {
		more := ""
		if !s.sets(w, "Host") { // instances are asked for the address until now
			more = s.more(w, "proxy_set_header", "proxy_set_header Host "+w.host+";")
		}
		edit(w.file, w.from, w.to, strings.Replace(text, w.host, name, 1)+more)
		return
	}
	scheme, _, _ := strings.Cut(target, "://")
	text = fmt.Sprintf("%s %s://$%s;", w.words[0], scheme, name)
	if w.uri != "" {
		text = rewrite(w) + s.indent(w.statement) + text
	}
	if !s.sets(w, "Host") {
		text += s.more(w, "proxy_set_header", "proxy_set_header Host "+w.host+";")
	}
	edit(w.file, w.from, w.to, text)
}

// rewrite does what the URI of a proxy_pass did: it takes the place of the location's.
func rewrite(w way) string {
	for _, b := range slices.Backward(w.within) {
		switch {
		case b.is("location", 2) && b.words[1] == "=":
			return fmt.Sprintf("rewrite ^ %s break;", w.uri)
		case b.is("location", 1) && len(b.words) == 2, b.is("location", 2) && b.words[1] == "^~":
			return fmt.Sprintf("rewrite \"^%s(.*)$\" \"%s$1\" break;", regexp.QuoteMeta(b.words[len(b.words)-1]), w.uri)
		}
	}
	return fmt.Sprintf("rewrite ^ %s break;", w.uri)
}

// count has the requests of a way counted, in a log beside those that it has.
func (s *surveyed) count(edit func(string, int, int, string), w way, log, name string) {
	line := fmt.Sprintf("access_log %s %s;", log, name)
	logs, own := inherited(s.list, w.within, "access_log")
	if n := slices.IndexFunc(logs, func(l statement) bool { return l.words[1] == "off" }); own && n >= 0 {
		edit(logs[n].file, logs[n].from, logs[n].to, line) // off is for all logs there
		return
	}
	more := s.more(w, "access_log", line)
	if logs == nil && s.log != "" { // the one that was built in
		more = s.indent(w.statement) + "access_log " + s.log + " combined;" + more
	}
	edit(w.file, w.to, w.to, more)
}

// sets reports whether a header is set on the way to the instances.
func (s *surveyed) sets(w way, header string) bool {
	list, _ := inherited(s.list, w.within, "proxy_set_header")
	return slices.ContainsFunc(list, func(h statement) bool { return strings.EqualFold(h.words[1], header) })
}

// more are lines behind a way: those of a name that hold there because they stand further out, which one of its own
// would end, and one more.
func (s *surveyed) more(w way, name, line string) string {
	var b strings.Builder
	if list, own := inherited(s.list, w.within, name); !own {
		for _, l := range list {
			if !l.is(name, 1) || l.words[1] != "off" {
				b.WriteString(s.indent(w.statement) + s.raw(l))
			}
		}
	}
	return b.String() + s.indent(w.statement) + line
}

// indent is a line's end and how far the line of a statement begins from the left.
func (s *surveyed) indent(of statement) string {
	text := s.texts[of.file][:of.from]
	text = text[strings.LastIndex(text, "\n")+1:]
	return "\n" + text[:len(text)-len(strings.TrimLeft(text, " \t"))]
}

// lineOf is the line of a statement, if nothing else stands on it, else the statement.
func (s *surveyed) lineOf(of statement) (from, to int) {
	text := s.texts[of.file]
	from, to = strings.LastIndex(text[:of.from], "\n")+1, len(text)
	if n := strings.Index(text[of.to:], "\n"); n >= 0 {
		to = of.to + n + 1
	}
	rest := strings.TrimSpace(text[of.to:to])
	if strings.TrimSpace(text[from:of.from]) != "" || rest != "" && !strings.HasPrefix(rest, "#") {
		return of.from, of.to
	}
	return from, to
}
