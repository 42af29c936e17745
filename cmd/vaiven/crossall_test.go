package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"vaiven/internal/front"
	"vaiven/lab/testkit"
)

// runs is which version a front sends all requests to, "" if it sends them to two, or to none.
func runs(t *testing.T, f front.Driver) (version string) {
	t.Helper()
	r, err := f.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for n, side := range r.Sides {
		if share := r.Split.Share; (n == 0 && share == 0 || n == 1 && share == 10_000) && len(side.Instances) > 0 {
			version = side.Instances[0].Version
		}
	}
	return version
}

// A fleet crosses in its order; of both or neither, what has arrived goes back when another one does not; and where its
// process is killed, nothing new begins, and the same command takes it up.
func TestCrossAFleet(t *testing.T) {
	t.Parallel() // it mostly waits
	h := newHouses(t, t.TempDir())
	// what guards make of a busy machine is tried elsewhere
	h.more = "keep: 1s\nguards: {failing: off, slow: off, unhealthy: off, lost: off, door: off}\n"
	h.build()
	h.buildOf("2", "exec busybox httpd -f -p $1")
	h.buildOf("3", "case $1 in *:2330?|*:2331?) exit 1;; esac; exec busybox httpd -f -p $1")
	h.buildOf("4", "exec busybox httpd -f -p $1")
	fronts := map[string]front.Driver{}
	names := []string{"sailings", "fares", "berths"}
	for n, name := range names {
		h.ports = fmt.Sprintf("%d-%d", 23300+20*n, 23319+20*n)
		fronts[name], _ = h.service(name, 0, 0, 0)
		keeperEnds(t, h.file(name))
	}
	defer func() {
		for _, f := range fronts {
			endsAll(t, f)
		}
	}()
	file := filepath.Join(h.dir, "ferries.yaml")
	pairs := filepath.Join(h.dir, "pairs")
	fleet := func(more string) {
		t.Helper()
		text := "fleet: ferries\nservices:\n  sailings:\n    plan: sailings.yaml\n    needs: [fares for the prices]\n" +
			"    together: ./pairs\n  fares: fares.yaml\n  berths: berths.yaml\nat-once: 2\n" + more
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	check := func(does string) {
		t.Helper()
		if err := os.WriteFile(pairs, []byte("#!/bin/sh\n"+does+"\n"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	all := func(want string) {
		t.Helper()
		for name, f := range fronts {
			if got := runs(t, f); got != want {
				t.Errorf("%s runs %q, not %q", name, got, want)
			}
		}
	}
	fleet("")
	check("exit 0")
	step := steps(t)
	step(2, []string{"--version is needed"}, "cross", file)
	step(2, []string{"which says no order"}, "cross", h.dir, "--version", "1")
	step(4, []string{"sailings: not now: part web: no such version: 9", "fares: not now: part web: no such version: 9",
		"nothing was begun"}, "cross", file, "--version", "9", "--yes")
	step(2, []string{`did you mean "fares"?`}, "cross", file, "--version", "fare=1")
	step(2, []string{"--until is for one service"}, "cross", file, "--version", "1", "--until", "kept")
	out := step(0, []string{"3 of 3 services cross, at most 2 at once", "sailings ? with fares 1"}, "cross", file, "--version", "1",
		"--dry-run", "--accept")
	if strings.Contains(out, "begins, to") {
		t.Errorf("it was only to say what would be:\n%s", out)
	}

	// The first versions, of which nothing is known before.
	out = step(0, []string{"ferries: 3 of 3 have arrived"}, "cross", file, "--version", "1", "--yes", "--accept")
	at := func(what string) int { return strings.Index(out, what) }
	if order := []int{at("fares            begins"), at("fares            has arrived"), at("sailings         begins")}; order[0] < 0 ||
		order[1] < order[0] || order[2] < order[1] {
		t.Errorf("sailings needs fares:\n%s", out)
	}
	all("1")

	// Two versions that do not work together, before anything is begun.
	check(`test "$1 $2 $3 $4" != "sailings 1 fares 2" || { echo the tariff has no cabins; exit 3; }`)
	step(1, []string{"sailings 1 with fares 2 do not work together", "(exit status 3): the tariff has no cabins",
		"nothing was begun"}, "cross", file, "--version", "2", "--yes")
	all("1")
	check("exit 0")

	// Each that runs its version already is left out; as JSON a line for each event.
	step(0, nil, "cross", file, "--version", "berths=2", "--yes")
	said := step(0, nil, "cross", file, "--version", "2", "--yes", "--json")
	lines := strings.Split(strings.TrimSpace(said), "\n")
	var last struct {
		Kind, Outcome string
		Members       []struct{ Name, Stage, Version string }
	}
	if err := json.Unmarshal([]byte(lines[len(lines)-1]), &last); err != nil || last.Kind != "fleet summary" ||
		last.Outcome != "settled" || len(last.Members) != 2 {
		t.Errorf("it ends with %+v, %v:\n%s", last, err, said)
	}
	all("2")

	// Both or neither: sailings does not come up, and fares goes back, which had arrived.
	fleet("rules: [\"both or neither of fares, sailings\"]\n")
	step(3, []string{"fares            is rolled back: both or neither with sailings", "1 of 3 have arrived, 2 rolled back"},
		"cross", file, "--version", "3", "--yes")
	if runs(t, fronts["fares"]) != "2" || runs(t, fronts["sailings"]) != "2" {
		t.Errorf("fares runs %q and sailings %q", runs(t, fronts["fares"]), runs(t, fronts["sailings"]))
	}

	// Its process is killed when the first has begun: the next one does not, and it is taken up.
	killed := spoken(filepath.Join(t.TempDir(), "said"))
	to, err := os.Create(string(killed))
	if err != nil {
		t.Fatal(err)
	}
	defer to.Close()
	four := []string{"cross", file, "--version", "fares=4", "--version", "sailings=4", "--version", "berths=3", "--yes"}
	cmd := exec.Command(program, four...)
	cmd.Stdout, cmd.Stderr = to, to
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	testkit.Eventually(t, "fares begins", func() bool { return strings.Contains(killed.String(), "begins, to 4") })
	_ = cmd.Process.Kill()
	_ = cmd.Wait()
	if got := runs(t, fronts["sailings"]); got != "2" {
		t.Errorf("sailings runs %q", got)
	}
	if out, _, _ := vaiven(t, "where", file); !strings.Contains(out, "crossing 5 of ferries, by") ||
		!strings.Contains(out, "; fares crosses") || !strings.Contains(out, "vaiven cross takes it up") {
		t.Errorf("of a crossing that was cut off it is said:\n%s", out)
	}
	step(1, []string{"has not ended", "takes it up"}, "cross", file, "--version", "berths=4", "--yes")
	out = step(0, []string{"takes up crossing 5 of ferries", "2 of 2 have arrived"}, four...)
	if strings.Contains(out, "fares            begins") {
		t.Errorf("fares begins twice:\n%s", out)
	}
	step(0, []string{"crossing 5 of ferries, by", "2 of 2 have arrived (fares 4, sailings 4)",
		"crossing 4 of ferries, by", "1 of 3 have arrived, 2 rolled back"}, "log", file)
	if got := runs(t, fronts["fares"]) + runs(t, fronts["sailings"]); got != "44" {
		t.Errorf("they run %s", got)
	}
}
