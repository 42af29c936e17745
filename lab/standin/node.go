package standin

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Image finds what an image has to run: the words that begin each command of it. Its error is why it cannot be pulled.
type Image func(image string) (words []string, err error)

// node runs pods as processes of this machine, each at an address of its own.
type node struct {
	server *Server

	mu    sync.Mutex // protects what follows
	pods  map[key]*running
	given int // addresses
	wait  sync.WaitGroup
}

// running is a pod that the node has taken on.
type running struct {
	ip     string
	logs   tail
	ending chan struct{} // closed when it is to end
	end    sync.Once
	grace  time.Duration
	cmd    *exec.Cmd // nil while nothing runs
	env    []string  // of what runs
	mu     sync.Mutex
}

// tail is the last of what a pod has said.
type tail struct {
	mu   sync.Mutex // protects text
	text []byte
}

// tailMost is how much of it is kept, in bytes.
const tailMost = 256 << 10

func (l *tail) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.text = append(l.text, p...)
	l.text = l.text[max(0, len(l.text)-tailMost):]
	return len(p), nil
}

// last are the last lines; all if lines is below zero.
func (l *tail) last(lines int) []byte {
	l.mu.Lock()
	defer l.mu.Unlock()
	if lines < 0 {
		return bytes.Clone(l.text)
	}
	all := bytes.SplitAfter(l.text, []byte("\n"))
	if n := len(all); n > 0 && len(all[n-1]) == 0 {
		all = all[:n-1]
	}
	return bytes.Join(all[max(0, len(all)-lines):], nil)
}

// owners are the uids that an object belongs to.
func owners(o object) (list []string) {
	refs, _ := at(o, "metadata", "ownerReferences").([]any)
	for _, ref := range refs {
		list = append(list, text(ref, "uid"))
	}
	return list
}

// deployed has as many pods of each deployment as it wants, of its present template alone: what is of another one
// goes first. Pods whose deployment is gone go. The caller holds the lock.
func (s *Server) deployed() {
	deployments, pods := kind("deployments"), kind("pods")
	uids := map[string]bool{}
	for k, d := range s.objects[deployments] {
		uid := text(d, "metadata", "uid")
		uids[uid] = true
		template, _ := at(d, "spec", "template").(object)
		written, _ := json.Marshal(template)
		hash := fnv.New32a()
		_, _ = hash.Write(written)
		revision := fmt.Sprintf("%08x", hash.Sum32())
		wanted := 1
		if n, ok := at(d, "spec", "replicas").(float64); ok {
			wanted = int(n)
		}
		var mine []object
		old, going, up := 0, 0, 0
		for _, pod := range s.list(pods, k.namespace, selector{}) {
			if !slices.Contains(owners(pod), uid) {
				continue
			}
			switch {
			case at(pod, "metadata", "deletionTimestamp") != nil:
				going++
			case texts(pod, "metadata", "labels")["pod-template-hash"] != revision:
				s.remove(pods, keyOf(pod), -1)
				old++
			default:
				mine = append(mine, pod)
				if ready(pod) {
					up++
				}
			}
		}
		for len(mine) > wanted {
			last := mine[len(mine)-1]
			s.remove(pods, keyOf(last), -1)
			mine, going = mine[:len(mine)-1], going+1
		}
		for n := len(mine); n < wanted && old+going == 0; n++ {
			s.put(pods, podOf(k, uid, revision, template))
		}
		status := object{"observedGeneration": at(d, "metadata", "generation"),
			"replicas": float64(len(mine) + old + going), "readyReplicas": float64(up),
			"updatedReplicas": float64(len(mine)), "availableReplicas": float64(up)}
		if !same(d["status"], status) {
			now := copied(d)
			now["status"] = status
			s.put(deployments, now)
		}
	}
	for k, pod := range s.objects[pods] {
		if list := owners(pod); len(list) > 0 && !uids[list[0]] && at(pod, "metadata", "deletionTimestamp") == nil {
			s.remove(pods, k, -1)
		}
	}
}

// podOf is a new pod of a deployment.
func podOf(k key, uid, revision string, template object) object {
	pod := copied(template)
	const letters = "bcdfghjklmnpqrstvwxz2456789"
	suffix := make([]byte, 5)
	for n := range suffix {
		suffix[n] = letters[rand.IntN(len(letters))]
	}
	m := meta(pod)
	m["name"], m["namespace"] = fmt.Sprintf("%s-%s-%s", k.name, revision, suffix), k.namespace
	labels, _ := m["labels"].(object)
	if labels == nil {
		labels = object{}
	}
	labels["pod-template-hash"] = revision
	m["labels"] = labels
	m["ownerReferences"] = []any{object{"apiVersion": "apps/v1", "kind": "Deployment", "name": k.name, "uid": uid,
		"controller": true}}
	pod["status"] = object{"phase": "Pending"}
	return pod
}

