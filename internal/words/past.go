package words

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/past"
	"vaiven/internal/core/route"
)

// Act is what somebody did by hand, outside of a crossing.
type Act struct {
	At      time.Time `json:"at"`
	By      string    `json:"by"`
	What    string    `json:"what"`          // such as "shift to 25 % on green"
	Did     []string  `json:"did,omitempty"` // commands, or lines of a file's difference
	Ended   time.Time `json:"ended,omitzero"`
	Outcome string    `json:"outcome,omitempty"` // in words; "" while it is under way, or if it was cut off
	Failed  bool      `json:"failed,omitempty"`
}

// Acts are what events outside of a crossing come to, in their order; the newest first.
func Acts(events []crossing.Event) []Act {
	var list []Act
	at := map[uint64]int{} // place in the list, by task
	end := func(task uint64, e crossing.Event, failed bool, did []string) {
		if n, ok := at[task]; ok {
			a := &list[n]
			a.Ended, a.Outcome, a.Failed, a.Did = e.At, Event(e, crossing.State{}), failed, did
			if a.Outcome == "" {
				a.Outcome = e.What.Kind()
			}
		}
	}
	for _, e := range events {
		switch f := e.What.(type) {
		case crossing.Ordered:
			at[e.Seq] = len(list)
			list = append(list, Act{At: e.At, By: e.By, What: Event(e, crossing.State{})})
		case crossing.SentBack:
			list = append(list, Act{At: e.At, By: f.Order.By, What: Homing(f.Order), Ended: e.At})
		case crossing.BegunAnew:
			list = append(list, Act{At: e.At, By: e.By, What: "begin the logbook anew", Ended: e.At,
				Outcome: Event(e, crossing.State{})})
		case crossing.TermBegan, crossing.Followed, crossing.TakenOver:
			list = append(list, Act{At: e.At, By: e.By, What: e.What.Kind(), Ended: e.At,
				Outcome: Event(e, crossing.State{})})
		case crossing.Restarted:
			list = append(list, Act{At: e.At, By: e.By, What: "start " + f.Instance + " again", Ended: e.At,
				Outcome: Event(e, crossing.State{}), Failed: f.Failed != ""})
		case crossing.VersionArrived, crossing.Dropped, crossing.Built:
			built, _ := f.(crossing.Built)
			list = append(list, Act{At: e.At, By: e.By, What: e.What.Kind(), Ended: e.At,
				Outcome: Event(e, crossing.State{}), Failed: built.Failed != ""})
		case crossing.Ailed:
			list = append(list, Act{At: e.At, By: e.By, What: "a side is ill", Ended: e.At,
				Outcome: Event(e, crossing.State{}), Failed: true})
		case crossing.Returned:
			end(f.Task, e, false, f.Did)
		case crossing.NotReturned:
			end(f.Task, e, true, nil)
		case crossing.TookWheel:
			if f.Before.Vacant() || f.Before.By == f.Wheel.By && f.Before.From == f.Wheel.From {
				continue // nobody lost it
			}
			list = append(list, Act{At: e.At, By: e.By, What: "take the wheel", Ended: e.At,
				Outcome: Event(e, crossing.State{})})
		case crossing.Raised:
			end(f.Task, e, false, nil)
		case crossing.TookEffect:
			end(f.Task, e, false, f.Did)
		case crossing.Retired:
			end(f.Task, e, false, nil)
		case crossing.Failed:
			end(f.Task, e, true, nil)
		}
	}
	slices.Reverse(list)
	return list
}

// Thousands groups the digits of a count: "48 211".
func Thousands(n int64) string {
	text := strconv.FormatInt(n, 10)
	for i := len(text) - 3; i > 0; i -= 3 {
		text = text[:i] + " " + text[i:]
	}
	return text
}

// levels are the parts of the requests from none to all.
var levels = []rune("▁▂▃▄▅▆▇█")

// SmallTrack is a crossing's track in one line of so many cells: which part of the requests the side crossed to had,
// from the first change on until the end. One that moved none has none.
func SmallTrack(c past.Crossing, cells int, now time.Time) string {
	steps := c.Steps
	if len(steps) < 2 || cells < 1 {
		return ""
	}
	from, to := steps[1].At, c.Ended
	if to.IsZero() {
		to = now
	}
	if last := steps[len(steps)-1]; !to.After(last.At) {
		to = last.At.Add(max(to.Sub(from)/8, time.Second))
	}
	parts := make([]float64, cells)
	for n := range parts {
		// the most that it had in the cell's time, so that no leg is too short to be seen
		begin := from.Add(to.Sub(from) * time.Duration(n) / time.Duration(cells))
		end := from.Add(to.Sub(from) * time.Duration(n+1) / time.Duration(cells))
		for i, s := range steps {
			until := to
			if i+1 < len(steps) {
				until = steps[i+1].At
			}
			if s.At.Before(end) && until.After(begin) {
				parts[n] = max(parts[n], s.Part.Fraction())
			}
		}
	}
	line := make([]rune, cells)
	for n, part := range parts {
		if line[n] = ' '; part > 0 {
			line[n] = levels[min(int(part*float64(len(levels))), len(levels)-1)]
		}
	}
	return strings.TrimRight(string(line), " ")
}

