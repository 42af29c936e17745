package main

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	coordination "k8s.io/api/coordination/v1"
	core "k8s.io/api/core/v1"
	"k8s.io/apimachinery/pkg/api/resource"
	meta "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/fields"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/kubernetes"
	"k8s.io/client-go/tools/cache"
	"k8s.io/client-go/tools/clientcmd"
	"k8s.io/cri-streaming/pkg/streaming/portforward"
	"k8s.io/cri-streaming/pkg/streaming/remotecommand"
	utilexec "k8s.io/utils/exec"
	"k8s.io/utils/ptr"
)

// node runs the pods of one node as processes of this machine, each pod at an address of its own.
type node struct {
	name, address, pods4, pods6 string
	runs                        map[string]string // what images have to run, by name without tag
	api                         kubernetes.Interface

	mu    sync.Mutex // protects what follows
	pods  map[types.UID]*pod
	given int
}

// pod is one that runs here.
type pod struct {
	node   *node
	spec   *core.Pod
	ips    []core.PodIP
	ending chan struct{}
	grace  time.Duration // once it is ending

	mu         sync.Mutex // protects what follows
	containers map[string]*container
}

// container is one of a pod.
type container struct {
	spec   core.Container
	status core.ContainerStatus
	log    tail
	cmd    *exec.Cmd // nil while nothing runs
	env    []string
}

// tail is the last of what a container has said.
type tail struct {
	mu   sync.Mutex // protects text
	text []byte
}

func (l *tail) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.text = append(l.text, p...)
	l.text = l.text[max(0, len(l.text)-1<<20):]
	return len(p), nil
}

func (l *tail) last(lines int) []byte {
	l.mu.Lock()
	defer l.mu.Unlock()
	all := bytes.SplitAfter(l.text, []byte("\n"))
	if n := len(all); n > 0 && len(all[n-1]) == 0 {
		all = all[:n-1]
	}
	if lines >= 0 {
		all = all[max(0, len(all)-lines):]
	}
	return bytes.Join(all, nil)
}

