package demo

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"vaiven/internal/core/plan"
	"vaiven/internal/core/reading"
	"vaiven/internal/front"
	"vaiven/internal/front/all"
	"vaiven/internal/front/cluster"
	"vaiven/internal/keeper"
)

// Fronts are the fronts that the demo can be seen with.
func Fronts() []plan.FrontKind {
	var list []plan.FrontKind
	for _, k := range all.Kinds {
		if len(k.Examples) > 0 {
			list = append(list, k.Name)
		}
	}
	return list
}

// frontPlan is what the demo's plan says of its front.
func frontPlan(o Options, manager string) string {
	for _, k := range all.Kinds {
		if e, ok := k.Example(o.Way); ok && k.Name == o.Front {
			return strings.NewReplacer("PROGRAM", program(k.Program), "ADDRESS", manager).Replace(e.Text)
		}
	}
	return ""
}

// program is the path of a server's program, which may stand where users do not look.
func program(name string) string {
	if path, err := exec.LookPath(name); err == nil {
		return path
	}
	return "/usr/sbin/" + name
}

// startFront starts the demo's front with a configuration of its own.
func (s *Scenario) startFront(ctx context.Context, o Options) error {
	f := s.Plan.Front
	kind := all.Of(f)
	if f.Kind() == cluster.Kind.Name {
		return s.startCluster(ctx, o)
	}
	if kind.Config == nil {
		return s.start("front.log", o.Program, "front", s.File)
	}
	site := front.Site{Folder: filepath.Join(s.Folder, "proxy"), Slots: 6}
	for port := s.ports[0]; port <= s.ports[1]; port++ {
		site.Members = append(site.Members, fmt.Sprintf("127.0.0.1:%d", port))
	}
	c := kind.Config(s.Plan.Service, f, site)
	path := program(kind.Program)
	if _, err := os.Stat(path); err != nil {
		return fmt.Errorf("the front %s is not installed: there is no program %s", f.Kind(), kind.Program)
	}
	// The proxies' workers may be other users, who have to reach their folder.
	if err := errors.Join(os.Chmod(s.Folder, 0o755), os.MkdirAll(site.Folder, 0o755),
		os.WriteFile(c.File, []byte(c.Text), 0o644)); err != nil {
		return err
	}
	for file, text := range c.Beside {
		if _, err := os.Stat(file); err == nil {
			continue // it is started again
		}
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			return err
		}
	}
	driver := all.Open(s.Plan)
	if d, ok := front.Can[front.Preparer](driver); ok {
		// One that is asked over the network is prepared when it runs.
		if _, err := d.Prepare(context.Background(), [2][]reading.Server{}); err != nil &&
			!front.Unreachable(err) {
			return err
		}
	}
	if err := s.start("front.log", path, c.Args...); err != nil {
		return err
	}
	return s.awaitFront(ctx, driver)
}

// awaitFront waits until the front takes connections and can be steered.
func (s *Scenario) awaitFront(ctx context.Context, driver keeper.Front) error {
	address := s.Plan.Front.Listen
	if s.Plan.Door.Resolver != "" {
		address = s.Plan.Door.Resolver
	}
	ctx, cancel := context.WithTimeout(ctx, 3*time.Minute) // a broker takes its time, on a busy machine minutes
	defer cancel()
	for {
		conn, err := net.DialTimeout("tcp", address, time.Second)
		if err == nil {
			// It may take connections before it can be steered.
			_, err = driver.Read(ctx)
			if d, ok := front.Can[front.Preparer](driver); ok && errors.Is(err, front.ErrNotMade) {
				_, err = d.Prepare(ctx, [2][]reading.Server{})
			}
			if err = errors.Join(err, conn.Close()); err == nil {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			said, _ := os.ReadFile(filepath.Join(s.Folder, "front.log"))
			return fmt.Errorf("the front did not start: %s", said)
		case <-time.After(50 * time.Millisecond):
		}
	}
}
