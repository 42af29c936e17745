// Command tested builds the tests of packages, runs them several packages at a time, and says once what came of it:
//
//	tested -at-once=4 CGO_ENABLED=0 -test.short ./lab/... ++ -race -exec=bin/alone ./internal/keeper
//
// Groups have ++ between them. A group is variables of the environment, flags of go test -c and of test binaries
// (-test.), each as one word, and packages; -exec names the program that runs its test binaries. All is built before
// anything runs, and packages run in the order in which they are given. The output of tests that pass is not shown. A
// test that skips fails the run, unless the file of skips names it with a reason; these are listed at the end. A test
// that failed while the machine stood still is run once more, alone; both outputs are shown.
package main

import (
	"bufio"
	"cmp"
	_ "embed"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"vaiven/lab/testkit"
)

// skips.txt has a line for each test that may skip: package, test and reason.
//
//go:embed skips.txt
var skips string

func main() {
	allowed, err := parseSkips(skips)
	if err != nil {
		fmt.Fprintln(os.Stderr, "tested:", err)
		os.Exit(2)
	}
	atOnce, words := 3, os.Args[1:]
	if len(words) > 0 && strings.HasPrefix(words[0], "-at-once=") {
		if atOnce, err = strconv.Atoi(strings.TrimPrefix(words[0], "-at-once=")); err != nil || atOnce < 1 {
			fmt.Fprintf(os.Stderr, "tested: %s: want a number from 1 on\n", words[0])
			os.Exit(2)
		}
		words = words[1:]
	}
	testkit.StoodStill(time.Now()) // measured from now on
	r := newRun(os.Stdout, testkit.StoodStill, allowed)
	dir, err := os.MkdirTemp("", "vaiven-tested-")
	if err != nil {
		fmt.Fprintln(os.Stderr, "tested:", err)
		os.Exit(2)
	}
	begun := time.Now()
	var binaries []binary
	for _, words := range split(words, "++") {
		list, err := build(dir, parseGroup(words))
		if err != nil {
			r.broken = append(r.broken, err.Error())
		}
		binaries = append(binaries, list...)
	}
	fmt.Printf("built in %v\n", time.Since(begun).Round(time.Second))
	begun = time.Now()
	r.runAll(binaries, atOnce)
	r.retry()
	fmt.Printf("ran for %v\n", time.Since(begun).Round(time.Second))
	well := r.summary()
	os.RemoveAll(dir)
	if !well {
		os.Exit(1)
	}
}

// split divides words at each separator.
func split(words []string, at string) (parts [][]string) {
	for {
		n := slices.Index(words, at)
		if n < 0 {
			return append(parts, words)
		}
		parts, words = append(parts, words[:n]), words[n+1:]
	}
}

// skip is a test that may skip.
type skip struct{ pkg, test, reason string }

// is reports whether it is that test, or a part of it; a name with * at its end is for all that begin so.
func (s skip) is(name string) bool {
	if begin, ok := strings.CutSuffix(s.test, "*"); ok {
		return strings.HasPrefix(name, begin)
	}
	return name == s.test || strings.HasPrefix(name, s.test+"/")
}

func parseSkips(text string) (list []skip, err error) {
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		f := strings.Fields(line)
		if len(f) < 3 {
			return nil, fmt.Errorf("skips.txt: %q: want package, test and reason", line)
		}
		list = append(list, skip{f[0], f[1], strings.Join(f[2:], " ")})
	}
	return list, nil
}

// event is what test2json prints (go doc test2json).
type event struct {
	Time    time.Time
	Action  string
	Package string
	Test    string
	Elapsed float64 // seconds
	Output  string
}

// test is one test of a package, or a package where its name is "".
type test struct{ pkg, name string }

// run is all packages. Its methods may be called at the same time.
type run struct {
	out     io.Writer
	still   func(since time.Time) time.Duration // the longest time that the machine stood still since then
	allowed []skip

	mu      sync.Mutex
	begun   map[test]time.Time
	outputs map[test]*strings.Builder
	counts  map[string]int // of tests, by their end
	skipped map[test]string
	took    map[test]float64 // seconds, of tests that are no part of others
	failed  []failure
	broken  []string // what failed and is no test
}

func newRun(out io.Writer, still func(time.Time) time.Duration, allowed []skip) *run {
	return &run{out: out, still: still, allowed: allowed, outputs: map[test]*strings.Builder{},
		begun: map[test]time.Time{}, counts: map[string]int{}, skipped: map[test]string{},
		took: map[test]float64{}}
}

// failure is a test that failed.
type failure struct {
	test
	of    binary
	still time.Duration // that the machine stood still while it ran
}

// runAll runs test binaries, so many at once, in their order.
func (r *run) runAll(binaries []binary, atOnce int) {
	next := make(chan binary)
	var workers sync.WaitGroup
	for range atOnce {
		workers.Go(func() {
			for b := range next {
				r.run(b)
			}
		})
	}
	for _, b := range binaries {
		next <- b
	}
	close(next)
	workers.Wait()
}

