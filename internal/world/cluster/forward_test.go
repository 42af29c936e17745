package cluster

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"vaiven/internal/world/place"
	"vaiven/lab/standin"
	"vaiven/lab/testkit"
)

// listener is one of this machine.
func listener(t *testing.T) (l net.Listener, port string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	_, port, _ = net.SplitHostPort(l.Addr().String())
	return l, port
}

// standing has a pod stand in a server that nobody runs.
func standing(t *testing.T, s *standin.Server, name, ip string) {
	t.Helper()
	if err := s.Put([]byte(fmt.Sprintf(`{apiVersion: v1, kind: Pod, metadata: {name: %s, namespace: ferries}, status: {phase: Running, podIP: %s}}`, name, ip))); err != nil {
		t.Fatal(err)
	}
}

// Connections go to a pod through the API, many in one, with new servers and old ones.
func TestForward(t *testing.T) {
	for name, illness := range map[string]standin.Illness{"in a WebSocket": {}, "by SPDY alone": {Old: true}} {
		t.Run(name, func(t *testing.T) {
			s, c, _ := start(t, standin.Config{})
			s.Fall(illness)
			standing(t, s, "sailings-1", "127.0.0.1")
			l, port := listener(t)
			large := strings.Repeat("Linea Vessa ", 100_000)
			web := &httptest.Server{Listener: l,
				Config: &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
					body, _ := io.ReadAll(r.Body)
					fmt.Fprint(w, r.URL.Path, len(body), large)
				})}}
			web.Start()
			defer web.Close()
			client := http.Client{Transport: &http.Transport{DialContext: c.Dial, MaxIdleConnsPerHost: 2},
				Timeout: 30 * time.Second}
			var wait sync.WaitGroup
			for n := range 20 {
				wait.Go(func() {
					r, err := client.Post(fmt.Sprintf("http://127.0.0.1:%s/%d-", port, n), "",
						strings.NewReader(large[:100*n]))
					if err != nil {
						t.Error(err)
						return
					}
					defer r.Body.Close()
					body, err := io.ReadAll(r.Body)
					if err != nil || string(body) != fmt.Sprintf("/%d-%d%s", n, 100*n, large) {
						t.Errorf("request %d: %.40q and %d more, %v", n, body, len(body), err)
					}
				})
			}
			wait.Wait()
			client.CloseIdleConnections()
			if got := s.Forwards(); got != 1 {
				t.Errorf("there were %d connections to the pod", got)
			}
		})
	}
}

// What goes wrong is told apart, and the next connection is made anew.
func TestForwardFails(t *testing.T) {
	s, c, _ := start(t, standin.Config{})
	standing(t, s, "sailings-1", "127.0.0.1")
	l, port := listener(t)
	at := net.JoinHostPort("127.0.0.1", port)
	if _, err := c.Dial(t.Context(), "tcp", net.JoinHostPort("127.77.77.77", port)); !errors.Is(err, ErrMissing) ||
		!strings.Contains(err.Error(), "127.77.77.77") {
		t.Errorf("no pod: %v", err)
	}
	conn, err := c.Dial(t.Context(), "tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	if err := conn.(place.Unsure).Refused(t.Context()); err != nil {
		t.Errorf("one that is taken: %v", err)
	}
	there, err := l.Accept()
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintln(there, "Aurelia")
	there.Close()
	if text, err := io.ReadAll(conn); err != nil || string(text) != "Aurelia\n" {
		t.Errorf("what the pod said before it closed: %q, %v", text, err)
	}
	l.Close()
	conn, err = c.Dial(t.Context(), "tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	if err := conn.(place.Unsure).Refused(t.Context()); place.CauseOf(err) != place.Refused {
		t.Errorf("one that nobody takes: %v", err)
	}
	if _, err := conn.Read(make([]byte, 1)); place.CauseOf(err) != place.Refused {
		t.Errorf("what is read of it: %v", err)
	}
	if n := s.Forwards(); n != 1 {
		t.Errorf("there were %d connections to the pod", n)
	}
	s.Fall(standin.Illness{Refuses: "pods/portforward"})
	standing(t, s, "sailings-2", "127.0.0.2")
	at = net.JoinHostPort("127.0.0.2", port) // to which there is no way yet
	again := func() error {
		conn, err := c.Dial(t.Context(), "tcp", at)
		if err == nil {
			conn.Close()
		}
		return err
	}
	if err := again(); !errors.Is(err, ErrRefused) || !strings.Contains(err.Error(), "pods/portforward") {
		t.Errorf("without the right: %v", err)
	}
	if missing, err := c.Missing(t.Context(), Right{Verb: "create", Of: Pods, Part: "portforward"}); err != nil ||
		len(missing) != 1 || missing[0].String() != "create pods/portforward" {
		t.Errorf("missing: %v, %v", missing, err)
	}
	s.Fall(standin.Illness{Delay: time.Minute})
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	if _, err := c.Dial(ctx, "tcp", at); !errors.Is(err, ErrUnreachable) {
		t.Errorf("an API that does not answer: %v", err)
	}
	s.Fall(standin.Illness{})
	testkit.Eventually(t, "it is reached again", func() bool { return again() == nil })
}

