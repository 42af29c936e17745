package fleet

import (
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"vaiven/internal/core/situation"
	"vaiven/internal/core/split"
	"vaiven/internal/people/headless"
	"vaiven/internal/people/tui/cells"
)

// seen is a screen on services that a test tells of.
type seen struct {
	t *testing.T
	model
	left []split.Side
	acts []string
}

func newSeen(t *testing.T, names ...string) *seen {
	s := &seen{t: t}
	var files []string
	for _, name := range names {
		files = append(files, "/plans/"+name+".yaml")
	}
	s.model = newModel(Config{Name: "ferries", Files: files, Evacuate: func(side split.Side) (string, bool) {
		s.left = append(s.left, side)
		return "all are evacuated", true
	}, Act: func(a Act, files []string) (string, bool) {
		s.acts = append(s.acts, fmt.Sprint(a, files))
		return "none was frozen: berths: marit has the wheel", false
	}, Open: func(string) *exec.Cmd { return exec.Command("true") }})
	s.takes(tea.WindowSizeMsg{Width: 120, Height: 30})
	return s
}

// takes has the screen take a message in, and what comes of it.
func (s *seen) takes(msg tea.Msg) {
	next, cmd := s.model.Update(msg)
	s.model = next.(model)
	if cmd != nil {
		if _, quit := cmd().(tea.QuitMsg); !quit {
			s.takes(cmd())
		}
	}
}

func (s *seen) tells(name string, g situation.Gravity, says string, green split.Share) {
	s.takes(headless.Service{Name: name, File: "/plans/" + name + ".yaml", Versions: [2]string{"1.0", "1.1"},
		Share: green, Known: true, Gravity: g, Says: says, Rate: 40, Heard: time.Now(), Kept: true})
}

// press presses keys, each as a hand does.
func (s *seen) press(keys ...string) {
	for _, k := range keys {
		s.model.evacuating.at = s.model.evacuating.at.Add(-time.Second)
		s.model.acting.at = s.model.acting.at.Add(-time.Second)
		s.key(k)
	}
}

func (s *seen) key(k string) {
	msg := tea.KeyPressMsg{Text: k}
	switch k {
	case "esc":
		msg = tea.KeyPressMsg{Code: tea.KeyEscape}
	case "enter":
		msg = tea.KeyPressMsg{Code: tea.KeyEnter}
	case "space":
		msg = tea.KeyPressMsg{Code: tea.KeySpace, Text: " "}
	case "backspace":
		msg = tea.KeyPressMsg{Code: tea.KeyBackspace}
	case "down":
		msg = tea.KeyPressMsg{Code: tea.KeyDown}
	default:
		msg.Code = []rune(k)[0]
	}
	next, cmd := s.model.Update(msg)
	s.model = next.(model)
	if cmd != nil && (s.model.evacuating.under || s.model.acting.under) {
		s.takes(cmd())
	}
}

func (s *seen) text() string {
	g := cells.New(s.w, s.h)
	s.draw(g)
	if list := g.Clashes(); len(list) > 0 {
		s.t.Errorf("drawn over another: %v", list)
	}
	var b strings.Builder
	skip := false
	for _, r := range g.String() { // without colours
		switch {
		case r == '\x1b':
			skip = true
		case skip && r == 'm':
			skip = false
		case !skip:
			b.WriteRune(r)
		}
	}
	return b.String()
}

func (s *seen) order() string {
	var names []string
	for _, l := range s.shown(s.all()) {
		names = append(names, l.Name)
	}
	return strings.Join(names, " ")
}

func TestWhatIsSaidOfAll(t *testing.T) {
	s := newSeen(t, "fares", "sailings", "berths")
	if text := s.text(); !strings.Contains(text, "3 of 3 services have not been heard of yet") {
		t.Errorf("at first it says\n%s", text)
	}
	s.tells("fares", situation.AllRight, "all right: at rest", 0)
	s.tells("sailings", situation.AllRight, "all right: at rest", split.Whole)
	s.tells("berths", situation.AllRight, "all right: at rest", split.Whole/2)
	if text := s.text(); !strings.Contains(text, "3 services: all right") || s.order() != "fares sailings berths" {
		t.Errorf("all are well:\n%s", text)
	}
	s.tells("sailings", situation.Waits, "asks: 50 %", split.Whole/2)
	s.tells("berths", situation.Wrong, "rolling back to blue (12 of 40 fail)", split.Whole/2)
	if text := s.text(); s.order() != "berths sailings fares" ||
		!strings.Contains(text, "something is wrong with berths; sailings waits for a person; 1 all right") {
		t.Errorf("two are not:\n%s", text)
	}
	s.press("o")
	if s.order() != "fares sailings berths" {
		t.Errorf("by dependency they are %s", s.order())
	}
	s.press("o")
	s.tells("sailings", situation.AllRight, "", 0)
	if text := s.text(); !strings.Contains(text, "3 services: berths: rolling back to blue; 2 all right") {
		t.Errorf("one is not:\n%s", text)
	}
}