// run runs one test binary and takes its events in.
func (r *run) run(b binary, more ...string) {
	begun := time.Now()
	cmd := b.command(more...)
	out, err := cmd.StdoutPipe()
	if err == nil {
		cmd.Stderr = cmd.Stdout
		err = cmd.Start()
	}
	if err != nil {
		r.breaks(err.Error())
		return
	}
	before := r.failures()
	lines := bufio.NewReader(out)
	var rest strings.Builder // that is no event
	for {
		line, err := lines.ReadBytes('\n')
		if len(line) > 0 {
			var e event
			if json.Unmarshal(line, &e) != nil {
				rest.Write(line)
			} else {
				r.take(e, b)
			}
		}
		if err != nil {
			break
		}
	}
	err = cmd.Wait()
	took := time.Since(begun).Seconds()
	processor := (cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()).Seconds()
	r.mu.Lock()
	defer r.mu.Unlock()
	word := "ok  "
	if err != nil || rest.Len() > 0 {
		word = "FAIL"
		if len(r.failed)+len(r.broken) == before || rest.Len() > 0 {
			r.broken = append(r.broken, fmt.Sprintf("package %s: %v", b.pkg, err))
		}
	}
	fmt.Fprintf(r.out, "%s %-40s %6.1f s %6.1f s of a processor\n%s", word, b.pkg, took, processor, rest.String())
}

func (r *run) failures() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.failed) + len(r.broken)
}

func (r *run) breaks(what string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.broken = append(r.broken, what)
}

// take takes one event of a test binary in.
func (r *run) take(e event, of binary) {
	r.mu.Lock()
	defer r.mu.Unlock()
	t := test{e.Package, e.Test}
	switch e.Action {
	case "run":
		r.begun[t] = e.Time
	case "output":
		if r.outputs[t] == nil {
			r.outputs[t] = &strings.Builder{}
		}
		r.outputs[t].WriteString(e.Output)
	case "pass", "skip", "fail":
		r.ended(e, t, of)
	}
}

// ended takes the end of a test or a package in.
func (r *run) ended(e event, t test, of binary) {
	output := ""
	if b := r.outputs[t]; b != nil {
		output = b.String()
		delete(r.outputs, t)
	}
	if t.name == "" {
		if e.Action == "fail" && !slices.ContainsFunc(r.failed, func(f failure) bool { return f.pkg == t.pkg }) {
			fmt.Fprintf(r.out, "%s\n", output)
		}
		return
	}
	r.counts[e.Action]++
	if !strings.Contains(t.name, "/") {
		r.took[t] = e.Elapsed
	}
	switch e.Action {
	case "skip":
		r.skipped[t] = output
	case "fail":
		fmt.Fprintf(r.out, "=== %s\n%s", t.pkg, output)
		if !strings.Contains(t.name, "/") {
			r.failed = append(r.failed, failure{t, of, r.still(r.begun[t])})
		}
	}
}

// retry runs again, one after the other, what failed while the machine stood still.
func (r *run) retry() {
	failed := r.failed
	r.failed = nil
	for _, f := range failed {
		if f.still == 0 {
			r.failed = append(r.failed, f)
			continue
		}
		fmt.Fprintf(r.out, "\nRETRY %s %s: the machine stood still for %v while it ran. Its output is above, and that of "+
			"the second try follows:\n", f.pkg, f.name, f.still.Round(100*time.Millisecond))
		before := len(r.failed) + len(r.broken)
		r.run(f.of, "-test.run=^"+regexp.QuoteMeta(f.name)+"$")
		if len(r.failed)+len(r.broken) == before {
			fmt.Fprintf(r.out, "RETRY %s %s: passed\n", f.pkg, f.name)
		}
	}
}

// summary says what came of it, and whether all is well.
func (r *run) summary() (well bool) {
	slowest := slices.SortedFunc(maps.Keys(r.took), func(a, b test) int { return cmp.Compare(r.took[b], r.took[a]) })
	fmt.Fprintln(r.out, "\nslowest:")
	for _, t := range slowest[:min(25, len(slowest))] {
		fmt.Fprintf(r.out, "  %6.1f s  %s %s\n", r.took[t], t.pkg, t.name)
	}
	unknown := map[test]string{}
	reasons := map[string]int{}
	for t, output := range r.skipped {
		if n := slices.IndexFunc(r.allowed, func(s skip) bool {
			return strings.HasSuffix(t.pkg, s.pkg) && s.is(t.name)
		}); n >= 0 {
			reasons[fmt.Sprintf("%s %s: %s", r.allowed[n].pkg, r.allowed[n].test, r.allowed[n].reason)]++
		} else {
			unknown[t] = output
		}
	}
	if len(reasons) > 0 {
		fmt.Fprintln(r.out, "\nskipped, as skips.txt says:")
		for _, line := range slices.Sorted(maps.Keys(reasons)) {
			fmt.Fprintln(r.out, " ", line)
		}
	}
	for t, output := range unknown {
		fmt.Fprintf(r.out, "SKIPPED %s %s without a line in skips.txt:\n%s", t.pkg, t.name, output)
	}
	for _, f := range r.failed {
		fmt.Fprintf(r.out, "FAILED %s %s\n", f.pkg, f.name)
	}
	for _, what := range r.broken {
		fmt.Fprintln(r.out, "FAILED", what)
	}
	fmt.Fprintf(r.out, "%d passed, %d failed, %d skipped\n", r.counts["pass"], len(r.failed)+len(r.broken)+len(unknown),
		len(r.skipped)-len(unknown))
	return len(r.failed)+len(r.broken)+len(unknown) == 0
}
