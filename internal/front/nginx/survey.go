package nginx

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"vaiven/internal/front"
	"vaiven/internal/front/include"
	"vaiven/internal/front/logged"
	"vaiven/internal/world/place"
)

// statement is one of a configuration: its words, and those within its braces.
type statement struct {
	words  []string
	within []statement
}

// parse reads statements up to a closing brace or the end. Quotes and comments are nginx's.
func parse(text string) (list []statement, rest string) {
	var words []string
	for {
		word, quoted, after := next(text)
		text = after
		switch {
		case word == "" && !quoted:
			return list, ""
		case quoted:
			words = append(words, word)
		case word == ";":
			if len(words) > 0 {
				list = append(list, statement{words: words})
			}
			words = nil
		case word == "{":
			s := statement{words: words}
			s.within, text = parse(text)
			list, words = append(list, s), nil
		case word == "}":
			return list, text
		default:
			words = append(words, word)
		}
	}
}

// next is the next word of a text, "" at its end.
func next(text string) (word string, quoted bool, rest string) {
	for {
		text = strings.TrimLeft(text, " \t\r\n")
		if !strings.HasPrefix(text, "#") {
			break
		}
		_, text, _ = strings.Cut(text, "\n")
	}
	switch {
	case text == "":
		return "", false, ""
	case strings.ContainsRune(";{}", rune(text[0])):
		return text[:1], false, text[1:]
	case text[0] == '"' || text[0] == '\'':
		end := 1
		for end < len(text) && text[end] != text[0] {
			if text[end] == '\\' {
				end++
			}
			end++
		}
		end = min(end, len(text))
		return text[1:end], true, text[min(end+1, len(text)):]
	}
	end := 0
	for end < len(text) && !strings.ContainsRune(" \t\r\n;", rune(text[end])) {
		if text[end] == '{' && (end == 0 || text[end-1] != '$') ||
			text[end] == '}' && !strings.Contains(text[:end], "${") {
			break
		}
		end++
	}
	return text[:end], false, text[end:]
}

// each calls back with every statement of a name, and with those that it is within, the innermost last.
func each(list []statement, name string, do func(s statement, within []statement)) {
	var walk func(list, above []statement)
	walk = func(list, above []statement) {
		for _, s := range list {
			if len(s.words) > 0 && s.words[0] == name {
				do(s, above)
			}
			if s.within != nil {
				walk(s.within, append(above[:len(above):len(above)], s))
			}
		}
	}
	walk(list, nil)
}

// first is what stands behind the first word of the first statement of a name in some, nil if none does.
func first(list []statement, name string) []string {
	for _, s := range list {
		if len(s.words) > 1 && s.words[0] == name {
			return s.words[1:]
		}
	}
	return nil
}

// survey reads the configuration of an nginx, as nginx itself puts it together.
func survey(ctx context.Context, on place.Machine, target string) ([]front.Surveyed, error) {
	data, err := on.ReadFile(ctx, target)
	if err != nil {
		return nil, err
	}
	top, _ := parse(string(data))
	if !slices.ContainsFunc(top,
		func(s statement) bool { return len(s.words) == 1 && (s.words[0] == "http" || s.words[0] == "events") }) {
		return nil, front.ErrNotOurs
	}
	text, err := include.Command(ctx, on, "nginx", "-T", "-c", target)
	if err != nil {
		return nil, fmt.Errorf("nginx does not take its configuration: %w", err)
	}
	if at := strings.Index(text, "# configuration file "); at > 0 {
		text = text[at:] // what it says before
	}
	list, _ := parse(text)
	var all []front.Surveyed
	each(list, "upstream", func(s statement, _ []statement) {
		if len(s.words) < 2 {
			return
		}
		up := front.Surveyed{Name: s.words[1]}
		for n, v := range s.within {
			if len(v.words) < 2 || v.words[0] != "server" || strings.HasPrefix(v.words[1], "unix:") {
				continue
			}
			up.Servers = append(up.Servers, front.SurveyedServer{
				Name: fmt.Sprintf("%s-%d", up.Name, n+1), Address: front.WithPort(v.words[1]),
				In: !slices.Contains(v.words, "down") && !slices.Contains(v.words, "backup"), Side: sideOf(up.Name),
			})
		}
		all = append(all, up)
	})
	each(list, "proxy_pass", func(s statement, within []statement) {
		if len(s.words) < 2 {
			return
		}
		name := strings.TrimSuffix(strings.TrimPrefix(strings.TrimPrefix(s.words[1], "http://"), "https://"), "/")
		n := slices.IndexFunc(all, func(u front.Surveyed) bool { return u.Name == name })
		if n < 0 && strings.Contains(name, ":") && !strings.ContainsAny(name, "$/") { // an address itself
			n = len(all)
			all = append(all, front.Surveyed{Name: name,
				Servers: []front.SurveyedServer{{Name: name, Address: name, In: true}}})
		}
		if n < 0 || all[n].Listen != "" {
			return
		}
		up := &all[n]
		for _, w := range slices.Backward(within) {
			if log := first(w.within, "access_log"); log != nil && up.Log == "" && log[0] != "off" &&
				!strings.Contains(log[0], "$") {
				up.Log = log[0]
			}
			if len(w.words) == 0 || w.words[0] != "server" {
				continue
			}
			if at := first(w.within, "listen"); at != nil {
				up.Listen, up.Secure = front.AtPort(at[0], "80"), slices.Contains(at, "ssl")
			}
			if names := first(w.within, "server_name"); names != nil && names[0] != "_" &&
				!strings.ContainsAny(names[0], "*~") {
				up.Host = names[0]
			}
		}
		describe(up, s.words[1], target)
	})
	all = slices.DeleteFunc(all, func(u front.Surveyed) bool { return u.Listen == "" || len(u.Servers) == 0 })
	for n := range all {
		if log := all[n].Log; log != "" {
			if !filepath.IsAbs(log) {
				all[n].Log = filepath.Join(filepath.Dir(target), log)
			}
			all[n].Requests = logged.Lines(on, all[n].Log)
		}
	}
	return all, nil
}

// sideOf is the side that a group's name says, "" if it says none.
func sideOf(name string) string {
	for _, side := range []string{"blue", "green"} {
		if strings.Contains(strings.ToLower(name), side) {
			return side
		}
	}
	return ""
}

// describe says of a group how it would be steered. SERVICE is filled in by whoever makes a plan of it.
func describe(up *front.Surveyed, passes, config string) {
	dir := filepath.Join(filepath.Dir(config), "vaiven")
	up.Section = fmt.Sprintf("  nginx:\n    config: %s\n    include: %s/SERVICE.conf\n    log: "+
		"/var/log/nginx/SERVICE.log\n", config, dir)
	up.Needs = []string{
		fmt.Sprintf("the file of Vaiven's, which \"vaiven front PLAN\" makes with the servers of upstream %s as they "+
			"are: \"include %s/SERVICE.conf;\" within http in %s", up.Name, dir, config),
		fmt.Sprintf("in the place of \"proxy_pass %s;\" the line \"proxy_pass http://$VARIABLE;\", and the rest of "+
			"the location as it is", passes),
		"an access log in which requests are counted, in the same server: \"access_log /var/log/nginx/SERVICE.log " +
			"VARIABLE;\"",
	}
}
