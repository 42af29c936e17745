package planfile

import (
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"vaiven/internal/core/plan"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/front/haproxy"
	"vaiven/internal/front/httpd"
	"vaiven/internal/front/include"
	"vaiven/internal/front/nginx"
	"vaiven/internal/world/section"
)

// planWith is the smallest plan with a front.
func planWith(front string) string { return smallest + "front:\n" + front }

func TestFronts(t *testing.T) {
	for _, c := range []struct {
		front string
		kinds string
	}{
		{"  listen: 127.0.0.1:80\n  sticky: yes\n", "embedded"},
		{"  key: client /24\n", "embedded"},
		{"  haproxy: {socket: a.sock, backend: sailings, state-file: s}\n  sticky: yes\n", "haproxy"},
		{"  haproxy: {address: \"127.0.0.1:9\", backend: sailings, state-file: s}\n", "haproxy"},
		{"  key: cookie passenger\n  haproxy: {socket: a.sock, backends: {blue: b, green: g}, map: /etc/split.map " +
			"sailings}\n", "haproxy"},
		{"  key: client /16\n  nginx: {include: s.conf}\n", "nginx"},
		{"  httpd: {balancer: sailings, manager: http://127.0.0.1:1/balancer-manager}\n  sticky: yes\n", "httpd"},
		{"  httpd: {balancer: sailings, include: s.conf}\n", "httpd"},
		{"  - {listen: 127.0.0.1:1}\n  - {listen: 127.0.0.1:2, haproxy: {socket: a, backend: sailings}}\n  - " +
			"{listen: 127.0.0.1:3, nginx: {include: s.conf}}\n", "embedded haproxy nginx"},
	} {
		p, err := Parse("plan", []byte(planWith(c.front)))
		if err != nil {
			t.Errorf("%s%v", c.front, err)
			continue
		}
		var kinds []string
		for _, f := range p.Fronts() {
			kinds = append(kinds, string(f.Kind()))
			config := all.Of(f).Config
			if config == nil {
				continue
			}
			if text := config("line-vessa", f, front.Site{}).Text; !strings.Contains(text, "sailings") &&
				!strings.Contains(text, "vaiven_line_vessa") {
				t.Errorf("%s needs\n%s", f.Name(), text)
			}
		}
		if got := strings.Join(kinds, " "); got != c.kinds {
			t.Errorf("%sis %s", c.front, got)
		}
	}
}