// Day is when something was, as people say it: the time, and the day if it is not this one.
func Day(t, now time.Time) string {
	t, now = t.In(now.Location()), now.In(now.Location())
	days := int(midnight(now).Sub(midnight(t)).Hours()+12) / 24
	switch {
	case days == 0:
		return t.Format("15:04")
	case days == 1:
		return t.Format("15:04") + " yesterday"
	case days > 1 && days < 7:
		return t.Format("15:04 Monday")
	}
	return t.Format("2006-01-02 15:04")
}

func midnight(t time.Time) time.Time {
	y, m, d := t.Date()
	return time.Date(y, m, d, 0, 0, 0, 0, t.Location())
}

// Versions is what a crossing led from and to.
func Versions(c past.Crossing) string {
	if c.From == "" {
		return c.Version
	}
	return c.From + " → " + c.Version
}

// Met is what users met with in a crossing, as far as it was counted; "" if nothing was.
func Met(c past.Crossing) string {
	n := c.Counted
	var list []string
	if n.Requests > 0 {
		list = append(list, fmt.Sprintf("%s of %s failed", Thousands(n.Failed), Thousands(n.Requests)))
	}
	if n.Lost > 0 && !c.First { // before a first release there is nobody who could answer
		list = append(list, fmt.Sprintf("%s lost", Thousands(n.Lost)))
	}
	if n.LongestGap >= gapLeast && !c.First {
		list = append(list, "nobody answered for "+brief(n.LongestGap))
	}
	return strings.Join(list, ", ")
}

// gapLeast is from which time on between two answers it is worth a word.
const gapLeast = time.Second

// Who is who began a crossing, and who said yes to something.
func Who(c past.Crossing) string {
	began, yes := c.People()
	if began == "" {
		began = "nobody known"
	}
	if len(yes) == 0 || len(yes) == 1 && yes[0] == began {
		return began
	}
	return began + ", yes by " + And(yes)
}

// Often is how often something is so.
func Often(n int) string {
	switch n {
	case 1:
		return "once"
	case 2:
		return "twice"
	}
	return fmt.Sprintf("%d times", n)
}

// And is a list as people say it.
func And(list []string) string {
	if len(list) < 2 {
		return strings.Join(list, "")
	}
	return strings.Join(list[:len(list)-1], ", ") + " and " + list[len(list)-1]
}

// Both is for how long both sides were up, and what that cost; "" if they never were.
func Both(o past.Overlap) string {
	if o.Lasted == 0 {
		return ""
	}
	text := "both sides up for " + route.Short(o.Lasted.Round(time.Second))
	if o.Still {
		text += " so far"
	}
	if o.Unit != "" {
		text += fmt.Sprintf(", %.4f %s", o.Cost, o.Unit)
	}
	return text
}

// EndedWhy is why a crossing ended as it did, "" if it simply settled.
func EndedWhy(c past.Crossing) string {
	return Cause(c.Cause, crossing.State{Target: c.Target, Stage: c.Stage})
}

// PastUsual is how long each step usually takes; "" if too little is known.
func PastUsual(u past.Usual) string {
	var list []string
	for _, s := range []struct {
		what string
		past.Spread
	}{{"raised in", u.Raise}, {"proven in", u.Prove}, {"shifted in", u.Shift}, {"rolled back in", u.Home}} {
		if s.Of < 2 { // one is no habit
			continue
		}
		text := s.what + " " + brief(s.Median)
		if brief(s.Low) != brief(s.High) {
			text += fmt.Sprintf(" (%s to %s)", brief(s.Low), brief(s.High))
		}
		list = append(list, text)
	}
	if len(list) == 0 {
		return ""
	}
	return "usual here: " + strings.Join(list, " · ")
}

// brief is a time for a line of many.
func brief(d time.Duration) string {
	if d < time.Second {
		return Milliseconds(d)
	}
	return route.Short(d.Round(100 * time.Millisecond))
}

// Odd is what stands out in a crossing, in words; "" if nothing does.
func Odd(list []past.Odd) string {
	var says []string
	verbs := map[string]string{"raise": "raised", "prove": "was proven", "shift": "shifted", "home": "rolled back"}
	for _, o := range list {
		verb, step := verbs[o.Step]
		switch {
		case !step:
			says = append(says, fmt.Sprintf("%s times as much failed as usual", multiple(o.Times)))
		case o.Times > 1:
			says = append(says, fmt.Sprintf("%s %s times as long", verb, multiple(o.Times)))
		default:
			says = append(says, fmt.Sprintf("%s in 1/%s of the time", verb, multiple(1/o.Times)))
		}
	}
	if len(says) == 0 {
		return ""
	}
	return "this one " + strings.Join(says, ", ")
}

// multiple is how many times, with no more digits than it needs.
func multiple(times float64) string {
	if times < 9.5 {
		return strings.TrimSuffix(fmt.Sprintf("%.1f", times), ".0")
	}
	return fmt.Sprintf("%.0f", times)
}
