package cluster

import (
	"bufio"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/split"
	"vaiven/internal/front"
	"vaiven/internal/stack"
	"vaiven/internal/world/check"
	"vaiven/internal/world/place"
	"vaiven/internal/world/secret"
	"vaiven/lab/stacktest"
	"vaiven/lab/standin"
	"vaiven/lab/testkit"
)

// world is a cluster that runs the suite's subject, and a plan of a part in it.
type world struct {
	*testing.T
	server *standin.Server
	plan   *plan.Plan
	folder string
	plane  string // of a real control plane; "" for the stand-in
}

func open(t *testing.T, as string) *world {
	t.Helper()
	if os.Getenv("VAIVEN_PLANE") != "" {
		w := onPlane(t, func(s *plan.Stack) {
			s.Command = append(s.Command, "-as", as)
			s.Environment = map[string]string{"REGION": "north of {side}", "NAME": "{instance} of {version}"}
			s.Grace, s.Raise, s.Memory = 3*time.Second, 15*time.Second, 64<<20
		})
		return w
	}
	subject := stacktest.Subject(t)
	first, _ := testkit.Ports(t, 2)
	s, err := standin.Start(standin.Config{
		Address: fmt.Sprintf("127.0.0.1:%d", first), Lag: 10 * time.Millisecond, Backoff: 300 * time.Millisecond,
		IP: func(n int) string { return fmt.Sprintf("127.%d.%d.%d", 1+first>>8%254, first&0xff, n) },
		Image: func(image string) ([]string, error) {
			if strings.HasSuffix(image, ":none") {
				return nil, errors.New("not found")
			}
			return []string{subject}, nil
		},
	})
	if err != nil {
		t.Fatal(err)
	}
	w := &world{T: t, server: s, folder: t.TempDir()}
	t.Cleanup(func() {
		if err := s.Stop(); err != nil {
			t.Error(err)
		}
	})
	config := filepath.Join(w.folder, "kubeconfig")
	w.must(os.WriteFile(config, []byte(s.Kubeconfig("ferries")), 0o600))
	stack := plan.Stack{
		Instances: 2, Image: "registry.lineavessa.example/web:{version}", Port: first + 1,
		Command:     []string{"-listen", "{address}", "-as", as},
		Environment: map[string]string{"REGION": "north of {side}", "NAME": "{instance} of {version}"},
		Grace:       3 * time.Second, Raise: 15 * time.Second,
		Memory: 64 << 20, Cluster: plan.Cluster{On: true, API: plan.API{File: config}},
	}
	w.plan = &plan.Plan{Service: "sailings", State: w.folder,
		Parts: []plan.Part{{Name: "web", Stacks: [2]plan.Stack{stack, stack}}}}
	return w
}

func (w *world) must(err error) {
	w.Helper()
	if err != nil {
		w.Fatal(err)
	}
}

func (w *world) driver() *Driver { return New(w.plan, 0, secret.Values{}) }

func (w *world) list(d *Driver, side split.Side) []reading.Instance {
	w.Helper()
	list, err := d.List(w.Context(), side)
	w.must(err)
	return list
}

// kubectl is somebody else, with Debian's own program.
func (w *world) kubectl(args ...string) string {
	w.Helper()
	out, err := w.tries(args...)
	if err != nil {
		w.Fatalf("kubectl %v: %v: %s", args, err, out)
	}
	return out
}

