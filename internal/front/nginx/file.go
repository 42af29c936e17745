package nginx

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/include"
	"vaiven/internal/front/logged"
)

// variable makes a service's name one for variables and groups.
func variable(service string) string { return "vaiven_" + strings.ReplaceAll(service, "-", "_") }

// keyText is the text that nginx hashes for a key, and what has to be defined for it.
// split_clients takes MurmurHash2 of it as a place in [0, 1) and the share on green as a
// threshold, so that green's part only grows with the share.
func keyText(name string, k plan.Key) (text, before string) {
	mapped := func(from, rules string) (string, string) {
		return "$" + name + "_key", fmt.Sprintf("map %s $%s_key {\n%s}\n", from, name, rules)
	}
	switch k.From {
	case plan.KeyClient:
		if k.Prefix > 0 {
			parts := strings.Repeat(`\d+\.`, k.Prefix/8)
			return mapped("$remote_addr",
				fmt.Sprintf("    \"~^(?<%s_net>%s)\" $%s_net;\n    default $remote_addr;\n", name, parts, name))
		}
		return "$remote_addr", ""
	case plan.KeyCookie, plan.KeyHeader: // those without it go by their address
		from := "$" + logged.Field(k)
		return mapped(from, fmt.Sprintf("    \"\" $remote_addr;\n    default %s;\n", from))
	}
	return "$request_id", ""
}

// percent is a share as split_clients has it.
func percent(s split.Share) string { return strings.TrimSuffix(s.String(), " %") + "%" }

// form is the file's.
type form struct {
	service string
	key     plan.Key
	spare   plan.SpareDoor
}

// mostWeight is the largest weight that a control group is divided by.
const mostWeight = 256

// Nearest is the share itself: split_clients takes hundredths of a percent.
func (f form) Nearest(s include.Setting) (split.Share, []string, error) { return s.Share, nil, nil }

// Render is the file for a setting.
func (f form) Render(s include.Setting) []byte {
	service, key := f.service, f.key
	name := variable(service)
	var b strings.Builder
	fmt.Fprintf(&b, "# Written by Vaiven for the service %s. A change by hand is noticed, and not overwritten.\n",
		service)
	text, before := keyText(name, key)
	b.WriteString(before)
	fmt.Fprintf(&b, "split_clients \"%s\" $%s_side {\n", text, name)
	switch s.Share {
	case 0:
		b.WriteString("    * blue;\n")
	case split.Whole:
		b.WriteString("    * green;\n")
	default:
		fmt.Fprintf(&b, "    %s green;\n    * blue;\n", percent(s.Share))
	}
	chosen, aside := "side", ""
	if s.Spare.Secret != "" {
		chosen, aside = "way", fmt.Sprintf(",\"aside\":\"$%s_knows\"", name)
		fmt.Fprintf(&b, "}\n%smap $%s_knows $%[2]s_way {\n    yes %v;\n    default $%[2]s_side;\n",
			f.knows(name, s.Spare.Secret), name, s.Spare.Side)
	}
	fmt.Fprintf(&b, "}\nmap $%s_%s $%[1]s {\n    green %[1]s_green;\n    default %[1]s_blue;\n}\n", name, chosen)
	for _, side := range split.Sides {
		fmt.Fprintf(&b, "upstream %s_%v {\n    keepalive 64;\n", name, side)
		list := s.Sides[side]
		takes := front.Takes(list)
		weights, _ := front.Within(list, s.Share.Of(side.Other()), mostWeight) // where none can be found, all are alike
		for n, i := range list {
			how, note := "", ""
			switch {
			case !takes[n] || weights != nil && weights[n] == 0:
				how = " down"
			case weights != nil:
				how = fmt.Sprintf(" weight=%d", weights[n])
			}
			if i.Out {
				note = " out"
			}
			if i.Control {
				note += " control"
			}
			fmt.Fprintf(&b, "    server %s%s; # %q %q%s\n", i.Address, how, i.Name, i.Version, note)
		}
		if len(list) == 0 {
			b.WriteString("    server 127.0.0.1:1 down; # none\n")
		}
		b.WriteString("}\n")
	}
	shown := ""
	if field := logged.Field(key); field != "" { // so that clients are told apart, and the key can be tried on the log
		shown = fmt.Sprintf("\"%s\":\"$%[1]s\",", field)
	}
	fmt.Fprintf(&b, `log_format %s escape=json '{"at":"$msec","client":"$remote_addr","method":"$request_method","path":"$request_uri",'
    '%[2]s"status":"$status","side":"$%[1]s_side","upstream":"$upstream_addr","statuses":"$upstream_status","times":"$upstream_header_time","length":"$upstream_http_content_length","sent":"$upstream_response_length","done":"$request_completion","agent":"$http_user_agent"%[3]s}';
`, name, shown, aside)
	return []byte(b.String())
}

