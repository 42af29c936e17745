package planfile

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/split"
	"vaiven/internal/plan"
)

// newFront is a front with every key left out.
func newFront() plan.Front {
	return plan.Front{
		Listen: "127.0.0.1:8080", Key: plan.Key{From: plan.KeyRandom}, HeaderSize: 64 << 10,
		HeaderTime: 10 * time.Second, Idle: 75 * time.Second, Connections: 10_000,
	}
}

// fronts reads one front, or a list of them.
func (r *reader) fronts(n ast.Node, p *plan.Plan) {
	if _, several := n.(*ast.SequenceNode); !several {
		r.front(n, &p.Front)
		return
	}
	var all []plan.Front
	r.list(n, "front", func(n ast.Node) {
		f := newFront()
		r.front(n, &f)
		for _, other := range all {
			switch {
			case f.Listen == other.Listen:
				r.wrong(n, fmt.Sprintf("two fronts listen at %s", f.Listen), "every front takes requests at an address of its own")
			case f.Kind() == plan.FrontEmbedded && other.Kind() == plan.FrontEmbedded:
				r.wrong(n, "two of the fronts are embedded ones", "only one can be: it keeps its state beside the plan")
			case f.Key != other.Key || f.Sticky != other.Sticky:
				r.wrong(n, fmt.Sprintf("one front splits by %v and another by %v", other.Key, f.Key), "clients would change sides from front to front: give all the same key")
			}
		}
		all = append(all, f)
	})
	if len(all) == 0 {
		r.wrong(n, "the list of fronts is empty", "")
		return
	}
	p.Front, p.Beside = all[0], all[1:]
}

func (r *reader) front(n ast.Node, f *plan.Front) {
	var key0, sticky, order ast.Node
	var own []ast.Node // keys of the embedded front
	embedded := func(read func(ast.Node)) func(ast.Node) {
		return func(n ast.Node) {
			own = append(own, n)
			read(n)
		}
	}
	r.mapping(n, "front",
		key{"listen", false, parsed(r, "listen", &f.Listen, hostPort)},
		key{"key", false, func(n ast.Node) {
			key0 = n
			parsed(r, "key", &f.Key, splitKey)(n)
		}},
		key{"sticky", false, func(n ast.Node) {
			sticky = n
			parsed(r, "sticky", &f.Sticky, yesNo)(n)
		}},
		key{"order-file", false, func(n ast.Node) {
			order = n
			r.text(n, "order-file", &f.Order)
		}},
		key{"tell", false, embedded(parsed(r, "tell", &f.Tell, yesNo))},
		key{"header-size", false, embedded(parsed(r, "header-size", &f.HeaderSize, size))},
		key{"header-time", false, embedded(parsed(r, "header-time", &f.HeaderTime, duration))},
		key{"idle", false, embedded(parsed(r, "idle", &f.Idle, duration))},
		key{"connections", false, embedded(parsed(r, "connections", &f.Connections, between(1, 1_000_000)))},
		key{"haproxy", false, func(n ast.Node) { r.haproxy(n, f) }},
		key{"nginx", false, func(n ast.Node) { r.nginx(n, f) }},
		key{"httpd", false, func(n ast.Node) { r.httpd(n, f) }},
	)
	kinds := 0
	for _, is := range []bool{f.HAProxy != nil, f.Nginx != nil, f.Httpd != nil} {
		if is {
			kinds++
		}
	}
	if kinds > 1 {
		r.wrong(n, "a front is one system, and several are named", "make front a list with an entry for each")
		return
	}
	if f.Kind() != plan.FrontEmbedded && len(own) > 0 {
		r.wrong(own[0], fmt.Sprintf("this is a setting of the embedded front, and the front is %s", f.Kind()), "set it in the proxy's own configuration")
	}
	if order != nil && !f.Marks() {
		r.wrong(order, fmt.Sprintf("this front (%s) holds the order of going home itself", f.Kind()), "leave order-file out")
	}
	if why, try := cannotSplit(*f); why != "" {
		r.wrong(either(key0, n), why, try)
	}
	if why, try := cannotStick(*f); f.Sticky && why != "" {
		r.wrong(either(sticky, n), why, try)
	}
}

func either(a, b ast.Node) ast.Node {
	if a != nil {
		return a
	}
	return b
}

// cannotSplit says why the front does not split by its key, "" if it does.
func cannotSplit(f plan.Front) (why, try string) {
	k := f.Key
	switch f.Kind() {
	case plan.FrontHAProxy:
		if f.HAProxy.Weighs() && k.From != plan.KeyRandom {
			return fmt.Sprintf("weights choose a server for each request anew, not by %v", k),
				"split by random, or give each side a backend of its own and a map (docs/fronts.md)"
		}
	case plan.FrontNginx:
		if k.From == plan.KeyClient && !slices.Contains([]int{0, 8, 16, 24}, k.Prefix) {
			return fmt.Sprintf("nginx has no client addresses cut to /%d", k.Prefix), "it can be done for client, client /8, client /16 and client /24"
		}
		if k.From == plan.KeyCookie && strings.ContainsAny(k.Name, "-.") {
			return fmt.Sprintf("nginx has no variable for a cookie named %q", k.Name), "a name of letters, digits and _ has one"
		}
	case plan.FrontHttpd:
		if k.From != plan.KeyRandom {
			return fmt.Sprintf("a balancer of httpd chooses a worker for each request anew, not by %v", k), "split by random; sticky keeps sessions where they are"
		}
	}
	return "", ""
}

