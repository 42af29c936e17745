package main

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"text/template"
	"time"

	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front/embedded"
)

func main() {
	var b bench
	instance := flag.String("instance", "", "be an instance on this address (used by the benchmark itself)")
	plain := flag.String("plain", "", "be a plain proxy by the library on this address, to the instances that are "+
		"named after the flags (used by the benchmark itself)")
	flag.StringVar(&b.vaiven, "vaiven", "bin/vaiven", "the program to measure")
	flag.StringVar(&b.out, "out", "docs/benchmarks.md", "file to write")
	flag.IntVar(&b.rounds, "rounds", 5, "rounds")
	flag.DurationVar(&b.load, "load", 3*time.Second, "time of load a front, a kind and a round")
	flag.StringVar(&b.only, "only", "", "make only this: loads, set, changes, checks, keeper, evacuate, rest, "+
		"replace or screen, and "+
		"write nothing")
	flag.IntVar(&b.switches, "switches", 200, "switches to time")
	screen := flag.Bool("screen", false, "be a screen on a made-up service (used by the benchmark itself)")
	flag.Parse()
	switch {
	case *screen:
		if err := beScreen(context.Background()); err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
			os.Exit(1)
		}
		return
	case *instance != "":
		serve(*instance)
		return
	case *plain != "":
		servePlain(*plain, flag.Args())
		return
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	if err := b.run(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// addressHeader is where an instance says which one it is.
const addressHeader = "X-Address"

// bench is one run.
type bench struct {
	vaiven, out      string
	only             string
	rounds, switches int
	load             time.Duration

	dir        string
	started    []*exec.Cmd
	background int         // the process of a front that has taken over
	instances  [2][]string // addresses, by side
	wide       string      // an instance that listens on all of loopback
	fronts     []*proxy
	client     *embedded.Client
}

// proxy is a front under load.
type proxy struct {
	Name    string
	address string
	cmd     *exec.Cmd
	samples [][]sample // by load and round
}

func (b *bench) run(ctx context.Context) (err error) {
	if b.dir, err = os.MkdirTemp("", "vaiven-bench-"); err != nil {
		return err
	}
	defer func() {
		if b.background > 0 {
			_ = syscall.Kill(b.background, syscall.SIGTERM)
		}
		for _, c := range b.started {
			_ = c.Process.Signal(syscall.SIGTERM)
			_ = c.Wait()
		}
		err = errors.Join(err, os.RemoveAll(b.dir))
	}()
	if err := b.startAll(ctx); err != nil {
		return err
	}
	wanted := func(part string) bool { return b.only == "" || b.only == part }
	if wanted("loads") {
		if err := b.loadAll(ctx); err != nil {
			return err
		}
	}
	var sw switched
	if wanted("set") {
		if sw, err = b.timeSwitches(ctx); err != nil {
			return err
		}
	}
	var changes []changed
	if wanted("changes") {
		if changes, err = b.timeChanges(ctx); err != nil {
			return err
		}
	}
	var checks checking
	if wanted("checks") {
		if checks, err = b.timeChecks(ctx); err != nil {
			return err
		}
	}
	var k kept
	if wanted("keeper") {
		if k, err = b.timeKeeper(ctx); err != nil {
			return err
		}
	}
	var fires evacuations
	if wanted("evacuate") {
		if fires, err = b.timeEvacuations(ctx); err != nil {
			return err
		}
	}
	var rest resting
	if wanted("rest") {
		if rest, err = b.timeAtRest(ctx); err != nil {
			return err
		}
	}
	var front *replaced
	if wanted("replace") { // the fronts of the others are not those that were started any more
		if front, err = b.timeReplacements(ctx); err != nil {
			return err
		}
	}
	var screens []screened
	if wanted("screen") {
		if screens, err = timeScreens(ctx); err != nil {
			return err
		}
	}
	if b.only == "screen" {
		fmt.Print(screenText(screens))
	}
	if b.only == "evacuate" {
		fmt.Print(fires.text())
	}
	if b.only == "rest" {
		fmt.Print(rest.text())
	}
	if b.only == "keeper" {
		fmt.Print(k.text())
	}
	if b.only != "" {
		return nil
	}
	return b.write(sw, front, changes, checks, k, fires, rest, screens)
}

func (b *bench) start(name string, args ...string) (*exec.Cmd, error) {
	cmd := exec.Command(name, args...)
	log, err := os.Create(filepath.Join(b.dir, filepath.Base(name)+fmt.Sprint(len(b.started))+".log"))
	if err != nil {
		return nil, err
	}
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	b.started = append(b.started, cmd)
	return cmd, nil
}

func freeAddress() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	return l.Addr().String(), l.Close()
}

// startAll starts instances and fronts, and waits until each answers.
func (b *bench) startAll(ctx context.Context) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	for _, side := range split.Sides {
		for range 2 {
			address, err := freeAddress()
			if err != nil {
				return err
			}
			if _, err := b.start(self, "-instance", address); err != nil {
				return err
			}
			b.instances[side] = append(b.instances[side], address)
		}
	}
	if b.wide, err = freeAddress(); err != nil {
		return err
	}
	if _, err := b.start(self, "-instance", strings.Replace(b.wide, "127.0.0.1", "0.0.0.0", 1)); err != nil {
		return err
	}
	direct := &proxy{Name: "no proxy", address: b.instances[split.Blue][0]}
	b.fronts = append(b.fronts, direct)
	if err := b.startEmbedded(ctx); err != nil {
		return err
	}
	if err := b.startPlain(self); err != nil {
		return err
	}
	for _, other := range []struct{ name, program, config string }{
		{"HAProxy", "haproxy", haproxyConfig}, {"nginx", "nginx", nginxConfig},
	} {
		if err := b.startOther(other.name, other.program, other.config); err != nil {
			return fmt.Errorf("%s: %w", other.name, err)
		}
	}
	if err := answers(ctx, "http://"+b.wide+"/"); err != nil {
		return err
	}
	for _, p := range b.fronts {
		if err := answers(ctx, "http://"+p.address+"/"); err != nil {
			return fmt.Errorf("%s: %w", p.Name, err)
		}
	}
	return nil
}

