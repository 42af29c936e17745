package main

import (
	"bufio"
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
	"slices"
	"strings"
	"sync"
	"time"

	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/plan"
)

// The load under which fronts are changed, in requests a second.
const (
	changeKept    = 2000 // on kept connections
	changeFresh   = 300  // on new ones
	changeClients = 16
	changeRounds  = 8 // changes to and fro, of each way
)

// changed is what changes of one front came to, by Vaiven and by hand.
type changed struct {
	name         string
	vaiven, hand []moment
	lost, closed int64
	asked        int64
}

// moment is one change.
type moment struct{ firstNew, lastOld, gap time.Duration }

// steered is a front with both ways to change it.
type steered struct {
	name   string
	plan   plan.Front
	driver front.Driver
	hand   func(ctx context.Context, to split.Side) error // nil if there is none but Vaiven's
}

// timeChanges changes every front to and fro under a steady load.
func (b *bench) timeChanges(ctx context.Context) ([]changed, error) {
	fronts, err := b.steered(ctx)
	if err != nil {
		return nil, err
	}
	var list []changed
	for _, f := range fronts {
		c, err := b.change(ctx, f)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.name, err)
		}
		list = append(list, c)
		fmt.Printf("changes  %-28s %d lost, %d closed of %d\n", c.name, c.lost, c.closed, c.asked)
	}
	return list, nil
}

func (b *bench) change(ctx context.Context, f steered) (changed, error) {
	c := changed{name: f.name}
	load := startLoad(f.plan.Listen, b.sideOf())
	defer load.stop()
	to := split.Blue
	for n := range 2 * changeRounds * 2 {
		byHand := n/2%2 == 1
		if byHand && f.hand == nil {
			continue
		}
		to = to.Other()
		time.Sleep(250 * time.Millisecond)
		begun := time.Now()
		var err error
		if byHand {
			err = f.hand(ctx, to)
		} else {
			var r front.Reading
			if r, err = f.driver.Read(ctx); err == nil {
				begun = time.Now()
				_, err = f.driver.Set(ctx, split.Toward(to, split.Whole), r.Split.Revision)
			}
		}
		if err != nil {
			return c, err
		}
		time.Sleep(750 * time.Millisecond)
		m := load.since(begun, to)
		if byHand {
			c.hand = append(c.hand, m)
		} else {
			c.vaiven = append(c.vaiven, m)
		}
	}
	load.stop()
	c.lost, c.closed, c.asked = load.lost, load.closed, load.asked
	return c, nil
}

// sideOf knows the side of an instance by its address.
func (b *bench) sideOf() map[string]split.Side {
	m := map[string]split.Side{}
	for _, side := range split.Sides {
		for _, a := range b.instances[side] {
			m[a] = side
		}
	}
	return m
}

// steadyLoad is requests at a steady rate, and their answers.
type steadyLoad struct {
	address string
	sides   map[string]split.Side
	done    chan struct{}
	once    sync.Once
	wait    sync.WaitGroup

	mu                  sync.Mutex // protects what follows
	answers             []seen
	lost, closed, asked int64
}

func startLoad(address string, sides map[string]split.Side) *steadyLoad {
	l := &steadyLoad{address: address, sides: sides, done: make(chan struct{})}
	for range changeClients {
		l.wait.Go(func() { l.ask(true, time.Second*changeClients/changeKept) })
	}
	for range 4 {
		l.wait.Go(func() { l.ask(false, time.Second*4/changeFresh) })
	}
	return l
}

func (l *steadyLoad) stop() {
	l.once.Do(func() { close(l.done) })
	l.wait.Wait()
}

// ask sends requests one after the other. One of which no byte was answered, on a kept
// connection that was closed, is sent again and counted apart.
func (l *steadyLoad) ask(keep bool, every time.Duration) {
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	var conn net.Conn
	var read *bufio.Reader
	for {
		select {
		case <-l.done:
			if conn != nil {
				_ = conn.Close()
			}
			return
		case <-ticker.C:
		}
		begun := time.Now()
		var side split.Side
		var err error
		for again := true; again; {
			kept := conn != nil
			if conn == nil {
				if conn, err = net.DialTimeout("tcp", l.address, 5*time.Second); err != nil {
					break
				}
				read = bufio.NewReader(conn)
			}
			var answered bool
			side, answered, err = l.exchange(conn, read, keep)
			if err != nil || !keep {
				_ = conn.Close()
				conn = nil
			}
			again = err != nil && kept && !answered
			if again {
				l.mu.Lock()
				l.closed++
				l.mu.Unlock()
			}
		}
		l.mu.Lock()
		l.asked++
		if err != nil {
			l.lost++
		} else {
			l.answers = append(l.answers, seen{begun, time.Now(), side})
		}
		l.mu.Unlock()
	}
}

