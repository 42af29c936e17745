package main

import (
	"bufio"
	"cmp"
	"fmt"
	"io"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"time"

	"vaiven/lab/testkit"
)

// tries is how often what failed is tried, while the machine stands still again and again.
const tries = 3

func main() {
	var flags, packages []string
	for _, word := range os.Args[1:] {
		if strings.HasPrefix(word, "-") {
			flags = append(flags, word)
		} else {
			packages = append(packages, word)
		}
	}
	begun := time.Now()
	testkit.StoodStill(begun)
	failed, err := test(flags, packages...)
	for range tries - 1 {
		still := testkit.StoodStill(begun)
		if err == nil || len(failed) == 0 || still == 0 {
			break
		}
		fmt.Printf("the machine stood still for %v meanwhile: what failed is tried again\n", still.Round(time.Second))
		begun = time.Now()
		failed, err = testAgain(flags, failed)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "tested:", err)
		os.Exit(1)
	}
}

// testAgain tests what failed, a package after the other, and says what of it fails again.
func testAgain(flags []string, failed map[string][]string) (still map[string][]string, err error) {
	still = map[string][]string{}
	for name, tests := range failed {
		alone := append([]string{"-run=^(" + strings.Join(tests, "|") + ")$"}, flags...)
		again, errOne := test(alone, name)
		if errOne != nil && again == nil {
			return nil, errOne
		}
		for name, tests := range again {
			still[name] = tests
		}
		err = cmp.Or(err, errOne)
	}
	return still, err
}

var (
	failedTest    = regexp.MustCompile(`^--- FAIL: (\S+) `)
	failedPackage = regexp.MustCompile(`^FAIL\t(\S+)\t`)
)

// test tests packages, and says which tests of which have failed; nil if something else has, as a package that cannot
// be built.
func test(flags []string, packages ...string) (failed map[string][]string, err error) {
	cmd := exec.Command(cmp.Or(os.Getenv("GO"), "go"), append(append([]string{"test"}, flags...), packages...)...)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return nil, err
	}
	failed = map[string][]string{}
	var tests []string
	lines := bufio.NewReader(out)
	for err == nil {
		var line string
		line, err = lines.ReadString('\n')
		os.Stdout.WriteString(line)
		if m := failedTest.FindStringSubmatch(line); m != nil {
			tests = append(tests, m[1])
		}
		switch m := failedPackage.FindStringSubmatch(line); {
		case m != nil && len(tests) == 0, strings.HasPrefix(line, "panic: "):
			failed = nil
		case m != nil && failed != nil:
			failed[m[1]] = tests
		}
		if strings.HasPrefix(line, "FAIL\t") || strings.HasPrefix(line, "ok ") {
			tests = nil
		}
	}
	if err != io.EOF {
		return nil, err
	}
	return failed, cmd.Wait()
}