func (b *bench) startEmbedded(ctx context.Context) error {
	address, err := freeAddress()
	if err != nil {
		return err
	}
	plan := filepath.Join(b.dir, "bench.yaml")
	text := fmt.Sprintf("service: bench\nstate: %s\nfront:\n  listen: %s\nstack:\n  command: none/{version}\n  "+
		"ports: 1-9\nsmoke:\n  - request: /\nroute:\n  - 100 %%\n", b.dir, address)
	if err := os.WriteFile(plan, []byte(text), 0o600); err != nil {
		return err
	}
	cmd, err := b.start(b.vaiven, "front", plan)
	if err != nil {
		return err
	}
	b.fronts = append(b.fronts, &proxy{Name: ourName, address: address, cmd: cmd})
	b.client = embedded.Dial(filepath.Join(b.dir, "front.sock"))
	deadline := time.Now().Add(10 * time.Second)
	for {
		var failed error
		for _, side := range split.Sides {
			var list []reading.Server
			for n, a := range b.instances[side] {
				list = append(list, reading.Server{Name: fmt.Sprintf("%v-%d", side, n+1), Address: a,
					Version: side.String()})
			}
			failed = errors.Join(failed, b.client.SetInstances(ctx, side, list))
		}
		if failed == nil {
			return nil
		}
		if time.Now().After(deadline) {
			return failed
		}
		time.Sleep(50 * time.Millisecond)
	}
}

const haproxyConfig = `global
    nbthread 2
    maxconn 4000
    stats socket {{.Dir}}/throughput.sock level admin
defaults
    mode http
    timeout connect 5s
    timeout client 30s
    timeout server 30s
    http-reuse always
frontend f
    bind {{.Listen}}
    default_backend b
backend b
    balance leastconn
{{range $n, $a := .Instances}}    server s{{$n}} {{$a}}
{{end}}`

const nginxConfig = `worker_processes 2;
user {{.User}};
daemon off;
pid {{.Dir}}/nginx.pid;
error_log {{.Dir}}/nginx-error.log;
events { worker_connections 4000; }
http {
    access_log off;
    client_body_buffer_size 128k;
    client_body_temp_path {{.Dir}}/body;
    proxy_temp_path {{.Dir}}/proxy;
    fastcgi_temp_path {{.Dir}}/fastcgi;
    uwsgi_temp_path {{.Dir}}/uwsgi;
    scgi_temp_path {{.Dir}}/scgi;
    keepalive_requests 1000000000;
    upstream b {
        least_conn;
{{range .Instances}}        server {{.}};
{{end}}        keepalive 256;
        keepalive_requests 1000000000;
    }
    server {
        listen {{.Listen}};
        location / {
            proxy_pass http://b;
            proxy_http_version 1.1;
            proxy_set_header Connection "";
            proxy_set_header Host $host;
            proxy_set_header X-Forwarded-For $proxy_add_x_forwarded_for;
        }
    }
}
`

