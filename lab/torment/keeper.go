package main

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"os/exec"
	"sync"
	"syscall"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/guard"
	"vaiven/internal/keeper"
	"vaiven/internal/keeper/service"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/words"
	"vaiven/internal/world/secret"
)

// told is what a keeper's process tells: a snapshot in few words, or an answer to a command.
type told struct {
	At      time.Time      `json:"at"`
	Ready   bool           `json:"ready,omitempty"`
	State   crossing.State `json:"state"`
	Lacks   string         `json:"lacks,omitempty"`
	Frozen  string         `json:"frozen,omitempty"`
	Why     string         `json:"why,omitempty"`
	Guards  []string       `json:"guards,omitempty"` // all of them, in words
	Blind   []string       `json:"blind,omitempty"`  // those that compare and do not know enough yet
	Tripped bool           `json:"tripped,omitempty"`
	Refused string         `json:"refused,omitempty"`
}

// keeps is the keeper's process: it takes commands, and tells what it sees ten times a second.
func keeps(ctx context.Context, file string, in io.Reader, out io.Writer) error {
	p, err := planfile.Read(file)
	if err != nil {
		return err
	}
	s, err := service.Open(ctx, p, secret.Values{}, "torment", keeper.Memory{})
	if err != nil {
		return err
	}
	defer s.Close()
	var mu sync.Mutex // protects the output
	tell := func(t told) {
		mu.Lock()
		defer mu.Unlock()
		_ = json.NewEncoder(out).Encode(t) // whoever listened is gone
	}
	go func() {
		for lines := json.NewDecoder(in); ; {
			var c keeper.Command
			if lines.Decode(&c) != nil {
				return
			}
			if _, err := s.Keeper.Do(ctx, c); err != nil {
				tell(told{At: time.Now(), Refused: err.Error()})
			}
		}
	}()
	for v := range s.Keeper.Snapshots(ctx) {
		t := told{At: time.Now(), Ready: v.Ready, State: v.Crossing, Lacks: words.Lacks(v.Lacks, v.At),
			Frozen: words.Frozen(v.Crossing), Why: words.Cause(v.Crossing.Why, v.Crossing)}
		for _, g := range v.Guards {
			t.Guards = append(t.Guards, g.Name+": "+words.Guard(g))
			if g.State == guard.Unknown && (g.Gap == guard.TooFew || g.Gap == guard.NoBaseline) ||
				g.State == guard.Idle {
				t.Blind = append(t.Blind, g.Name)
			}
			t.Tripped = t.Tripped || g.State == guard.Tripped
		}
		tell(t)
	}
	return nil
}

// child is a keeper in a process of its own.
type child struct {
	cmd *exec.Cmd
	in  io.WriteCloser

	mu   sync.Mutex // protects what follows
	last told
	refs string        // the last refusal
	more chan struct{} // closed when last changes
}

// keeperOf starts a keeper.
func keeperOf(self, file string) (*child, error) {
	c := &child{cmd: exec.Command(self, "-keep", file), more: make(chan struct{})}
	c.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	out, err := c.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if c.in, err = c.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	if err := c.cmd.Start(); err != nil {
		return nil, err
	}
	go func() {
		lines := bufio.NewScanner(out)
		lines.Buffer(nil, 4<<20)
		for lines.Scan() {
			var t told
			if json.Unmarshal(lines.Bytes(), &t) != nil {
				continue
			}
			c.mu.Lock()
			if t.Refused != "" {
				c.refs = t.Refused
			} else {
				c.last = t
			}
			close(c.more)
			c.more = make(chan struct{})
			c.mu.Unlock()
		}
	}()
	return c, nil
}

// do gives it a command.
func (c *child) do(command keeper.Command) error { return json.NewEncoder(c.in).Encode(command) }

func (c *child) now() told {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.last
}

// until waits until what it tells is so, and reports whether it became so in time.
func (c *child) until(ctx context.Context, limit time.Duration, so func(told) bool) (told, bool) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	for {
		c.mu.Lock()
		t, more := c.last, c.more
		c.mu.Unlock()
		if so(t) {
			return t, true
		}
		select {
		case <-more:
		case <-ctx.Done():
			return t, false
		}
	}
}

// kill ends it as a power cut would.
func (c *child) kill() {
	_ = c.cmd.Process.Kill()
	_ = c.cmd.Wait()
}

func (c *child) end() {
	_ = c.cmd.Process.Signal(syscall.SIGTERM)
	done := make(chan struct{})
	go func() { defer close(done); _ = c.cmd.Wait() }()
	select {
	case <-done:
	case <-time.After(5 * time.Second):
		_ = c.cmd.Process.Kill()
		<-done
	}
}