// Somebody else's client comes the same way.
func TestForwardOfKubectl(t *testing.T) {
	s, _, _ := start(t, standin.Config{})
	standing(t, s, "sailings-1", "127.0.0.1")
	l, port := listener(t)
	web := &httptest.Server{Listener: l,
		Config: &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter,
			r *http.Request) {
			fmt.Fprint(w, "Aurelia")
		})}}
	web.Start()
	defer web.Close()
	file := filepath.Join(t.TempDir(), "kubeconfig")
	if err := os.WriteFile(file, []byte(s.Kubeconfig("ferries")), 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := exec.CommandContext(t.Context(), "kubectl", "--kubeconfig", file, "--cache-dir", t.TempDir(), "port-forward",
		"pod/sailings-1", ":"+port)
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	defer func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}()
	line, err := bufio.NewReader(out).ReadString('\n') // Forwarding from 127.0.0.1:NNN -> NNN
	at := strings.TrimPrefix(strings.Split(line, " -> ")[0], "Forwarding from ")
	if err != nil || at == line {
		t.Fatalf("kubectl says %q, %v", line, err)
	}
	r, err := http.Get("http://" + at)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	if body, _ := io.ReadAll(r.Body); string(body) != "Aurelia" {
		t.Errorf("it says %q", body)
	}
}

// Connections go out of a pod by what its shell has.
func TestRelay(t *testing.T) {
	l, port := listener(t)
	var open atomic.Int32
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			open.Add(1)
			go func() {
				defer open.Add(-1)
				defer conn.Close()
				line, _ := bufio.NewReader(conn).ReadString('\n')
				fmt.Fprintf(conn, "you said %s", line)
			}()
		}
	}()
	at := net.JoinHostPort("127.0.0.1", port)
	closed, shut := listener(t)
	closed.Close()
	nothing, netcat := t.TempDir(), t.TempDir()
	program, err := exec.LookPath("nc.traditional")
	if err == nil {
		err = os.Symlink(program, filepath.Join(netcat, "nc"))
	}
	if err != nil {
		t.Fatal(err)
	}
	for name, path := range map[string]string{"by bash": os.Getenv("PATH"), "by nc": netcat, "by nothing": nothing} {
		t.Run(name, func(t *testing.T) {
			s, c, _ := start(t, standin.Config{Image: func(string) ([]string,
				error) {
				return []string{"/bin/sleep", "600"}, nil
			}, IP: func(int) string { return "127.0.0.1" }})
			if err := s.Put([]byte(fmt.Sprintf(`{apiVersion: v1, kind: Pod, metadata: {name: sailings-1, namespace: ferries}, spec: {containers: [{name: web, image: sailings, env: [{name: PATH, value: %q}]}]}}`, path))); err != nil {
				t.Fatal(err)
			}
			container := Container{Pod: "sailings-1", Name: "web"}
			testkit.Eventually(t, "the pod runs", func() bool {
				_, err := c.Exec(t.Context(), container, Streams{}, "/bin/true")
				return err == nil
			})
			conn, err := c.DialFrom(t.Context(), container, at)
			if path == nothing {
				if !errors.Is(err, place.ErrCannot) || !strings.Contains(err.Error(), "neither bash nor nc") {
					t.Errorf("it says %v", err)
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			fmt.Fprintln(conn, "Aurelia")
			if text, err := io.ReadAll(conn); err != nil || string(text) != "you said Aurelia\n" {
				t.Errorf("there came %q, %v", text, err)
			}
			conn.Close()
			for to, want := range map[string]place.Cause{net.JoinHostPort("127.0.0.1", shut): place.Refused,
				"no-such-host.invalid:80": place.NoName} {
				if _, err := c.DialFrom(t.Context(), container, to); place.CauseOf(err) != want {
					t.Errorf("%s is %q: %v", to, place.CauseOf(err), err)
				}
			}
			// What is let go ends in the pod as well, on either side.
			conn, err = c.DialFrom(t.Context(), container, at)
			if err != nil {
				t.Fatal(err)
			}
			conn.Close()
			testkit.Eventually(t, "nothing is left that relays", func() bool { return open.Load() == 0 })
		})
	}
}

// That a pod is not reached says nothing of it while the API does not answer.
func TestAnswers(t *testing.T) {
	s, c, _ := start(t, standin.Config{})
	if err := c.Answers(t.Context()); err != nil {
		t.Errorf("one that answers: %v", err)
	}
	s.Fall(standin.Illness{Delay: time.Minute})
	testkit.Eventually(t, "it is said not to answer",
		func() bool { return errors.Is(c.Answers(t.Context()), ErrUnreachable) })
	s.Fall(standin.Illness{})
	testkit.Eventually(t, "it is said to answer again", func() bool { return c.Answers(t.Context()) == nil })
}
