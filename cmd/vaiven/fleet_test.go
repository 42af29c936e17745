package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A fleet is checked with the plans that it names, and its order is said, with what plans ask for that it does not say.
func TestThePlanOfAFleet(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		t.Helper()
		file := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o700); err != nil {
			t.Fatal(err)
		}
		return file
	}
	write("plans/builds/1/run", "#!/bin/sh\n")
	for n, name := range []string{"fares", "sailings", "board"} {
		needs := ""
		if name == "sailings" {
			needs = "needs: [{request: \"http://127.0.0.1:19100/prices\", name: prices}]\n"
		}
		write("plans/"+name+".yaml", fmt.Sprintf("service: %s\nfront: {listen: \"127.0.0.1:%d\"}\nversions: folder builds\n"+
			"stack: {command: \"./builds/{version}/run {address}\", ports: %d-%d}\nsmoke: [{request: /}]\n%s"+
			"route: [50 %% for %dm, 100 %%]\n", name, 19100+n, 19200+10*n, 19209+10*n, needs, n+1))
	}
	file := write("ferries.yaml", "fleet: ferries\nservices:\n  board: {plan: plans/board.yaml, needs: [sailings]}\n"+
		"  sailings: plans/sailings.yaml\n  fares: plans/fares.yaml\n  berths: marit@quay2:/srv/berths.yaml\nat-once: 2\n"+
		"a-rollback-stops: dependents\nrules: [fares before board]\n")
	step := steps(t)
	out := step(0, []string{"ferries: 4 services, at most 2 at once; a rollback stops those that need it", "fares before board",
		"all have arrived after 5:00 at least; the longest way is sailings, board, 5:00",
		`sailings asks for fares (prices): say "needs: [fares for prices]"`, "* by its route alone"}, "plan", file)
	if at := strings.Index; at(out, "sailings  ") > at(out, "fares  ") || at(out, "fares  ") > at(out, "board  ") {
		t.Errorf("the order is\n%s", out)
	}
	var said struct {
		Kind   string
		Course struct {
			Turns []struct{ Name string }
			Total float64 `json:"total_s"`
		}
	}
	if err := json.Unmarshal([]byte(step(0, nil, "plan", file, "--json")), &said); err != nil || said.Kind != "fleet" ||
		said.Course.Total != 300 || len(said.Course.Turns) != 4 {
		t.Errorf("as JSON it is %+v, %v", said, err)
	}
	step(0, []string{`"a-rollback-stops"`}, "plan", "--schema", "--fleet")
	write("plans/fares.yaml", "service: fare\n")
	step(2, []string{"fares: ", "1 of 4 plans are not right"}, "plan", file)
	write("ferries.yaml", "fleet: ferries\nservices: {a: a.yaml}\nrules: [a befor b]\n")
	step(2, []string{"ferries.yaml:3:9", "is no rule"}, "plan", file)
}
