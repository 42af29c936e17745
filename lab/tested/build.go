package main

import (
	"bytes"
	"cmp"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
)

// group is packages that are built and run in one way.
type group struct {
	env, build, args, packages []string
	exec                       string // the program that runs test binaries, "" for none
}

func parseGroup(words []string) (g group) {
	for _, w := range words {
		switch {
		case strings.HasPrefix(w, "-exec="):
			g.exec = strings.TrimPrefix(w, "-exec=")
		case strings.HasPrefix(w, "-test."):
			g.args = append(g.args, w)
		case strings.HasPrefix(w, "-"):
			g.build = append(g.build, w)
		case strings.Contains(w, "="):
			g.env = append(g.env, w)
		default:
			g.packages = append(g.packages, w)
		}
	}
	return g
}

// binary is the test binary of a package.
type binary struct {
	group
	pkg, dir, file string
}

// same reports whether two are of the same package.
func (b binary) same(o binary) bool { return b.pkg == o.pkg }

// command runs it, with its events on standard output.
func (b binary) command(more ...string) *exec.Cmd {
	words := []string{"tool", "test2json", "-t", "-p", b.pkg}
	if b.exec != "" {
		words = append(words, b.exec)
	}
	words = append(append(append(words, b.file, "-test.v=test2json", "-test.paniconexit0"), b.args...), more...)
	cmd := exec.Command(goProgram(), words...)
	cmd.Dir = b.dir
	cmd.Env = append(append(os.Environ(), b.env...), "PWD="+b.dir)
	return cmd
}

func goProgram() string { return cmp.Or(os.Getenv("GO"), "go") }

// build builds the test binaries of a group into a folder, in the order of its packages.
func build(dir string, g group) (list []binary, err error) {
	if len(g.packages) == 0 {
		return nil, nil
	}
	said, err := goRun(g, append([]string{"list", "-f",
		"{{if or .TestGoFiles .XTestGoFiles}}{{.ImportPath}}\t{{.Dir}}{{end}}"}, g.packages...)...)
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for line := range strings.Lines(said) {
		pkg, at, _ := strings.Cut(strings.TrimSpace(line), "\t")
		if pkg == "" || seen[pkg] {
			continue
		}
		seen[pkg] = true
		list = append(list, binary{group: g, pkg: pkg, dir: at})
	}
	// go test -c names a binary by the last word of its package: those of one call have to differ.
	for left := list; len(left) > 0; {
		into, err := os.MkdirTemp(dir, "")
		if err != nil {
			return nil, err
		}
		var later []binary
		words := append([]string{"test", "-c", "-vet=off", "-o", into + "/"}, g.build...)
		names := map[string]bool{}
		for _, b := range left {
			if name := path.Base(b.pkg); names[name] {
				later = append(later, b)
			} else {
				names[name], words = true, append(words, b.pkg)
			}
		}
		if _, err := goRun(g, words...); err != nil {
			return nil, err
		}
		for n := range list {
			if list[n].file == "" && !slices.ContainsFunc(later, list[n].same) {
				list[n].file = filepath.Join(into, path.Base(list[n].pkg)+".test")
			}
		}
		left = later
	}
	return list, nil
}

// goRun runs a command of go and returns what it prints.
func goRun(g group, words ...string) (out string, err error) {
	cmd := exec.Command(goProgram(), words...)
	cmd.Env = append(os.Environ(), g.env...)
	var errors bytes.Buffer
	cmd.Stderr = &errors
	said, err := cmd.Output()
	if err != nil {
		return "", fmt.Errorf("go %s: %w\n%s", words[0], err, errors.String())
	}
	return string(said), nil
}
