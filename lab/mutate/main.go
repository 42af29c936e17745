package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"go/ast"
	"go/format"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"time"
)

func main() {
	only := flag.String("only", "", "only changes that this expression is found in, as they are told")
	limit := flag.Duration("limit", 2*time.Minute, "how long the tests of a change may take: what hangs is noticed")
	flag.Parse()
	wanted, err := regexp.Compile(*only)
	if err != nil {
		fmt.Fprintln(os.Stderr, "mutate:", err)
		os.Exit(2)
	}
	for _, dir := range flag.Args() {
		if err := try(dir, wanted, *limit); err != nil {
			fmt.Fprintln(os.Stderr, "mutate:", err)
			os.Exit(1)
		}
	}
}

// change is a package's file with one thing changed.
type change struct {
	what string // where, and what
	file string
	text []byte
}

// try tries all changes of a package, and prints those that live.
func try(dir string, wanted *regexp.Regexp, limit time.Duration) error {
	changes, err := changesOf(dir)
	if err != nil {
		return err
	}
	var mu sync.Mutex // protects what follows
	lived, tried := 0, 0
	var failed error
	var wait sync.WaitGroup
	room := make(chan struct{}, runtime.NumCPU())
	for _, c := range changes {
		if !wanted.MatchString(c.what) {
			continue
		}
		room <- struct{}{}
		wait.Go(func() {
			defer func() { <-room }()
			lives, builds, err := c.lives(dir, limit)
			mu.Lock()
			defer mu.Unlock()
			failed = errors.Join(failed, err)
			if !builds {
				return
			}
			if tried++; lives {
				lived++
				fmt.Println("lives:", c.what)
			}
		})
	}
	wait.Wait()
	if tried > 0 {
		fmt.Printf("%s: %d of %d changes are noticed, %.1f %%\n", dir, tried-lived, tried,
			100*float64(tried-lived)/float64(tried))
	}
	return failed
}

// lives reports whether the package's tests pass with the change, and whether that can be compiled at all.
func (c change) lives(dir string, limit time.Duration) (lives, builds bool, err error) {
	temp, err := os.MkdirTemp("", "mutate-")
	if err != nil {
		return false, false, err
	}
	defer os.RemoveAll(temp)
	changed := filepath.Join(temp, filepath.Base(c.file))
	overlay, err := json.Marshal(map[string]map[string]string{"Replace": {c.file: changed}})
	if err != nil {
		return false, false, err
	}
	list := filepath.Join(temp, "overlay.json")
	if err := errors.Join(os.WriteFile(changed, c.text, 0o600), os.WriteFile(list, overlay, 0o600)); err != nil {
		return false, false, err
	}
	program := filepath.Join(temp, "tests")
	build := exec.Command("go", "test", "-c", "-vet=off", "-overlay", list, "-o", program, ".")
	build.Dir = dir
	if build.Run() != nil {
		return false, false, nil // such as a variable that nobody uses any more
	}
	run := exec.Command(program, "-test.short", "-test.failfast", "-test.timeout", limit.String())
	run.Dir = dir
	return run.Run() == nil, true, nil
}

// changesOf are all changes of the files of a package.
func changesOf(dir string) ([]change, error) {
	files, err := filepath.Glob(filepath.Join(dir, "*.go"))
	if err != nil {
		return nil, err
	}
	var list []change
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		path, err := filepath.Abs(file)
		if err != nil {
			return nil, err
		}
		set := token.NewFileSet()
		tree, err := parser.ParseFile(set, path, nil, parser.ParseComments)
		if err != nil {
			return nil, err
		}
		var wrong error
		add := func(at token.Pos, what string) { // with the tree as it is now
			var text bytes.Buffer
			if err := format.Node(&text, set, tree); err != nil {
				wrong = errors.Join(wrong, err)
				return
			}
			list = append(list, change{what: fmt.Sprintf("%s:%d: %s", file, set.Position(at).Line, what), file: path,
				text: text.Bytes()})
		}
		ast.Inspect(tree, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.SwitchStmt:
				cases(n, add)
			case *ast.BinaryExpr:
				bounds(n, add)
			}
			return true
		})
		if wrong != nil {
			return nil, wrong
		}
	}
	return list, nil
}

// cases negates the condition of each case of a switch without a tag, and leaves each case out.
func cases(s *ast.SwitchStmt, add func(token.Pos, string)) {
	all := s.Body.List
	for n, stmt := range all {
		c := stmt.(*ast.CaseClause)
		if len(c.List) == 0 {
			continue
		}
		said := text(c.List[0])
		if s.Tag == nil {
			was := c.List[0]
			c.List[0] = &ast.UnaryExpr{Op: token.NOT, X: &ast.ParenExpr{X: was}}
			add(c.Pos(), "not: case "+said)
			c.List[0] = was
		}
		s.Body.List = append(append([]ast.Stmt{}, all[:n]...), all[n+1:]...)
		add(c.Pos(), "without: case "+said)
		s.Body.List = all
	}
}

// moved is each comparison with its bound moved by one.
var moved = map[token.Token]token.Token{token.LSS: token.LEQ, token.LEQ: token.LSS, token.GTR: token.GEQ,
	token.GEQ: token.GTR}

func bounds(b *ast.BinaryExpr, add func(token.Pos, string)) {
	to, compares := moved[b.Op]
	if !compares {
		return
	}
	said, was := text(b), b.Op
	b.Op = to
	add(b.Pos(), fmt.Sprintf("%v for %v: %s", to, was, said))
	b.Op = was
}

// text is an expression on one line.
func text(e ast.Expr) string {
	var b bytes.Buffer
	if err := format.Node(&b, token.NewFileSet(), e); err != nil {
		return err.Error()
	}
	return strings.Join(strings.Fields(b.String()), " ")
}