// remove takes an object away; a pod that runs is asked to end first, and is there until it has. grace is in seconds,
// below zero for the pod's own. The caller holds the lock.
func (s *Server) remove(r *resource, k key, grace float64) {
	o := s.objects[r][k]
	if r.plural != "pods" || s.node == nil || text(o, "spec", "nodeName") == "" {
		s.take(r, k)
		return
	}
	if at(o, "metadata", "deletionTimestamp") != nil {
		return
	}
	if grace < 0 {
		grace = 30
		if own, ok := at(o, "spec", "terminationGracePeriodSeconds").(float64); ok {
			grace = own
		}
	}
	now := copied(o)
	meta(now)["deletionTimestamp"], meta(now)["deletionGracePeriodSeconds"] = time.Now().UTC().Format(time.RFC3339),
		grace
	s.put(r, now)
	s.node.stop(k, time.Duration(grace*float64(time.Second)))
}

// take has the node take on pods that nobody has. The caller holds the server's lock.
func (n *node) take(ctx context.Context) {
	pods := kind("pods")
	for k, pod := range n.server.objects[pods] {
		containers, _ := at(pod, "spec", "containers").([]any)
		if len(containers) == 0 || text(pod, "spec", "nodeName") != "" ||
			at(pod, "metadata", "deletionTimestamp") != nil {
			continue
		}
		n.mu.Lock()
		n.given++
		r := &running{ip: n.server.config.IP(n.given), ending: make(chan struct{})}
		n.pods[k] = r
		n.mu.Unlock()
		now := copied(pod)
		now["spec"].(object)["nodeName"] = "node-1"
		n.server.put(pods, now)
		n.wait.Go(func() { n.run(ctx, k, r, now) })
	}
}

// stop has a pod end.
func (n *node) stop(k key, grace time.Duration) {
	n.mu.Lock()
	r := n.pods[k]
	n.mu.Unlock()
	if r != nil {
		r.end.Do(func() {
			r.grace = grace
			close(r.ending)
		})
	}
}

// tell writes a pod's status.
func (n *node) tell(k key, change func(status object)) {
	s := n.server
	s.mu.Lock()
	defer s.mu.Unlock()
	pod, there := s.objects[kind("pods")][k]
	if !there {
		return
	}
	now := copied(pod)
	status, _ := now["status"].(object)
	if status == nil {
		status = object{}
		now["status"] = status
	}
	change(status)
	if !same(pod["status"], status) {
		s.put(kind("pods"), now)
	}
}

func stamp() string { return time.Now().UTC().Format(time.RFC3339) }

// condition is whether a pod is ready, as its status says it.
func condition(ready bool) []any {
	said := "False"
	if ready {
		said = "True"
	}
	return []any{object{"type": "Ready", "status": said}}
}

// run runs a pod's first container, again and again, until it is to end.
func (n *node) run(ctx context.Context, k key, r *running, pod object) {
	container := at(pod, "spec", "containers").([]any)[0]
	name := text(container, "name")
	restarts := 0.0
	var last object
	defer func() {
		n.mu.Lock()
		delete(n.pods, k)
		n.mu.Unlock()
		n.server.mu.Lock()
		if _, there := n.server.objects[kind("pods")][k]; there {
			n.server.take(kind("pods"), k)
		}
		n.server.mu.Unlock()
	}()
	is := func(state object) {
		n.tell(k, func(status object) {
			c := object{"name": name, "ready": false, "restartCount": restarts, "image": text(container, "image"),
				"state": state}
			if last != nil {
				c["lastState"] = object{"terminated": last}
			}
			status["containerStatuses"], status["conditions"], status["hostIP"] = []any{c}, condition(false),
				"127.0.0.1"
			if last != nil {
				status["phase"] = "Running"
			}
		})
	}
	waits := func(reason, message string) { is(object{"waiting": object{"reason": reason, "message": message}}) }
	pause := func(d time.Duration) bool {
		select {
		case <-time.After(d):
			return true
		case <-r.ending:
		case <-ctx.Done():
		}
		return false
	}
	reason := "ErrImagePull"
	for {
		words, err := n.server.config.Image(text(container, "image"))
		if err != nil {
			waits(reason, fmt.Sprintf("Back-off pulling image %q: %v", text(container, "image"), err))
			if reason = "ImagePullBackOff"; !pause(n.server.config.Backoff) {
				return
			}
			continue
		}
		ended, err := n.start(ctx, k, r, container, words, restarts, last)
		if err != nil {
			waits("RunContainerError", err.Error())
		} else {
			state, alive := n.watch(ctx, k, r, container, ended)
			if !alive {
				return
			}
			ended := object{"exitCode": float64(state),
				"reason": map[bool]string{true: "Completed", false: "Error"}[state == 0], "finishedAt": stamp()}
			if last == nil { // the first time it is started again as soon as it is seen
				is(object{"terminated": ended})
				last = ended
				if !pause(min(n.server.config.Backoff, time.Second)) {
					return
				}
				restarts++
				continue
			}
			last = ended
			waits("CrashLoopBackOff",
				fmt.Sprintf("back-off %v restarting failed container=%s pod=%s", n.server.config.Backoff, name, k.name))
		}
		if !pause(n.server.config.Backoff) {
			return
		}
		if last != nil {
			restarts++
		}
	}
}

