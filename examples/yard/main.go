package main

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

type request struct {
	Protocol    int
	Do          string
	Service     string
	Part        string
	Side        string
	Version     string
	Build       string
	Names       []string
	Command     []string
	Environment map[string]string
	Ports       []int
	Grace       float64 `json:"grace_s"`
	Instance    string
	Address     string // relay
}

type instance struct {
	Name    string    `json:"name"`
	Version string    `json:"version"`
	Build   string    `json:"build"`
	Address string    `json:"address"`
	Started time.Time `json:"started"`
	Running bool      `json:"running"`
	Exit    string    `json:"exit,omitempty"`
	Output  []string  `json:"output,omitempty"`
}

// note is an instance as it is written down.
type note struct {
	instance
	PID         int
	Command     []string
	Environment map[string]string
}

type answer struct {
	Error       string            `json:"error,omitempty"`
	Failed      map[string]string `json:"failed,omitempty"`
	Instances   []instance        `json:"instances,omitempty"`
	Command     []string          `json:"command,omitempty"`
	Environment map[string]string `json:"environment,omitempty"`
}

func main() {
	folder := flag.String("folder", "yard", "where notes are kept")
	flag.Parse()
	// Byte by byte: what follows the line of a relay belongs to the connection.
	var line []byte
	for b := make([]byte, 1); len(line) == 0 || b[0] != '\n'; line = append(line, b[0]) {
		if _, err := os.Stdin.Read(b); err != nil {
			break
		}
	}
	var q request
	err := json.Unmarshal(line, &q)
	if err == nil && q.Do == "relay" {
		relay(q.Address)
		return
	}
	a := answer{Failed: map[string]string{}}
	if err == nil {
		f := yard{filepath.Join(*folder, q.Service, q.Part, q.Side)}
		err = f.do(q, &a)
	}
	if err != nil {
		a.Error = err.Error()
	}
	json.NewEncoder(os.Stdout).Encode(a)
}

// yard is the folder with the notes on one side.
type yard struct{ dir string }

func (f yard) do(q request, a *answer) error {
	if q.Protocol != 1 {
		return fmt.Errorf("protocol %d is not known", q.Protocol)
	}
	if err := os.MkdirAll(f.dir, 0o700); err != nil {
		return err
	}
	notes, err := f.notes()
	if err != nil {
		return err
	}
	switch q.Do {
	case "list":
		for _, n := range notes {
			a.Instances = append(a.Instances, f.look(n))
		}
	case "describe":
		for _, n := range notes {
			if n.Name == q.Instance {
				a.Command, a.Environment = n.Command, n.Environment
			}
		}
	case "stop":
		f.stop(notes, q.Grace, a)
	case "raise":
		keep := map[string]bool{}
		var others []note
		for _, n := range notes {
			if f.alive(n) && n.Version == q.Version && n.Build == q.Build {
				keep[n.Name] = true
			} else {
				others = append(others, n)
			}
		}
		f.stop(others, q.Grace, a)
		for _, name := range q.Names {
			if keep[name] {
				continue
			}
			if err := f.start(q, name); err != nil {
				a.Failed[name] = err.Error()
			}
		}
	default:
		return fmt.Errorf("cannot %s", q.Do)
	}
	return nil
}

func (f yard) notes() ([]note, error) {
	files, err := filepath.Glob(filepath.Join(f.dir, "*.json"))
	var notes []note
	for _, file := range files {
		data, errRead := os.ReadFile(file)
		var n note
		err = errors.Join(err, errRead, json.Unmarshal(data, &n))
		notes = append(notes, n)
	}
	return notes, err
}

func (f yard) file(name, ending string) string { return filepath.Join(f.dir, name+ending) }

// start starts an instance on the first free port, in a session of its own, under a
// shell that writes down how it ends.
func (f yard) start(q request, name string) error {
	if len(q.Ports) != 2 {
		return errors.New("no ports")
	}
	for port := q.Ports[0]; port <= q.Ports[1]; port++ {
		if f.given(port) { // and do not try it: whom it was given may be about to listen
			continue
		}
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			continue
		}
		l.Close()
		n := note{instance: instance{
			Name: name, Version: q.Version, Build: q.Build, Address: fmt.Sprintf("127.0.0.1:%d", port),
			Started: time.Now().Round(0),
		}, Environment: map[string]string{}}
		r := strings.NewReplacer("{address}", n.Address, "{instance}", name, "{version}", q.Version, "{side}", q.Side,
			"{part}", q.Part)
		for _, word := range q.Command {
			n.Command = append(n.Command, r.Replace(word))
		}
		for key, value := range q.Environment {
			n.Environment[key] = r.Replace(value)
		}
		return f.launch(n)
	}
	return errors.New("no free port")
}