func (b *bench) startOther(name, program, config string) error {
	path, err := exec.LookPath(program)
	if err != nil {
		path = "/usr/sbin/" + program
	}
	me, err := user.Current()
	if err != nil {
		return err
	}
	address, err := freeAddress()
	if err != nil {
		return err
	}
	var text bytes.Buffer
	err = template.Must(template.New(program).Parse(config)).Execute(&text, map[string]any{
		"Listen": address, "Dir": b.dir, "Instances": b.instances[split.Blue], "User": me.Username,
	})
	file := filepath.Join(b.dir, program+".conf")
	if err = errors.Join(err, os.WriteFile(file, text.Bytes(), 0o600)); err != nil {
		return err
	}
	flag := "-c"
	if program == "haproxy" {
		flag = "-f"
	}
	cmd, err := b.start(path, flag, file)
	if err != nil {
		return err
	}
	b.fronts = append(b.fronts, &proxy{Name: name, address: address, cmd: cmd})
	return nil
}

func answers(ctx context.Context, url string) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	for {
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
		if err != nil {
			return err
		}
		if w, err := http.DefaultClient.Do(r); err == nil {
			_, _ = io.Copy(io.Discard, w.Body)
			_ = w.Body.Close()
			if w.StatusCode == http.StatusOK {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s does not answer: %w", url, ctx.Err())
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func median[T float64 | time.Duration | int64](list []T) T {
	list = slices.Clone(list)
	slices.Sort(list)
	return list[len(list)/2]
}

// others begins the figures of other targets.
const others = "## Evidence\n"

// write makes the document.
func (b *bench) write(sw switched, front *replaced, changes []changed, checks checking, k kept,
	fires evacuations, rest resting, screens []screened) error {
	var t bytes.Buffer
	memory, _ := os.ReadFile("/proc/meminfo")
	total, _, _ := strings.Cut(strings.TrimPrefix(string(memory), "MemTotal:"), "kB")
	var kilobytes int64
	_, _ = fmt.Sscan(total, &kilobytes)
	fmt.Fprintf(&t, "# Benchmarks\n\nMade by `make bench` on a machine with %d processors and %d GiB of memory, all "+
		"of it\n", runtime.NumCPU(), (kilobytes+1<<19)>>20)
	fmt.Fprintf(&t, "on the same processors: load, front and instances. Medians of %d rounds of %v a front and "+
		"kind;\nratios are taken within a round, with the least and the greatest behind them.\n", b.rounds, b.load)
	fmt.Fprintf(&t, "Single figures depend on the machine and the moment; compare the ratios.\n\n")
	b.documentLoads(&t)
	fmt.Fprintf(&t, "\n## The switch\n\n%d switches of the embedded front between 100 %% blue and 100 %% green, with "+
		"%d kept-alive\nclients asking as fast as they can. The command is kept on disk before it is in force.\n\n",
		sw.switches, switchClients)
	fmt.Fprintf(&t, "| | median | most |\n| --- | --- | --- |\n")
	fmt.Fprintf(&t, "| from command to confirmation | %v | %v |\n", median(sw.took).Round(10*time.Microsecond),
		slices.Max(sw.took).Round(10*time.Microsecond))
	fmt.Fprintf(&t, "| last answer of the old side: how long after confirmation its request began | %v | %v |\n",
		median(sw.late).Round(10*time.Microsecond), slices.Max(sw.late).Round(10*time.Microsecond))
	fmt.Fprintf(&t, "\nRequests that were lost: %d of %d. Requests that began more than 5 ms after confirmation "+
		"and\nwere answered by the old side: %d.\n", sw.lost, sw.asked, sw.strays)
	fmt.Fprintf(&t, "\nWith %d connections asking as fast as they can, from command to confirmation:\n\n| | p50 | "+
		"p99 |\n| --- | --- | --- |\n| a share | %v | %v |\n| going home | %v | %v |\n| a weight at HAProxy by its "+
		"socket, under the same | %v | %v |\n", crowd,
		quantile(sw.crowded, 0.5), quantile(sw.crowded, 0.99), quantile(sw.homes, 0.5), quantile(sw.homes, 0.99),
		quantile(sw.weights, 0.5), quantile(sw.weights, 0.99))
	t.WriteString(front.text())
	documentChanges(&t, changes)
	checks.document(&t)
	fmt.Fprintf(&t, "\n%s%s%s\n%s", k.text(), fires.text(), rest.text(), screenText(screens))
	// What other targets came to is written by hand, and stays.
	if before, err := os.ReadFile(b.out); err == nil {
		if at := bytes.Index(before, []byte(others)); at >= 0 {
			fmt.Fprintf(&t, "\n%s", before[at:])
		}
	}
	return os.WriteFile(b.out, t.Bytes(), 0o644)
}