// tries is kubectl where it may not succeed.
func (w *world) tries(args ...string) (string, error) {
	cmd := exec.Command("kubectl",
		append([]string{"--kubeconfig", w.plan.Parts[0].Stacks[0].Cluster.File, "--cache-dir",
			filepath.Join(w.folder, "cache")}, args...)...)
	cmd.Env = append(os.Environ(), "HOME="+w.folder)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// says is what answers at an instance's address, "" if nothing does.
func says(i reading.Instance) string {
	c, err := net.DialTimeout("tcp", i.Address, time.Second)
	if err != nil {
		return ""
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(time.Second))
	line, _ := bufio.NewReader(c).ReadString('\n')
	return strings.TrimSpace(line)
}

func started(list []reading.Instance) (s []string) {
	for _, i := range list {
		s = append(s, i.Name+" "+i.Started.String())
	}
	return s
}

func TestConformance(t *testing.T) {
	worlds := map[*plan.Plan]*world{}
	stacktest.Run(t, stacktest.System{
		// the cluster starts instances, one after the other or again, and keeps their output
		Lacks: []string{"half way", "hangs", "more and less", "started again", "started again of the same build", "output put aside",
			"notes that are lost"},
		Names: true, Whole: true,
		Plan: func(t *testing.T, as string) *plan.Plan {
			w := open(t, as)
			worlds[w.plan] = w
			return w.plan
		},
		Driver: func(_ *testing.T, p *plan.Plan) stack.Driver { return New(p, 0, secret.Values{}) },
		Kill:   func(t *testing.T, p *plan.Plan, i reading.Instance) { worlds[p].kill(i) },
		Remains: func(t *testing.T, p *plan.Plan) []string {
			w := *worlds[p]
			w.T = t
			return strings.Fields(w.kubectl("get", "deployments,pods", "-o", "name"))
		},
		Cut: func(t *testing.T, p *plan.Plan) func() {
			if worlds[p].server == nil {
				return worlds[p].freeze("kube-apiserver")
			}
			worlds[p].server.Fall(standin.Illness{Delay: time.Hour})
			return func() { worlds[p].server.Fall(standin.Illness{}) }
		},
	})
}

// kill ends an instance's pod without asking it.
func (w *world) kill(i reading.Instance) {
	if w.server == nil {
		w.must(exec.Command("pkill", "-KILL", "-f", "listen "+i.Address).Run())
		return
	}
	for _, name := range strings.Fields(w.kubectl("get", "pods", "-o", "name")) {
		if strings.HasSuffix(name, strings.TrimPrefix(i.Name, i.Side.String())) {
			w.server.Kill("ferries", strings.TrimPrefix(name, "pod/"))
		}
	}
}

func TestRaiseAndStop(t *testing.T) {
	w := open(t, "well")
	d := w.driver()
	w.must(d.Raise(t.Context(), split.Blue, stacktest.First))
	blue := started(w.list(d, split.Blue))
	w.must(d.Raise(t.Context(), split.Green, stacktest.Second))
	green := w.list(w.driver(), split.Green) // by another process
	if len(green) != 2 {
		t.Fatalf("green is %+v", green)
	}
	for _, i := range green {
		if i.Version != "2" || i.Build != "b2b2" || !i.Running || i.Started.IsZero() ||
			!strings.HasPrefix(i.Place, "node-") ||
			!strings.HasPrefix(i.Name, "green-") {
			t.Errorf("%+v", i)
		}
		testkit.Eventually(t, i.Name+" answers", func() bool { return says(i) == "north of green" })
	}
	before := started(green)
	w.must(w.driver().Raise(t.Context(), split.Green, stacktest.Second)) // nothing is to be done
	if now := started(w.list(d, split.Green)); !slices.Equal(now, before) {
		t.Errorf("raised again: %v, before %v", now, before)
	}
	b := stacktest.Second
	b.Instances = 3 // one more, and nobody else
	w.must(d.Raise(t.Context(), split.Green, b))
	if now := started(w.list(d, split.Green)); len(now) != 3 ||
		slices.ContainsFunc(before, func(i string) bool { return !slices.Contains(now, i) }) {
		t.Errorf("with three: %v, before %v", now, before)
	}
	w.must(d.Raise(t.Context(), split.Green, stacktest.First)) // another version
	for _, i := range w.list(d, split.Green) {
		if i.Version != "1" {
			t.Errorf("after version 1 was raised there is %+v", i)
		}
	}
	if now := started(w.list(d, split.Blue)); !slices.Equal(now, blue) {
		t.Errorf("blue was %v, and is %v", blue, now)
	}
	text := w.kubectl("get", "deployments,pods")
	if !strings.Contains(text, "deployment.apps/sailings-blue") || !strings.Contains(text, "pod/sailings-green-") {
		t.Errorf("kubectl says %s", text)
	}
	w.must(d.Stop(t.Context(), split.Green))
	w.must(d.Stop(t.Context(), split.Green)) // and nothing is as good
	if list := w.list(d, split.Green); len(list) > 0 {
		t.Errorf("left are %+v", list)
	}
	if text := w.kubectl("get", "deployments,pods"); strings.Contains(text, "green") ||
		!strings.Contains(text, "sailings-blue") {
		t.Errorf("after green was stopped kubectl says %s", text)
	}
}

// What becomes nothing is said in words: at once what will not come by waiting, and else when the time for it is over.
func TestWhatGoesWrong(t *testing.T) {
	for what, c := range map[string]struct {
		as, version string
		says        []string
		output      string
	}{
		"an image that is not there": {"well", "none", []string{"green-", "ImagePull", "not found"}, ""},
		"it dies at once":            {"die", "1", []string{"green-", "exit status 7"}, "no berth is free"},
	} {
		t.Run(what, func(t *testing.T) {
			w := open(t, c.as)
			d := w.driver()
			err := d.Raise(t.Context(), split.Green, stack.Build{Version: c.version, ID: "b"})
			if c.output != "" { // it ran for a moment, which is enough to be raised
				testkit.Eventually(t, "it has died", func() bool {
					list := w.list(d, split.Green)
					return len(list) > 0 && !list[0].Running && strings.Contains(list[0].Exit, "exit status 7") &&
						slices.Contains(list[0].Output, c.output)
				})
				return
			}
			for _, want := range c.says {
				if err == nil || !strings.Contains(err.Error(), want) {
					t.Errorf("it says %v, and not %q", err, want)
				}
			}
			testkit.Eventually(t, "both are listed with what is wrong", func() bool {
				list := w.list(d, split.Green)
				return len(list) == 2 && !list[0].Running && strings.Contains(list[0].Waits, "not found")
			})
		})
	}
}

// One that is killed is started again by the orchestrator, and is shown as ended until then.
func TestTheOrchestratorRestarts(t *testing.T) {
	w := open(t, "well")
	d := w.driver()
	w.must(d.Raise(t.Context(), split.Green, stacktest.First))
	i := w.list(d, split.Green)[0]
	w.kill(i)
	testkit.Eventually(t, "it has ended", func() bool {
		list := w.list(d, split.Green)
		return len(list) == 2 && slices.ContainsFunc(list, func(now reading.Instance) bool {
			return now.Name == i.Name && !now.Running && strings.Contains(now.Exit, "137")
		})
	})
	testkit.Eventually(t, "it is there again", func() bool {
		list := w.list(d, split.Green)
		return len(list) == 2 && slices.ContainsFunc(list, func(now reading.Instance) bool {
			return now.Name == i.Name && now.Running && now.Started.After(i.Started) && says(now) != ""
		})
	})
}

// What somebody else has written stays, and where they have written something else it is not written over, and said
// who it was.
func TestSomebodyElse(t *testing.T) {
	w := open(t, "well")
	d := w.driver()
	w.must(d.Raise(t.Context(), split.Green, stacktest.First))
	w.kubectl("annotate", "deployment", "sailings-green", "ferries/harbour=vessa")
	w.kubectl("scale", "deployment", "sailings-green", "--replicas=1")
	w.kubectl("patch", "deployment", "sailings-green", "--type=merge", "-p", `{"spec":{"paused":true}}`)
	testkit.Eventually(t, "their number of pods", func() bool { return len(w.list(d, split.Green)) == 1 })
	err := d.Raise(t.Context(), split.Green, stacktest.Second)
	if err == nil || !strings.Contains(err.Error(), "kubectl") || !strings.Contains(err.Error(), ".spec.replicas") {
		t.Errorf("over their change: %v", err)
	}
	if list := w.list(d, split.Green); len(list) != 1 || list[0].Version != "1" {
		t.Errorf("what was refused has changed something: %+v", list)
	}
	// Who applies what is theirs in the same place is told that it is ours, and may apply what is not.
	manifest := filepath.Join(w.folder, "theirs.yaml")
	write := func(spec string) {
		w.must(os.WriteFile(manifest, []byte("apiVersion: apps/v1\nkind: Deployment\nmetadata: {name: "+
			"sailings-green}\nspec: "+spec+"\n"), 0o644))
	}
	write("{strategy: {type: RollingUpdate}}")
	if text, err := w.tries("apply", "--server-side", "--validate=false", "--field-manager=harbour", "-f",
		manifest); err == nil || !strings.Contains(text, `conflict with "vaiven"`) ||
		!strings.Contains(text, ".spec.strategy.type") {
		t.Errorf("kubectl applies over ours: %q, %v", text, err)
	}
	write("{minReadySeconds: 3}")
	w.kubectl("apply", "--server-side", "--validate=false", "--field-manager=harbour", "-f", manifest)
	w.kubectl("delete", "deployment", "sailings-green")
	testkit.Eventually(t, "it is gone", func() bool { return len(w.list(d, split.Green)) == 0 })
	w.must(d.Raise(t.Context(), split.Green, stacktest.Second))
	w.kubectl("annotate", "deployment", "sailings-green", "ferries/harbour=vessa")
	w.must(d.Raise(t.Context(), split.Green, stacktest.First))
	if text := w.kubectl("get", "deployment", "sailings-green", "-o", "yaml",
		"--show-managed-fields"); !strings.Contains(text, "ferries/harbour: vessa") ||
		!strings.Contains(text, "manager: vaiven") {
		t.Errorf("afterwards it is %s", text)
	}
}

// Where a pod stands commands run and files are read, and what it runs with is told.
func TestWhereItStands(t *testing.T) {
	w := open(t, "well")
	d := w.driver()
	w.must(d.Raise(t.Context(), split.Green, stacktest.Second))
	i := w.list(d, split.Green)[0]
	at, err := d.Place(t.Context(), i)
	w.must(err)
	defer at.Close()
	if out, err := at.Run(t.Context(), place.Command{Words: []string{"sh", "-c", "echo $REGION $MORE; echo gone >&2; " +
		"exit 3"}, Environment: map[string]string{"MORE": "and more"}}); err != nil || out.Status != 3 ||
		!strings.Contains(string(out.Output), "north of green and more\n") ||
		!strings.Contains(string(out.Output), "gone\n") {
		t.Errorf("a command: %d, %q, %v", out.Status, out.Output, err)
	}
	file := filepath.Join(w.folder, "timetable")
	w.must(os.WriteFile(file, []byte("06:40 Vessa\n"), 0o644))
	if text, err := at.ReadFile(t.Context(), file); err != nil || string(text) != "06:40 Vessa\n" {
		t.Errorf("a file: %q, %v", text, err)
	}
	if _, err := at.ReadFile(t.Context(), file+".none"); err == nil || !strings.Contains(err.Error(), "No such file") {
		t.Errorf("a file that is not there: %v", err)
	}
	if text := w.kubectl("get", "pods", "-l", "vaiven/serves=green", "-o", "name"); len(strings.Fields(text)) != 2 {
		t.Errorf("of those who serve there are %q", text)
	}
	// The other client comes to the same.
	name := strings.TrimPrefix(strings.Fields(w.kubectl("get", "pods", "-o", "name"))[0], "pod/")
	if text := w.kubectl("logs", name); !strings.Contains(text, "listening on") {
		t.Errorf("kubectl logs says %q", text)
	}
	text, err := w.tries("exec", name, "--", "sh", "-c", "echo $REGION; exit 3")
	// it had not begun to listen when that was said
	for n := 0; n < 5 && strings.Contains(text, "Unknown stream id"); n++ {
		text, err = w.tries("exec", name, "--", "sh", "-c", "echo $REGION; exit 3")
	}
	if err == nil || !strings.Contains(text, "north of green") || !strings.Contains(text, "exit code 3") {
		t.Errorf("kubectl exec says %q, %v", text, err)
	}
	conn, err := at.Dial(t.Context(), "tcp", i.Address)
	w.must(err)
	conn.Close()
	about, err := d.Describe(t.Context(), i)
	w.must(err)
	if about.Environment["REGION"] != "north of green" || !slices.Contains(about.Command, i.Address) ||
		about.Limits["memory"] != "67108864" || !strings.HasSuffix(about.Environment["NAME"], "of 2") {
		t.Errorf("it runs %+v", about)
	}
}

// What somebody has no right to is said before anything is raised.
func TestRights(t *testing.T) {
	w := open(t, "well")
	for plural, want := range map[string]string{"deployments": "no right to create deployments.apps, patch " +
		"deployments.apps/sailings-green, delete deployments.apps/sailings-green",
		"pods/portforward": "no right to create pods/portforward"} {
		w.plan.Parts[0].Stacks[split.Green].Cluster.Reach = plan.Forwarded
		w.server.Fall(standin.Illness{Refuses: plural})
		if err := w.driver().Raise(t.Context(), split.Green, stacktest.First); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("without %s: %v; want %q", plural, err, want)
		}
		w.server.Fall(standin.Illness{})
		if text := w.kubectl("get", "deployments", "-o", "name"); text != "" {
			t.Errorf("there is %q", text)
		}
	}
}

