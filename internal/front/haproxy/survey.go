package haproxy

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"vaiven/internal/front"
	"vaiven/internal/front/include"
	"vaiven/internal/world/place"
)

// survey reads a running HAProxy by its socket, or by its configuration, which names one.
func survey(ctx context.Context, on place.Machine, of front.Target) ([]front.Surveyed, error) {
	target := of.Name
	out, err := on.Run(ctx, place.Command{Words: []string{"test", "-S", target}})
	if err != nil {
		return nil, err
	}
	if out.Status != 0 {
		if target, err = socketOf(ctx, on, target); err != nil {
			return nil, err
		}
	}
	d := &Driver{on: on, config: &Settings{Socket: target}}
	said, err := d.ask(ctx, "show info")
	if err != nil {
		return nil, err
	}
	m := pidLine.FindStringSubmatch(said)
	if m == nil {
		return nil, fmt.Errorf("%s is no socket of HAProxy: it says %s", target, excerpt(said))
	}
	config, err := running(ctx, on, m[1])
	if err != nil {
		return nil, fmt.Errorf("the configuration of process %s: %w", m[1], err)
	}
	if said, err = d.ask(ctx, "show servers state"); err != nil {
		return nil, err
	}
	state, err := parseState(said)
	if err != nil {
		return nil, err
	}
	var all []front.Surveyed
	for _, row := range state.rows {
		backend := state.text(row, "be_name")
		n := slices.IndexFunc(all, func(s front.Surveyed) bool { return s.Name == backend })
		if n < 0 {
			n = len(all)
			all = append(all, front.Surveyed{Name: backend,
				Requests: func(ctx context.Context) (int64, error) { return d.requests(ctx, backend) }})
		}
		admin, weight := int(state.number(row, "srv_admin_state")), state.number(row, "srv_uweight")
		s := front.SurveyedServer{Name: state.text(row, "srv_name"),
			Address: net.JoinHostPort(state.text(row, "srv_addr"), state.text(row, "srv_port"))}
		s.In = admin&(maintenance|draining) == 0 && weight > 0
		if s.Address == nobody {
			continue
		}
		all[n].Servers = append(all[n].Servers, s)
	}
	for n := range all {
		(&surveyed{on: on, config: config, socket: target, sticky: of.Sticky, Surveyed: &all[n]}).describe()
	}
	return all, nil
}

// socketOf is the socket that a configuration names.
func socketOf(ctx context.Context, on place.Machine, file string) (string, error) {
	data, err := on.ReadFile(ctx, file)
	if err != nil {
		return "", err
	}
	c := configuration{blocks: blocks(file, string(data))}
	if !slices.ContainsFunc(c.blocks, func(b block) bool {
		return b.kind == "frontend" || b.kind == "backend" || b.kind == "listen"
	}) {
		return "", front.ErrNotOurs
	}
	line := find(c.of("global"), "stats", "socket")
	if len(line) < 3 || !strings.HasPrefix(line[2], "/") {
		return "", fmt.Errorf("%s names no \"stats socket\" in its block global: add \"stats socket "+
			"/run/haproxy/admin.sock mode 660 level admin\", and reload", file)
	}
	return line[2], nil
}

var pidLine = regexp.MustCompile(`(?m)^Pid: (\d+)$`)

// requests is how many a backend has answered.
func (d *Driver) requests(ctx context.Context, backend string) (int64, error) {
	said, err := d.ask(ctx, "show stat")
	if err != nil {
		return 0, err
	}
	t, err := parseStat(said)
	if err != nil {
		return 0, err
	}
	for _, row := range t.rows {
		if t.text(row, "pxname") == backend && t.text(row, "svname") == "BACKEND" {
			return t.number(row, "stot"), nil
		}
	}
	return 0, fmt.Errorf("HAProxy has no backend %q any more", backend)
}

// stem is what names have in common at their beginning, without figures and what joins them: "app" of app1 and app2.
func stem(names []string) string {
	if len(names) == 0 {
		return ""
	}
	common := names[0]
	for _, name := range names[1:] {
		for !strings.HasPrefix(name, common) {
			common = common[:len(common)-1]
		}
	}
	return strings.TrimRight(common, "0123456789")
}

