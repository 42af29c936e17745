package keeper

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/engine"
	"vaiven/internal/core/oneof"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/split"
)

// hooked are hooks that write into a file what they were told, at every moment.
func hooked(log string) func(*world) {
	return func(w *world) {
		for _, m := range plan.HookMoments {
			w.plan.Hooks = append(w.plan.Hooks, plan.Hook{
				Moment: m, Within: time.Minute,
				Words: []string{"sh", "-c",
					`echo "$VAIVEN_MOMENT $VAIVEN_SERVICE $VAIVEN_SIDE $VAIVEN_SHARE $VAIVEN_VERSION $VAIVEN_LIVE_VERSION $VAIVEN_CROSSING $VAIVEN_REASON" >>` + log},
			})
		}
	}
}

// ran is how many hooks are on record.
func (r *rig) ran() int {
	n := 0
	for _, e := range r.events {
		if _, is := e.What.(crossing.Hooked); is {
			n++
		}
	}
	return n
}

// Hooks run at their moments, in order, and are recorded.
func TestHooksRunAtTheirMoments(t *testing.T) {
	log := filepath.Join(t.TempDir(), "log")
	play(t, func(t *testing.T, r *rig) {
		r.do(Command{Act: crossing.Begin{Version: "4.3.0"}})
		r.yes(crossing.AskLeg{})
		r.until("all is on green", func(s Snapshot) bool { return s.Crossing.Stage == crossing.Keeping })
		r.do(Command{Act: crossing.Back{}, Why: "it looks wrong"})
		r.until("it has rolled back",
			func(s Snapshot) bool { return s.Crossing.Stage == crossing.RolledBack && r.ran() >= 5 })
		r.do(Command{Act: crossing.Retire{Typed: "sailings"}})
		r.until("green is gone",
			func(s Snapshot) bool { return len(r.sides[split.Green]) == 0 && s.Crossing.Task.ID == 0 })
		data, err := os.ReadFile(log)
		if err != nil {
			t.Fatal(err)
		}
		// each in its order; nothing waits for what runs after, so it may run beside the others
		var before, after []string
		for line := range strings.Lines(string(data)) {
			if line = strings.TrimSuffix(line, "\n"); strings.HasPrefix(line, "before-") {
				before = append(before, line)
			} else {
				after = append(after, line)
			}
		}
		if before[0] != "before-raise sailings green 0 4.3.0 4.2.0 1 " ||
			after[0] != "proven sailings green 0 4.3.0 4.2.0 1 " {
			t.Errorf("it begins with\n%s", data)
		}
		if before[len(before)-1] != "before-retire sailings green 0 4.3.0 4.2.0 1 it looks wrong" ||
			after[len(after)-1] != "rolled-back sailings green 0 4.3.0 4.2.0 1 it looks wrong" {
			t.Errorf("it ends with\n%s", data)
		}
		if b, a := strings.Count(string(data), "before-leg sailings green 100 4.3.0"),
			strings.Count(string(data), "after-leg sailings green 100 4.3.0"); b != 1 || a != 1 {
			t.Errorf("the last leg: %d before, %d after\n%s", b, a, data)
		}
	}, hooked(log))
}

// A hook that fails holds its step up, and says why; a leg stands still until a person goes on.
func TestAHookThatFails(t *testing.T) {
	file := filepath.Join(t.TempDir(), "permit")
	play(t, func(t *testing.T, r *rig) {
		r.do(Command{Act: crossing.Begin{Version: "4.3.0"}})
		s := r.until("it stands still", func(s Snapshot) bool { return s.Crossing.Frozen() })
		f, ok := crossing.FrozenBy[crossing.ByFront](s.Crossing)
		if !ok || !strings.Contains(oneof.As[crossing.TroubleHook](f.Trouble).Said, "before-leg, sh: exit status 3: no permit") || r.share != 0 {
			t.Errorf("it stands still because of %+v, with %v", s.Crossing.Freezes, r.share)
		}
		if err := os.WriteFile(file, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		r.do(Command{Act: crossing.Resume{}})
		r.until("what fails after holds nothing up",
			func(s Snapshot) bool { return r.share > 0 && !s.Crossing.Frozen() && r.ran() >= 3 })
	}, func(w *world) {
		w.plan.Hooks = []plan.Hook{
			{Moment: plan.BeforeLeg, Within: time.Minute,
				Words: []string{"sh", "-c", "[ -e " + file + " ] || { echo no permit; exit 3; }"}},
			{Moment: plan.AfterLeg, Within: time.Minute, Words: []string{"false"}},
		}
	})
}

// A hook has its time and no more, and what it is given in secret shows nowhere.
func TestAHookThatHangs(t *testing.T) {
	k := &loop{Config: Config{Plan: &plan.Plan{Service: "sailings"}}}
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	begun := time.Now()
	if err := k.runHook(ctx, plan.Hook{Words: []string{"sleep", "600"}}, occasion{}); !errors.Is(err,
		context.DeadlineExceeded) || time.Since(begun) > time.Minute {
		t.Errorf("after %v: %v", time.Since(begun), err)
	}
}

// A hook that something waits for is shown for as long as it is waited for.
func TestAHookIsShown(t *testing.T) {
	play(t, func(t *testing.T, r *rig) {
		seen := make(chan engine.Hook, 1)
		go func() {
			for s := range r.keeper.Snapshots(t.Context()) {
				if s.Hook.Command != "" {
					seen <- s.Hook
					return
				}
			}
		}()
		r.do(Command{Act: crossing.Begin{Version: "4.3.0"}})
		if h := <-seen; h.Moment != plan.BeforeRaise || h.Command != "sleep" || h.Within != time.Minute ||
			h.Since.IsZero() {
			t.Errorf("shown is %+v", h)
		}
		r.until("it has run", func(s Snapshot) bool { return s.Hook == engine.Hook{} })
	}, func(w *world) {
		w.plan.Hooks = []plan.Hook{{Moment: plan.BeforeRaise, Words: []string{"sleep", "0.2"}, Within: time.Minute}}
	})
}
