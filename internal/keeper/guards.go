package keeper

import (
	"fmt"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/evidence"
	"vaiven/internal/core/figures"
	"vaiven/internal/core/reading"
	"vaiven/internal/core/route"
	"vaiven/internal/core/split"
	"vaiven/internal/plan"
)

// surenessLength is how many certainties a guard shows.
const surenessLength = 8

// guards evaluates the guards of one crossing from reading to reading.
type guards struct {
	rules     []plan.Guard
	baselines map[string]evidence.Count // the live side's last count that was large enough, by guard
	sureness  map[string][]float64
	lastPoint time.Time
}

func newGuards(rules []plan.Guard) *guards {
	return &guards{rules: rules, baselines: map[string]evidence.Count{}, sureness: map[string][]float64{}}
}

// watch evaluates all guards. Answers count since the target first got traffic,
// and no further back than each guard's time.
func (g *guards) watch(now, since time.Time, target split.Side, series *figures.Series, view SideView) []Guard {
	var list []Guard
	for _, rule := range g.rules {
		switch {
		case rule.Off:
			list = append(list, Guard{Name: rule.Name, Then: rule.Then, State: Idle, Said: "off"})
		case since.IsZero():
			idle := begun(rule)
			idle.State, idle.Said = Idle, "nothing to watch yet"
			list = append(list, idle)
		case rule.Watch.Compares():
			list = append(list, g.compare(now, since, rule, target, series))
		case rule.Watch == plan.Unhealthy:
			list = append(list, unhealthy(rule, view))
		default:
			list = append(list, lost(rule, since, target, series))
		}
	}
	if !since.IsZero() && now.Sub(g.lastPoint) >= 5*time.Second {
		g.lastPoint = now
	}
	return list
}

// begun is a guard that has seen nothing.
func begun(p plan.Guard) Guard {
	guard := Guard{Name: p.Name, Then: p.Then, State: Clear, Count: !p.Watch.Compares()}
	switch {
	case !guard.Count:
		guard.Limit = "worse by > " + percent(p.Bound.Margin)
	case p.Most > 0:
		guard.Limit = fmt.Sprintf("more than %d", p.Most)
	default:
		guard.Limit = "any"
	}
	return guard
}

func (g *guards) compare(now, since time.Time, p plan.Guard, target split.Side, series *figures.Series) Guard {
	guard, name := begun(p), p.Name
	count := figures.Figures.FailingCount
	if p.Watch == plan.Slow {
		count = figures.Figures.SlowCount
	}
	if from := now.Add(-p.Over); from.After(since) {
		since = from
	}
	trial := series.Count(target, since, p.After)
	guard.Baseline = count(series.Count(target.Other(), since, p.After))
	guard.Trial = count(trial)
	if p.Watch == plan.Slow && trial.Requests > 0 && trial.Timed == 0 {
		guard.State, guard.Said = Idle, "cannot watch: this front does not measure times"
		return guard
	}
	// Once all traffic has moved, the other side has nothing new to compare with:
	// then what it last did counts.
	if guard.Baseline.Of >= p.Bound.AtLeast {
		g.baselines[name] = guard.Baseline
	} else if kept, ok := g.baselines[name]; ok {
		guard.Baseline = kept
	}
	c := evidence.Compare(guard.Baseline, guard.Trial, p.Bound)
	guard.Comparison = c
	guard.State, guard.Said = inWords(c, guard.Trial, p.Bound, now.Sub(since))
	if now.Sub(g.lastPoint) >= 5*time.Second {
		s := append(g.sureness[name], c.Sure)
		g.sureness[name] = append([]float64(nil), s[max(0, len(s)-surenessLength):]...)
	}
	guard.Sureness = g.sureness[name]
	return guard
}

// inWords is how a comparison stands: "no sign of it", "watching, 78 % sure,
// ~40s more".
func inWords(c evidence.Comparison, trial evidence.Count, b evidence.Bound, span time.Duration) (GuardState, string) {
	switch c.Verdict {
	case evidence.TooFew:
		return Clear, fmt.Sprintf("too few answers yet, %d of %d", trial.Of, b.AtLeast)
	case evidence.Worse:
		return Tripped, fmt.Sprintf("worse, %s sure", sure(c.Sure))
	case evidence.Watching:
		text := fmt.Sprintf("watching, %s sure", sure(c.Sure))
		if more := time.Duration(c.More * float64(span)); more > 0 {
			text += fmt.Sprintf(", ~%s more", route.Short(max(more, time.Second).Round(time.Second)))
		}
		return Watching, text
	}
	return Clear, "no sign of it"
}

func sure(p float64) string {
	if p > 0.9999 {
		return "over 99.99 %"
	}
	if p > 0.99 {
		return fmt.Sprintf("%.2f %%", 100*p)
	}
	return fmt.Sprintf("%.0f %%", 100*p)
}

// unhealthy counts instances that were healthy and are not, and those that are not
// there any more.
func unhealthy(p plan.Guard, v SideView) Guard {
	bad, first := 0, ""
	if missing := v.Wanted - len(v.Instances); missing > 0 && !v.At.IsZero() {
		bad, first = missing, fmt.Sprintf("%d of %d instances are not there", missing, v.Wanted)
	}
	for _, c := range v.Instances {
		if c.State != reading.Failing && c.State != reading.Exited {
			continue
		}
		if bad++; first == "" {
			first = fmt.Sprintf("%s %s: %s", c.Name, c.State, c.Said)
		}
	}
	return counting(p, int64(bad), first)
}

func lost(p plan.Guard, since time.Time, target split.Side, series *figures.Series) Guard {
	n := series.Count(target, since, 0).Lost
	return counting(p, n, fmt.Sprintf("%d lost on %v", n, target))
}

func counting(p plan.Guard, n int64, detail string) Guard {
	guard := begun(p)
	guard.Trial, guard.Said = evidence.Count{Bad: n}, "clear"
	switch {
	case n > int64(p.Most):
		guard.State, guard.Said = Tripped, detail
	case n > 0:
		guard.State, guard.Said = Watching, detail
	}
	return guard
}

// alarm is the first tripped guard that was not overruled as an event, and false
// if there is none.
func alarm(list []Guard, overruled map[string]bool) (crossing.Tripped, bool) {
	for _, g := range list {
		if g.State != Tripped || overruled[g.Name] {
			continue
		}
		why := g.Said
		if !g.Count {
			why = fmt.Sprintf("%s against %s, %s", percent(g.Trial.Rate()), percent(g.Baseline.Rate()), g.Said)
		}
		return crossing.Tripped{Guard: g.Name, Action: g.Then, Why: why}, true
	}
	return crossing.Tripped{}, false
}

// percent is a rate for people: "0.5 %", "12 %".
func percent(rate float64) string {
	switch p := 100 * rate; {
	case p >= 10:
		return fmt.Sprintf("%.0f %%", p)
	case p == float64(int(p)):
		return fmt.Sprintf("%d %%", int(p))
	case p >= 1:
		return fmt.Sprintf("%.1f %%", p)
	default:
		return fmt.Sprintf("%.2g %%", p)
	}
}