// Pods are reached at their addresses, or through the API where the plan wants that.
func TestReach(t *testing.T) {
	w := open(t, "well")
	w.plan.Parts[0].Stacks[split.Green].Cluster.Reach = plan.Forwarded
	d := w.driver()
	stacks := stack.NewSet(w.plan, secret.Values{}, [][2]stack.Driver{{d, d}})
	health := plan.Check{What: plan.TCP{Address: "{address}"}, Within: 5 * time.Second, Up: 1, Down: 1}
	for side, want := range [2]int{0, 2} {
		side := split.Side(side)
		w.must(d.Raise(t.Context(), side, stacktest.First))
		for _, i := range w.list(d, side) {
			target := check.Target{From: stacks.From(i), Values: i.Values("sailings")}
			testkit.Eventually(t, i.Name+" is reached", func() bool { return target.Read(t.Context(), health).Good })
			conn, err := stacks.From(i).Dial(t.Context(), "tcp", i.Address)
			w.must(err)
			if line, err := bufio.NewReader(conn).ReadString('\n'); err != nil ||
				line != "north of "+side.String()+"\n" {
				t.Errorf("%s says %q, %v", i.Name, line, err)
			}
			conn.Close()
		}
		if n := w.server.Forwards(); n < want || want == 0 && n > 0 {
			t.Errorf("for %v there were %d connections through the API", side, n)
		}
		shut := health
		shut.What = plan.TCP{Address: "{host}:1"}
		i := w.list(d, side)[0]
		if r := (check.Target{From: stacks.From(i), Values: i.Values("sailings")}).Read(t.Context(), shut); r.Good ||
			r.Found != "connection refused" {
			t.Errorf("a port of %s at which nobody listens: %+v", i.Name, r)
		}
		host, _, _ := net.SplitHostPort(i.Address)
		if err := front.ReachFrom(t.Context(), stacks.From(i),
			net.JoinHostPort(host, "1")); place.CauseOf(err) != place.Refused {
			t.Errorf("the same port is said to be reached: %v", err)
		}
	}
}

