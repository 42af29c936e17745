package planfile

import (
	"fmt"
	"net"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/world/section"
)

// figureName is what a figure may be called.
var figureName = regexp.MustCompile(`^[a-zA-Z_:][a-zA-Z0-9_:]*$`)

// figure parses a figure as "name" or as "name{label="value"}".
func figure(text string) (plan.Figure, error) {
	wrong := section.Mistake{What: fmt.Sprintf("%q is no figure", text),
		Try: `write its name as it stands on the page, and the labels that it has to have: jobs_total or jobs_total{kind="print"}`}
	name, rest, some := strings.Cut(strings.TrimSpace(text), "{")
	f := plan.Figure{Name: strings.TrimSpace(name)}
	if !figureName.MatchString(f.Name) {
		return f, wrong
	}
	if !some {
		return f, nil
	}
	inner, closed := strings.CutSuffix(strings.TrimSpace(rest), "}")
	if !closed {
		return f, wrong
	}
	f.Labels = map[string]string{}
	for pair := range strings.SplitSeq(inner, ",") {
		label, quoted, ok := strings.Cut(pair, "=")
		value, err := strconv.Unquote(strings.TrimSpace(quoted))
		if !ok || err != nil || strings.TrimSpace(label) == "" {
			return f, wrong
		}
		f.Labels[strings.TrimSpace(label)] = value
	}
	return f, nil
}

// action is what a guard does.
func action(text string) (plan.Action, error) {
	return section.OneOf(text, plan.RollBack, plan.Freeze)
}

// ParseKey reads a split key as plans write it.
func ParseKey(text string) (plan.Key, error) { return splitKey(text) }

// splitKey parses "random", "client", "client /24", "cookie NAME" or "header NAME".
func splitKey(text string) (plan.Key, error) {
	words := strings.Fields(text)
	if len(words) > 0 {
		k := plan.Key{From: plan.KeySource(words[0])}
		switch {
		case len(words) == 1 && (k.From == plan.KeyRandom || k.From == plan.KeyClient):
			return k, nil
		case len(words) == 2 && (k.From == plan.KeyCookie || k.From == plan.KeyHeader) && section.IsToken(words[1]):
			k.Name = words[1]
			return k, nil
		case len(words) == 2 && k.From == plan.KeyClient:
			if bits, ok := prefix(words[1]); ok {
				k.Prefix = bits
				return k, nil
			}
		}
	}
	return plan.Key{}, section.Form(fmt.Errorf("%q is not a split key: want random, client, client /24, cookie NAME or "+
		"header NAME", text), `random|client(\s+/[0-9]+)?|(cookie|header)\s+[A-Za-z0-9._-]+`)
}

// field parses "header NAME" or "json PATH".
func field(text string) (plan.Field, error) {
	kind, name, _ := strings.Cut(strings.TrimSpace(text), " ")
	name = strings.TrimSpace(name)
	switch {
	case kind == "header" && name != "" && !strings.Contains(name, " "):
		return plan.Field{Header: name}, nil
	case kind == "json" && name != "":
		return plan.Field{JSON: name}, nil
	}
	return plan.Field{}, fmt.Errorf("%q is not a place in an answer: want \"header NAME\" or \"json PATH\"", text)
}

// after parses the time beyond which an answer is slow, or "usual", which is 0.
func after(text string) (time.Duration, error) {
	if text == "usual" {
		return 0, nil
	}
	d, err := section.Duration(text)
	if err != nil {
		what, try := section.Explain(err)
		err = section.Mistake{What: what, Try: try + `, or "usual" for what is longer than on the live side`}
	}
	return d, err
}

// legForm is what a leg of a route, or ask, looks like.
const legForm = `ask|` + section.ShareForm + `(\s+beside control)?(\s+for\s+` + section.TimeForm + `|\s+until sure(,? *at (least|most) ` +
	section.TimeForm + `)*)?`

