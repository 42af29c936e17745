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
	"slices"
	"strings"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/front/embedded"
	"vaiven/internal/front/haproxy"
	"vaiven/internal/front/httpd"
	"vaiven/internal/front/include"
	"vaiven/internal/front/nginx"
)

// way is a way to steer a proxy.
type way struct {
	name     string
	kind     plan.FrontKind
	settings func(b *bench, dir, listen string) plan.FrontSettings
	// hand says how the same is done by hand, with the proxy's own commands.
	hand func(b *bench, f plan.Front) func(context.Context, split.Side) error
}

var ways = []way{
	{"embedded", embedded.Kind.Name, nil, nil},
	{"haproxy, weights", haproxy.Kind.Name, haproxyWeights, weightsByHand},
	{"haproxy, map", haproxy.Kind.Name, haproxyMap, mapByHand},
	{"nginx, include", nginx.Kind.Name, nginxInclude, nginxByHand},
	{"httpd, balancer manager", httpd.Kind.Name, httpdManager, managerByHand},
	{"httpd, include", httpd.Kind.Name, httpdInclude, httpdByHand},
}

// steered starts the fronts that are changed.
func (b *bench) steered(ctx context.Context) ([]steered, error) {
	var list []steered
	for _, k := range ways {
		name := k.name
		f, err := b.steer(ctx, k)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		for _, side := range split.Sides {
			var instances []reading.Server
			for n, a := range b.instances[side] {
				instances = append(instances,
					reading.Server{Name: fmt.Sprintf("%v-%d", side, n+1), Address: a, Version: side.String()})
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

var (
	nonce    = regexp.MustCompile(`nonce=([0-9a-f-]+)`)
	splitter = regexp.MustCompile(`(?s)(split_clients "\$request_id" \$vaiven_sailings_side \{\n).*?\n\}`)
	member   = regexp.MustCompile(`(BalancerMember "http://([^"]+)".*) (?:loadfactor=\d+|status=\+D)`)
)

// steer starts one front, with the driver and the way by hand.
func (b *bench) steer(ctx context.Context, w way) (steered, error) {
	if w.settings == nil {
		return steered{name: w.name, plan: plan.Front{Listen: b.embeddedAddress()}, driver: b.client}, nil
	}
	address, err := freeAddress()
	if err != nil {
		return steered{}, err
	}
	dir := filepath.Join(b.dir, strings.NewReplacer(",", "", " ", "-").Replace(w.name))
	if err := errors.Join(os.Chmod(b.dir, 0o755), os.MkdirAll(dir, 0o755)); err != nil {
		return steered{}, err
	}
	f := plan.Front{Listen: address, Key: plan.Key{From: plan.KeyRandom}, Order: filepath.Join(dir, "order"),
		Settings: w.settings(b, dir, address)}
	s := steered{name: w.name, plan: f, hand: w.hand(b, f)}
	kind := all.Of(f)
	c := kind.Config("sailings", f,
		front.Site{Folder: dir, Slots: 2,
			Members: append(slices.Clone(b.instances[split.Blue]), b.instances[split.Green]...)})
	err = errors.Join(os.WriteFile(c.File, []byte(c.Text), 0o644),
		os.WriteFile(filepath.Join(dir, "split.map"), []byte("sailings 0\n"), 0o644))
	if err != nil {
		return s, err
	}
	s.driver = all.One(&plan.Plan{Service: "sailings"}, f)
	if p, ok := front.Can[front.Preparer](s.driver); ok {
		if _, err := p.Prepare(context.Background(), [2][]reading.Server{}); err != nil {
			return s, err
		}
	}
	if _, err := b.start(where(kind.Program), c.Args...); err != nil {
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

func haproxyWeights(_ *bench, dir, _ string) plan.FrontSettings {
	return &haproxy.Settings{Socket: filepath.Join(dir, "admin.sock"), Backends: [2]string{"sailings", "sailings"},
		Servers: [2]string{"blue", "green"}, StateFile: filepath.Join(dir, "servers")}
}

func weightsByHand(_ *bench, f plan.Front) func(context.Context, split.Side) error {
	socket := f.Settings.(*haproxy.Settings).Socket
	return func(_ context.Context, to split.Side) error {
		return told(socket, fmt.Sprintf("set server sailings/%v1 weight 1; set server sailings/%[1]v2 weight 1; set "+
			"server sailings/%v1 weight 0; set server sailings/%[2]v2 weight 0", to, to.Other()))
	}
}

func haproxyMap(_ *bench, dir, _ string) plan.FrontSettings {
	return &haproxy.Settings{Socket: filepath.Join(dir, "admin.sock"), Backends: [2]string{"blue", "green"},
		Map: filepath.Join(dir, "split.map"), MapKey: "sailings", StateFile: filepath.Join(dir, "servers")}
}

func mapByHand(_ *bench, f plan.Front) func(context.Context, split.Side) error {
	h := f.Settings.(*haproxy.Settings)
	return func(_ context.Context, to split.Side) error {
		return told(h.Socket, fmt.Sprintf("set map %s sailings %d", h.Map, split.Toward(to, split.Whole)))
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

func nginxInclude(_ *bench, dir, _ string) plan.FrontSettings {
	return &nginx.Settings{Settings: include.Settings{Config: filepath.Join(dir, "nginx.conf"),
		File: filepath.Join(dir, "sailings.conf"), Program: []string{where("nginx")}}}
}

func nginxByHand(_ *bench, f plan.Front) func(context.Context, split.Side) error {
	s := f.Settings.(*nginx.Settings)
	return func(ctx context.Context, to split.Side) error {
		return edited(ctx, s.File, func(data []byte) []byte {
			return splitter.ReplaceAll(data, []byte("${1}    * "+to.String()+";\n}"))
		}, []string{s.Program[0], "-t", "-q", "-c", s.Config}, []string{s.Program[0], "-s", "reload", "-c", s.Config})
	}
}

func httpdInclude(_ *bench, dir, _ string) plan.FrontSettings {
	return &httpd.Settings{Balancer: "sailings", Settings: include.Settings{
		Config: filepath.Join(dir, "httpd.conf"), File: filepath.Join(dir, "sailings.conf"),
		Program: []string{where("apache2")},
	}}
}

func httpdByHand(b *bench, f plan.Front) func(context.Context, split.Side) error {
	s, sides := f.Settings.(*httpd.Settings), b.sideOf()
	return func(ctx context.Context, to split.Side) error {
		return edited(ctx, s.File, func(data []byte) []byte {
			return member.ReplaceAllFunc(data, func(line []byte) []byte {
				m := member.FindSubmatch(line)
				if sides[string(m[2])] == to {
					return append(m[1], " loadfactor=1"...)
				}
				return append(m[1], " status=+D"...)
			})
		}, []string{s.Program[0], "-f", s.Config, "-t"}, []string{s.Program[0], "-f", s.Config, "-k", "graceful"})
	}
}

func httpdManager(_ *bench, _, _ string) plan.FrontSettings {
	manager, err := freeAddress()
	if err != nil {
		panic(err) // of the machine's own addresses
	}
	return &httpd.Settings{Balancer: "sailings", Manager: "http://" + manager + "/balancer-manager"}
}

// managerByHand is what a script with the balancer manager does: a request a worker.
func managerByHand(b *bench, f plan.Front) func(context.Context, split.Side) error {
	manager := f.Settings.(*httpd.Settings).Manager
	return func(_ context.Context, to split.Side) error { return b.tellManager(manager, to) }
}

func (b *bench) tellManager(manager string, to split.Side) error {
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
		if p.Name == ourName {
			return p.address
		}
	}
	return ""
}