func TestFrontsThatCannotBe(t *testing.T) {
	for text, want := range map[string]string{
		"  key: client\n  haproxy: {socket: a, backend: s}\n":                                      "weights choose a server for each request anew",
		"  haproxy: {socket: a}\n":                                                                 "needs either the backend",
		"  haproxy: {backend: s}\n":                                                                "haproxy needs the socket of its run-time interface, or the address",
		"  haproxy: {socket: a, address: \"127.0.0.1:9\", backend: s}\n":                           "haproxy needs the socket of its run-time interface, or the address",
		"  haproxy: {address: there, backend: s}\n":                                                "is not an address",
		"  haproxy: {address: \"10.1.0.5:9\", backend: s, state-file: f}\n":                        "written here, and HAProxy reads it where it runs",
		"  haproxy: {socket: a, backends: {blue: b, green: g}}\n":                                  "what chooses between the backends",
		"  haproxy: {socket: a, backends: {blue: b, green: b}, map: m k}\n":                        "both sides have the same backend",
		"  haproxy: {socket: a, backend: s, map: m k}\n":                                           "there is one",
		"  haproxy: {socket: a, backend: s, servers: {blue: s, green: s-green}}\n":                 "cannot be told apart",
		"  haproxy: {socket: a, backend: \"s; shutdown\"}\n":                                       "cannot be a name at a proxy",
		"  haproxy: {socket: a, backends: {blue: b, green: g}, map: only}\n":                       "does not name a map and a key",
		"  sticky: yes\n  haproxy: {socket: a, backends: {blue: b, green: g}, map: m k}\n":         "no session stays",
		"  sticky: yes\n  nginx: {include: s, upstream: u}\n":                                      "tells who has a session",
		"  key: client /20\n  nginx: {include: s}\n":                                               "cut to /20",
		"  key: cookie a-b\n  nginx: {include: s}\n":                                               "nginx has no variable",
		"  key: cookie a;b\n":                                                                      "is not a split key",
		"  key: client /40\n":                                                                      "is not a split key",
		"  key: client\n  nginx: {include: s, upstream: a}\n":                                      "chosen for each request anew",
		"  nginx: {include: s, upstream: a, options: [least_conn]}\n":                              "with \"upstream\" it makes none",
		"  httpd: {include: s, balancer: s, parameters: \"a > b\"}\n":                              "no parameters of a BalancerMember",
		"  nginx: {include: s, parameters: \"a; b\"}\n":                                            "no parameters of a server",
		"  nginx: {include: s, options: [\"a; b\"]}\n":                                             "without its semicolon",
		"  nginx: {log: a}\n":                                                                      `nginx needs "include"`,
		"  key: header X\n  httpd: {balancer: s, include: f}\n":                                    "a balancer of httpd chooses",
		"  sticky: yes\n  httpd: {balancer: s, include: f}\n":                                      "no session is sure to stay",
		"  httpd: {balancer: s}\n":                                                                 "either its balancer manager or an include",
		"  httpd: {balancer: s, manager: here}\n":                                                  "is not a URL",
		"  tell: yes\n  nginx: {include: s}\n":                                                     `front has no key "tell"`,
		"  embedded: {tell: maybe}\n":                                                              "want yes or no",
		"  embedded: {trusted-proxies: [10.1.0.0/40]}\n":                                           "neither an address nor a network",
		"  embedded: {body-rate: fast}\n":                                                          "is not a rate",
		"  embedded: {tls: [{certificate: a}]}\n":                                                  `tls needs "key"`,
		"  spare-door: {header: \"a b\"}\n":                                                        "cannot be the name of a header",
		"  spare-door: {listen: here}\n":                                                           "is not an address",
		"  spare-door: {}\n":                                                                       "has no way in",
		"  spare-door: {listen: \"10.1.0.1:81\"}\n  nginx: {include: s}\n":                         "only the embedded front listens",
		"  spare-door: {cookie: a.b}\n  nginx: {include: s}\n":                                     "no variable for a cookie",
		"  spare-door: {header: X_Try}\n  nginx: {include: s}\n":                                   "takes no header",
		"  spare-door: {header: X}\n  haproxy: {socket: s, backend: b}\n":                          "with weights HAProxy has no door",
		"  spare-door: {header: X}\n  httpd: {balancer: s, manager: \"http://10.1.0.1/m\"}\n":      "the balancer manager has no door",
		"  spare-door: {header: X}\n  tool: ./pool\n":                                              "a front of a tool has no door",
		"  embedded: {}\n  nginx: {include: s}\n":                                                  "several are named",
		"  order-file: s\n  embedded: {}\n":                                                        "holds the order of going home itself",
		"  nginx: {include: s}\n  httpd: {balancer: s, include: f}\n":                              "several are named",
		"  - {listen: 127.0.0.1:1}\n  - {listen: 127.0.0.1:1, nginx: {include: s}}\n":              "two fronts listen at",
		"  - {listen: 127.0.0.1:1}\n  - {listen: 127.0.0.1:2}\n":                                   "two of the fronts are embedded",
		"  - {listen: 127.0.0.1:1, key: client}\n  - {listen: 127.0.0.1:2, nginx: {include: s}}\n": "clients would change sides",
		"  []\n": "the list of fronts is empty",
	} {
		_, err := Parse("plan", []byte(planWith(text)))
		var problems section.Problems
		if !errors.As(err, &problems) || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
			continue
		}
		if p := problems.List[0]; p.Line < 9 {
			t.Errorf("%s: the mistake is said to be in line %d", text, p.Line)
		}
	}
}