// start starts the process of a container.
func (n *node) start(ctx context.Context, k key, r *running, container any, words []string, restarts float64,
	last object) (ended chan int, err error) {
	environment := map[string]string{}
	list, _ := at(container, "env").([]any)
	for _, e := range list {
		value := text(e, "value")
		switch text(e, "valueFrom", "fieldRef", "fieldPath") {
		case "metadata.name":
			value = k.name
		case "status.podIP":
			value = r.ip
		}
		environment[text(e, "name")] = expand(value, environment)
	}
	for _, part := range []string{"command", "args"} {
		list, _ := at(container, part).([]any)
		for _, w := range list {
			word, _ := w.(string)
			words = append(words, expand(word, environment))
		}
	}
	if len(words) == 0 {
		return nil, errors.New("no command specified")
	}
	cmd := exec.Command(words[0], words[1:]...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	cmd.Dir = n.server.config.Dir
	cmd.Stdout, cmd.Stderr = &r.logs, &r.logs
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOSTNAME=" + k.name}
	for name, value := range environment {
		cmd.Env = append(cmd.Env, name+"="+value)
	}
	started, exited := make(chan error), make(chan int, 1)
	n.wait.Go(func() {
		// A process dies with the thread that has started it: that thread waits for it.
		runtime.LockOSThread()
		err := cmd.Start()
		if started <- err; err != nil {
			return
		}
		_ = cmd.Wait()
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // what it has started goes with it
		r.mu.Lock()
		r.cmd = nil
		r.mu.Unlock()
		status := cmd.ProcessState.ExitCode()
		if status < 0 {
			status = 137
		}
		exited <- status
	})
	if err := <-started; err != nil {
		return nil, err
	}
	r.mu.Lock()
	r.cmd, r.env = cmd, cmd.Env
	r.mu.Unlock()
	n.tell(k, func(status object) {
		c := object{"name": text(container, "name"), "ready": false, "started": true, "restartCount": restarts,
			"image": text(container, "image"),
			"state": object{"running": object{"startedAt": time.Now().UTC().Format(time.RFC3339Nano)}}}
		if last != nil {
			c["lastState"] = object{"terminated": last}
		}
		status["phase"], status["podIP"], status["hostIP"], status["containerStatuses"],
			status["conditions"] = "Running", r.ip, "127.0.0.1", []any{c}, condition(false)
	})
	return exited, nil
}

// watch looks whether a container is ready, until it has ended or is to end. alive is false if the pod is over.
func (n *node) watch(ctx context.Context, k key, r *running, container any, ended <-chan int) (state int, alive bool) {
	probe := at(container, "readinessProbe")
	every := time.Second
	if seconds, ok := at(probe, "periodSeconds").(float64); ok && seconds > 0 {
		every = time.Duration(seconds * float64(time.Second))
	}
	asks := &http.Client{Timeout: time.Second}
	defer asks.CloseIdleConnections()
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		select {
		case state := <-ended:
			return state, true
		case <-ctx.Done():
			r.kill(syscall.SIGKILL)
			<-ended
			return 0, false
		case <-r.ending:
			n.tell(k, func(status object) { status["conditions"] = condition(false) })
			r.kill(syscall.SIGTERM)
			select {
			case <-ended:
			case <-ctx.Done():
			case <-time.After(r.grace):
			}
			r.kill(syscall.SIGKILL)
			select {
			case <-ended:
			default:
			}
			return 0, false
		case <-timer.C:
			ready := probe == nil
			if path := text(probe, "httpGet", "path"); path != "" {
				w, err := asks.Get(fmt.Sprintf("http://%s:%v%s", r.ip, at(probe, "httpGet", "port"), path))
				if ready = err == nil && w.StatusCode < 400; err == nil {
					_, _ = io.Copy(io.Discard, w.Body)
					_ = w.Body.Close()
				}
			}
			n.tell(k, func(status object) {
				status["conditions"] = condition(ready)
				if list, _ := status["containerStatuses"].([]any); len(list) > 0 {
					list[0].(object)["ready"] = ready
				}
			})
			if every = min(every, time.Minute); !ready {
				timer.Reset(min(every, 100*time.Millisecond)) // who waits for it should not wait for the stand-in
				continue
			}
			timer.Reset(every)
		}
	}
}

func (r *running) kill(s syscall.Signal) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.cmd != nil {
		_ = syscall.Kill(-r.cmd.Process.Pid, s)
	}
}

// Kill ends the process of a pod as a lack of memory would.
func (s *Server) Kill(namespace, name string) {
	if r := s.node.of(key{namespace, name}); r != nil {
		r.kill(syscall.SIGKILL)
	}
}

func (n *node) of(k key) *running {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.pods[k]
}

// expand puts variables in the place of $(NAME).
func expand(text string, environment map[string]string) string {
	for name, value := range environment {
		text = strings.ReplaceAll(text, "$("+name+")", value)
	}
	return text
}