// leg parses "5 % for 2m", "5 % beside control until sure, at least 1m, at most 20m" or "100 %".
func leg(text string) (route.Leg, error) {
	share, dwell, timed := strings.Cut(text, " for ")
	share, terms, sure := strings.Cut(share, " until sure")
	share, control := strings.CutSuffix(strings.TrimSpace(share), " beside control")
	part, err := split.ParseShare(share)
	if err != nil {
		what, _ := section.Explain(err)
		return route.Leg{}, section.Mistake{What: what,
			Try: `a leg is a share and how long to stay, such as "5 % for 2m", "5 % until sure, at most 20m", "1 in 20 for 30s", "100 %", or the word ask`}
	}
	l := route.Leg{Part: part, Control: control}
	switch {
	case timed && sure:
		return l, section.Mistake{What: fmt.Sprintf("%q lasts for a time and until sure", text),
			Try: `write "5 % for 2m", or "5 % until sure, at most 2m"`}
	case timed:
		l.Dwell, err = section.Duration(strings.TrimSpace(dwell))
	case sure:
		l.Sure, l.Dwell = true, sureMost
		err = untilSure(terms, &l)
	}
	return l, err
}

// ParseRoute reads legs as plans write them, "ask" among them.
func ParseRoute(texts []string) (route.Route, error) {
	var r route.Route
	ask := false
	for _, text := range texts {
		if text == "ask" {
			ask = true
			continue
		}
		l, err := leg(text)
		if err != nil {
			return nil, err
		}
		l.Ask, ask = ask, false
		r = append(r, l)
	}
	if n, err := r.Check(); err != nil {
		return nil, fmt.Errorf("leg %d: %w", n+1, err)
	}
	return r, nil
}

// sureMost is how long a leg until sure lasts at most, where the plan does not say it.
const sureMost = 30 * time.Minute

// untilSure reads ", at least 1m, at most 20m", of which either may be left out.
func untilSure(terms string, l *route.Leg) (err error) {
	for n, term := range strings.Split(terms, ",") {
		term = strings.TrimSpace(term)
		least, isLeast := strings.CutPrefix(term, "at least ")
		most, isMost := strings.CutPrefix(term, "at most ")
		switch {
		case n == 0 && term == "":
		case isLeast:
			l.Least, err = section.Duration(strings.TrimSpace(least))
		case isMost:
			l.Dwell, err = section.Duration(strings.TrimSpace(most))
		default:
			err = section.Mistake{What: fmt.Sprintf("%q says nothing of how long a leg until sure lasts", term),
				Try: `write "5 % until sure, at least 1m, at most 20m"`}
		}
		if err != nil {
			return err
		}
	}
	if l.Least > l.Dwell {
		return section.Mistake{What: fmt.Sprintf("a leg cannot last at least %s and at most %s", route.Short(l.Least),
			route.Short(l.Dwell)), Try: "make the second the longer one"}
	}
	return nil
}

// buildOf is what a command's version is built as, where the plan does not say it: its first word, if that names the
// version, or the first argument that does, up to there, as in "python3 builds/{version}/app.py". Else it is the first
// word.
func buildOf(command []string) string {
	for n, word := range command {
		if !strings.Contains(word, "{version}") {
			continue
		}
		if n == 0 {
			return word
		}
		if option, value, ok := strings.Cut(word, "="); ok && strings.HasPrefix(option, "-") {
			word = value
		}
		elements := strings.Split(word, "/")
		at := slices.IndexFunc(elements, func(e string) bool { return strings.Contains(e, "{version}") })
		if len(elements) > 1 {
			return strings.Join(elements[:at+1], "/")
		}
	}
	return command[0]
}

// request parses "GET /path", "/path" or "https://host/path".
func request(text string) ([2]string, error) {
	words := fields(text)
	method := "GET"
	if len(words) == 2 {
		method = words[0]
		words = words[1:]
	}
	if len(words) != 1 || !isTarget(words[0]) || strings.ToUpper(method) != method {
		return [2]string{}, fmt.Errorf("%q is not a request: want a path such as /healthz, or a method and a path "+
			"such as HEAD /sailings", text)
	}
	return [2]string{method, words[0]}, nil
}

func isTarget(text string) bool {
	return strings.HasPrefix(text, "/") || strings.HasPrefix(text, "http://") || strings.HasPrefix(text, "https://")
}

// pathOf parses the path of a GET request.
func pathOf(text string) (string, error) {
	r, err := request(text)
	if err == nil && (r[0] != "GET" || r[1][0] != '/') {
		err = fmt.Errorf("%q is not a path: want one such as /healthz", text)
	}
	return r[1], err
}