func (l *steadyLoad) exchange(conn net.Conn, read *bufio.Reader, keep bool) (side split.Side, answered bool, err error) {
	_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
	text := "GET / HTTP/1.1\r\nHost: bench\r\n"
	if !keep {
		text += "Connection: close\r\n"
	}
	if _, err := io.WriteString(conn, text+"\r\n"); err != nil {
		return 0, false, err
	}
	if _, err := read.Peek(1); err != nil {
		return 0, false, err
	}
	w, err := http.ReadResponse(read, nil)
	if err != nil {
		return 0, true, err
	}
	if _, err := io.Copy(io.Discard, w.Body); err != nil {
		return 0, true, err
	}
	side, known := l.sides[w.Header.Get(addressHeader)]
	if w.StatusCode != http.StatusOK || !known {
		return 0, true, fmt.Errorf("%s from %q", w.Status, w.Header.Get(addressHeader))
	}
	return side, true, nil
}

// since is what a change at a time looks like from outside.
func (l *steadyLoad) since(begun time.Time, to split.Side) moment {
	l.mu.Lock()
	defer l.mu.Unlock()
	var m moment
	var ends []time.Time
	for _, a := range l.answers {
		if a.ended.Before(begun.Add(-100 * time.Millisecond)) {
			continue
		}
		ends = append(ends, a.ended)
		if a.ended.Before(begun) {
			continue
		}
		if after := a.ended.Sub(begun); a.side == to {
			if m.firstNew == 0 || after < m.firstNew {
				m.firstNew = after
			}
		} else {
			m.lastOld = max(m.lastOld, after)
		}
	}
	slices.SortFunc(ends, time.Time.Compare)
	for n := 1; n < len(ends); n++ {
		m.gap = max(m.gap, ends[n].Sub(ends[n-1]))
	}
	return m
}