// surveyed is a backend that is being described.
type surveyed struct {
	*front.Surveyed
	on     place.Machine
	config configuration
	socket string
	sticky bool // sessions are to stay

	backend block
	doors   []block // frontends that lead to it
	green   string  // what the names of the servers for green begin with
	states  string  // the file in which servers survive a reload
	edits   map[string][]front.Edit
}

func (s *surveyed) edit(file string, at int, text string) {
	s.edits[file] = append(s.edits[file], front.Edit{From: at, To: at, Text: text})
}

// describe says how users come to a backend, and how it would be steered.
func (s *surveyed) describe() {
	s.edits = map[string][]front.Edit{}
	for _, b := range s.config.blocks {
		if (b.kind == "backend" || b.kind == "listen") && b.name == s.Name {
			s.backend = b
		}
	}
	s.door()
	if s.backend.file == "" {
		return
	}
	blue := s.names()
	s.room(blue)
	s.kept()
	s.clients()
	s.Section = fmt.Sprintf("  haproxy:\n    socket: %s\n    backend: %s\n    servers: {blue: %s, green: %s}\n    "+
		"state-file: %s\n%s", s.socket, s.Name, blue, s.green, s.states, s.Section)
	if len(s.edits) > 0 && s.Adopt == nil {
		s.Adopt = func(ctx context.Context, _ string) front.Adoption { return s.adopt(ctx) }
	}
}

// door finds the frontends that lead to the backend, and the first address that users come to.
func (s *surveyed) door() {
	var ways []string
	for _, b := range s.config.blocks {
		leads := b.kind == "listen" && b.name == s.Name
		for _, l := range b.lines {
			if b.kind != "frontend" && b.kind != "listen" || len(l.words) < 2 ||
				l.words[0] != "default_backend" && l.words[0] != "use_backend" {
				continue
			}
			switch {
			case l.words[1] == s.Name:
				leads = true
				ways = append(ways, s.config.at(b, l))
			case strings.Contains(l.words[1], "%["):
				s.Notes = append(s.Notes, fmt.Sprintf("%s chooses a backend by an expression, %s: if that is %s, those requests "+
					"are split as all others of it", s.config.at(b, l), l.words[1], s.Name))
			}
		}
		if !leads {
			continue
		}
		s.doors = append(s.doors, b)
		for _, l := range b.lines {
			w := l.words
			if w[0] == "bind" && len(w) > 1 && s.Listen == "" {
				s.Listen, s.Secure = front.AtPort(w[1], "80"), slices.Contains(w, "ssl")
			}
			if s.Host == "" && len(w) > 3 && (w[0] == "acl" || w[0] == "use_backend") &&
				slices.Contains(w, "hdr(host)") {
				s.Host = w[len(w)-1]
			}
		}
	}
	if len(ways) > 1 {
		s.Notes = append(s.Notes, fmt.Sprintf("%d lines lead to %s, and a split is of all their requests: %s", len(ways), s.Name,
			strings.Join(ways, ", ")))
	}
}

// names tells the sides' servers apart by their names.
func (s *surveyed) names() (blue string) {
	var in, out []string
	for _, v := range s.Servers {
		if v.In {
			in = append(in, v.Name)
		} else {
			out = append(out, v.Name)
		}
	}
	blue, s.green = stem(in), "green"
	// the names say it otherwise
	if other := stem(out); strings.HasPrefix(blue, "green") || strings.HasPrefix(other, "blue") && blue != "" {
		blue, s.green = cmp.Or(other, "blue"), blue
	} else if other := stem(out); other != "" && !strings.HasPrefix(other, blue) && !strings.HasPrefix(blue, other) &&
		blue != "" {
		s.green = other
	}
	if blue == "" || strings.HasPrefix(s.green, blue) || strings.HasPrefix(blue, s.green) {
		s.Needs = append(s.Needs, fmt.Sprintf("the servers of each side with names that begin alike, and otherwise "+
			"than the other side's: those that get requests are %s. Rename them in %s, such as blue1, blue2, and survey again",
			strings.Join(in, ", "), s.backend.file))
		s.Adopt = func(context.Context, string) front.Adoption { return front.Adoption{} } // a person has to, before
		blue = "blue"
	}
	for n := range s.Servers {
		switch {
		case strings.HasPrefix(s.Servers[n].Name, blue):
			s.Servers[n].Side = "blue"
		case strings.HasPrefix(s.Servers[n].Name, s.green):
			s.Servers[n].Side = "green"
		}
	}
	return blue
}

