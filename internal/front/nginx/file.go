package nginx

import (
	"errors"
	"fmt"
	"regexp"
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
	options []string // of each side's block; nil for those that do
	sticky  bool     // who has a session stays on its side
	// that each server has: "max_fails=3 fail_timeout=5s"
	parameters string
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
	fmt.Fprintf(&b, "%s%s. A change by hand is noticed, and not overwritten.\n", written, service)
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
	b.WriteString("}\n")
	chosen, more, knows := "side", "", ""
	if f.sticky {
		chosen, more = "placed", fmt.Sprintf(",\"session\":\"$%s_session\"", name)
		b.WriteString(stays(name, cookie(service), s.Kept))
	}
	placed := chosen
	if s.Spare.Secret != "" {
		chosen, knows = "way", fmt.Sprintf("$%s_knows", name)
		more += fmt.Sprintf(",\"aside\":\"%s\"", knows)
		fmt.Fprintf(&b, "%smap %s $%s_way {\n    yes %v;\n    default $%[3]s_%[5]s;\n}\n", f.knows(name, s.Spare.Secret),
			knows, name, s.Spare.Side, placed)
	}
	if f.sticky {
		b.WriteString(begins(name, cookie(service), knows, s.Kept))
	}
	fmt.Fprintf(&b, "map $%s_%s $%[1]s {\n    green %[1]s_green;\n    default %[1]s_blue;\n}\n", name, chosen)
	for _, side := range split.Sides {
		fmt.Fprintf(&b, "upstream %s_%v {\n", name, side)
		for _, o := range f.options {
			fmt.Fprintf(&b, "    %s;\n", o)
		}
		if f.options == nil {
			fmt.Fprint(&b, "    keepalive 64;\n")
		}
		list := s.Sides[side]
		takes := front.Takes(list)
		weights, _ := front.Within(list, s.Share.Of(side.Other()), mostWeight) // where none can be found, all are alike
		for n, i := range list {
			how := ""
			switch {
			case !takes[n] || weights != nil && weights[n] == 0:
				how = " down"
			case weights != nil:
				how = fmt.Sprintf(" weight=%d", weights[n])
			}
			if f.parameters != "" {
				how += " " + f.parameters
			}
			fmt.Fprintf(&b, "    server %s%s; # %s\n", i.Address, how, include.Note(i))
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
	b.WriteString(logFormat(name, shown, fmt.Sprintf("\"side\":\"$%s_%s\",", name, placed), more))
	return []byte(b.String())
}

// cookie is the name of the one that keeps a client on its side.
func cookie(service string) string { return strings.ReplaceAll(service, "-", "_") + "_session" }

// stays says on which side a session keeps its client, and where a request is placed then. A session is a cookie of
// two parts: the secret of a side, which is another as soon as the side is released, so that nobody can choose one; and
// a number of its own, by which sessions are counted.
func stays(name, cookie string, kept [2]string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "map $cookie_%s $%s_stays {\n", cookie, name)
	for _, side := range split.Sides {
		if kept[side] != "" {
			fmt.Fprintf(&b, "    \"~^%s-\" %v;\n", kept[side], side)
		}
	}
	fmt.Fprintf(&b, "    default \"\";\n}\nmap $%s_stays $%[1]s_placed {\n    \"\" $%[1]s_side;\n    default $%[1]s_stays;\n}\n",
		name)
	fmt.Fprintf(&b, "map \"$%s_stays-$cookie_%s\" $%[1]s_session {\n    \"~^(?:blue|green)-[A-Z2-7]+-(?<%[1]s_number>[0-9a-f]+)$\" "+
		"$%[1]s_number;\n    default \"\";\n}\n", name, cookie)
	return b.String()
}

// begins gives who has no session one on the side that the request was placed on. Who came by the spare side's own door
// gets none.
func begins(name, cookie, knows string, kept [2]string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "map $https $%s_secure {\n    on \"; Secure\";\n    default \"\";\n}\n", name)
	fmt.Fprintf(&b, "map \"%s$%s_stays-$%[2]s_side\" $%[2]s_begins {\n", knows, name)
	for _, side := range split.Sides {
		if kept[side] != "" {
			fmt.Fprintf(&b, "    -%v \"%s=%s-$request_id; Path=/; HttpOnly; SameSite=Lax$%s_secure\";\n", side, cookie, kept[side],
				name)
		}
	}
	b.WriteString("    default \"\";\n}\n")
	return b.String()
}

// logFormat is the format of the log in which requests are counted, with fields of a key, of the side, and more.
func logFormat(name, shown, side, more string) string {
	return fmt.Sprintf(`log_format %s escape=json '{"at":"$msec","client":"$remote_addr","method":"$request_method","path":"$request_uri",'
    '%s"status":"$status",%s"upstream":"$upstream_addr","statuses":"$upstream_status","times":"$upstream_header_time","length":"$upstream_http_content_length","sent":"$upstream_response_length","done":"$request_completion","agent":"$http_user_agent"%s}';
`, name, shown, side, more)
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
	keptLine    = regexp.MustCompile(`(?m)^    "~\^([A-Z2-7]{20,})-" (blue|green);$`)
	secretLine  = regexp.MustCompile(`\n    "~\^?:?([A-Z2-7]{20,}):?\$?" yes;\n`)
	wayLine     = regexp.MustCompile(`\n    yes (blue|green);\n`)
	sharesBlock = regexp.MustCompile(`(?s)\nsplit_clients [^\n]* \{\n(.*?)\n\}`)
	greenLine   = regexp.MustCompile(`^\s*([0-9.]+)% green;$`)
	serverLine  = regexp.MustCompile(`^\s*server (\S+?)( down| weight=\d+)?(?: [^;#]+)?; # ` + include.Noted)
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
	for _, m := range keptLine.FindAllStringSubmatch(text, -1) {
		side, err := split.ParseSide(m[2])
		if err != nil {
			return s, err
		}
		s.Kept[side] = m[1]
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
				i, err := include.ReadNote(m[1], m[3:])
				if err != nil {
					return s, err
				}
				i.Out = i.Out || m[2] == " down" && !i.Control
				s.Sides[side] = append(s.Sides[side], i)
			}
		}
	}
	return s, nil
}
