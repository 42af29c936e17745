package httpd

import (
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"
	"text/template"

	"github.com/goccy/go-yaml/ast"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/include"
	"vaiven/internal/world/place"
	"vaiven/internal/world/section"
)

// Kind is Apache httpd as a front.
var Kind = front.Kind{
	Name: "httpd", Read: read, Program: "apache2", Config: config, Survey: survey,
	Examples: []front.Example{
		{Way: "manager", Text: `  httpd:
    config: proxy/httpd.conf
    program: PROGRAM
    balancer: sailings
    manager: http://ADDRESS/balancer-manager
    log: proxy/access.log
`},
		{Way: "include", Text: `  httpd:
    config: proxy/httpd.conf
    program: PROGRAM
    balancer: sailings
    include: proxy/sailings.conf
    log: proxy/access.log
`},
	},
	Open: func(on place.Machine, p *plan.Plan, f plan.Front) front.Driver {
		if f.Settings.(*Settings).managed() {
			m := NewManager(on, f)
			m.stands = front.Standing(p)
			return m
		}
		return NewIncluded(on, p.Service, f)
	},
}

// Settings is what a plan says of an httpd: steered through its balancer manager if it has a
// URL, by a file of ours otherwise.
type Settings struct {
	include.Settings
	Manager  string // URL of the balancer manager
	Balancer string // name of the balancer
	// Parameters that each member has in the include file: "timeout=30 retry=5"
	Parameters string
}

func (s *Settings) managed() bool { return s.Manager != "" }

// Kind is the kind's name.
func (s *Settings) Kind() plan.FrontKind { return Kind.Name }

// Behind is the name of what the front sends requests to.
func (s *Settings) Behind() string { return s.Balancer }

// Marks is for the manager, which holds nothing but factors.
func (s *Settings) Marks() bool { return s.managed() }

// Compares is never: factors are as whoever sets them last has them, and so is a file.
func (s *Settings) Compares() bool { return false }

// Reached is at the manager, and by its files.
func (s *Settings) Reached() (addresses []string, byFiles bool) {
	if s.managed() {
		addresses = append(addresses, s.Manager)
	}
	return addresses, true
}

// Splits is at random only.
func (s *Settings) Splits(k plan.Key) error {
	if k.From == plan.KeyRandom {
		return nil
	}
	return section.Mistake{
		What: fmt.Sprintf("a balancer of httpd chooses a worker for each request anew, not by %v", k),
		Try:  "split by random; sticky keeps sessions where they are",
	}
}

// Sticks is for the manager only.
func (s *Settings) Sticks() error {
	if s.managed() {
		return nil
	}
	return section.Mistake{
		What: "an include file starts the balancer anew with each change, so no session is sure to stay",
		Try:  "use the balancer manager, with stickysession in the configuration",
	}
}

// Controls is always.
func (s *Settings) Controls() error { return nil }

// Opens is for the include file.
func (s *Settings) Opens(d plan.SpareDoor) error {
	if s.managed() {
		return section.Mistake{What: "the balancer manager has no door of its own to the spare side",
			Try: "steer httpd by an include file, or leave spare-door out"}
	}
	return front.NoSpareAddress(d)
}

func read(r *section.Reader, n ast.Node) plan.FrontSettings {
	s := &Settings{Settings: include.Settings{Config: "/etc/apache2/apache2.conf", Program: []string{"apachectl"}}}
	r.Mapping(n, "httpd", append(s.Keys(r),
		section.May("manager", section.Parsed(r, "manager", &s.Manager, func(text string) (string, error) {
			if !strings.HasPrefix(text, "http://") && !strings.HasPrefix(text, "https://") {
				return "", fmt.Errorf("%q is not a URL: want that of the balancer manager, such as "+
					"http://127.0.0.1:8081/balancer-manager", text)
			}
			return text, nil
		})),
		section.May("parameters", func(n ast.Node) {
			r.Text(n, "parameters", &s.Parameters)
			if strings.ContainsAny(s.Parameters, "<>#\\\n") {
				r.Wrong(n, "these are no parameters of a BalancerMember", `such as "timeout=30 retry=5"`)
			}
		}),
		section.Need("balancer", section.Parsed(r, "balancer", &s.Balancer, section.ProxyName)))...)
	if (s.Manager == "") == (s.File == "") {
		r.Wrong(n, "httpd needs either its balancer manager or an include file",
			`add "manager: URL", or "include: FILE"`)
	}
	return s
}