// steered starts the fronts that are changed.
func (b *bench) steered(ctx context.Context) ([]steered, error) {
	var list []steered
	for _, name := range []string{"embedded", "haproxy, weights", "nginx, include", "httpd, balancer manager"} {
		f, err := b.steer(ctx, name)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		for _, side := range split.Sides {
			var instances []front.Instance
			for n, a := range b.instances[side] {
				instances = append(instances, front.Instance{Name: fmt.Sprintf("%v-%d", side, n+1), Address: a, Version: side.String()})
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
				_, err = f.driver.Set(ctx, 0, r.Split.Revision)
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
frontend f
	bind LISTEN
	default_backend sailings
backend sailings
	balance roundrobin
	server-template blue 2 127.0.0.1:1 disabled
	server-template green 2 127.0.0.1:1 disabled
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
<Proxy "balancer://sailings">
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

var (
	nonce    = regexp.MustCompile(`nonce=([0-9a-f-]+)`)
	splitter = regexp.MustCompile(`(?s)(split_clients "\$request_id" \$vaiven_sailings_side \{\n).*?\n\}`)
)

// steer starts one front, with the driver and the way by hand.
func (b *bench) steer(ctx context.Context, name string) (steered, error) {
	if name == "embedded" {
		return steered{name: name, plan: plan.Front{Listen: b.embeddedAddress()}, driver: b.client}, nil
	}
	address, err := freeAddress()
	if err != nil {
		return steered{}, err
	}
	kind, _, _ := strings.Cut(name, ",")
	dir := filepath.Join(b.dir, kind)
	if err := errors.Join(os.Chmod(b.dir, 0o755), os.MkdirAll(dir, 0o755)); err != nil {
		return steered{}, err
	}
	file := filepath.Join(dir, "proxy.conf")
	f := plan.Front{Listen: address, Key: plan.Key{From: plan.KeyRandom}}
	s := steered{name: name}
	var text, program string
	var args []string
	switch kind {
	case "haproxy":
		f.HAProxy = &plan.HAProxy{Socket: filepath.Join(dir, "admin.sock"), Backends: [2]string{"sailings", "sailings"}, Servers: [2]string{"blue", "green"}, StateFile: filepath.Join(dir, "servers")}
		text, program, args = steeredHAProxy, "haproxy", []string{"-W", "-db", "-f", file}
		s.hand = func(_ context.Context, to split.Side) error {
			conn, err := net.Dial("unix", f.HAProxy.Socket)
			if err != nil {
				return err
			}
			defer conn.Close()
			up, down := to.String(), to.Other().String()
			_, err = fmt.Fprintf(conn, "set server sailings/%s1 weight 1; set server sailings/%[1]s2 weight 1; set server sailings/%s1 weight 0; set server sailings/%[2]s2 weight 0\n", up, down)
			_, errRead := io.ReadAll(conn)
			return errors.Join(err, errRead)
		}
	case "nginx":
		f.Nginx = &plan.Included{Config: file, File: filepath.Join(dir, "sailings.conf"), Program: []string{where("nginx")}}
		text, program, args = steeredNginx, "nginx", []string{"-c", file}
		s.hand = func(ctx context.Context, to split.Side) error {
			data, err := os.ReadFile(f.Nginx.File)
			if err != nil {
				return err
			}
			data = splitter.ReplaceAll(data, []byte("${1}    * "+to.String()+";\n}"))
			if err := os.WriteFile(f.Nginx.File, data, 0o644); err != nil {
				return err
			}
			if err := exec.CommandContext(ctx, where("nginx"), "-t", "-q", "-c", file).Run(); err != nil {
				return err
			}
			return exec.CommandContext(ctx, where("nginx"), "-s", "reload", "-c", file).Run()
		}
	case "httpd":
		f.Httpd = &plan.Httpd{Manager: "http://" + address + "/balancer-manager", Balancer: "sailings"}
		text, program, args = steeredHttpd, "apache2", []string{"-D", "FOREGROUND", "-f", file}
		s.hand = func(_ context.Context, to split.Side) error { return b.managerByHand(f.Httpd.Manager, to) }
	}
	var members strings.Builder
	for _, side := range split.Sides {
		for _, a := range b.instances[side] {
			fmt.Fprintf(&members, "\tBalancerMember \"http://%s\" status=+D\n", a)
		}
	}
	text = strings.NewReplacer("DIR", dir, "LISTEN", address, "MEMBERS", members.String()).Replace(text)
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		return s, err
	}
	s.plan = f
	driver := all.One(&plan.Plan{Service: "sailings"}, f)
	if p, ok := driver.(interface{ Prepare() (bool, error) }); ok {
		if _, err := p.Prepare(); err != nil {
			return s, err
		}
	}
	s.driver = driver
	if _, err := b.start(where(program), args...); err != nil {
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

// documentChanges writes what changes came to.
func documentChanges(w io.Writer, list []changed) {
	fmt.Fprintf(w, "\n## Changes of every front\n\nAll requests from one side to the other, %d times by Vaiven and as often by hand with the proxy's own\ncommand, in turn, under %d requests a second on %d kept connections and %d on new ones. Times are\nmedians from the command on, with those by hand and the ratio to them. By Vaiven includes a reading\nbefore, so that nobody's change is overwritten.\n\n",
		2*changeRounds, changeKept, changeClients, changeFresh)
	fmt.Fprintf(w, "| front | first answer of the new side | last of the old | longest gap | lost | idle connections closed |\n| --- | --- | --- | --- | --- | --- |\n")
	for _, c := range list {
		cell := func(of func(moment) time.Duration) string {
			mine := median(times(c.vaiven, of))
			text := mine.Round(100 * time.Microsecond).String()
			if len(c.hand) == 0 {
				return text
			}
			theirs := median(times(c.hand, of))
			text += fmt.Sprintf(", by hand %v", theirs.Round(100*time.Microsecond))
			if theirs >= time.Millisecond { // below, it is a matter of when requests happen to come
				text += fmt.Sprintf(" (%.2f)", mine.Seconds()/theirs.Seconds())
			}
			return text
		}
		fmt.Fprintf(w, "| %s | %s | %s | %s | %d of %d | %d |\n", c.name, cell(func(m moment) time.Duration { return m.firstNew }),
			cell(func(m moment) time.Duration { return m.lastOld }), cell(func(m moment) time.Duration { return m.gap }), c.lost, c.asked, c.closed)
	}
}

func times(list []moment, of func(moment) time.Duration) []time.Duration {
	var out []time.Duration
	for _, m := range list {
		out = append(out, of(m))
	}
	return out
}
