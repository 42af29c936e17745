package demo

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"time"

	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/keeper"
	"vaiven/internal/plan"
)

// Fronts are the fronts that the demo can be seen with.
var Fronts = []plan.FrontKind{plan.FrontEmbedded, plan.FrontHAProxy, plan.FrontNginx, plan.FrontHttpd}

// frontPlan is what the demo's plan says of a front, and where its files are.
func (s *Scenario) frontPlan(kind plan.FrontKind, include bool) string {
	if kind == plan.FrontHttpd && include {
		return "  httpd:\n    config: proxy/httpd.conf\n    include: proxy/sailings.conf\n    balancer: sailings\n    program: " + program("apache2") + "\n    log: proxy/access.log\n"
	}
	switch kind {
	case plan.FrontHAProxy:
		return "  haproxy:\n    socket: proxy/admin.sock\n    backend: sailings\n    servers: {blue: blue, green: green}\n    state-file: proxy/servers\n"
	case plan.FrontNginx:
		return "  nginx:\n    config: proxy/nginx.conf\n    include: proxy/sailings.conf\n    program: " + program("nginx") + "\n    log: proxy/access.log\n"
	case plan.FrontHttpd:
		return "  httpd:\n    config: proxy/httpd.conf\n    program: " + program("apache2") + "\n    balancer: sailings\n    manager: http://MANAGER/balancer-manager\n    log: proxy/access.log\n"
	}
	return ""
}

// program is the path of a server's program, which may stand where users do not look.
func program(name string) string {
	if path, err := exec.LookPath(name); err == nil {
		return path
	}
	return "/usr/sbin/" + name
}

const haproxyConfig = `global
	stats socket FOLDER/admin.sock level admin mode 600
	server-state-file FOLDER/servers
defaults
	mode http
	timeout connect 2s
	timeout client 75s
	timeout server 75s
	option idle-close-on-response
	option redispatch
	load-server-state-from-file global
frontend sailings
	bind LISTEN
	default_backend sailings
backend sailings
	balance roundrobin
	server-template blue 6 127.0.0.1:1 disabled
	server-template green 6 127.0.0.1:1 disabled
`

const nginxConfig = `worker_processes 2;
daemon off;
user USER;
pid FOLDER/nginx.pid;
error_log FOLDER/error.log;
events { worker_connections 1024; }
http {
	client_body_temp_path FOLDER/body;
	proxy_temp_path FOLDER/proxy;
	fastcgi_temp_path FOLDER/fastcgi;
	uwsgi_temp_path FOLDER/uwsgi;
	scgi_temp_path FOLDER/scgi;
	include FOLDER/sailings.conf;
	server {
		listen LISTEN;
		access_log FOLDER/access.log vaiven_sailings;
		location / {
			proxy_pass http://$vaiven_sailings;
			proxy_http_version 1.1;
			proxy_set_header Connection "";
			proxy_set_header Host $host;
		}
	}
}
`

const httpdBalancer = `<Proxy "balancer://sailings">
MEMBERS	ProxySet lbmethod=byrequests
</Proxy>
`

const httpdConfig = `ServerRoot FOLDER
ServerName sailings.test
PidFile FOLDER/httpd.pid
DefaultRuntimeDir FOLDER
Mutex file:FOLDER default
USER
LoadModule mpm_event_module MODULES/mod_mpm_event.so
LoadModule authz_core_module MODULES/mod_authz_core.so
LoadModule proxy_module MODULES/mod_proxy.so
LoadModule proxy_http_module MODULES/mod_proxy_http.so
LoadModule proxy_balancer_module MODULES/mod_proxy_balancer.so
LoadModule lbmethod_byrequests_module MODULES/mod_lbmethod_byrequests.so
LoadModule slotmem_shm_module MODULES/mod_slotmem_shm.so
ErrorLog FOLDER/error.log
Listen LISTEN
Listen MANAGER
KeepAlive On
MaxKeepAliveRequests 0
KeepAliveTimeout 60
ThreadsPerChild 64
StartServers 2
MaxRequestWorkers 256
LogFormat "{\"at\":\"%{sec}t.%{usec_frac}t\",\"client\":\"%a\",\"status\":\"%>s\",\"upstream\":\"%{BALANCER_WORKER_NAME}e\",\"route\":\"%{BALANCER_WORKER_ROUTE}e\",\"statuses\":\"%>s\",\"us\":\"%D\"}" vaiven_sailings
BOTHSIDES<VirtualHost LISTEN>
	BalancerPersist On
	ProxyPass / balancer://sailings/
	CustomLog FOLDER/access.log vaiven_sailings
</VirtualHost>
<VirtualHost MANAGER>
	<Location /balancer-manager>
		SetHandler balancer-manager
	</Location>
</VirtualHost>
`

