package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/people/headless"
	"vaiven/internal/people/tui"
	fleetview "vaiven/internal/people/tui/fleet"
	"vaiven/internal/plan/fleetfile"
	"vaiven/internal/plan/planfile"
	"vaiven/internal/words"
)

// many reports whether a path is that of a folder or a fleet file.
func many(path string) bool {
	if info, err := os.Stat(path); err != nil || info.IsDir() {
		return err == nil
	}
	is, err := fleetfile.IsFleet(path)
	return is && err == nil
}

// openAll opens the screen on all services of a folder or a fleet.
func openAll(cmd *cobra.Command, path string, screen tui.Config) error {
	if screen.Theme != "" && screen.Theme != "dark" && screen.Theme != "light" {
		return usage("--theme takes dark or light, not %q", screen.Theme)
	}
	if err := canShow(); err != nil {
		return err
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	list, err := servicesAt(cmd.Context(), path)
	if err != nil {
		return err
	}
	c := fleetview.Config{Name: filepath.Base(path), Theme: screen.Theme, ASCII: screen.ASCII}
	if f, err := fleetfile.Read(path); err == nil {
		c.Name = f.Name
		list = ordered(list, f.Course(f.Names(), nil).Names())
	}
	for _, m := range list {
		c.Files = append(c.Files, m.file)
	}
	c.Crossing = func() string { return fleetNow(path) }
	c.Follow = func(ctx context.Context, file string, tell func(headless.Service)) {
		followOne(ctx, cmd, file, tell)
	}
	c.Open = func(file string) *exec.Cmd {
		words := []string{"open", file, "--parting=false", fmt.Sprintf("--ascii=%t", screen.ASCII)}
		if screen.Theme != "" {
			words = append(words, "--theme", screen.Theme)
		}
		return exec.Command(program, words...)
	}
	c.Evacuate = func(side split.Side) (string, bool) {
		e := headless.Evacuation{From: side, By: who(), For: 30 * time.Second, Within: headless.Within, Why: "from the screen on all services"}
		if err := evacuate(cmd, io.Discard, list, e, false, output{}); err != nil {
			return fmt.Sprintf("%v; the others are evacuated from %v. vaiven evacuate %s --from %[2]v says why", err, side, path), false
		}
		return fmt.Sprintf("all %d services are evacuated from %v, which is closed: vaiven reopen %s opens it again", len(list), side,
			path), true
	}
	c.Act = func(a fleetview.Act, files []string) (string, bool) {
		if a == fleetview.RollBack {
			return rollBackAll(cmd.Context(), program, files)
		}
		return freezeAll(cmd, files)
	}
	return fleetview.Run(cmd.Context(), c, screenOptions(os.Getenv("TERM"))...)
}

// each does something for each of several plans, at the same time, and returns what failed, each with its plan's name.
func each(files []string, do func(file string) error) []string {
	var mu sync.Mutex // protects failed
	var failed []string
	var all sync.WaitGroup
	for _, file := range files {
		all.Go(func() {
			if err := do(file); err != nil {
				what, _, _ := strings.Cut(err.Error(), "\n")
				name, _, _ := strings.Cut(filepath.Base(file), ".")
				mu.Lock()
				defer mu.Unlock()
				failed = append(failed, name+": "+what)
			}
		})
	}
	all.Wait()
	slices.Sort(failed)
	return failed
}

// freezeAll freezes the crossings of several services, if none of their keepers would refuse it.
func freezeAll(cmd *cobra.Command, files []string) (said string, all bool) {
	freeze := func(try bool) func(string) error {
		return func(file string) error {
			k, err := reach(cmd, file, false, true)
			if err != nil {
				return err
			}
			_, err = k.Do(cmd.Context(), keeper.Command{Act: crossing.Freeze{}, Try: try, By: who()})
			return errors.Join(err, k.Close())
		}
	}
	if wrong := each(files, freeze(true)); len(wrong) > 0 {
		return "none was frozen: " + strings.Join(wrong, "; "), false
	}
	if failed := each(files, freeze(false)); len(failed) > 0 {
		return "not frozen: " + strings.Join(failed, "; "), false
	}
	return words.CountServices(len(files)) + " frozen, each at its share", true
}

// rollBackAll rolls several services back, each as vaiven back does.
func rollBackAll(ctx context.Context, program string, files []string) (said string, all bool) {
	failed := each(files, func(file string) error {
		text, err := exec.CommandContext(ctx, program, "back", file, "--why", "with others, from the screen on all services").
			CombinedOutput()
		if err != nil {
			return errors.New(strings.TrimPrefix(strings.TrimSpace(string(text)), "vaiven: "))
		}
		return nil
	})
	if len(failed) > 0 {
		return "not rolled back: " + strings.Join(failed, "; "), false
	}
	return words.CountServices(len(files)) + " rolled back", true
}

// ordered are services in the order of names, and those that have none of them behind.
func ordered(list []member, names []string) []member {
	at := func(m member) int {
		if n := slices.Index(names, m.name()); n >= 0 {
			return n
		}
		return len(names)
	}
	slices.SortStableFunc(list, func(a, b member) int { return at(a) - at(b) })
	return list
}

// followOne tells how the service of a plan stands.
func followOne(ctx context.Context, cmd *cobra.Command, file string, tell func(headless.Service)) {
	for ctx.Err() == nil {
		p, err := planfile.Read(file)
		if err == nil {
			r, errReach := reaching(cmd, p, false, true)
			if err = errReach; err == nil {
				headless.FollowService(ctx, r, tell)
				return
			}
		}
		what, _, _ := strings.Cut(err.Error(), "\n")
		tell(headless.WrongPlan(file, what))
		headless.Pause(ctx, headless.LookAgain)
	}
}