// cannotStick says why the front has no sticky sessions, "" if it has.
func cannotStick(f plan.Front) (why, try string) {
	byKey := "split by a cookie: who has it keeps the side while the share grows"
	switch {
	case f.Kind() == plan.FrontHAProxy && !f.HAProxy.Weighs():
		return "with a map the configuration chooses the side by the key alone, so no session stays", byKey
	case f.Kind() == plan.FrontNginx:
		return "nginx chooses the side by the key alone, so no session stays", byKey
	case f.Kind() == plan.FrontHttpd && f.Httpd.Manager == "":
		return "an include file starts the balancer anew with each change, so no session is sure to stay", "use the balancer manager, with stickysession in the configuration"
	}
	return "", ""
}

func (r *reader) haproxy(n ast.Node, f *plan.Front) {
	h := &plan.HAProxy{Servers: [2]string{"blue", "green"}}
	f.HAProxy = h
	var one string
	var sides, mapped ast.Node
	r.mapping(n, "haproxy",
		key{"socket", true, func(n ast.Node) { r.text(n, "socket", &h.Socket) }},
		key{"backend", false, parsed(r, "backend", &one, proxyName)},
		key{"backends", false, func(n ast.Node) {
			sides = n
			r.bySide(n, "backends", &h.Backends)
		}},
		key{"servers", false, func(n ast.Node) { r.bySide(n, "servers", &h.Servers) }},
		key{"map", false, func(n ast.Node) {
			mapped = n
			var text string
			if r.text(n, "map", &text) {
				words := strings.Fields(text)
				if len(words) != 2 {
					r.wrong(n, fmt.Sprintf("%q does not name a map and a key in it", text), "write the file as HAProxy's configuration names it, and the key: \"/etc/haproxy/split.map sailings\"")
					return
				}
				h.Map, h.MapKey = words[0], words[1]
			}
		}},
		key{"state-file", false, func(n ast.Node) { r.text(n, "state-file", &h.StateFile) }},
	)
	switch {
	case (one == "") == (sides == nil):
		r.wrong(n, "haproxy needs either the backend with both sides' servers or a backend for each side", `add "backend: NAME", or "backends: {blue: NAME, green: NAME}" and a map`)
	case one != "":
		h.Backends = [2]string{one, one}
		if mapped != nil {
			r.wrong(mapped, "a map chooses between backends, and there is one", `write "backends: {blue: NAME, green: NAME}", or leave the map out`)
		}
		if strings.HasPrefix(h.Servers[0], h.Servers[1]) || strings.HasPrefix(h.Servers[1], h.Servers[0]) {
			r.wrong(n, fmt.Sprintf("servers that begin with %q and with %q cannot be told apart", h.Servers[0], h.Servers[1]), "")
		}
	case mapped == nil:
		r.wrong(sides, "what chooses between the backends is not said", `add the map with the share: "map: /etc/haproxy/split.map sailings"`)
	case h.Backends[0] == h.Backends[1]:
		r.wrong(sides, "both sides have the same backend", `write "backend: NAME" to divide by weights`)
	}
}

// bySide reads one name for each side.
func (r *reader) bySide(n ast.Node, what string, to *[2]string) {
	r.mapping(n, what,
		key{"blue", true, parsed(r, what, &to[split.Blue], proxyName)},
		key{"green", true, parsed(r, what, &to[split.Green], proxyName)})
}

// proxyName parses the name of a backend, server or balancer.
func proxyName(text string) (string, error) {
	if text == "" || strings.ContainsAny(text, " /;#\"'\\\n\t<>") {
		return "", fmt.Errorf("%q cannot be a name at a proxy: want no spaces, quotes, slashes or semicolons", text)
	}
	return text, nil
}

func (r *reader) includedKeys(i *plan.Included) []key {
	return []key{
		{"config", false, func(n ast.Node) { r.text(n, "config", &i.Config) }},
		{"include", false, func(n ast.Node) { r.text(n, "include", &i.File) }},
		{"program", false, func(n ast.Node) { r.command(n, &i.Program) }},
		{"log", false, func(n ast.Node) { r.text(n, "log", &i.Log) }},
	}
}

func (r *reader) nginx(n ast.Node, f *plan.Front) {
	i := &plan.Included{Config: "/etc/nginx/nginx.conf", Program: []string{"nginx"}}
	f.Nginx = i
	r.mapping(n, "nginx", r.includedKeys(i)...)
	if i.File == "" {
		r.wrong(n, `nginx needs "include"`, `name the file that Vaiven writes and the configuration includes: "include: /etc/nginx/vaiven/sailings.conf"`)
	}
}

func (r *reader) httpd(n ast.Node, f *plan.Front) {
	h := &plan.Httpd{Included: plan.Included{Config: "/etc/apache2/apache2.conf", Program: []string{"apachectl"}}}
	f.Httpd = h
	keys := append(r.includedKeys(&h.Included),
		key{"manager", false, parsed(r, "manager", &h.Manager, func(text string) (string, error) {
			if !strings.HasPrefix(text, "http://") && !strings.HasPrefix(text, "https://") {
				return "", fmt.Errorf("%q is not a URL: want that of the balancer manager, such as http://127.0.0.1:8081/balancer-manager", text)
			}
			return text, nil
		})},
		key{"balancer", true, parsed(r, "balancer", &h.Balancer, proxyName)})
	r.mapping(n, "httpd", keys...)
	if (h.Manager == "") == (h.File == "") {
		r.wrong(n, "httpd needs either its balancer manager or an include file", `add "manager: URL", or "include: FILE"`)
	}
}

// prefix parses the "/24" of a client key.
func prefix(text string) (int, bool) {
	n, err := strconv.Atoi(strings.TrimPrefix(text, "/"))
	return n, err == nil && strings.HasPrefix(text, "/") && n >= 1 && n <= 32
}