// startFront starts the demo's front with a configuration of its own.
func (s *Scenario) startFront(ctx context.Context, o Options) error {
	f := s.Plan.Front
	if f.Kind() == plan.FrontEmbedded {
		return s.start("front.log", o.Program, "front", s.File)
	}
	folder := filepath.Join(s.Folder, "proxy")
	name := map[plan.FrontKind]string{plan.FrontHAProxy: "haproxy", plan.FrontNginx: "nginx", plan.FrontHttpd: "apache2"}[f.Kind()]
	path := program(name)
	if _, err := os.Stat(path); err != nil {
		return fmt.Errorf("the front %s is not installed: there is no program %s", f.Kind(), name)
	}
	// The proxies' workers may be other users, who have to reach their folder.
	if err := errors.Join(os.Chmod(s.Folder, 0o755), os.MkdirAll(folder, 0o755)); err != nil {
		return err
	}
	me, err := user.Current()
	if err != nil {
		return err
	}
	var members strings.Builder
	for port := s.ports[0]; port <= s.ports[1]; port++ {
		fmt.Fprintf(&members, "\tBalancerMember \"http://127.0.0.1:%d\" status=+D max=7 acquire=250 retry=1 connectiontimeout=2 timeout=60\n", port)
	}
	text, user, args := haproxyConfig, me.Username, []string{"-W", "-db", "-f"}
	manager := ""
	switch f.Kind() {
	case plan.FrontNginx:
		text, args = nginxConfig, []string{"-c"}
	case plan.FrontHttpd:
		text, user, args = httpdConfig, "", []string{"-D", "FOREGROUND", "-f"}
		if os.Getuid() == 0 {
			user = "User nobody\nGroup nogroup"
		}
		manager = strings.TrimSuffix(strings.TrimPrefix(f.Httpd.Manager, "http://"), "/balancer-manager")
		balancer := httpdBalancer
		if f.Httpd.File != "" { // the include file has it, and nobody manages
			balancer = "Include FOLDER/sailings.conf\n"
			text = strings.ReplaceAll(text, "Listen MANAGER\n", "")
			text, _, _ = strings.Cut(text, "<VirtualHost MANAGER>")
			text = strings.ReplaceAll(text, "\tBalancerPersist On\n", "") // it would put the shares of before over the file's
		}
		text = strings.ReplaceAll(text, "BOTHSIDES", balancer)
	}
	file := filepath.Join(folder, map[plan.FrontKind]string{plan.FrontHAProxy: "haproxy.cfg", plan.FrontNginx: "nginx.conf", plan.FrontHttpd: "httpd.conf"}[f.Kind()])
	text = strings.NewReplacer("FOLDER", folder, "LISTEN", f.Listen, "USER", user, "MODULES", "/usr/lib/apache2/modules", "MANAGER", manager,
		"MEMBERS", members.String()).Replace(text)
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		return err
	}
	driver := all.Open(s.Plan)
	if d, ok := driver.(front.Preparer); ok {
		if _, err := d.Prepare(context.Background()); err != nil {
			return err
		}
	}
	if err := s.start("front.log", path, append(args, file)...); err != nil {
		return err
	}
	return s.awaitFront(ctx, f.Listen, driver)
}

// awaitFront waits until the front takes connections and can be steered.
func (s *Scenario) awaitFront(ctx context.Context, address string, driver keeper.Front) error {
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	for {
		conn, err := net.DialTimeout("tcp", address, time.Second)
		if err == nil {
			// It may take connections before it can be steered.
			_, err = driver.Read(ctx)
			if err = errors.Join(err, conn.Close()); err == nil {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			said, _ := os.ReadFile(filepath.Join(s.Folder, "front.log"))
			return fmt.Errorf("the front did not start: %s", said)
		case <-time.After(50 * time.Millisecond):
		}
	}
}