// leastRoom is how many servers there are for green's instances, at least.
const leastRoom = 4

// room adds servers for green's instances, switched off, which are checked and asked as the others.
func (s *surveyed) room(blue string) {
	var model *line
	last := s.backend.begin
	of := 0
	for n, l := range s.backend.lines {
		if l.words[0] != "server" && l.words[0] != "server-template" || len(l.words) < 3 {
			continue
		}
		if last = l.to; strings.HasPrefix(l.words[1], s.green) {
			s.Ready = true
			return
		}
		if of++; strings.HasPrefix(l.words[1], blue) && model == nil {
			model = &s.backend.lines[n]
		}
	}
	s.Needs = append(s.Needs, "servers for green's instances, as many as there are to be, switched off")
	if model == nil {
		return
	}
	var like []string
	cookie := false
	words := model.words[3:]
	if model.words[0] == "server-template" {
		words = model.words[min(4, len(model.words)):]
	}
	for n := 0; n < len(words); n++ {
		switch words[n] {
		case "cookie":
			cookie = true
			n++
		case "weight", "id", "track":
			n++
		case "disabled", "backup":
		default:
			like = append(like, words[n])
		}
	}
	indent := s.config.texts[s.backend.file][model.from:model.to]
	indent = indent[:len(indent)-len(strings.TrimLeft(indent, " \t"))]
	tail := strings.TrimSpace(strings.Join(append(like, "disabled"), " "))
	room := max(leastRoom, 2*of)
	if !cookie {
		s.edit(s.backend.file, last, fmt.Sprintf("%sserver-template %s 1-%d %s %s\n", indent, s.green, room, nobody, tail))
		return
	}
	var b strings.Builder
	for n := range room {
		fmt.Fprintf(&b, "%sserver %s%d %s cookie %[2]s%[3]d %[5]s\n", indent, s.green, n+1, nobody, tail)
	}
	s.edit(s.backend.file, last, b.String())
}

// kept adds what keeps the split over a reload, and connections that are about to be used.
func (s *surveyed) kept() {
	globals := s.config.of("global")
	s.states = filepath.Join(filepath.Dir(s.backend.file), "servers.state")
	if said := find(globals, "server-state-file"); len(said) > 1 {
		if s.states = said[1]; !filepath.IsAbs(s.states) {
			if base := find(globals, "server-state-base"); len(base) > 1 {
				s.states = filepath.Join(base[1], s.states)
			} else {
				s.states = filepath.Join(s.config.folder, s.states)
			}
		}
	} else {
		s.Needs = append(s.Needs, fmt.Sprintf("a file that keeps the split over a reload: \"server-state-file %s\" in global",
			s.states))
		if text := fmt.Sprintf("\tserver-state-file %s\n", s.states); len(globals) > 0 {
			s.edit(globals[0].file, globals[0].begin, text)
		} else if len(s.config.files) > 0 {
			s.edit(s.config.files[0], 0, "global\n"+text)
		}
	}
	own := s.config.with(s.backend)
	if find(own, "load-server-state-from-file", "global") == nil {
		s.Needs = append(s.Needs, fmt.Sprintf("that file read for backend %s: \"load-server-state-from-file global\"", s.Name))
		s.edit(s.backend.file, s.backend.begin, "\tload-server-state-from-file global\n")
	}
	for _, door := range s.doors {
		if find(s.config.with(door), "option", "idle-close-on-response") == nil {
			s.Needs = append(s.Needs, fmt.Sprintf("what keeps a reload from closing connections that are about to be "+
				"used: \"option idle-close-on-response\" in %s %s", door.kind, door.name))
			s.edit(door.file, door.begin, "\toption idle-close-on-response\n")
		}
	}
}

