package main

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A route is weighed by the traffic that there is, or that is given, and drawn.
func TestPlanWeighsTheRoute(t *testing.T) {
	folder := t.TempDir()
	write := func(name, text string) string {
		file := filepath.Join(folder, name)
		if err := os.WriteFile(file, []byte(text), 0o700); err != nil {
			t.Fatal(err)
		}
		return file
	}
	write("run", "#!/bin/sh\n")
	plan := write("plan.yaml", `service: sailings
stack: {command: "./run {address} {version}", ports: 18100-18109, capacity: 400 /s}
versions: folder .
smoke: [{request: /}]
route: [5 % for 2m, 25 % for 2m, 100 %]
harm: 30
`)
	log := ""
	for n := range 2000 {
		log += `192.0.2.` + string(rune('1'+n%7)) + ` - - [23/Nov/2026:10:0` + string(rune('0'+n/200%10)) +
			`:00 +0000] "GET / HTTP/1.1" 200 12` + "\n"
	}
	log = write("access.log", log)
	chart := filepath.Join(folder, "route.svg")
	out, _, status := vaiven(t, "plan", plan, "--rate", "340 /s", "--failing", "0.1 %", "--log", log, "--chart", chart)
	for _, want := range []string{"at 340 /s, of which 0.1 % fail now (as given)", "25 % for 2m",
		"the whole route, bad from the start", "all at once", "a bad release costs ~",
		"more than the plan's bound (harm: 30)", "route:\n  - "} {
		if status != 0 || !strings.Contains(out, want) {
			t.Errorf("status %d, no %q in\n%s", status, want, out)
		}
	}
	if data, err := os.ReadFile(chart); err != nil || !strings.Contains(string(data), "<svg") {
		t.Errorf("no chart: %v", err)
	}
	out, _, status = vaiven(t, "plan", plan, "--rate", "340 /s", "--json")
	if status != 0 || !strings.Contains(out, `"weighed"`) || !strings.Contains(out, `"harm_at_once"`) {
		t.Errorf("status %d: %s", status, out)
	}
	out, _, status = vaiven(t, "plan", plan) // nothing is known of the traffic
	if status != 0 || strings.Contains(out, "all at once") {
		t.Errorf("status %d: %s", status, out)
	}
	for _, args := range [][]string{{"--rate", "much"}, {"--rate", "3 /s", "--failing", "120 %"}, {"--chart", chart},
		{"--rate", "3 /s", "--chart", "route.png"}} {
		if _, said, status := vaiven(t, append([]string{"plan", plan}, args...)...); status == 0 || len(said) < 20 {
			t.Errorf("%q: status %d, %q", args, status, said)
		}
	}
}

// All plans below a folder are checked, and each mistake is told; what says no service is none. With its base a plan is
// shown whole.
func TestPlansBelowAFolder(t *testing.T) {
	folder := t.TempDir()
	write := func(name, text string) {
		file := filepath.Join(folder, name)
		err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, []byte(text), 0o700))
		if err != nil {
			t.Fatal(err)
		}
	}
	write("plans/run", "#!/bin/sh\n")
	write("base.yaml", "stack: {command: \"./run {address} {version}\", ports: 18100-18109}\nversions: folder .\n"+
		"smoke: [{request: /}]\nroute: [100 %]\n")
	write("plans/one.yaml", "base: ../base.yaml\nservice: one\n")
	if out, _, status := vaiven(t, "plan", folder); status != 0 || !strings.Contains(out, "all right: 1 of 1") {
		t.Errorf("status %d, and it says %s", status, out)
	}
	write("plans/two.yml", "base: ../base.yaml\nservice: two\nkeep: forever\n")
	out, said, status := vaiven(t, "plan", folder)
	if status != exitUsage || !strings.Contains(out, "two.yml:3:7") || !strings.Contains(said, "1 of 2 plans") {
		t.Errorf("status %d, and it says %s%s", status, out, said)
	}
	out, _, status = vaiven(t, "plan", "--whole", filepath.Join(folder, "plans", "one.yaml"))
	if status != 0 || !strings.Contains(out, "versions: folder .   # base.yaml:2\n") {
		t.Errorf("status %d, and it says %s", status, out)
	}
	if _, said, status = vaiven(t, "plan", filepath.Join(folder, "none")); status != exitUsage {
		t.Errorf("status %d of what is not there: %s", status, said)
	}
}
