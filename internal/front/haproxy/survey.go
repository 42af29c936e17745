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
	"vaiven/internal/world/place"
)

// block is one block of a configuration: "backend sailings" with its lines, each as its words.
type block struct {
	kind, name string
	lines      [][]string
}

// blocks reads a configuration. Words are as HAProxy has them, but for what quotes and backslashes mean.
func blocks(text string) []block {
	var list []block
	for line := range strings.Lines(text) {
		words := strings.Fields(line)
		if n := slices.IndexFunc(words, func(w string) bool { return strings.HasPrefix(w, "#") }); n >= 0 {
			words = words[:n]
		}
		if len(words) == 0 {
			continue
		}
		switch words[0] {
		case "global", "defaults", "frontend", "backend", "listen", "userlist", "peers", "resolvers", "cache",
			"program", "mailers", "ring", "http-errors", "fcgi-app":
			s := block{kind: words[0]}
			if len(words) > 1 {
				s.name = words[1]
			}
			list = append(list, s)
		default:
			if n := len(list); n > 0 {
				list[n-1].lines = append(list[n-1].lines, words)
			}
		}
	}
	return list
}

// find is the first line of a block of a kind that begins with some words; nil if there is none.
func find(list []block, kind string, begin ...string) []string {
	for _, s := range list {
		if s.kind != kind {
			continue
		}
		for _, line := range s.lines {
			if len(line) >= len(begin) && slices.Equal(line[:len(begin)], begin) {
				return line
			}
		}
	}
	return nil
}

// survey reads a running HAProxy by its socket, or by its configuration, which names one.
func survey(ctx context.Context, on place.Machine, target string) ([]front.Surveyed, error) {
	out, err := on.Run(ctx, place.Command{Words: []string{"test", "-S", target}})
	if err != nil {
		return nil, err
	}
	if out.Status != 0 {
		data, err := on.ReadFile(ctx, target)
		if err != nil {
			return nil, err
		}
		list := blocks(string(data))
		if len(list) == 0 || !slices.ContainsFunc(list, func(s block) bool {
			return s.kind == "frontend" ||
				s.kind == "backend" || s.kind == "listen"
		}) {
			return nil, front.ErrNotOurs
		}
		line := find(list, "global", "stats", "socket")
		if len(line) < 3 || !strings.HasPrefix(line[2], "/") {
			return nil, fmt.Errorf("%s names no \"stats socket\" in its block global: add \"stats socket "+
				"/run/haproxy/admin.sock mode 660 level admin\", and reload", target)
		}
		target = line[2]
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
	config, file, err := running(ctx, on, m[1])
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
		describe(&all[n], config, file, target)
	}
	return all, nil
}

var pidLine = regexp.MustCompile(`(?m)^Pid: (\d+)$`)

// running is the configuration of a running HAProxy, as the files that it was started with are now.
func running(ctx context.Context, on place.Machine, pid string) (list []block, file string, err error) {
	words, folder, err := front.Cmdline(ctx, on, pid)
	if err != nil {
		return nil, "", err
	}
	var text strings.Builder
	for n := 1; n < len(words); n++ {
		if words[n-1] != "-f" {
			continue
		}
		name := words[n]
		if !filepath.IsAbs(name) {
			name = filepath.Join(folder, name)
		}
		data, err := on.ReadFile(ctx, name)
		if err != nil {
			return nil, "", err
		}
		text.Write(data)
		text.WriteByte('\n')
		if file == "" {
			file = name
		}
	}
	return blocks(text.String()), file, nil
}

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

// describe says of a backend how users come to it, and how it would be steered.
func describe(s *front.Surveyed, config []block, file, socket string) {
	for _, c := range config {
		leads := c.kind == "listen" && c.name == s.Name
		for _, line := range c.lines {
			leads = leads || c.kind == "frontend" && len(line) > 1 &&
				(line[0] == "default_backend" || line[0] == "use_backend") && line[1] == s.Name
		}
		if !leads || s.Listen != "" {
			continue
		}
		for _, line := range c.lines {
			if line[0] == "bind" && len(line) > 1 && s.Listen == "" {
				s.Listen, s.Secure = front.AtPort(line[1], "80"), slices.Contains(line, "ssl")
			}
			if len(line) > 3 && (line[0] == "acl" || line[0] == "use_backend") && slices.Contains(line, "hdr(host)") &&
				s.Host == "" {
				s.Host = line[len(line)-1]
			}
		}
	}
	var in, out []string
	for _, v := range s.Servers {
		if v.In {
			in = append(in, v.Name)
		} else {
			out = append(out, v.Name)
		}
	}
	blue, green := stem(in), "green"
	// the names say it otherwise
	if other := stem(out); strings.HasPrefix(blue, "green") || strings.HasPrefix(other, "blue") && blue != "" {
		blue, green = cmp.Or(other, "blue"), blue
	} else if other := stem(out); other != "" && !strings.HasPrefix(other, blue) && !strings.HasPrefix(blue, other) &&
		blue != "" {
		green = other
	}
	if blue == "" || strings.HasPrefix(green, blue) || strings.HasPrefix(blue, green) {
		s.Needs = append(s.Needs, fmt.Sprintf("the servers of each side with names that begin alike, and otherwise "+
			"than the other side's: those that get requests are %s. Rename them in %s, such as blue1, blue2",
			strings.Join(in, ", "), file))
		blue = "blue"
	}
	for n := range s.Servers {
		switch {
		case strings.HasPrefix(s.Servers[n].Name, blue):
			s.Servers[n].Side = "blue"
		case strings.HasPrefix(s.Servers[n].Name, green):
			s.Servers[n].Side = "green"
		}
	}
	room := slices.ContainsFunc(config, func(c block) bool {
		return c.name == s.Name && slices.ContainsFunc(c.lines, func(l []string) bool {
			return len(l) > 1 && (l[0] == "server" || l[0] == "server-template") && strings.HasPrefix(l[1], green)
		})
	})
	if !room {
		s.Needs = append(s.Needs, fmt.Sprintf("servers for green's instances, as many as there are to be: "+
			"\"server-template %s 1-4 127.0.0.1:1 disabled\" as the last line of backend %s in %s (with \"check\" if "+
			"the others have it)", green, s.Name, file))
	}
	stateFile := find(config, "global", "server-state-file")
	kept := find(config, "defaults", "load-server-state-from-file", "global") != nil
	states := filepath.Join(filepath.Dir(file), "servers.state")
	if len(stateFile) > 1 {
		states = stateFile[1]
	}
	if stateFile == nil || !kept {
		s.Needs = append(s.Needs, fmt.Sprintf("what keeps the split over a reload: \"server-state-file %s\" in "+
			"global and \"load-server-state-from-file global\" in defaults of %s", states, file))
	}
	if find(config, "defaults", "option", "idle-close-on-response") == nil {
		s.Needs = append(s.Needs, fmt.Sprintf("what keeps a reload from closing connections that are about to be "+
			"used: \"option idle-close-on-response\" in defaults of %s", file))
	}
	s.Ready = room
	s.Section = fmt.Sprintf("  haproxy:\n    socket: %s\n    backend: %s\n    servers: {blue: %s, green: %s}\n    "+
		"state-file: %s\n", socket, s.Name, blue, green, states)
}