var configText = template.Must(template.New("").Parse(`{{with .Folder}}ServerRoot {{.}}
ServerName {{$.Service}}.test
PidFile {{.}}/httpd.pid
DefaultRuntimeDir {{.}}
Mutex file:{{.}} default
{{if $.Root}}User nobody
Group nogroup
{{end}}LoadModule mpm_event_module {{$.Modules}}/mod_mpm_event.so
LoadModule authz_core_module {{$.Modules}}/mod_authz_core.so
LoadModule authz_host_module {{$.Modules}}/mod_authz_host.so
LoadModule headers_module {{$.Modules}}/mod_headers.so
LoadModule proxy_module {{$.Modules}}/mod_proxy.so
LoadModule proxy_http_module {{$.Modules}}/mod_proxy_http.so
LoadModule proxy_balancer_module {{$.Modules}}/mod_proxy_balancer.so
LoadModule lbmethod_byrequests_module {{$.Modules}}/mod_lbmethod_byrequests.so
LoadModule slotmem_shm_module {{$.Modules}}/mod_slotmem_shm.so
{{if $.Spare.Asks}}LoadModule setenvif_module {{$.Modules}}/mod_setenvif.so
LoadModule rewrite_module {{$.Modules}}/mod_rewrite.so
{{end}}ErrorLog {{.}}/error.log
Listen {{$.Listen}}
{{with $.At}}Listen {{.}}
{{end}}KeepAlive On
MaxKeepAliveRequests 0
KeepAliveTimeout 60
StartServers 2
ThreadsPerChild 64
MaxRequestWorkers 256
{{else}}# Modules: a2enmod proxy proxy_http proxy_balancer lbmethod_byrequests slotmem_shm headers{{if .Spare.Asks}} setenvif rewrite{{end}}
{{end}}{{if .Manager -}}
{{.Format}}
<Proxy "balancer://{{.Balancer}}">
    # One for every address that an instance may have. max for the instances of both sides together
    # is less than ThreadsPerChild, and acquire (ms) is short: instances that hang leave workers for
    # the manager. retry (s): who is busy for longer than that gets requests again soon.
{{- range $side, $list := .Standing}}
{{- range $list}}
    BalancerMember "http://{{.Address}}" route={{.Name}}{{if ne $side $.Live}} status=+D{{end}} upgrade=ANY max={{$.Most}} {{$.Needs}}
{{- end}}
{{- end}}
{{- range .Members}}
    BalancerMember "http://{{.}}" status=+D upgrade=ANY max={{$.Most}} {{$.Needs}}
{{- end}}
    ProxySet lbmethod=byrequests{{if .Sticky}} stickysession={{.Service}}-session{{end}}
</Proxy>
{{else -}}
# Without BalancerPersist On, which would put the shares of before over those of the file.
# Unless a pattern such as conf-enabled/*.conf includes it:
Include {{.File}}
{{end}}<VirtualHost {{.Listen}}>
{{- if .Manager}}
    # Here, beside ProxyPass: a reload by anybody keeps what the manager was told.
    BalancerPersist On
{{- if .Sticky}}
    {{.Begins}}
{{- end}}
{{- end}}
    ProxyPreserveHost On
{{- if .Spare.Asks}}
    # The spare side's own door, for those who know the secret.
    RewriteEngine On
    RewriteCond %{ENV:{{.Variable}}_knows} =yes
    RewriteRule "^/(.*)$" "balancer://{{.Balancer}}-spare/$1" [P]
{{- end}}
    ProxyPass "/" "balancer://{{.Balancer}}/"
{{- with .Log}}
    CustomLog {{.}} {{$.Variable}}
{{- end}}
</VirtualHost>
{{if .Manager}}<VirtualHost {{.At}}>
    <Location "{{.Path}}">
        SetHandler balancer-manager
        Require local
    </Location>
</VirtualHost>
{{end}}`))

// managedFormat is the line with the format of the log in which the requests of a balancer with a manager are counted.
func managedFormat(service string) string {
	return `LogFormat "{\"at\":\"%{sec}t.%{usec_frac}t\",\"client\":\"%a\",\"method\":\"%m\",\"path\":\"%U%q\",\"status\":\"%>s\",\"upstream\":\"%{BALANCER_WORKER_NAME}e\",\"route\":\"%{BALANCER_WORKER_ROUTE}e\",\"statuses\":\"%>s\",\"us\":\"%D\",\"length\":\"%{Content-Length}o\",\"sent\":\"%B\",\"done\":\"%X\",\"agent\":\"%{User-Agent}i\"}" ` +
		front.Variable(service)
}

// memberNeeds are what a member needs, beside max, so that instances which hang leave workers to the manager.
var memberNeeds = []string{"acquire=250", "retry=1", "connectiontimeout=2", "timeout=60"}

// beginning is the line by which a client is given its session.
func beginning(service string) string {
	return fmt.Sprintf(`Header add Set-Cookie "%s-session=s.%%{BALANCER_WORKER_ROUTE}e; path=/" env=BALANCER_ROUTE_CHANGED`,
		service)
}

// moduleFolders are where httpd's modules may be.
var moduleFolders = []string{"/usr/lib/apache2/modules", "/usr/lib64/httpd/modules"}

func config(service string, f plan.Front, site front.Site) front.Config {
	s := f.Settings.(*Settings)
	values := struct {
		*Settings
		Service, Variable, Listen, Folder, Modules, At, Path string
		Sticky, Root                                         bool
		Format, Begins, Needs                                string
		Members                                              []string
		Most, Live                                           int
		Standing                                             [2][]reading.Server
		Spare                                                plan.SpareDoor
	}{
		Spare: f.Spare, Format: managedFormat(service), Begins: beginning(service),
		Needs:    strings.Join(memberNeeds, " "),
		Settings: s, Service: service, Variable: front.Variable(service), Listen: f.Listen, Folder: site.Folder,
		Modules: moduleFolders[0],
		Sticky:  f.Sticky, Root: os.Getuid() == 0, Members: site.Members, Most: 4, Live: int(site.Standing.Live()),
	}
	for _, folder := range moduleFolders {
		if _, err := os.Stat(folder); err == nil {
			values.Modules = folder
		}
	}
	if u, err := url.Parse(s.Manager); err == nil && s.managed() {
		values.At, values.Path = u.Host, u.Path
	}
	if site.Slots > 0 {
		values.Most = max(60/(2*site.Slots), 1)
	}
	for _, side := range split.Sides {
		for _, i := range site.Standing[side] {
			i.Name = routeOf(side, i.Name)
			values.Standing[side] = append(values.Standing[side], i)
		}
	}
	values.Members = slices.DeleteFunc(slices.Clone(values.Members), func(m string) bool {
		return slices.ContainsFunc(append(values.Standing[0], values.Standing[1]...),
			func(i reading.Server) bool { return i.Address == m })
	})
	if len(site.Members) == 0 {
		values.Members = []string{"HOST:PORT"}
	}
	return site.Config(configText, values, "httpd.conf", "-D", "FOREGROUND", "-f")
}