func TestEveryKeyOfFrontsIsRead(t *testing.T) {
	p, err := Read("testdata/fronts.yaml")
	if err != nil {
		t.Fatal(err)
	}
	base, err := filepath.Abs("testdata")
	if err != nil {
		t.Fatal(err)
	}
	at := func(listen string) plan.Front {
		f := newFront()
		f.Listen = listen
		return f
	}
	want := []plan.Front{at("10.1.0.1:80"), at("10.1.0.2:80"), at("10.1.0.3:80"), at("10.1.0.4:80"), at("10.1.0.5:80"),
		at("10.1.0.7:80"), at("10.1.0.6:80"), at("10.1.0.8:80")}
	want[1].Settings = &haproxy.Settings{Socket: base + "/run/admin.sock", Backends: [2]string{"sailings", "sailings"},
		Servers: [2]string{"b-", "g-"}, StateFile: base + "/run/servers"}
	want[1].Order = base + "/sailings.vaiven/order-2"
	want[2].Settings = &haproxy.Settings{
		Socket: "/run/admin.sock", Backends: [2]string{"sailings-blue", "sailings-green"},
		Servers: [2]string{"blue", "green"},
		Map:     "/etc/haproxy/sailings.map", MapKey: "sailings",
	}
	want[2].Spare = plan.SpareDoor{Cookie: "try", File: base + "/sailings.vaiven/spare.secret"}
	want[3].Settings = &nginx.Settings{Settings: include.Settings{
		Config: base + "/nginx/nginx.conf", File: base + "/nginx/sailings.conf",
		Program: []string{base + "/sbin/nginx", "-g", "daemon on;"},
		Log:     "/var/log/nginx/sailings.log",
	}, Options: []string{"least_conn", "keepalive 16"}}
	included := include.Settings{Config: "/etc/apache2/apache2.conf", Program: []string{"apachectl"}}
	want[4].Settings = &httpd.Settings{Settings: included, Balancer: "sailings",
		Manager: "http://10.1.0.5:81/balancer-manager"}
	want[4].Order = "/run/vaiven/sailings"
	want[4].At = plan.Login{Host: "deploy@10.1.0.5:2222", Identity: base + "/keys/deploy",
		KnownHosts: base + "/keys/known_hosts"}
	included.File = base + "/httpd/sailings.conf"
	want[5].Settings = &haproxy.Settings{Address: "10.1.0.7:9999", Backends: [2]string{"sailings", "sailings"},
		Servers: [2]string{"blue", "green"}}
	want[5].Order = base + "/sailings.vaiven/order-6"
	want[6].Settings = &httpd.Settings{Settings: included, Balancer: "sailings", Parameters: "timeout=30"}
	want[7].Settings = &nginx.Settings{Settings: include.Settings{Config: "/etc/nginx/nginx.conf",
		File: base + "/nginx/within.conf", Program: []string{"nginx"}}, Upstream: "sailings",
		Parameters: "max_fails=3 fail_timeout=5s"}
	if got := p.Fronts(); !reflect.DeepEqual(got, want) {
		t.Errorf("fronts\n%+v\nwant\n%+v", got, want)
	}
}

// A front on another machine is named so that it is found there.
func TestFrontsElsewhere(t *testing.T) {
	const rest = "\nstack: {stands: front}\nsmoke: [{request: /}]\nroute: [100 %]\n"
	for _, c := range []struct{ front, says string }{
		{"at: deploy@gate1", "the embedded front runs beside its plan"}, {"identity: keys/deploy", "and not where"},
		{"at: 'deploy@', haproxy: {socket: /run/a, backend: b}", "is not a machine"},
		{"at: gate1, haproxy: {socket: run/admin.sock, backend: b}", "run/admin.sock is on another machine"},
		{"at: gate1, nginx: {include: sailings.conf}", "sailings.conf is on another machine"},
	} {
		if _, err := Parse("p.yaml",
			[]byte("service: s\nfront: {listen: '10.1.0.1:80', "+c.front+"}"+rest)); err == nil ||
			!strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", c.front, err)
		}
	}
	file := filepath.Join(t.TempDir(), "p.yaml")
	if err := os.WriteFile(file, []byte("service: s\nfront: {listen: '10.1.0.1:80', at: gate1, haproxy: {socket: "+
		"/run/a, backend: b}}"+rest), 0o600); err != nil {
		t.Fatal(err)
	}
	p, err := Read(file)
	if err != nil || p.Front.Order != ".vaiven/s/order" {
		t.Errorf("the order of rolling back is in %q, %v: it belongs beside the front", p.Front.Order, err)
	}
}