// clients says how the backend keeps clients together.
func (s *surveyed) clients() {
	own := s.config.with(s.backend)
	if said := find(own, "balance"); len(said) > 1 {
		switch by, _, _ := strings.Cut(said[1], "("); by {
		case "roundrobin", "static-rr", "random":
		case "leastconn", "first":
			s.Notes = append(s.Notes, fmt.Sprintf("backend %s has \"balance %s\": a side that is slower gets less than its "+
				"share", s.Name, by))
		default:
			s.Notes = append(s.Notes, fmt.Sprintf("backend %s has \"balance %s\": clients, or paths, stay where they are, so a "+
				"share is moved by them, and reached the better the more there are", s.Name, strings.Join(said[1:], " ")))
		}
	}
	sticks := find(own[:1], "stick") != nil
	if said := find(own, "cookie"); len(said) > 1 {
		sticks = true
		s.Notes = append(s.Notes, fmt.Sprintf("backend %s keeps clients on their server by the cookie %s: a leg leaves them there, "+
			"and going home takes them along", s.Name, said[1]))
	} else if sticks {
		s.Notes = append(s.Notes, fmt.Sprintf("backend %s keeps clients on their server by a table: a leg leaves them there, and "+
			"going home takes them along", s.Name))
	}
	if s.sticky && !sticks {
		sticks = true
		s.Needs = append(s.Needs, fmt.Sprintf("a cookie by which a client keeps its server: \"cookie vaiven-%s insert indirect "+
			"nocache dynamic\" in backend %[1]s, and \"dynamic-cookie-key %[1]s\"", s.Name))
		s.edit(s.backend.file, s.backend.begin, fmt.Sprintf("\tdynamic-cookie-key %s\n\tcookie vaiven-%[1]s insert indirect "+
			"nocache dynamic\n", s.Name))
	}
	if sticks {
		s.Section = "  sticky: yes\n" + s.Section
	}
	for _, l := range s.backend.lines {
		if (l.words[0] == "server" || l.words[0] == "server-template") && slices.Contains(l.words, "resolvers") {
			s.Notes = append(s.Notes, fmt.Sprintf("%s follows a name: HAProxy sets its address, and Vaiven leaves it alone",
				s.config.at(s.backend, l)))
		}
	}
}

// adopt has HAProxy test the change on copies of its files.
func (s *surveyed) adopt(ctx context.Context) front.Adoption {
	a := front.Adoption{Reload: []string{"systemctl reload haproxy"}}
	words := []string{"haproxy", "-c", "-q"}
	for _, file := range s.config.files {
		name := file
		if edits := s.edits[file]; edits != nil {
			was := []byte(s.config.texts[file])
			e := front.Edited{Name: file, Was: was, Now: front.Apply(was, edits)}
			a.Files = append(a.Files, e)
			copied, err := place.Slot{On: s.on, Path: file + ".try", Mode: 0o600}.Candidate(ctx, e.Now)
			if err != nil {
				a.Err = cmp.Or(a.Err, err)
				continue
			}
			defer copied.Discard(context.WithoutCancel(ctx))
			name = copied.Name()
		}
		words = append(words, "-f", name)
	}
	check := "haproxy -c"
	for _, file := range s.config.files {
		check += " -f " + file
	}
	a.Reload = append([]string{check}, a.Reload...)
	if a.Err != nil {
		return a
	}
	script := []string{"sh", "-c", `cd "$1" && shift && exec "$@"`, "sh", s.config.folder}
	_, a.Err = include.Command(ctx, s.on, append(script, words...)...)
	return a
}

// Lacks names what the configuration in place has not, and should have, for a backend to be steered by weights.
func (d *Driver) Lacks(ctx context.Context) ([]string, error) {
	if !d.config.Weighs() || d.config.Socket == "" {
		return nil, nil
	}
	all, err := survey(ctx, d.on, front.Target{Name: d.config.Socket, Sticky: d.sticky})
	for _, s := range all {
		if s.Name == d.config.Backends[0] {
			return s.Needs, err
		}
	}
	return nil, err
}