// A template of the team's own is filled in; stopping may leave the Deployment there.
func TestTemplate(t *testing.T) {
	w := open(t, "well")
	template := filepath.Join(w.folder, "deployment.yaml")
	w.must(os.WriteFile(template, []byte(`apiVersion: apps/v1
kind: Deployment
metadata: {name: whatever, labels: {team: harbour}}
spec:
  strategy: {type: Recreate}
  template:
    spec:
      terminationGracePeriodSeconds: 2
      containers:
      - name: web
        image: registry.lineavessa.example/web:{version}
        args: ["-listen", "{address}"]
        env:
        - {name: VAIVEN_HOST, valueFrom: {fieldRef: {fieldPath: status.podIP}}}
        - {name: REGION, value: "south of {side}"}
`), 0o644))
	for side := range w.plan.Parts[0].Stacks {
		s := &w.plan.Parts[0].Stacks[side]
		s.Cluster.Template, s.Cluster.Scales, s.Cluster.Name = template, true, "web-{side}"
	}
	d := w.driver()
	w.must(d.Raise(t.Context(), split.Green, stacktest.First))
	for _, i := range w.list(d, split.Green) {
		testkit.Eventually(t, i.Name+" answers", func() bool { return says(i) == "south of green" })
	}
	w.must(d.Stop(t.Context(), split.Green))
	if text := w.kubectl("get", "deployment", "web-green", "-o",
		"jsonpath={.spec.replicas} {.metadata.labels.team}"); text != "0 harbour" {
		t.Errorf("afterwards there is %q", text)
	}
	w.must(d.Raise(t.Context(), split.Green, stacktest.First))
	if n := len(w.list(d, split.Green)); n != 2 {
		t.Errorf("raised again there are %d", n)
	}
	w.must(os.WriteFile(template, []byte("kind: Service\n"), 0o644))
	if err := d.Raise(t.Context(), split.Green, stacktest.Second); err == nil ||
		!strings.Contains(err.Error(), "is no Deployment, but Service") {
		t.Errorf("a template of something else: %v", err)
	}
}

func TestUnreachable(t *testing.T) {
	w := open(t, "well")
	d := w.driver()
	w.must(d.Raise(t.Context(), split.Green, stacktest.First))
	w.server.Fall(standin.Illness{Refuses: "deployments"})
	if err := d.Raise(t.Context(), split.Green, stacktest.Second); err == nil ||
		!strings.Contains(err.Error(), "no right to create deployments") {
		t.Errorf("without the right: %v", err)
	}
	w.server.Fall(standin.Illness{Break: 1}) // watches end after each event
	w.must(d.Raise(t.Context(), split.Green, stacktest.Second))
	w.server.Fall(standin.Illness{})
	for side := range w.plan.Parts[0].Stacks {
		w.plan.Parts[0].Stacks[side].Cluster.File = filepath.Join(w.folder, "elsewhere")
	}
	w.must(os.WriteFile(filepath.Join(w.folder, "elsewhere"),
		[]byte(strings.Replace(w.server.Kubeconfig("ferries"), "127.0.0.1", "127.0.0.99", 1)), 0o600))
	if _, err := w.driver().List(t.Context(), split.Green); !errors.Is(err, stack.ErrUnreachable) {
		t.Errorf("nobody is there: %v", err)
	}
}