// The fleet's own crossing stands above the services, and a disk that hangs is asked once.
func TestTheFleetsOwnCrossing(t *testing.T) {
	s := newSeen(t, "fares", "sailings")
	s.Crossing = func() string { return "crossing 3 of ferries, by ines: 1 of 2 have arrived; sailings crosses" }
	s.takes(s.crossing())
	if text := s.text(); !strings.Contains(text, "1 of 2 have arrived; sailings crosses") {
		t.Errorf("it says\n%s", text)
	}
	s.Crossing = func() string { return "" }
	s.takes(s.crossing())
	if text := s.text(); strings.Contains(text, "crossing") {
		t.Errorf("when it has ended it says\n%s", text)
	}
	s.asking = true
	s.model.Update(ticked{})
	next, _ := s.model.Update(ticked{})
	if !next.(model).asking {
		t.Error("it asks again, and has not been answered")
	}
}

// What was heard long ago is no word on now.
func TestAServiceThatIsNotHeardOf(t *testing.T) {
	s := newSeen(t, "fares")
	s.takes(headless.Service{Name: "fares", File: "/plans/fares.yaml", Says: "all right: at rest",
		Heard: time.Now().Add(-time.Minute)})
	if text := s.text(); strings.Contains(text, "1 service: all right") || !strings.Contains(text, "not heard of for 1m") {
		t.Errorf("it says\n%s", text)
	}
}

// Evacuating a side takes three keys that no key held down and no pasted text makes.
func TestLeavingASide(t *testing.T) {
	for name, c := range map[string]struct {
		keys []string
		left int
	}{
		"x b x":                 {[]string{"x", "b", "x"}, 1},
		"held down":             {[]string{"x", "x", "x", "x", "x"}, 0},
		"a letter held down":    {[]string{"x", "b", "b", "b"}, 0},
		"another word":          {[]string{"x", "b", "g", "x"}, 0},
		"taken back":            {[]string{"x", "b", "esc", "x"}, 0},
		"the side is not named": {[]string{"x", "enter", "b", "x"}, 0},
	} {
		s := newSeen(t, "fares", "sailings")
		s.tells("fares", situation.AllRight, "", 0)
		s.press(c.keys...)
		if len(s.left) != c.left || c.left > 0 && s.left[0] != split.Blue {
			t.Errorf("%s: evacuated %v", name, s.left)
		}
	}
	s := newSeen(t, "fares", "sailings")
	s.tells("fares", situation.AllRight, "", 0)
	for _, k := range []string{"x", "b", "x"} {
		s.key(k) // as pasted text comes
	}
	if len(s.left) > 0 {
		t.Error("pasted text evacuated a side")
	}
	s = newSeen(t, "fares", "sailings")
	s.tells("fares", situation.AllRight, "", 0)
	s.tells("sailings", situation.AllRight, "", split.Whole)
	s.press("x", "b")
	if text := s.text(); !strings.Contains(text, "2 services go to green, of which 1 have requests on blue now") {
		t.Errorf("beforehand it says\n%s", text)
	}
}

