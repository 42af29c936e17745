package planfile

import (
	"errors"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"vaiven/internal/plan"
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
		{"  key: cookie passenger\n  haproxy: {socket: a.sock, backends: {blue: b, green: g}, map: /etc/split.map sailings}\n", "haproxy"},
		{"  key: client /16\n  nginx: {include: s.conf}\n", "nginx"},
		{"  httpd: {balancer: sailings, manager: http://127.0.0.1:1/balancer-manager}\n  sticky: yes\n", "httpd"},
		{"  httpd: {balancer: sailings, include: s.conf}\n", "httpd"},
		{"  - {listen: 127.0.0.1:1}\n  - {listen: 127.0.0.1:2, haproxy: {socket: a, backend: sailings}}\n  - {listen: 127.0.0.1:3, nginx: {include: s.conf}}\n", "embedded haproxy nginx"},
	} {
		p, err := Parse("plan", []byte(planWith(c.front)))
		if err != nil {
			t.Errorf("%s%v", c.front, err)
			continue
		}
		var kinds []string
		for _, f := range p.Fronts() {
			kinds = append(kinds, string(f.Kind()))
			if f.Kind() != plan.FrontEmbedded && !strings.Contains(f.Needs("line-vessa"), "sailings") && !strings.Contains(f.Needs("line-vessa"), "vaiven_line_vessa") {
				t.Errorf("%s needs\n%s", f.Name(), f.Needs("line-vessa"))
			}
		}
		if got := strings.Join(kinds, " "); got != c.kinds {
			t.Errorf("%sis %s", c.front, got)
		}
	}
}

func TestFrontsThatCannotBe(t *testing.T) {
	for front, want := range map[string]string{
		"  key: client\n  haproxy: {socket: a, backend: s}\n":                                      "weights choose a server for each request anew",
		"  haproxy: {socket: a}\n":                                                                 "needs either the backend",
		"  haproxy: {backend: s}\n":                                                                `haproxy needs "socket"`,
		"  haproxy: {socket: a, backends: {blue: b, green: g}}\n":                                  "what chooses between the backends",
		"  haproxy: {socket: a, backends: {blue: b, green: b}, map: m k}\n":                        "both sides have the same backend",
		"  haproxy: {socket: a, backend: s, map: m k}\n":                                           "there is one",
		"  haproxy: {socket: a, backend: s, servers: {blue: s, green: s-green}}\n":                 "cannot be told apart",
		"  haproxy: {socket: a, backend: \"s; shutdown\"}\n":                                       "cannot be a name at a proxy",
		"  haproxy: {socket: a, backends: {blue: b, green: g}, map: only}\n":                       "does not name a map and a key",
		"  sticky: yes\n  haproxy: {socket: a, backends: {blue: b, green: g}, map: m k}\n":         "no session stays",
		"  sticky: yes\n  nginx: {include: s}\n":                                                   "no session stays",
		"  key: client /20\n  nginx: {include: s}\n":                                               "cut to /20",
		"  key: cookie a-b\n  nginx: {include: s}\n":                                               "nginx has no variable",
		"  key: cookie a;b\n":                                                                      "is not a split key",
		"  key: client /40\n":                                                                      "is not a split key",
		"  nginx: {log: a}\n":                                                                      `nginx needs "include"`,
		"  key: header X\n  httpd: {balancer: s, include: f}\n":                                    "a balancer of httpd chooses",
		"  sticky: yes\n  httpd: {balancer: s, include: f}\n":                                      "no session is sure to stay",
		"  httpd: {balancer: s}\n":                                                                 "either its balancer manager or an include",
		"  httpd: {balancer: s, manager: here}\n":                                                  "is not a URL",
		"  tell: yes\n  nginx: {include: s}\n":                                                     "a setting of the embedded front",
		"  nginx: {include: s}\n  httpd: {balancer: s, include: f}\n":                              "several are named",
		"  - {listen: 127.0.0.1:1}\n  - {listen: 127.0.0.1:1, nginx: {include: s}}\n":              "two fronts listen at",
		"  - {listen: 127.0.0.1:1}\n  - {listen: 127.0.0.1:2}\n":                                   "two of the fronts are embedded",
		"  - {listen: 127.0.0.1:1, key: client}\n  - {listen: 127.0.0.1:2, nginx: {include: s}}\n": "clients would change sides",
		"  []\n": "the list of fronts is empty",
	} {
		_, err := Parse("plan", []byte(planWith(front)))
		var problems Problems
		if !errors.As(err, &problems) || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", front, err, want)
			continue
		}
		if p := problems.List[0]; p.Line < 9 {
			t.Errorf("%s: the mistake is said to be in line %d", front, p.Line)
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
	front := func(listen string) plan.Front {
		f := newFront()
		f.Listen = listen
		return f
	}
	want := []plan.Front{front("10.1.0.1:80"), front("10.1.0.2:80"), front("10.1.0.3:80"), front("10.1.0.4:80"), front("10.1.0.5:80"), front("10.1.0.6:80")}
	want[1].HAProxy = &plan.HAProxy{Socket: base + "/run/admin.sock", Backends: [2]string{"sailings", "sailings"}, Servers: [2]string{"b-", "g-"}, StateFile: base + "/run/servers"}
	want[1].Order = base + "/sailings.vaiven/order-2"
	want[2].HAProxy = &plan.HAProxy{
		Socket: "/run/admin.sock", Backends: [2]string{"sailings-blue", "sailings-green"}, Servers: [2]string{"blue", "green"},
		Map: "/etc/haproxy/split.map", MapKey: "sailings",
	}
	want[3].Nginx = &plan.Included{
		Config: base + "/nginx/nginx.conf", File: base + "/nginx/sailings.conf", Program: []string{base + "/sbin/nginx", "-g", "daemon on;"},
		Log: "/var/log/nginx/sailings.log",
	}
	httpd := plan.Included{Config: "/etc/apache2/apache2.conf", Program: []string{"apachectl"}}
	want[4].Httpd = &plan.Httpd{Included: httpd, Balancer: "sailings", Manager: "http://10.1.0.5:81/balancer-manager"}
	want[4].Order = "/run/vaiven/sailings"
	httpd.File = base + "/httpd/sailings.conf"
	want[5].Httpd = &plan.Httpd{Included: httpd, Balancer: "sailings"}
	if got := p.Fronts(); !reflect.DeepEqual(got, want) {
		t.Errorf("fronts\n%+v\nwant\n%+v", got, want)
	}
}
