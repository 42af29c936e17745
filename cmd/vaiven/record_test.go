package main

import (
	"database/sql"
	"encoding/csv"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"vaiven/internal/keeper/service"
	"vaiven/lab/demo"
	"vaiven/lab/testkit"
)

// A crossing that was rolled back is found in the logbook, seen again as it was, and handed in; a record tells when an
// event was changed since. All that goes through the keeper, and without one.
func TestACrossingIsRemembered(t *testing.T) {
	t.Parallel() // it mostly waits
	s := scenarioOf(t, demo.Options{Rate: 100, Stays: true})
	term := onFirstLeg(t, s, 142, 38)
	time.Sleep(2 * time.Second) // some seconds of it are to be seen again; nothing waits for it to be right
	term.press("b", "b")
	term.wait("rolled back")
	term.press("l")
	term.wait("logbook", "1 crossing", "4.2.0 → 4.3.0", "rolled back", "of", "failed")
	term.press("Enter")
	term.wait("PAST", "stands still", "crossing 1", "now: ")
	key := ">"
	term.until("the first leg is seen", func(d drawing) bool {
		switch {
		case d.shows("new side, gets 10 %"):
			return true
		case d.shows("ended: rolled back"): // past it
			key = "<"
		default:
			key = ">"
		}
		term.press(key)
		return false
	})
	term.press("+", "+", "+", "+")
	term.wait("PAST", "ended: rolled back")
	term.press("n", "Space", "a", "Enter", "Left") // nothing there acts on anything
	term.press("Escape")
	term.wait("logbook", "↑ ↓ choose")
	term.press("/", "s", "e", "t", "t")
	term.wait("nothing is found")
	term.press("Escape")
	term.wait("1 crossing")
	term.press("q")
	term.wait("ended with status 0")

	step := steps(t)
	list := step(0, []string{"rolled back", "4.2.0 → 4.3.0"}, "log", s.File)
	if !strings.Contains(list, "by hand") && !strings.Contains(list, "sent all traffic back") { // past a keeper that was slow
		t.Errorf("who rolled it back is not said:\n%s", list)
	}
	if strings.Contains(list, "settled") {
		t.Errorf("it settled by a key of the past:\n%s", list)
	}
	table, err := csv.NewReader(strings.NewReader(step(0, nil, "log", s.File, "--csv"))).ReadAll()
	if err != nil || len(table) != 2 || table[1][11] != "rolled back" || table[0][17] != "requests" ||
		table[1][17] == "0" {
		t.Errorf("as a table it is %q, %v", table, err)
	}
	times := step(0, []string{"took effect", "SHA-256 "}, "log", s.File, "1")
	at := regexp.MustCompile(`(\d\d:\d\d:\d\d) .* took effect`).FindStringSubmatch(times)
	clock, err := time.Parse("15:04:05", at[1])
	if err != nil {
		t.Fatal(err)
	}
	at[1] = clock.Add(time.Second).Format("15:04:05") // when it is seen, whatever the part of the second was
	moment := step(0, []string{"PAST  sailings, crossing 1 at ", "green  4.3.0, ", "guard  failing: ",
		"way back open"}, "log",
		s.File, "1", "--at", at[1])
	if !strings.Contains(moment, "10 % of the requests") && !strings.Contains(moment, "5 % of the requests") {
		t.Errorf("at %s it was\n%s", at[1], moment)
	}
	var frame struct{ Kind string }
	if err := json.Unmarshal([]byte(step(0, nil, "log", s.File, "1", "--at", at[1], "--json")), &frame); err != nil ||
		frame.Kind != "moment" {
		t.Errorf("as JSON it is a %q, %v", frame.Kind, err)
	}
	step(2, []string{"is not in the recording, which goes from"}, "log", s.File, "1", "--at", "2020-01-01 12:00:00")
	step(2, []string{"is no time"}, "log", s.File, "1", "--at", "noon")
	step(2, []string{"--report is for one crossing"}, "log", s.File, "--report", "x.pdf")
	step(1, []string{"has to end in one of"}, "log", s.File, "1", "--report", filepath.Join(t.TempDir(), "x.doc"))

	dir := t.TempDir()
	forms := []string{"pdf", "svg", "html", "md", "json"}
	for _, form := range forms {
		step(0, []string{"SHA-256 "}, "log", s.File, "1", "--report", filepath.Join(dir, "record."+form))
	}
	verify := func(status int, says string) {
		t.Helper()
		for _, form := range forms {
			step(status, []string{says}, "log", s.File, "1", "--verify", filepath.Join(dir, "record."+form))
		}
	}
	verify(0, "the same: crossing 1")
	onTheWallWhile(t, s.File)

	if err := service.End(t.Context(), s.Plan); err != nil {
		t.Fatal(err)
	}
	verify(0, "the same: crossing 1") // read from the file, and nothing is started for it
	if list := pids(t, "keep", s.File); len(list) > 0 {
		t.Errorf("keepers run: %v", list)
	}
	if err := change(s.Plan.Logbook(), `UPDATE events SET event = replace(event, '"took":', '"took":1') WHERE seq =
		(SELECT min(seq) FROM events WHERE json_extract(event, '$.event') = 'took effect')`); err != nil {
		t.Fatal(err)
	}
	verify(1, "the events are not those that it was made of")
	step(1, []string{"no digest of a crossing's events is in it"}, "log", s.File, "1", "--verify", s.File)
}

// change changes a logbook behind everybody's back.
func change(file, how string) error {
	db, err := sql.Open("sqlite", file)
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.Exec(how)
	return err
}

// onTheWallWhile holds the page for the wall to what it promises: replaced every second, old when nobody writes it.
func onTheWallWhile(t *testing.T, plan string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "wall.html")
	cmd := exec.Command(program, "follow", plan, "--html", file)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	mark := regexp.MustCompile(`<body id="(at\d+)"`)
	read := func() (text, is string) {
		for _, name := range []string{file, strings.TrimSuffix(file, ".html") + ".again.html"} {
			data, err := os.ReadFile(name)
			if found := mark.FindSubmatch(data); err == nil && found != nil {
				text, is = string(data), string(found[1])
			}
		}
		return text, is
	}
	first := ""
	testkit.Eventually(t, "there is a page", func() bool { _, first = read(); return first != "" })
	testkit.Eventually(t, "it is replaced", func() bool { _, is := read(); return is != first })
	text, is := read()
	for _, want := range []string{"sailings", "rolled back", "blue", "green", "#" + is + ":target .old", "<svg", "#" +
		is + `">`} {
		if !strings.Contains(text, want) {
			t.Errorf("the page does not have %q", want)
		}
	}
	if strings.Contains(text, "<script") || strings.Contains(text, `class="last"`) {
		t.Error("the page has a script, or is the last one")
	}
	if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait()
	if text, _ := read(); !strings.Contains(text, "Nobody writes this page any more") || !strings.Contains(text,
		`class="last"`) {
		t.Error("the last page does not say that it is")
	}
	if left, _ := filepath.Glob(filepath.Join(filepath.Dir(file), ".*")); len(left) > 0 {
		t.Errorf("%v is left", left)
	}
}
