package nginx

import (
	"fmt"
	"os/user"
	"slices"
	"strings"
	"text/template"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/plan"
	"vaiven/internal/front"
	"vaiven/internal/front/include"
	"vaiven/internal/world/place"
	"vaiven/internal/world/section"
)

// Kind is nginx as a front.
var Kind = front.Kind{
	Name: "nginx", Read: read, Program: "nginx", Config: config, Survey: survey,
	Examples: []front.Example{{Text: `  nginx:
    config: proxy/nginx.conf
    include: proxy/sailings.conf
    program: PROGRAM
    log: proxy/access.log
`}},
	Open: func(on place.Machine, p *plan.Plan, f plan.Front) front.Driver { return New(on, p.Service, f) },
}

// Settings is what a plan says of an nginx.
type Settings struct {
	include.Settings
	// The upstream block that the file stands in, with the servers of both sides by weights; "" where the file makes a
	// variable that requests are passed to.
	Upstream   string
	Parameters string   // that each server has there: "max_fails=3 fail_timeout=5s"
	Options    []string // that each side's own block has where there is no upstream: "least_conn"
}

// Kind is the kind's name.
func (s *Settings) Kind() plan.FrontKind { return Kind.Name }

// Behind is the name of what the front sends requests to; "" if the file makes that.
func (s *Settings) Behind() string { return s.Upstream }

// Marks is not for a file, which holds the order too.
func (s *Settings) Marks() bool { return false }

// Compares is never: a file is put in place by whoever writes it last.
func (s *Settings) Compares() bool { return false }

// Reached is by its files.
func (s *Settings) Reached() (addresses []string, byFiles bool) { return nil, true }

// Splits is for every key that nginx has a variable of.
func (s *Settings) Splits(k plan.Key) error {
	switch {
	case s.Upstream != "" && k.From != plan.KeyRandom:
		return section.Mistake{What: fmt.Sprintf("the servers of upstream %s are chosen for each request anew", s.Upstream),
			Try: `leave out "upstream": then the file makes a variable that a key decides`}
	case k.From == plan.KeyClient && !slices.Contains([]int{0, 8, 16, 24}, k.Prefix):
		return section.Mistake{What: fmt.Sprintf("nginx has no client addresses cut to /%d", k.Prefix),
			Try: "it can be done for client, client /8, client /16 and client /24"}
	case k.From == plan.KeyCookie && strings.ContainsAny(k.Name, "-."):
		return section.Mistake{What: fmt.Sprintf("nginx has no variable for a cookie named %q", k.Name),
			Try: "a name of letters, digits and _ has one"}
	}
	return nil
}

// Sticks is for a variable.
func (s *Settings) Sticks() error {
	if s.Upstream == "" {
		return nil
	}
	return section.Mistake{What: fmt.Sprintf("within upstream %s nothing tells who has a session", s.Upstream),
		Try: `leave out "upstream": then the file makes a variable, which can`}
}

// Controls is always.
func (s *Settings) Controls() error { return nil }

// Opens is for headers and cookies that nginx has variables of.
func (s *Settings) Opens(d plan.SpareDoor) error {
	switch {
	case s.Upstream != "" && d.Asks():
		return section.Mistake{What: fmt.Sprintf("within upstream %s nothing tells who knows the secret", s.Upstream),
			Try: `leave out "upstream": then the file makes a variable, which can`}
	case strings.ContainsAny(d.Cookie, "-."):
		return section.Mistake{What: fmt.Sprintf("nginx has no variable for a cookie named %q", d.Cookie),
			Try: "a name of letters, digits and _ has one"}
	case strings.ContainsAny(d.Header, "_."):
		return section.Mistake{What: fmt.Sprintf("nginx takes no header named %q", d.Header),
			Try: "a name of letters, digits and - it does"}
	}
	return front.NoSpareAddress(d)
}

func read(r *section.Reader, n ast.Node) plan.FrontSettings {
	s := &Settings{Settings: include.Settings{Config: "/etc/nginx/nginx.conf", Program: []string{"nginx"}}}
	r.Mapping(n, "nginx", append(s.Keys(r),
		section.May("upstream", func(n ast.Node) { r.Text(n, "upstream", &s.Upstream) }),
		section.May("parameters", func(n ast.Node) {
			r.Text(n, "parameters", &s.Parameters)
			if strings.ContainsAny(s.Parameters, ";{}#\"'\\\n") {
				r.Wrong(n, "these are no parameters of a server of nginx", `such as "max_fails=3 fail_timeout=5s"`)
			}
		}),
		section.May("options", func(n ast.Node) {
			r.Words(n, "options", &s.Options)
			for _, o := range s.Options {
				if strings.ContainsAny(o, ";{}#\n") {
					r.Wrong(n, fmt.Sprintf("%q is no line of an upstream block without its semicolon", o),
						`such as [least_conn, "keepalive 16"]`)
				}
			}
		}))...)
	if s.Upstream != "" && s.Options != nil {
		r.Wrong(n, `"options" are for the blocks that the file makes, and with "upstream" it makes none`,
			"leave them out: the block has them itself")
	}
	if s.File == "" {
		r.Wrong(n, `nginx needs "include"`,
			`name the file that Vaiven writes and the configuration includes: "include: /etc/nginx/vaiven/sailings.conf"`)
	}
	return s
}

var configText = template.Must(template.New("").Parse(`{{with .Folder}}worker_processes 2;
daemon off;
user {{$.User}};
pid {{.}}/nginx.pid;
error_log {{.}}/error.log;
events { worker_connections 4000; }
{{end}}http {
{{- with .Folder}}
    client_body_temp_path {{.}}/body;
    proxy_temp_path {{.}}/proxy;
    fastcgi_temp_path {{.}}/fastcgi;
    uwsgi_temp_path {{.}}/uwsgi;
    scgi_temp_path {{.}}/scgi;
{{- end}}
{{- if .Upstream}}
    {{.Format}}    upstream {{.Upstream}} {
        include {{.File}};
    }
{{- end}}
    map $http_upgrade ${{.Variable}}_connection { default upgrade; "" ""; }
{{- if not .Upstream}}
    include {{.File}};    # unless a pattern such as conf.d/*.conf includes it
{{- end}}
    server {
        listen {{.Listen}};
{{- if .Sticky}}
        add_header Set-Cookie ${{.Variable}}_begins;    # also where there are headers of a location's own
{{- end}}
        access_log {{with .Log}}{{.}} {{$.Variable}}{{else}}off{{end}};
        location / {
            proxy_pass http://{{or .Upstream (print "$" .Variable)}};
            proxy_http_version 1.1;
            proxy_set_header Upgrade $http_upgrade;
            proxy_set_header Connection ${{.Variable}}_connection;
            proxy_set_header Host $http_host;
            proxy_set_header X-Forwarded-For $proxy_add_x_forwarded_for;
            proxy_set_header X-Forwarded-Proto $scheme;
{{- with .Spare.Header}}
            proxy_set_header {{.}} "";
{{- end}}
        }
    }
}
`))

func config(service string, f plan.Front, s front.Site) front.Config {
	name := "root"
	if me, err := user.Current(); err == nil {
		name = me.Username
	}
	return s.Config(configText, struct {
		*Settings
		Variable, Listen, Folder, User, Format string
		Sticky                                 bool
		Spare                                  plan.SpareDoor
	}{f.Settings.(*Settings), front.Variable(service), f.Listen, s.Folder, name,
		logFormat(front.Variable(service), "", "", ""), f.Sticky, f.Spare}, "nginx.conf", "-c")
}
