package standin

import (
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"os/exec"
	"strconv"
	"sync"

	"github.com/gorilla/websocket"
)

// The channels of a stream (v5.channel.k8s.io): each message begins with the one that it belongs to.
const (
	inChannel    = 0
	outChannel   = 1
	errChannel   = 2
	errorChannel = 3
	closeChannel = 255 // its message names the one that ends
)

// stream is what a command says, on its way.
type stream struct {
	mu   *sync.Mutex // protects conn
	conn *websocket.Conn
	of   byte
}

func (s stream) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(p), s.conn.WriteMessage(websocket.BinaryMessage, append([]byte{s.of}, p...))
}

// upgraded makes a request's connection a WebSocket with one of some protocols. Its error has been said to whoever
// asked.
func (c call) upgraded(w http.ResponseWriter, protocols ...string) (*websocket.Conn, error) {
	up := websocket.Upgrader{Subprotocols: protocols, CheckOrigin: func(*http.Request) bool { return true }}
	return up.Upgrade(w, c.q, nil)
}

// exec runs a command with the environment of a pod, and says how it ended.
func (c call) exec(w http.ResponseWriter) {
	words := c.q.URL.Query()["command"]
	var r *running
	var environment []string // of what runs
	if c.s.node != nil {
		r = c.s.node.of(c.key())
	}
	if r != nil {
		r.mu.Lock()
		if r.cmd != nil {
			environment = r.env
		}
		r.mu.Unlock()
	}
	if environment == nil || len(words) == 0 {
		p := badRequest("container in pod %q is not running, or there is no command", c.name)
		say(w, p.code, p.status())
		return
	}
	conn, err := c.upgraded(w, "v5.channel.k8s.io", "v4.channel.k8s.io")
	if err != nil {
		return // it has been said
	}
	defer conn.Close()
	var mu sync.Mutex
	cmd := exec.CommandContext(c.q.Context(), words[0], words[1:]...)
	cmd.Dir = c.s.config.Dir
	cmd.Env = environment
	cmd.Stdout, cmd.Stderr = stream{&mu, conn, outChannel}, stream{&mu, conn, errChannel}
	in := io.WriteCloser(nothing{})
	if c.q.URL.Query().Get("stdin") == "true" {
		if in, err = cmd.StdinPipe(); err != nil {
			return
		}
	}
	go given(conn, in)
	status := object{"metadata": object{}, "status": "Success"}
	err = cmd.Run()
	var exit *exec.ExitError
	switch {
	case errors.As(err, &exit):
		status = object{"metadata": object{}, "status": "Failure", "reason": "NonZeroExitCode", "message": err.Error(),
			"details": object{"causes": []any{object{"reason": "ExitCode", "message": strconv.Itoa(exit.ExitCode())}}}}
	case err != nil:
		status = object{"metadata": object{}, "status": "Failure", "reason": "InternalError", "message": err.Error()}
	}
	text, _ := json.Marshal(status)
	_, _ = stream{&mu, conn, errorChannel}.Write(text)
	mu.Lock()
	defer mu.Unlock()
	_ = conn.WriteMessage(websocket.CloseMessage, websocket.FormatCloseMessage(websocket.CloseNormalClosure, ""))
}

// given has a command read what it is given, until that ends.
func given(conn *websocket.Conn, in io.WriteCloser) {
	defer in.Close()
	for {
		_, message, err := conn.ReadMessage()
		switch {
		case err != nil, len(message) > 1 && message[0] == closeChannel && message[1] == inChannel:
			return
		case len(message) > 0 && message[0] == inChannel:
			if _, err := in.Write(message[1:]); err != nil {
				return
			}
		}
	}
}

// nothing is the input of a command that has none.
type nothing struct{}

func (nothing) Write(p []byte) (int, error) { return len(p), nil }
func (nothing) Close() error                { return nil }

// log says what a pod has said last.
func (c call) log(w http.ResponseWriter) {
	c.s.mu.Lock()
	pod, there := c.s.objects[c.r][c.key()]
	node := c.s.node
	c.s.mu.Unlock()
	p := notFound(c.r, c.name)
	switch {
	case !there:
		say(w, p.code, p.status())
		return
	case node == nil || node.of(c.key()) == nil || text(pod, "status", "podIP") == "":
		p = badRequest("container in pod %q is waiting to start", c.name)
		say(w, p.code, p.status())
		return
	}
	lines := -1
	if n, err := strconv.Atoi(c.q.URL.Query().Get("tailLines")); err == nil {
		lines = n
	}
	w.Header().Set("Content-Type", "text/plain")
	_, _ = w.Write(node.of(c.key()).logs.last(lines))
}
