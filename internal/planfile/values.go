package planfile

import (
	"fmt"
	"strconv"
	"strings"

	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
	"vaiven/internal/section"
)

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
	return plan.Key{}, fmt.Errorf("%q is not a split key: want random, client, client /24, cookie NAME or header NAME", text)
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

// ports parses "18100-18199".
func ports(text string) ([2]int, error) {
	low, high, ok := strings.Cut(text, "-")
	first, err1 := section.Between(1, 65535)(strings.TrimSpace(low))
	last, err2 := section.Between(1, 65535)(strings.TrimSpace(high))
	if !ok || err1 != nil || err2 != nil || last < first {
		return [2]int{}, fmt.Errorf("%q is not a range of ports: want the first and the last, such as 18100-18199", text)
	}
	return [2]int{first, last}, nil
}

// leg parses "5 % for 2m" or "100 %".
func leg(text string) (route.Leg, error) {
	share, dwell, timed := strings.Cut(text, " for ")
	part, err := split.ParseShare(share)
	if err != nil {
		what, _ := section.Explain(err)
		return route.Leg{}, section.Mistake{What: what, Try: `a leg is a share and how long to stay, such as "5 % for 2m", "1 in 20 for 30s", "100 %", or the word ask`}
	}
	l := route.Leg{Part: part}
	if timed {
		l.Dwell, err = section.Duration(strings.TrimSpace(dwell))
	}
	return l, err
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
		return [2]string{}, fmt.Errorf("%q is not a request: want a path such as /healthz, or a method and a path such as HEAD /sailings", text)
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
	return plan.Versions{}, fmt.Errorf("%q names no versions: want \"folder PATH\", \"git REPOSITORY tags\", \"git REPOSITORY branch NAME\" or \"registry HOST/NAME\"", text)
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

// price parses "0.12 EUR".
func price(text string) (plan.Price, error) {
	words := strings.Fields(text)
	if len(words) == 2 {
		if amount, err := strconv.ParseFloat(words[0], 64); err == nil && amount >= 0 && amount < 1e9 {
			return plan.Price{Amount: amount, Unit: words[1]}, nil
		}
	}
	return plan.Price{}, fmt.Errorf("%q is not a price: want what an instance costs an hour, such as \"0.12 EUR\"", text)
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
	return [2]string{}, fmt.Errorf("%q is no question for a name server: want a name and a type, such as \"fares.internal A\"", text)
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
		return plan.WarmUp{}, fmt.Errorf("%q is not a warm-up: want how many requests at what rate, such as \"200 at 50 /s\"", text)
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
	return plan.Secret{}, section.Mistake{What: "a secret does not stand in a plan", Try: `say where it is read from: "env NAME" or "file PATH"`}
}
