package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/plan"
)

// kind is a way to steer a proxy.
type kind struct {
	name    string
	program string
	config  string
	args    []string // before the file of the configuration
	last    []string // and after it
	// set completes the front of the plan and says how the same is done by hand, with the
	// proxy's own commands.
	set func(b *bench, f *plan.Front, dir, file string) (hand func(context.Context, split.Side) error)
}

var kinds = []kind{
	{"haproxy, weights", "haproxy", steeredHAProxy + haproxyWeights, []string{"-W", "-db", "-f"}, nil, setHAProxyWeights},
	{"haproxy, map", "haproxy", steeredHAProxy + haproxyMap, []string{"-W", "-db", "-f"}, nil, setHAProxyMap},
	{"nginx, include", "nginx", steeredNginx, []string{"-c"}, nil, setNginx},
	{"httpd, balancer manager", "apache2", steeredHttpd + httpdManager, []string{"-f"}, []string{"-D", "FOREGROUND"}, setManager},
	{"httpd, include", "apache2", steeredHttpd + httpdInclude, []string{"-f"}, []string{"-D", "FOREGROUND"}, setHttpdInclude},
}

// steered starts the fronts that are changed.
func (b *bench) steered(ctx context.Context) ([]steered, error) {
	var list []steered
	for _, k := range append([]kind{{name: "embedded"}}, kinds...) {
		name := k.name
		f, err := b.steer(ctx, k)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		for _, side := range split.Sides {
			var instances []reading.Server
			for n, a := range b.instances[side] {
				instances = append(instances, reading.Server{Name: fmt.Sprintf("%v-%d", side, n+1), Address: a, Version: side.String()})
			}
			if err := f.driver.SetInstances(ctx, side, instances); err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
		}
		if err := answers(ctx, "http://"+f.plan.Listen+"/"); err != nil {
			return nil, err
		}
		if name == "embedded" { // it was used for switches before
			r, err := f.driver.Read(ctx)
			if err == nil {
				_, err = f.driver.Set(ctx, 0, front.Expect{Revision: r.Split.Revision, Generation: r.Order.Generation})
			}
			if err != nil {
				return nil, err
			}
		}
		list = append(list, f)
	}
	return list, nil
}

const steeredHAProxy = `global
	nbthread 2
	stats socket DIR/admin.sock level admin
	server-state-file DIR/servers
defaults
	mode http
	timeout connect 5s
	timeout client 60s
	timeout server 60s
	option idle-close-on-response
`

const haproxyWeights = `frontend f
	bind LISTEN
	default_backend sailings
backend sailings
	balance roundrobin
	server-template blue 2 127.0.0.1:1 disabled
	server-template green 2 127.0.0.1:1 disabled
`

const haproxyMap = `frontend f
	bind LISTEN
	http-request set-var(txn.share) str(sailings),map(DIR/split.map,0)
	http-request set-var(txn.place) rand(10000)
	acl on_green var(txn.place),sub(txn.share) -m int lt 0
	use_backend green if on_green
	default_backend blue
backend blue
	server-template s 2 127.0.0.1:1 disabled
backend green
	server-template s 2 127.0.0.1:1 disabled
`

const steeredNginx = `worker_processes 2;
daemon off;
pid DIR/nginx.pid;
error_log DIR/error.log;
events { worker_connections 1000; }
http {
	access_log off;
	client_body_temp_path DIR/body;
	proxy_temp_path DIR/proxy;
	fastcgi_temp_path DIR/fastcgi;
	uwsgi_temp_path DIR/uwsgi;
	scgi_temp_path DIR/scgi;
	keepalive_requests 1000000000;
	include DIR/sailings.conf;
	server {
		listen LISTEN;
		location / {
			proxy_pass http://$vaiven_sailings;
			proxy_http_version 1.1;
			proxy_set_header Connection "";
		}
	}
}
`

const steeredHttpd = `ServerRoot DIR
ServerName bench.test
PidFile DIR/httpd.pid
DefaultRuntimeDir DIR
Mutex file:DIR default
User nobody
Group nogroup
LoadModule mpm_event_module /usr/lib/apache2/modules/mod_mpm_event.so
LoadModule authz_core_module /usr/lib/apache2/modules/mod_authz_core.so
LoadModule proxy_module /usr/lib/apache2/modules/mod_proxy.so
LoadModule proxy_http_module /usr/lib/apache2/modules/mod_proxy_http.so
LoadModule proxy_balancer_module /usr/lib/apache2/modules/mod_proxy_balancer.so
LoadModule lbmethod_byrequests_module /usr/lib/apache2/modules/mod_lbmethod_byrequests.so
LoadModule slotmem_shm_module /usr/lib/apache2/modules/mod_slotmem_shm.so
ErrorLog DIR/error.log
Listen LISTEN
KeepAlive On
MaxKeepAliveRequests 0
KeepAliveTimeout 60
`