// versions parses "folder PATH", "git REPOSITORY tags [PATTERN]", "git REPOSITORY
// branch NAME" or "registry HOST/NAME".
func versions(text string) (plan.Versions, error) {
	words := strings.Fields(text)
	is := func(n int, first string) bool { return len(words) == n && words[0] == first }
	switch {
	case is(2, "folder"):
		return plan.Versions{Kind: plan.VersionFolder, Where: words[1]}, nil
	case is(2, "registry") && strings.Contains(words[1], "/"):
		return plan.Versions{Kind: plan.VersionRegistry, Where: words[1]}, nil
	case is(3, "git") && words[2] == "tags":
		return plan.Versions{Kind: plan.VersionTags, Where: words[1], Ref: "*"}, nil
	case is(4, "git") && words[2] == "tags":
		return plan.Versions{Kind: plan.VersionTags, Where: words[1], Ref: words[3]}, nil
	case is(4, "git") && words[2] == "branch":
		return plan.Versions{Kind: plan.VersionBranch, Where: words[1], Ref: words[3]}, nil
	}
	return plan.Versions{}, fmt.Errorf("%q names no versions: want \"folder PATH\", \"git REPOSITORY tags\", \"git "+
		"REPOSITORY branch NAME\" or \"registry HOST/NAME\"", text)
}

// host parses "user@host" or "user@host:port".
func host(text string) (plan.Host, error) {
	user, address, ok := strings.Cut(text, "@")
	if ok && user != "" && address != "" {
		if !strings.Contains(address, ":") {
			address += ":22"
		}
		if _, err := section.HostPort(address); err == nil {
			return plan.Host{User: user, Address: address}, nil
		}
	}
	return plan.Host{}, fmt.Errorf("%q is not a host: want user@host or user@host:port", text)
}

// login parses a machine as ssh has it: "gate1", "deploy@gate1" or "deploy@gate1:2222".
func login(text string) (string, error) {
	user, host, named := strings.Cut(text, "@")
	if !named {
		user, host = "-", text
	}
	if user == "" || host == "" || strings.ContainsAny(text, " /") {
		return "", fmt.Errorf("%q is not a machine as ssh has it: want host, user@host or user@host:port", text)
	}
	return text, nil
}

// stand parses where an instance stands: "10.1.0.5:8080", "unit NAME at HOST:PORT",
// "unit NAME at HOST:PORT on USER@HOST", "container NAME", "containers LABEL=VALUE",
// "command WORDS" or "front".
func stand(text string) (plan.Stand, error) {
	words := strings.Fields(text)
	wrong := section.Mistake{
		What: fmt.Sprintf("%q does not say where an instance stands", text),
		Try:  `want "HOST:PORT", "unit NAME at HOST:PORT", "unit NAME at HOST:PORT on USER@HOST", "container NAME", "containers LABEL=VALUE", "command WORDS" or "front"`,
	}
	if len(words) == 1 && text != string(plan.StandFront) {
		host, _, _ := net.SplitHostPort(text)
		if _, err := section.HostPort(text); err != nil || host == "" || strings.HasSuffix(text, ":0") {
			return plan.Stand{}, wrong
		}
		return plan.Stand{Kind: plan.StandAddress, Address: text}, nil
	}
	if len(words) == 0 {
		return plan.Stand{}, wrong
	}
	s := plan.Stand{Kind: plan.StandKind(words[0])}
	switch {
	case s.Kind == plan.StandFront && len(words) == 1:
	case s.Kind == plan.StandUnit && (len(words) == 4 || len(words) == 6 && words[4] == "on") && words[2] == "at":
		s.Name, s.Address = words[1], words[3]
		if _, err := section.HostPort(s.Address); err != nil {
			return s, err
		}
		if len(words) == 6 {
			var err error
			s.On, err = host(words[5])
			return s, err
		}
	case s.Kind == plan.StandContainer && len(words) == 2:
		s.Name = words[1]
	case s.Kind == plan.StandContainers && len(words) == 2 && strings.Contains(words[1], "="):
		s.Name = words[1]
	case s.Kind == plan.StandCommand && len(words) > 1:
		s.Words = words[1:]
	default:
		return s, wrong
	}
	return s, nil
}

// limit parses "80 %", "80 %, then ask" or "80 %, then refuse".
func limit(text string) (plan.Limit, error) {
	part, then, more := strings.Cut(text, ", then ")
	f, err := section.Fraction(part)
	if err != nil || f <= 0 {
		return plan.Limit{}, section.Form(fmt.Errorf("%q is no limit of a capacity: want \"80 %%\", \"80 %%, then ask\" "+
			"or \"80 %%, then refuse\"", text), section.ShareForm+`(, then (ask|refuse))?`)
	}
	l := plan.Limit{Part: f}
	if more {
		var what string
		what, err = section.OneOf(strings.TrimSpace(then), "ask", "refuse")
		l.Refuses = what == "refuse"
	}
	return l, err
}

