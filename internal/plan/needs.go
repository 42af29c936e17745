package plan

import (
	"fmt"
	"strings"
	"text/template"
)

// Needs are the lines that a front's configuration needs for Vaiven to steer it, "" for
// the embedded one.
func (f Front) Needs(service string) string {
	var t *template.Template
	switch f.Kind() {
	case FrontNginx:
		t = nginxNeeds
	case FrontHAProxy:
		t = haproxyNeeds
	case FrontHttpd:
		t = httpdNeeds
	default:
		return ""
	}
	var b strings.Builder
	err := t.Execute(&b, map[string]any{
		"Front": f, "Nginx": f.Nginx, "HAProxy": f.HAProxy, "Httpd": f.Httpd,
		"Service": service, "Variable": "vaiven_" + strings.ReplaceAll(service, "-", "_"), "Place": f.Key.place(),
	})
	if err != nil {
		panic(err) // the templates are constant, and the values are there
	}
	return b.String()
}

// place is how HAProxy's configuration finds the place of a key among 10000: below the
// share on green it is green, so that green's part only grows with the share. Who has no
// such cookie or header goes by the address; no request is without a place, since it
// would be blue whatever the share.
func (k Key) place() []string {
	if k.From == KeyRandom {
		return []string{"rand(10000)"}
	}
	address := "src"
	if k.Prefix > 0 {
		address += fmt.Sprintf(",ipmask(%d,%d)", k.Prefix, 2*k.Prefix)
	}
	places := []string{address + ",xxh32,mod(10000)"}
	field := map[KeySource]string{KeyCookie: "req.cook", KeyHeader: "req.hdr"}[k.From]
	if field != "" {
		field += "(" + k.Name + ")"
		places = append(places, fmt.Sprintf("%s,xxh32,mod(10000) if { %s -m found }", field, field))
	}
	return places
}

var haproxyNeeds = template.Must(template.New("").Parse(`global
    stats socket {{.HAProxy.Socket}} level admin
    server-state-file {{or .HAProxy.StateFile "STATE-FILE"}}
defaults
    option idle-close-on-response
    load-server-state-from-file global
{{if .HAProxy.Weighs}}backend {{index .HAProxy.Backends 0}}
    balance roundrobin
{{- if .Front.Sticky}}
    dynamic-cookie-key {{.Service}}
    cookie {{.Service}}-session insert indirect nocache dynamic
{{- end}}
{{- range .HAProxy.Servers}}
    server-template {{.}} 10 127.0.0.1:1 disabled
{{- end}}
{{else}}frontend ...
    http-request set-var(txn.share) str({{.HAProxy.MapKey}}),map({{.HAProxy.Map}},0)
{{- range .Place}}
    http-request set-var(txn.place) {{.}}
{{- end}}
    acl on_green var(txn.place),sub(txn.share) -m int lt 0
    use_backend {{index .HAProxy.Backends 1}} if on_green
    default_backend {{index .HAProxy.Backends 0}}
{{- range .HAProxy.Backends}}
backend {{.}}
    server-template s 10 127.0.0.1:1 disabled
{{- end}}
{{end}}`))

var nginxNeeds = template.Must(template.New("").Parse(`http {
    include {{.Nginx.File}};    # unless a pattern such as conf.d/*.conf includes it
    server {
        listen {{.Front.Listen}};
{{- with .Nginx.Log}}
        access_log {{.}} {{$.Variable}};
{{- end}}
        location / {
            proxy_pass http://${{.Variable}};
            proxy_http_version 1.1;
            proxy_set_header Connection "";
            proxy_set_header Host $host;
        }
    }
}
`))

var httpdNeeds = template.Must(template.New("").Parse(`{{if .Httpd.Manager}}<Proxy "balancer://{{.Httpd.Balancer}}">
    # One for every address that an instance may have. max for the instances of both sides together
    # is less than ThreadsPerChild, and acquire (ms) is short: instances that hang leave workers for
    # the manager. retry (s): who is busy for longer than that gets requests again soon.
    BalancerMember "http://HOST:PORT" status=+D max=4 acquire=250 retry=1 connectiontimeout=2 timeout=60
    ProxySet lbmethod=byrequests{{if .Front.Sticky}} stickysession={{.Service}}-session{{end}}
</Proxy>
{{if .Front.Sticky}}Header add Set-Cookie "{{.Service}}-session=s.%{BALANCER_WORKER_ROUTE}e; path=/" env=BALANCER_ROUTE_CHANGED
{{end}}# In the same virtual host as ProxyPass: a reload by anybody keeps what the manager was told.
BalancerPersist On
ProxyPass "/balancer-manager" "!"
ProxyPass "/" "balancer://{{.Httpd.Balancer}}/"
<Location "/balancer-manager">
    SetHandler balancer-manager
    Require local
</Location>
LogFormat "{\"at\":\"%{sec}t.%{usec_frac}t\",\"client\":\"%a\",\"method\":\"%m\",\"path\":\"%U%q\",\"status\":\"%>s\",\"upstream\":\"%{BALANCER_WORKER_NAME}e\",\"route\":\"%{BALANCER_WORKER_ROUTE}e\",\"statuses\":\"%>s\",\"us\":\"%D\"}" {{.Variable}}
{{else}}# Without BalancerPersist On, which would put the shares of before over those of the file.
# Unless a pattern such as conf-enabled/*.conf includes it:
Include {{.Httpd.File}}
ProxyPass "/" "balancer://{{.Httpd.Balancer}}/"
{{end}}CustomLog {{or .Httpd.Log "LOG"}} {{.Variable}}
`))