const httpdManager = `<Proxy "balancer://sailings">
MEMBERS
	ProxySet lbmethod=byrequests
</Proxy>
<VirtualHost LISTEN>
	<Location /balancer-manager>
		SetHandler balancer-manager
	</Location>
	ProxyPass /balancer-manager !
	ProxyPass / balancer://sailings/
</VirtualHost>
`

const httpdInclude = `Include DIR/sailings.conf
<VirtualHost LISTEN>
	ProxyPass / balancer://sailings/
</VirtualHost>
`

var (
	nonce    = regexp.MustCompile(`nonce=([0-9a-f-]+)`)
	splitter = regexp.MustCompile(`(?s)(split_clients "\$request_id" \$vaiven_sailings_side \{\n).*?\n\}`)
	member   = regexp.MustCompile(`(BalancerMember "http://([^"]+)".*) (?:loadfactor=\d+|status=\+D)`)
)

// steer starts one front, with the driver and the way by hand.
func (b *bench) steer(ctx context.Context, k kind) (steered, error) {
	if k.program == "" {
		return steered{name: k.name, plan: plan.Front{Listen: b.embeddedAddress()}, driver: b.client}, nil
	}
	address, err := freeAddress()
	if err != nil {
		return steered{}, err
	}
	dir := filepath.Join(b.dir, strings.NewReplacer(",", "", " ", "-").Replace(k.name))
	if err := errors.Join(os.Chmod(b.dir, 0o755), os.MkdirAll(dir, 0o755)); err != nil {
		return steered{}, err
	}
	file := filepath.Join(dir, "proxy.conf")
	s := steered{name: k.name, plan: plan.Front{Listen: address, Key: plan.Key{From: plan.KeyRandom}, Order: filepath.Join(dir, "order")}}
	s.hand = k.set(b, &s.plan, dir, file)
	var members strings.Builder
	for _, side := range split.Sides {
		for _, a := range b.instances[side] {
			fmt.Fprintf(&members, "\tBalancerMember \"http://%s\" status=+D\n", a)
		}
	}
	text := strings.NewReplacer("DIR", dir, "LISTEN", address, "MEMBERS", members.String()).Replace(k.config)
	err = errors.Join(os.WriteFile(file, []byte(text), 0o644), os.WriteFile(filepath.Join(dir, "split.map"), []byte("sailings 0\n"), 0o644))
	if err != nil {
		return s, err
	}
	s.driver = all.One(&plan.Plan{Service: "sailings"}, s.plan)
	if p, ok := s.driver.(front.Preparer); ok {
		if _, err := p.Prepare(context.Background()); err != nil {
			return s, err
		}
	}
	if _, err := b.start(where(k.program), append(append(k.args[:len(k.args):len(k.args)], file), k.last...)...); err != nil {
		return s, err
	}
	deadline := time.Now().Add(10 * time.Second)
	for {
		if _, err = s.driver.Read(ctx); err == nil || time.Now().After(deadline) {
			return s, err
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// told sends one line to HAProxy.
func told(socket, line string) error {
	conn, err := net.Dial("unix", socket)
	if err != nil {
		return err
	}
	defer conn.Close()
	_, err = fmt.Fprintln(conn, line)
	_, errRead := io.ReadAll(conn)
	return errors.Join(err, errRead)
}

func setHAProxyWeights(_ *bench, f *plan.Front, dir, _ string) func(context.Context, split.Side) error {
	socket := filepath.Join(dir, "admin.sock")
	f.HAProxy = &plan.HAProxy{Socket: socket, Backends: [2]string{"sailings", "sailings"}, Servers: [2]string{"blue", "green"}, StateFile: filepath.Join(dir, "servers")}
	return func(_ context.Context, to split.Side) error {
		return told(socket, fmt.Sprintf("set server sailings/%v1 weight 1; set server sailings/%[1]v2 weight 1; set server sailings/%v1 weight 0; set server sailings/%[2]v2 weight 0", to, to.Other()))
	}
}

func setHAProxyMap(_ *bench, f *plan.Front, dir, _ string) func(context.Context, split.Side) error {
	socket, table := filepath.Join(dir, "admin.sock"), filepath.Join(dir, "split.map")
	f.HAProxy = &plan.HAProxy{Socket: socket, Backends: [2]string{"blue", "green"}, Map: table, MapKey: "sailings", StateFile: filepath.Join(dir, "servers")}
	return func(_ context.Context, to split.Side) error {
		return told(socket, fmt.Sprintf("set map %s sailings %d", table, split.Toward(to, split.Whole)))
	}
}

// edited is what a person does with an editor, the checker and a reload.
func edited(ctx context.Context, file string, edit func([]byte) []byte, check, reload []string) error {
	data, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	if err := os.WriteFile(file, edit(data), 0o644); err != nil {
		return err
	}
	if err := exec.CommandContext(ctx, check[0], check[1:]...).Run(); err != nil {
		return err
	}
	return exec.CommandContext(ctx, reload[0], reload[1:]...).Run()
}

func setNginx(_ *bench, f *plan.Front, dir, file string) func(context.Context, split.Side) error {
	nginx := where("nginx")
	f.Nginx = &plan.Included{Config: file, File: filepath.Join(dir, "sailings.conf"), Program: []string{nginx}}
	return func(ctx context.Context, to split.Side) error {
		return edited(ctx, f.Nginx.File, func(data []byte) []byte {
			return splitter.ReplaceAll(data, []byte("${1}    * "+to.String()+";\n}"))
		}, []string{nginx, "-t", "-q", "-c", file}, []string{nginx, "-s", "reload", "-c", file})
	}
}

func setHttpdInclude(b *bench, f *plan.Front, dir, file string) func(context.Context, split.Side) error {
	httpd := where("apache2")
	f.Httpd = &plan.Httpd{Balancer: "sailings"}
	f.Httpd.Config, f.Httpd.File, f.Httpd.Program = file, filepath.Join(dir, "sailings.conf"), []string{httpd}
	sides := b.sideOf()
	return func(ctx context.Context, to split.Side) error {
		return edited(ctx, f.Httpd.File, func(data []byte) []byte {
			return member.ReplaceAllFunc(data, func(line []byte) []byte {
				m := member.FindSubmatch(line)
				if sides[string(m[2])] == to {
					return append(m[1], " loadfactor=1"...)
				}
				return append(m[1], " status=+D"...)
			})
		}, []string{httpd, "-f", file, "-t"}, []string{httpd, "-f", file, "-k", "graceful"})
	}
}

func setManager(b *bench, f *plan.Front, _, _ string) func(context.Context, split.Side) error {
	f.Httpd = &plan.Httpd{Manager: "http://" + f.Listen + "/balancer-manager", Balancer: "sailings"}
	return func(_ context.Context, to split.Side) error { return b.managerByHand(f.Httpd.Manager, to) }
}

// managerByHand is what a script with the balancer manager does: a request a worker.
func (b *bench) managerByHand(manager string, to split.Side) error {
	w, err := http.Get(manager)
	if err != nil {
		return err
	}
	page, err := io.ReadAll(w.Body)
	_ = w.Body.Close()
	m := nonce.FindSubmatch(page)
	if err != nil || m == nil {
		return errors.Join(err, errors.New("no nonce"))
	}
	for _, side := range []split.Side{to, to.Other()} {
		off := "1"
		if side == to {
			off = "0"
		}
		for _, a := range b.instances[side] {
			form := url.Values{"b": {"sailings"}, "w": {"http://" + a}, "nonce": {string(m[1])}, "w_status_D": {off}}
			r, err := http.NewRequest(http.MethodPost, manager, strings.NewReader(form.Encode()))
			if err != nil {
				return err
			}
			r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
			r.Header.Set("Referer", manager)
			w, err := http.DefaultClient.Do(r)
			if err != nil {
				return err
			}
			_, err = io.Copy(io.Discard, w.Body)
			if err = errors.Join(err, w.Body.Close()); err != nil {
				return err
			}
		}
	}
	return nil
}

func where(program string) string {
	if path, err := exec.LookPath(program); err == nil {
		return path
	}
	return "/usr/sbin/" + program
}

func (b *bench) embeddedAddress() string {
	for _, p := range b.fronts {
		if p.Name == "Vaiven's front" {
			return p.address
		}
	}
	return ""
}