// given reports whether an instance was given the port and may not listen yet.
func (f yard) given(port int) bool {
	for _, side := range []string{"blue", "green"} {
		notes, _ := yard{filepath.Join(filepath.Dir(f.dir), side)}.notes()
		for _, n := range notes {
			if strings.HasSuffix(n.Address, ":"+strconv.Itoa(port)) {
				return true
			}
		}
	}
	return false
}

func (f yard) launch(n note) error {
	if _, err := exec.LookPath(n.Command[0]); err != nil {
		return err
	}
	if err := f.write(n); err != nil { // before it is started: it is found again by its marker
		return err
	}
	output, err := os.Create(f.file(n.Name, ".log"))
	if err != nil {
		return err
	}
	defer output.Close()
	os.Remove(f.file(n.Name, ".exit"))
	cmd := exec.Command("/bin/sh",
		append([]string{"-c", `trap : TERM; "$@"; echo $? >"$0"`, f.file(n.Name, ".exit")}, n.Command...)...)
	cmd.Env = append(os.Environ(), "FLEET="+f.file(n.Name, ""))
	for key, value := range n.Environment {
		cmd.Env = append(cmd.Env, key+"="+value)
	}
	cmd.Stdout, cmd.Stderr = output, output
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return errors.Join(err, os.Remove(f.file(n.Name, ".json")))
	}
	n.PID = cmd.Process.Pid
	return f.write(n)
}

func (f yard) write(n note) error {
	data, err := json.Marshal(n)
	if err != nil {
		return err
	}
	fresh := f.file(n.Name, ".new")
	if err := os.WriteFile(fresh, data, 0o600); err != nil {
		return err
	}
	return os.Rename(fresh, f.file(n.Name, ".json"))
}

// session is the process group of an instance, 0 if it does not run. The marker in
// its environment tells it from another process with the same number.
func (f yard) session(n note) int {
	files, _ := filepath.Glob("/proc/[0-9]*/environ")
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil || !strings.Contains("\x00"+string(data), "\x00FLEET="+f.file(n.Name, "")+"\x00") {
			continue
		}
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		if group, err := syscall.Getpgid(pid); err == nil {
			return group
		}
	}
	return 0
}

func (f yard) alive(n note) bool { return f.session(n) > 0 }

func (f yard) look(n note) instance {
	i := n.instance
	if i.Running = f.alive(n); !i.Running {
		i.Exit = "gone"
		if data, err := os.ReadFile(f.file(n.Name, ".exit")); err == nil {
			i.Exit = "exit status " + strings.TrimSpace(string(data))
		}
	}
	if data, err := os.ReadFile(f.file(n.Name, ".log")); err == nil && len(data) > 0 {
		lines := strings.Split(strings.TrimSpace(string(data)), "\n")
		i.Output = lines[max(0, len(lines)-12):]
	}
	return i
}

// stop asks instances to stop, and makes those that have not after the grace time.
func (f yard) stop(notes []note, grace float64, a *answer) {
	for _, n := range notes {
		if group := f.session(n); group > 0 {
			syscall.Kill(-group, syscall.SIGTERM)
		}
	}
	deadline := time.Now().Add(time.Duration(grace * float64(time.Second)))
	for _, n := range notes {
		for f.alive(n) && time.Now().Before(deadline) {
			time.Sleep(50 * time.Millisecond)
		}
		for tries := 0; f.alive(n) && tries < 100; tries++ {
			syscall.Kill(-f.session(n), syscall.SIGKILL)
			time.Sleep(20 * time.Millisecond)
		}
		if f.alive(n) {
			a.Failed[n.Name] = "still there after SIGKILL"
			continue
		}
		for _, ending := range []string{".json", ".exit", ".log"} {
			os.Remove(f.file(n.Name, ending))
		}
	}
}

// relay connects to an address, says whether it did, and becomes the connection.
func relay(address string) {
	conn, err := net.DialTimeout("tcp", address, 10*time.Second)
	if err != nil {
		cause := "other"
		var dns *net.DNSError
		switch {
		case errors.As(err, &dns):
			cause = "no such name"
		case errors.Is(err, syscall.ECONNREFUSED):
			cause = "refused"
		case errors.Is(err, os.ErrDeadlineExceeded):
			cause = "time-out"
		}
		json.NewEncoder(os.Stdout).Encode(map[string]any{"ok": false, "cause": cause, "detail": err.Error()})
		return
	}
	fmt.Println(`{"ok":true}`)
	go func() {
		io.Copy(conn, os.Stdin)
		conn.(*net.TCPConn).CloseWrite()
	}()
	io.Copy(os.Stdout, conn)
}