func nodeCommand() *cobra.Command {
	var kubeconfig, certificate, key string
	var runs []string
	n := &node{runs: map[string]string{}, pods: map[types.UID]*pod{}}
	c := &cobra.Command{
		Use: "node", Args: cobra.NoArgs, SilenceUsage: true,
		RunE: func(c *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(c.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			for _, r := range runs {
				image, program, _ := strings.Cut(r, "=")
				n.runs[image] = program
			}
			config, err := clientcmd.BuildConfigFromFlags("", kubeconfig)
			if err != nil {
				return err
			}
			config.QPS, config.Burst = 200, 400
			if n.api, err = kubernetes.NewForConfig(config); err != nil {
				return err
			}
			pair, err := tls.LoadX509KeyPair(certificate, key)
			if err != nil {
				return err
			}
			l, err := tls.Listen("tcp", n.address+":10250", &tls.Config{Certificates: []tls.Certificate{pair}})
			if err != nil {
				return err
			}
			server := http.Server{Handler: n.serve()}
			go func() { _ = server.Serve(l) }()
			defer server.Close()
			return n.run(ctx)
		},
	}
	f := c.Flags()
	f.StringVar(&kubeconfig, "kubeconfig", "", "how to reach the API")
	f.StringVar(&certificate, "certificate", "", "of this node")
	f.StringVar(&key, "key", "", "of the certificate")
	f.StringVar(&n.name, "name", "", "of this node")
	f.StringVar(&n.address, "address", "", "of this node")
	f.StringVar(&n.pods4, "pods", "", "what the addresses of pods begin with")
	f.StringVar(&n.pods6, "pods6", "", "what their second addresses begin with")
	f.StringArrayVar(&runs, "run", nil, "what an image has to run: NAME=PROGRAM")
	return c
}

// run registers the node and runs its pods until the context ends.
func (n *node) run(ctx context.Context) error {
	if err := n.register(ctx); err != nil {
		return err
	}
	list := cache.NewListWatchFromClient(n.api.CoreV1().RESTClient(), "pods", "",
		fields.OneTermEqualSelector("spec.nodeName", n.name))
	_, informer := cache.NewInformerWithOptions(cache.InformerOptions{ListerWatcher: list, ObjectType: &core.Pod{},
		Handler: cache.ResourceEventHandlerFuncs{
			AddFunc:    func(o any) { n.take(ctx, o.(*core.Pod)) },
			UpdateFunc: func(_, o any) { n.take(ctx, o.(*core.Pod)) },
			DeleteFunc: func(o any) {
				if gone, ok := o.(cache.DeletedFinalStateUnknown); ok {
					o = gone.Obj
				}
				p := o.(*core.Pod)
				p.DeletionGracePeriodSeconds = ptr.To[int64](0)
				n.end(p)
			},
		}})
	go informer.Run(ctx.Done())
	for {
		select {
		case <-ctx.Done():
			n.mu.Lock()
			defer n.mu.Unlock()
			for _, p := range n.pods {
				p.kill(syscall.SIGKILL)
			}
			return nil
		case <-time.After(3 * time.Second):
			_ = n.beat(ctx)
		}
	}
}

// register makes the node known.
func (n *node) register(ctx context.Context) error {
	have := core.ResourceList{core.ResourceCPU: resource.MustParse("8"), core.ResourceMemory: resource.MustParse("8Gi"),
		core.ResourcePods: resource.MustParse("200")}
	o := &core.Node{ObjectMeta: meta.ObjectMeta{Name: n.name, Labels: map[string]string{
		"kubernetes.io/hostname": n.name, "kubernetes.io/os": "linux"}}}
	_, err := n.api.CoreV1().Nodes().Create(ctx, o, meta.CreateOptions{})
	if err != nil {
		if _, err = n.api.CoreV1().Nodes().Get(ctx, n.name, meta.GetOptions{}); err != nil {
			return err
		}
	}
	now := meta.Now()
	status := core.NodeStatus{Capacity: have, Allocatable: have,
		Addresses:       []core.NodeAddress{{Type: core.NodeInternalIP, Address: n.address}},
		DaemonEndpoints: core.NodeDaemonEndpoints{KubeletEndpoint: core.DaemonEndpoint{Port: 10250}},
		Conditions: []core.NodeCondition{{Type: core.NodeReady, Status: core.ConditionTrue, Reason: "KubeletReady",
			LastHeartbeatTime: now, LastTransitionTime: now}},
		NodeInfo: core.NodeSystemInfo{KubeletVersion: "v1.37.2", OperatingSystem: "linux", Architecture: "amd64"}}
	if o, err = n.api.CoreV1().Nodes().Get(ctx, n.name, meta.GetOptions{}); err != nil {
		return err
	}
	o.Status = status
	if _, err = n.api.CoreV1().Nodes().UpdateStatus(ctx, o, meta.UpdateOptions{}); err != nil {
		return err
	}
	return n.beat(ctx)
}

// beat says that the node is alive.
func (n *node) beat(ctx context.Context) error {
	leases := n.api.CoordinationV1().Leases("kube-node-lease")
	now := meta.NowMicro()
	l, err := leases.Get(ctx, n.name, meta.GetOptions{})
	if err != nil {
		_, err = leases.Create(ctx, &coordination.Lease{ObjectMeta: meta.ObjectMeta{Name: n.name},
			Spec: coordination.LeaseSpec{HolderIdentity: &n.name, LeaseDurationSeconds: ptr.To[int32](15),
				RenewTime: &now}}, meta.CreateOptions{})
		return err
	}
	l.Spec.RenewTime = &now
	if _, err = leases.Update(ctx, l, meta.UpdateOptions{}); err != nil {
		return err
	}
	o, err := n.api.CoreV1().Nodes().Get(ctx, n.name, meta.GetOptions{})
	if err != nil {
		return err
	}
	for k := range o.Status.Conditions {
		if c := &o.Status.Conditions[k]; c.Type == core.NodeReady && c.Status != core.ConditionTrue {
			c.Status, c.Reason, c.LastTransitionTime = core.ConditionTrue, "KubeletReady", meta.Now()
			_, err = n.api.CoreV1().Nodes().UpdateStatus(ctx, o, meta.UpdateOptions{})
		}
	}
	return err
}

// take has a pod run here, or end.
func (n *node) take(ctx context.Context, spec *core.Pod) {
	n.mu.Lock()
	p, here := n.pods[spec.UID]
	over := spec.Status.Phase == core.PodFailed || spec.Status.Phase == core.PodSucceeded
	if !here && spec.DeletionTimestamp == nil && !over {
		n.given++
		p = &pod{node: n, spec: spec, ending: make(chan struct{}), containers: map[string]*container{},
			ips: []core.PodIP{{IP: n.pods4 + strconv.Itoa(1+n.given)}}}
		if n.pods6 != "" {
			p.ips = append(p.ips, core.PodIP{IP: n.pods6 + strconv.FormatInt(int64(1+n.given), 16)})
		}
		n.pods[spec.UID] = p
		go p.run(ctx)
	}
	n.mu.Unlock()
	switch {
	case spec.DeletionTimestamp != nil && !here: // never here, or over
		_ = n.api.CoreV1().Pods(spec.Namespace).Delete(ctx, spec.Name,
			meta.DeleteOptions{GracePeriodSeconds: ptr.To[int64](0)})
	case spec.DeletionTimestamp != nil || over:
		n.end(spec)
	case here:
		p.mu.Lock()
		p.spec = spec // readiness gates
		p.mu.Unlock()
	}
}

// end has a pod end.
func (n *node) end(spec *core.Pod) {
	n.mu.Lock()
	defer n.mu.Unlock()
	p := n.pods[spec.UID]
	if p == nil {
		return
	}
	select {
	case <-p.ending:
	default:
		p.grace = 30 * time.Second
		if spec.DeletionGracePeriodSeconds != nil {
			p.grace = time.Duration(*spec.DeletionGracePeriodSeconds) * time.Second
		}
		close(p.ending)
	}
}

// run runs a pod's containers until it is to end.
func (p *pod) run(ctx context.Context) {
	var wait sync.WaitGroup
	start := func(c core.Container, init bool) {
		it := &container{spec: c, status: core.ContainerStatus{Name: c.Name, Image: c.Image,
			State: core.ContainerState{Waiting: &core.ContainerStateWaiting{Reason: "ContainerCreating"}}}}
		p.mu.Lock()
		p.containers[c.Name] = it
		p.mu.Unlock()
		if init && (c.RestartPolicy == nil || *c.RestartPolicy != core.ContainerRestartPolicyAlways) {
			p.once(ctx, it)
			return
		}
		wait.Go(func() { p.keep(ctx, it) })
	}
	p.tell(ctx)
	for _, c := range p.spec.Spec.InitContainers {
		start(c, true)
	}
	for _, c := range p.spec.Spec.Containers {
		start(c, false)
	}
	ended := make(chan struct{})
	go func() {
		wait.Wait()
		close(ended)
	}()
	for over := false; !over; {
		p.tell(ctx)
		select {
		case <-ended:
			over = true
		case <-ctx.Done():
			return
		case <-time.After(200 * time.Millisecond):
		}
	}
	p.node.mu.Lock()
	delete(p.node.pods, p.spec.UID)
	p.node.mu.Unlock()
	select {
	case <-p.ending:
	default:
		return
	}
	for range 50 { // it is told for as long as it takes
		now, err := p.node.api.CoreV1().Pods(p.spec.Namespace).Get(ctx, p.spec.Name, meta.GetOptions{})
		if err != nil || now.UID != p.spec.UID || now.DeletionTimestamp == nil {
			return
		}
		err = p.node.api.CoreV1().Pods(p.spec.Namespace).Delete(ctx, p.spec.Name, meta.DeleteOptions{
			GracePeriodSeconds: ptr.To[int64](0), Preconditions: &meta.Preconditions{UID: &p.spec.UID}})
		if err == nil {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// once runs a container that has to end before others begin.
func (p *pod) once(ctx context.Context, c *container) {
	ended, err := p.start(c)
	if err != nil {
		return
	}
	select {
	case <-ended:
	case <-ctx.Done():
	case <-p.ending:
		p.signal(c, syscall.SIGKILL)
	}
}

// keep runs a container, again and again, until its pod is to end.
func (p *pod) keep(ctx context.Context, c *container) {
	pause := func(d time.Duration) bool {
		select {
		case <-time.After(d):
			return true
		case <-p.ending:
		case <-ctx.Done():
		}
		return false
	}
	for n := 0; ; n++ {
		ended, err := p.start(c)
		switch {
		case err != nil:
			reason := "RunContainerError"
			if errors.Is(err, errPull) {
				if reason = "ErrImagePull"; n%2 == 1 {
					reason = "ImagePullBackOff"
				}
			}
			p.is(c, core.ContainerState{Waiting: &core.ContainerStateWaiting{Reason: reason, Message: err.Error()}})
		default:
			status, alive := p.watch(ctx, c, ended)
			if !alive {
				return
			}
			last := core.ContainerState{Terminated: &core.ContainerStateTerminated{ExitCode: int32(status),
				Reason: map[bool]string{true: "Completed", false: "Error"}[status == 0], FinishedAt: meta.Now()}}
			p.mu.Lock()
			c.status.LastTerminationState = last
			p.mu.Unlock()
			if n == 0 { // the first time it is started again at once
				p.mu.Lock()
				c.status.RestartCount++
				p.mu.Unlock()
				if p.is(c, last); !pause(time.Second) { // so that it is seen
					return
				}
				continue
			}
			p.is(c, core.ContainerState{Waiting: &core.ContainerStateWaiting{Reason: "CrashLoopBackOff",
				Message: "back-off restarting failed container"}})
			p.mu.Lock()
			c.status.RestartCount++
			p.mu.Unlock()
		}
		if !pause(min(time.Duration(n+1)*300*time.Millisecond, 10*time.Second)) {
			return
		}
	}
}

var errPull = errors.New("not found")

// start starts a container's process.
func (p *pod) start(c *container) (ended chan int, err error) {
	name, _, _ := strings.Cut(c.spec.Image, "@")
	tag := ""
	if at := strings.LastIndex(name, ":"); at > strings.LastIndex(name, "/") {
		name, tag = name[:at], name[at+1:]
	}
	program, there := p.node.runs[name]
	if !there || tag == "none" {
		return nil, fmt.Errorf("failed to pull image %q: %w", c.spec.Image, errPull)
	}
	environment := map[string]string{}
	for _, e := range c.spec.Env {
		value := e.Value
		if e.ValueFrom != nil && e.ValueFrom.FieldRef != nil {
			switch e.ValueFrom.FieldRef.FieldPath {
			case "metadata.name":
				value = p.spec.Name
			case "status.podIP":
				value = p.ips[0].IP
			}
		}
		environment[e.Name] = expand(value, environment)
	}
	words := strings.Fields(program)
	for _, w := range slices.Concat(c.spec.Command, c.spec.Args) {
		words = append(words, expand(w, environment))
	}
	cmd := exec.Command(words[0], words[1:]...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	cmd.Stdout, cmd.Stderr = &c.log, &c.log
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOSTNAME=" + p.spec.Name}
	for name, value := range environment {
		cmd.Env = append(cmd.Env, name+"="+value)
	}
	started, exited := make(chan error), make(chan int, 1)
	go func() {
		runtime.LockOSThread() // a process dies with the thread that has started it
		err := cmd.Start()
		if started <- err; err != nil {
			return
		}
		_ = cmd.Wait()
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		p.mu.Lock()
		c.cmd = nil
		p.mu.Unlock()
		status := cmd.ProcessState.ExitCode()
		if status < 0 {
			status = 137
		}
		exited <- status
	}()
	if err := <-started; err != nil {
		return nil, err
	}
	p.mu.Lock()
	c.cmd, c.env = cmd, cmd.Env
	p.mu.Unlock()
	p.is(c, core.ContainerState{Running: &core.ContainerStateRunning{StartedAt: meta.Now()}})
	return exited, nil
}

// watch looks whether a container is ready until it has ended, or is to end: then alive is false.
func (p *pod) watch(ctx context.Context, c *container, ended <-chan int) (status int, alive bool) {
	for {
		select {
		case status = <-ended:
			return status, true
		case <-ctx.Done():
			p.signal(c, syscall.SIGKILL)
			return 0, false
		case <-p.ending:
			p.signal(c, syscall.SIGTERM)
			select {
			case <-ended:
			case <-ctx.Done():
			case <-time.After(p.grace):
			}
			p.signal(c, syscall.SIGKILL)
			return 0, false
		case <-time.After(100 * time.Millisecond):
			ready := true
			if probe := c.spec.ReadinessProbe; probe != nil && probe.HTTPGet != nil {
				ready = p.asked(probe.HTTPGet)
			}
			p.mu.Lock()
			c.status.Ready, c.status.Started = ready, ptr.To(true)
			p.mu.Unlock()
		}
	}
}

// asked is whether a pod answers well.
func (p *pod) asked(get *core.HTTPGetAction) bool {
	client := http.Client{Timeout: time.Second}
	defer client.CloseIdleConnections()
	w, err := client.Get("http://" + net.JoinHostPort(p.ips[0].IP, get.Port.String()) + get.Path)
	if err != nil {
		return false
	}
	_, _ = io.Copy(io.Discard, w.Body)
	_ = w.Body.Close()
	return w.StatusCode < 400
}

func (p *pod) signal(c *container, s syscall.Signal) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if c.cmd != nil {
		_ = syscall.Kill(-c.cmd.Process.Pid, s)
	}
}

func (p *pod) kill(s syscall.Signal) {
	p.mu.Lock()
	list := p.containers
	p.mu.Unlock()
	for _, c := range list {
		p.signal(c, s)
	}
}

// is notes what a container is doing.
func (p *pod) is(c *container, s core.ContainerState) {
	p.mu.Lock()
	defer p.mu.Unlock()
	c.status.State = s
	if s.Running == nil {
		c.status.Ready = false
	}
}

// tell writes the pod's status, as a node tells it: containers in the order of their names.
func (p *pod) tell(ctx context.Context) {
	p.mu.Lock()
	status := core.PodStatus{Phase: core.PodRunning, HostIP: p.node.address, PodIP: p.ips[0].IP, PodIPs: p.ips,
		StartTime: &meta.Time{Time: p.spec.CreationTimestamp.Time}}
	ready := true
	of := func(list []core.Container) (told []core.ContainerStatus) {
		for _, c := range list {
			it := core.ContainerStatus{Name: c.Name, Image: c.Image,
				State: core.ContainerState{Waiting: &core.ContainerStateWaiting{Reason: "PodInitializing"}}}
			if at := p.containers[c.Name]; at != nil {
				it = at.status
			}
			if it.State.Waiting != nil && it.RestartCount == 0 {
				status.Phase = core.PodPending
			}
			ready = ready && (it.Ready || it.State.Terminated != nil)
			told = append(told, it)
		}
		slices.SortFunc(told, func(a, b core.ContainerStatus) int { return strings.Compare(a.Name, b.Name) })
		return told
	}
	if len(p.spec.Spec.InitContainers) > 0 {
		status.InitContainerStatuses = of(p.spec.Spec.InitContainers)
	}
	status.ContainerStatuses = of(p.spec.Spec.Containers)
	select {
	case <-p.ending:
		ready = false
	default:
	}
	whole := ready
	said := map[core.PodConditionType]core.PodCondition{}
	for _, c := range p.spec.Status.Conditions {
		said[c.Type] = c
	}
	for _, g := range p.spec.Spec.ReadinessGates {
		whole = whole && said[g.ConditionType].Status == core.ConditionTrue
	}
	spec := p.spec
	p.mu.Unlock()
	now, err := p.node.api.CoreV1().Pods(spec.Namespace).Get(ctx, spec.Name, meta.GetOptions{ResourceVersion: "0"})
	if err != nil || now.UID != spec.UID || now.Status.Phase == core.PodFailed {
		return
	}
	conditions := slices.Clone(now.Status.Conditions)
	for kind, is := range map[core.PodConditionType]bool{core.PodReady: whole, core.ContainersReady: ready,
		core.PodInitialized: true} {
		want := core.ConditionFalse
		if is {
			want = core.ConditionTrue
		}
		at := slices.IndexFunc(conditions, func(c core.PodCondition) bool { return c.Type == kind })
		if at < 0 {
			at = len(conditions)
			conditions = append(conditions, core.PodCondition{Type: kind})
		}
		if conditions[at].Status != want {
			conditions[at].Status, conditions[at].LastTransitionTime = want, meta.Now()
		}
	}
	status.Conditions = conditions
	status.QOSClass = now.Status.QOSClass
	if fmt.Sprint(now.Status.ContainerStatuses, now.Status.InitContainerStatuses, now.Status.Phase, now.Status.PodIPs,
		now.Status.Conditions) == fmt.Sprint(status.ContainerStatuses, status.InitContainerStatuses, status.Phase,
		status.PodIPs, status.Conditions) {
		return
	}
	now.Status = status
	_, _ = p.node.api.CoreV1().Pods(spec.Namespace).UpdateStatus(ctx, now, meta.UpdateOptions{})
}

// expand puts variables in the place of $(NAME).
func expand(text string, environment map[string]string) string {
	for name, value := range environment {
		text = strings.ReplaceAll(text, "$("+name+")", value)
	}
	return text
}

// serve answers the API server: logs, commands and connections to pods.
func (n *node) serve() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /containerLogs/{namespace}/{pod}/{container}", func(w http.ResponseWriter, q *http.Request) {
		_, c, err := n.of(q)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		lines := -1
		if n, err := strconv.Atoi(q.URL.Query().Get("tailLines")); err == nil {
			lines = n
		}
		_, _ = w.Write(c.log.last(lines))
	})
	mux.HandleFunc("/exec/{namespace}/{pod}/{container}", func(w http.ResponseWriter, q *http.Request) {
		_, c, err := n.of(q)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		options, err := remotecommand.NewOptions(q)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		remotecommand.ServeExec(w, q, c, q.PathValue("pod"), "", c.spec.Name, q.URL.Query()["command"], options,
			time.Hour, 10*time.Second, remotecommand.SupportedStreamingProtocols)
	})
	mux.HandleFunc("/portForward/{namespace}/{pod}", func(w http.ResponseWriter, q *http.Request) {
		p, _, err := n.of(q)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		options, err := portforward.NewV4Options(q)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		portforward.ServePortForward(w, q, p, q.PathValue("pod"), "", options, time.Hour, 10*time.Second,
			portforward.SupportedProtocols)
	})
	return mux
}

// of is the pod, and the container, that a request is about.
func (n *node) of(q *http.Request) (*pod, *container, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, p := range n.pods {
		if p.spec.Namespace == q.PathValue("namespace") && p.spec.Name == q.PathValue("pod") {
			p.mu.Lock()
			defer p.mu.Unlock()
			c := p.containers[q.PathValue("container")]
			if c == nil && q.PathValue("container") != "" {
				return nil, nil, fmt.Errorf("container %q is not there", q.PathValue("container"))
			}
			return p, c, nil
		}
	}
	return nil, nil, fmt.Errorf("pod %q is not here", q.PathValue("pod"))
}

// ExecInContainer runs a command with the environment of a container.
func (c *container) ExecInContainer(ctx context.Context, _, _, _ string, words []string, in io.Reader,
	out, errs io.WriteCloser, _ bool, _ <-chan remotecommand.TerminalSize, _ time.Duration) error {
	cmd := utilexec.New().CommandContext(ctx, words[0], words[1:]...)
	cmd.SetEnv(c.env)
	cmd.SetStdout(out)
	cmd.SetStderr(errs)
	if in != nil { // whatever more is to be read: it ends when the command does
		to, from, err := os.Pipe()
		if err != nil {
			return err
		}
		defer to.Close()
		cmd.SetStdin(to)
		go func() {
			_, _ = io.Copy(from, in)
			_ = from.Close()
		}()
	}
	return cmd.Run()
}

// PortForward carries a connection to a port of a pod.
func (p *pod) PortForward(ctx context.Context, _, _ string, port int32, stream io.ReadWriteCloser) error {
	var d net.Dialer
	to, err := d.DialContext(ctx, "tcp", net.JoinHostPort(p.ips[0].IP, strconv.Itoa(int(port))))
	if err != nil {
		return err
	}
	defer to.Close()
	go func() {
		_, _ = io.Copy(to, stream)
		_ = to.(*net.TCPConn).CloseWrite()
	}()
	_, err = io.Copy(stream, to)
	return err
}
