package tui

import (
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/crossing"
	"vaiven/internal/core/plan"
	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/keeper"
	"vaiven/internal/people/tui/cells"
	"vaiven/internal/words"
)

// ends are the ways in which a keep can end, which every surface has to tell alike.
var ends = []state{
	{"kept, then a person is asked", func(s *keeper.Snapshot) { kept(s, plan.ThenAsk) }, nil},
	{"kept, then left", func(s *keeper.Snapshot) { kept(s, plan.ThenLeave) }, nil},
	{"kept, then out of rotation", func(s *keeper.Snapshot) {
		kept(s, plan.ThenRetire)
		s.Sides[split.Blue].Stands = true
	}, nil},
}

func kept(s *keeper.Snapshot, then plan.Then) {
	s.Crossing.Stage, s.Crossing.Share, s.Crossing.Leg, s.Left = crossing.Keeping, split.Whole, 3, 20*time.Minute
	s.Front.Split.Share, s.Crossing.Then = split.Whole, then
}

// What is judged is judged once: in every situation, and at every size, each place that says something of it says the
// same as the situation does, and no figure on a screen contradicts another.
func TestEverySurfaceSaysTheSame(t *testing.T) {
	sizes := [][2]int{{80, 24}, {142, 38}, {220, 50}}
	for _, c := range append(states, ends...) {
		t.Run(c.name, func(t *testing.T) {
			s := sample()
			c.change(&s)
			r := at(s, 80, 24)
			is := situation.Of(s.View, r.seen(), now)
			sentence := words.Situation(is, s.View, "a", now)
			next := words.Next(is.Then, s.Crossing)
			for _, size := range sizes {
				shown := at(s, size[0], size[1]).shown(t)
				rows := strings.Split(shown, "\n")
				said := strings.TrimLeft(rows[1], " ▲◇")
				want := strings.TrimLeft(sentence, " ◇")
				if cut := cells.Cut(want, size[0]-8); !strings.HasPrefix(said, strings.TrimSuffix(cut, "…")) {
					t.Errorf("at %v line 2 says %q, and the situation is %q", size, rows[1], sentence)
				}
				wrong := strings.HasPrefix(rows[1], " ▲")
				if is.Gravity != situation.Waits && wrong != (is.Gravity == situation.Wrong) {
					t.Errorf("at %v line 2 is marked as in %q, and it is %v", size, rows[1], is.Gravity)
				}
				endsAlike(t, is.Then, s, shown)
				sharesAlike(t, s, shown)
				keysAlike(t, s, rows)
			}
			_, text := words.Progress(s.View, s.Trouble, 0, now)
			moves := s.Crossing.Stage == crossing.Shifting || s.Crossing.Stage == crossing.Keeping
			if moves && is.Gravity == situation.AllRight && !strings.HasSuffix(text, next) {
				t.Errorf("a log says %q, and next is %q", text, next)
			}
		})
	}
}

// endsAlike: nothing says that a side is retired that is not, and the time until what is next is the same everywhere.
func endsAlike(t *testing.T, then situation.Then, s keeper.Snapshot, shown string) {
	t.Helper()
	old := s.Crossing.Target.Other().String()
	retired := strings.Contains(shown, old+" is retired") || strings.Contains(strings.ReplaceAll(shown, "x retire", ""),
		"retire "+old) // what a key would do is not what comes
	switch then.Do {
	case situation.Leave, situation.TakeOut:
		if retired {
			t.Errorf("%s is not retired, and something says so:\n%s", old, shown)
		}
	case situation.Retire, situation.AskRetire:
		if !retired {
			t.Errorf("nothing says that %s is retired:\n%s", old, shown)
		}
	}
	if then.Do == situation.Nothing || then.In <= 0 || then.Until {
		return
	}
	for _, m := range regexp.MustCompile(`([0-9]+:[0-9:]+) (more|left)\b`).FindAllStringSubmatch(shown, -1) {
		if m[1] != words.Clock(then.In) {
			t.Errorf("%s, and next comes in %s:\n%s", m[0], words.Clock(then.In), shown)
		}
	}
	if !strings.Contains(shown, words.Clock(then.In)) {
		t.Errorf("nothing says that what is next comes in %s:\n%s", words.Clock(then.In), shown)
	}
}

var gets = regexp.MustCompile(`(?m)\b(?:live|new side|kept|spare), gets ([0-9.]+) %|\bgets (all|none)\b`)

// sharesAlike: what both sides get, as their lines have it, is all there is.
func sharesAlike(t *testing.T, s keeper.Snapshot, shown string) {
	t.Helper()
	_, sides, _ := strings.Cut(shown, "\n") // not the header
	_, sides, _ = strings.Cut(sides, "\n")  // nor the sentence
	sum, seen := 0.0, 0
	for _, m := range gets.FindAllStringSubmatch(sides, -1) {
		if m[1] != "" {
			part, _ := strconv.ParseFloat(m[1], 64)
			sum, seen = sum+part, seen+1
		}
	}
	if seen > 0 && !s.Crossing.First && (seen != 2 || sum != 100) {
		t.Errorf("%d sides get %v %% of the requests together:\n%s", seen, sum, shown)
	}
}

// keysAlike: a key is offered for what can be done, and the same by every name.
func keysAlike(t *testing.T, s keeper.Snapshot, rows []string) {
	t.Helper()
	keys := strings.Join(rows[len(rows)-2:], "\n")
	if s.Crossing.Stage.Over() && strings.Contains(keys, "space") {
		t.Errorf("nothing crosses, and there is something to resume: %s", keys)
	}
	if home := s.Crossing.Stage.UnderWay() && s.Crossing.Moved; home && !strings.Contains(keys, "b b") &&
		!strings.Contains(strings.Join(rows, "\n"), "b b") {
		t.Errorf("users are on the new side, and nothing says how they get home: %s", keys)
	}
}
