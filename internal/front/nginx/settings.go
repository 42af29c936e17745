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
type Settings struct{ include.Settings }

// Kind is the kind's name.
func (s *Settings) Kind() plan.FrontKind { return Kind.Name }

// Marks is not for a file, which holds the order too.
func (s *Settings) Marks() bool { return false }

// Splits is for every key that nginx has a variable of.
func (s *Settings) Splits(k plan.Key) error {
	switch {
	case k.From == plan.KeyClient && !slices.Contains([]int{0, 8, 16, 24}, k.Prefix):
		return section.Mistake{What: fmt.Sprintf("nginx has no client addresses cut to /%d", k.Prefix),
			Try: "it can be done for client, client /8, client /16 and client /24"}
	case k.From == plan.KeyCookie && strings.ContainsAny(k.Name, "-."):
		return section.Mistake{What: fmt.Sprintf("nginx has no variable for a cookie named %q", k.Name),
			Try: "a name of letters, digits and _ has one"}
	}
	return nil
}

// Sticks is never.
func (s *Settings) Sticks() error {
	return section.Mistake{
		What: "nginx chooses the side by the key alone, so no session stays",
		Try:  "split by a cookie: who has it keeps the side while the share grows",
	}
}

// Controls is always.
func (s *Settings) Controls() error { return nil }

// Opens is for headers and cookies that nginx has variables of.
func (s *Settings) Opens(d plan.SpareDoor) error {
	switch {
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
	s := &Settings{include.Settings{Config: "/etc/nginx/nginx.conf", Program: []string{"nginx"}}}
	r.Mapping(n, "nginx", s.Keys(r)...)
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
    map $http_upgrade ${{.Variable}}_connection { default upgrade; "" ""; }
    include {{.File}};    # unless a pattern such as conf.d/*.conf includes it
    server {
        listen {{.Listen}};
        access_log {{with .Log}}{{.}} {{$.Variable}}{{else}}off{{end}};
        location / {
            proxy_pass http://${{.Variable}};
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
		Variable, Listen, Folder, User string
		Spare                          plan.SpareDoor
	}{f.Settings.(*Settings), front.Variable(service), f.Listen, s.Folder, name, f.Spare}, "nginx.conf", "-c")
}