// What is marked acts together, where their number was typed, or where they go home by the key twice.
func TestMarked(t *testing.T) {
	freeze, back := "freeze[/plans/fares.yaml /plans/berths.yaml]", "roll back[/plans/fares.yaml /plans/berths.yaml]"
	for name, c := range map[string]struct{ keys, want string }{
		"frozen":            {"f 2 enter", freeze},
		"another number":    {"f 3 enter", ""},
		"no number":         {"f enter", ""},
		"a number mistyped": {"f 1 backspace 2 enter", freeze},
		"taken back":        {"f 2 esc enter", ""},
		"rolled back":       {"b b", back},
		"another key":       {"b f b", ""},
		"no more marked":    {"esc b b f 2 enter", ""},
		"one more unmarked": {"o o space space space f 1 enter", "freeze[/plans/sailings.yaml]"},
	} {
		s := newSeen(t, "fares", "sailings", "berths")
		for _, service := range []string{"fares", "sailings", "berths"} {
			s.tells(service, situation.AllRight, "", 0)
		}
		s.press("space", "down", "space")
		if name == "one more unmarked" {
			s.model.file = "/plans/fares.yaml"
		}
		s.press(strings.Fields(c.keys)...)
		if got := strings.Join(s.acts, " "); got != c.want {
			t.Errorf("%s: did %q, not %q", name, got, c.want)
		}
		if c.want != "" && !strings.Contains(s.text(), "none was frozen: berths") {
			t.Errorf("%s: it says\n%s", name, s.text())
		}
	}
	s := newSeen(t, "fares", "sailings")
	s.press("space", "space")
	s.key("b")
	s.key("b") // as pasted text comes
	if len(s.acts) > 0 {
		t.Error("pasted text rolled back")
	}
	s.press("f")
	if text := s.text(); !strings.Contains(text, "freeze 2 services: each stays at its share. Type their number, then "+
		"Enter") || !strings.Contains(text, "fares, sailings") || !strings.Contains(text, "2 marked") {
		t.Errorf("beforehand it says\n%s", text)
	}
}

func TestFinding(t *testing.T) {
	s := newSeen(t, "fares", "sailings", "berths")
	for _, name := range []string{"fares", "sailings", "berths"} {
		s.tells(name, situation.AllRight, "", 0)
	}
	s.press("/", "s", "a", "i")
	if s.order() != "sailings" {
		t.Errorf("found: %s", s.order())
	}
	s.press("enter", "down")
	if s.file != "/plans/sailings.yaml" {
		t.Errorf("the cursor is at %s", s.file)
	}
	s.press("esc")
	if s.order() != "fares sailings berths" {
		t.Errorf("all: %s", s.order())
	}
}

// However many keys there are, those that evacuate, roll back and leave are named, and the help has all.
func TestTheFooter(t *testing.T) {
	s := newSeen(t, "fares", "sailings")
	s.press("space")
	for _, w := range []int{60, 80, 100, 120, 142, 200} {
		s.takes(tea.WindowSizeMsg{Width: w, Height: 20})
		for _, want := range []string{"b roll back marked", "x evacuate a side", "? keys", "q leave"} {
			if text := s.text(); !strings.Contains(text, want) {
				t.Errorf("at %d columns %q is not named:\n%s", w, want, text)
			}
		}
	}
	s.press("?")
	for _, want := range []string{"freeze marked", "by dependency", "find", "any key closes this"} {
		if text := s.text(); !strings.Contains(text, want) {
			t.Errorf("the help does not have %q:\n%s", want, text)
		}
	}
	if s.press("q"); s.helping || strings.Contains(s.text(), "any key closes this") {
		t.Error("the help is still there")
	}
}

// Whatever the size of the terminal, and however many services there are, nothing is drawn over another.
func TestEverySize(t *testing.T) {
	var names []string
	for n := range 500 {
		names = append(names, fmt.Sprintf("a-service-with-a-long-name-%03d", n))
	}
	s := newSeen(t, names...)
	for n, name := range names {
		s.tells(name, situation.Gravity(n%3), strings.Repeat("something that is long ", 8), split.Share(n*20))
	}
	for w := 1; w < 200; w += 7 {
		for h := 1; h < 60; h += 5 {
			s.takes(tea.WindowSizeMsg{Width: w, Height: h})
			s.text()
			s.press("x")
			s.text()
			s.press("esc", "space", "f")
			s.text()
			s.press("esc", "down")
		}
	}
}

// What it costs to take in 5000 updates of 500 services, and to paint them, a second's worth of ten a second each.
func BenchmarkUpdates(b *testing.B) {
	var names []string
	for n := range 500 {
		names = append(names, fmt.Sprintf("ferry-%03d", n))
	}
	s := newSeen(nil, names...)
	for b.Loop() {
		for frame := range framesPerSecond {
			for n := range 5000 / framesPerSecond {
				s.tells(names[(frame*31+n)%500], situation.AllRight, "all right: at rest", split.Share(n))
			}
			_ = s.View()
		}
	}
	b.ReportMetric(b.Elapsed().Seconds()/float64(b.N)*100, "%core")
}