// hostName parses a host as it is asked for, with a port where users write one.
func hostName(text string) (string, error) {
	if text == "" || strings.ContainsAny(text, "/ @") {
		return "", fmt.Errorf("%q is not a host as users ask for it: want \"sailings.example\" or "+
			"\"sailings.example:8443\"", text)
	}
	return text, nil
}

// price parses "0.12 EUR".
func price(text string) (plan.Price, error) {
	words := strings.Fields(text)
	if len(words) == 2 {
		if amount, err := strconv.ParseFloat(words[0], 64); err == nil && amount >= 0 && amount < 1e9 {
			return plan.Price{Amount: amount, Unit: words[1]}, nil
		}
	}
	return plan.Price{}, section.Form(fmt.Errorf("%q is not a price: want what an instance costs an hour, such as "+
		"\"0.12 EUR\"", text), section.NumberForm+`\s+\S+`)
}

// dnsQuestion parses "name" or "name TYPE".
func dnsQuestion(text string) ([2]string, error) {
	words := strings.Fields(text)
	switch len(words) {
	case 1:
		return [2]string{words[0], "A"}, nil
	case 2:
		kind, err := section.OneOf(strings.ToUpper(words[1]), "A", "AAAA", "CNAME", "MX", "NS", "SRV", "TXT")
		return [2]string{words[0], kind}, err
	}
	return [2]string{}, fmt.Errorf("%q is no question for a name server: want a name and a type, such as "+
		"\"fares.internal A\"", text)
}

// meant parses an area and a pattern of names: "environment FEATURE_*".
func meant(text string) (plan.Meant, error) {
	area, name, _ := strings.Cut(text, " ")
	a, err := section.OneOf(area, areas()...)
	if err != nil {
		what, try := section.Explain(err)
		err = section.Mistake{What: what, Try: try} // a name may follow: these are not all that there are
	}
	return plan.Meant{Area: a, Name: strings.TrimSpace(name)}, err
}

func judgement(text string) (plan.Judgement, error) {
	return section.OneOf(text, plan.Stop, plan.Ask, plan.Note)
}

// warmUp parses "200 at 50 /s".
func warmUp(text string) (plan.WarmUp, error) {
	number, rate, ok := strings.Cut(text, " at ")
	n, err := section.Between(1, 1_000_000)(strings.TrimSpace(number))
	perS, errRate := section.PerSecond(rate)
	if !ok || err != nil || errRate != nil {
		return plan.WarmUp{}, section.Form(fmt.Errorf("%q is not a warm-up: want how many requests at what rate, such as "+
			"\"200 at 50 /s\"", text), `[0-9]+ at `+section.RateForm)
	}
	return plan.WarmUp{Requests: n, Rate: perS}, nil
}

// secret parses "env NAME" or "file PATH".
func secret(text string) (plan.Secret, error) {
	kind, name, _ := strings.Cut(text, " ")
	name = strings.TrimSpace(name)
	switch {
	case kind == "env" && name != "":
		return plan.Secret{Env: name}, nil
	case kind == "file" && name != "":
		return plan.Secret{File: name}, nil
	}
	return plan.Secret{}, section.Mistake{What: "a secret does not stand in a plan",
		Try: `say where it is read from: "env NAME" or "file PATH"`}
}

// mostAddresses bounds a range of them.
const mostAddresses = 254

// addresses parses "10.1.0.5-10.1.0.9", or one.
func addresses(text string) ([]string, error) {
	from, to, several := strings.Cut(strings.NewReplacer("[", "", "]", "").Replace(text), "-")
	first, err := netip.ParseAddr(strings.TrimSpace(from))
	last := first
	if err == nil && several {
		last, err = netip.ParseAddr(strings.TrimSpace(to))
	}
	if err != nil || last.Less(first) {
		return nil, section.Mistake{What: fmt.Sprintf("%q is no range of addresses", text),
			Try: `write it as in "10.1.0.5-10.1.0.9"`}
	}
	var list []string
	for a := first; ; a = a.Next() {
		if list = append(list, a.String()); a == last {
			return list, nil
		}
		if len(list) == mostAddresses {
			return nil, section.Mistake{What: fmt.Sprintf("%q are more than %d addresses", text, mostAddresses),
				Try: "give as many as both sides have instances"}
		}
	}
}