// knows is how nginx finds out who knows the secret of the spare side's own door.
func (f form) knows(name, secret string) string {
	header, cookie, rules := "", "", ""
	if f.spare.Header != "" {
		header = "$http_" + strings.ToLower(strings.ReplaceAll(f.spare.Header, "-", "_"))
		rules = fmt.Sprintf("    \"~^%s:\" yes;\n", secret)
	}
	if f.spare.Cookie != "" {
		cookie = "$cookie_" + f.spare.Cookie
		rules += fmt.Sprintf("    \"~:%s$\" yes;\n", secret)
	}
	return fmt.Sprintf("map \"%s:%s\" $%s_knows {\n%s    default \"\";\n}\n", header, cookie, name, rules)
}

var (
	secretLine  = regexp.MustCompile(`\n    "~\^?:?([A-Z2-7]{20,}):?\$?" yes;\n`)
	wayLine     = regexp.MustCompile(`\n    yes (blue|green);\n`)
	sharesBlock = regexp.MustCompile(`(?s)\nsplit_clients [^\n]* \{\n(.*?)\n\}`)
	greenLine   = regexp.MustCompile(`^\s*([0-9.]+)% green;$`)
	serverLine  = regexp.MustCompile(`^\s*server (\S+?)( down| weight=\d+)?; # ("(?:[^"\\]|\\.)*") ("(?:[^"\\]|\\.)*")( out)?( control)?$`)
)

// Parse reads what Render writes, also if somebody changed the share, a server or the
// word down by hand.
func (f form) Parse(data []byte) (include.Setting, error) {
	var s include.Setting
	text := string(data)
	m := sharesBlock.FindStringSubmatch(text)
	if m == nil {
		return s, errors.New("it does not say how requests are split in the way that Vaiven writes it")
	}
	lines := strings.Split(m[1], "\n")
	switch {
	case len(lines) == 1 && strings.TrimSpace(lines[0]) == "* blue;":
	case len(lines) == 1 && strings.TrimSpace(lines[0]) == "* green;":
		s.Share = split.Whole
	case len(lines) == 2 && greenLine.MatchString(lines[0]) && strings.TrimSpace(lines[1]) == "* blue;":
		var err error
		if s.Share, err = split.ParseShare(greenLine.FindStringSubmatch(lines[0])[1] + " %"); err != nil {
			return s, err
		}
	default:
		return s, fmt.Errorf("it splits requests in another way than Vaiven: %s", strings.Join(lines, " "))
	}
	if secret, way := secretLine.FindStringSubmatch(text), wayLine.FindStringSubmatch(text); secret != nil &&
		way != nil {
		s.Spare.Secret = secret[1]
		s.Spare.Side, _ = split.ParseSide(way[1])
	}
	for _, side := range split.Sides {
		_, block, ok := strings.Cut(text, fmt.Sprintf("_%v {\n", side))
		block, _, okEnd := strings.Cut(block, "\n}")
		if !ok || !okEnd {
			return s, fmt.Errorf("it has no group of servers for %v", side)
		}
		for n, line := range strings.Split(block, "\n") {
			words := strings.Fields(line)
			m := serverLine.FindStringSubmatch(line)
			switch {
			case len(words) == 0 || words[0] != "server" || strings.HasSuffix(line, "down; # none"):
			case m == nil:
				i := reading.Server{Name: fmt.Sprintf("%v?%d", side, n), Address: strings.TrimSuffix(words[1], ";")}
				s.Sides[side] = append(s.Sides[side], i) // somebody else's
			default:
				i := reading.Server{Address: m[1], Control: m[6] != ""}
				i.Out = m[5] != "" || m[2] == " down" && !i.Control
				var err1, err2 error
				i.Name, err1 = strconv.Unquote(m[3])
				i.Version, err2 = strconv.Unquote(m[4])
				if err := errors.Join(err1, err2); err != nil {
					return s, err
				}
				s.Sides[side] = append(s.Sides[side], i)
			}
		}
	}
	return s, nil
}
