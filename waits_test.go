package vaiven

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// testSource is a file of a test, or of what only tests import.
type testSource struct {
	*ast.File
	name  string
	files *token.FileSet
	lines []string
}

// at is where a node is, as file:line.
func (s testSource) at(n ast.Node) string { return s.files.Position(n.Pos()).String() }

// line is the text of a node's first line.
func (s testSource) line(n ast.Node) string { return s.lines[s.files.Position(n.Pos()).Line-1] }

// madeUp reports whether the file's time is made up: that of testing/synctest.
func (s testSource) madeUp() bool {
	return slices.ContainsFunc(s.Imports, func(i *ast.ImportSpec) bool { return i.Path.Value == `"testing/synctest"` })
}

func testSources(t *testing.T) (list []testSource) {
	t.Helper()
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		kit := strings.HasPrefix(path, "lab/") && strings.Contains(path, "test") && !strings.HasPrefix(path, "lab/torment")
		if err != nil || d.IsDir() || !strings.HasSuffix(path, "_test.go") && !(kit && strings.HasSuffix(path, ".go")) {
			return err
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		files := token.NewFileSet()
		parsed, err := parser.ParseFile(files, path, text, parser.ParseComments)
		if err == nil {
			list = append(list, testSource{parsed, path, files, strings.Split(string(text), "\n")})
		}
		return err
	})
	if err != nil || len(list) < 300 {
		t.Fatalf("%d files of tests, %v", len(list), err)
	}
	return list
}

// calls are the names of what a node calls: f, x.f.
func calls(n ast.Node) (names []string) {
	ast.Inspect(n, func(n ast.Node) bool {
		call, ok := n.(*ast.CallExpr)
		if !ok {
			return true
		}
		switch f := call.Fun.(type) {
		case *ast.Ident:
			names = append(names, f.Name)
		case *ast.SelectorExpr:
			x, _ := f.X.(*ast.Ident)
			if x != nil {
				names = append(names, x.Name+"."+f.Sel.Name)
			}
			names = append(names, "."+f.Sel.Name)
		}
		return true
	})
	return names
}

// Tests wait by testkit.Wait alone, whose limit holds on a busy machine too: no loop around the clock, a screen, a
// reading or a connection is one of their own, and no sleep is without a reason beside it. A loop that somebody else
// ends, by a channel or a context, waits for nothing; and time that is made up passes by itself.
func TestTestsWaitInOneWay(t *testing.T) {
	asks := []string{"time.Sleep", "time.Now", "time.Since", "term.screen", "term.look", "net.Dial", "net.DialTimeout", "http.Get"}
	for _, s := range testSources(t) {
		if s.madeUp() || strings.HasPrefix(s.name, "lab/testkit/") || strings.HasSuffix(s.name, "bench_test.go") {
			continue
		}
		made := madeUpTypes(s.name)
		ast.Inspect(s.File, func(n ast.Node) bool {
			if call, ok := n.(*ast.CallExpr); ok {
				if f, ok := call.Fun.(*ast.SelectorExpr); ok && f.Sel.Name == "Sleep" && !made &&
					!strings.Contains(s.line(call), "//") && !strings.Contains(s.lines[s.files.Position(call.Pos()).Line-2], "//") {
					t.Errorf("%s sleeps: wait by testkit.Wait, or say beside it what of the test it is", s.at(call))
				}
			}
			loop, ok := n.(*ast.ForStmt)
			if !ok || made {
				return true
			}
			if _, counts := loop.Post.(*ast.IncDecStmt); counts {
				return true
			}
			names := calls(loop)
			ended := slices.Contains(names, ".Err") || slices.Contains(names, ".Accept") || slices.Contains(names, ".Again") || slices.Contains(names, ".Goes") ||
				receives(loop)
			for _, name := range names {
				if !ended && slices.Contains(asks, name) {
					t.Errorf("%s is a loop around %s: wait by testkit.Wait", s.at(loop), name)
				}
			}
			return true
		})
	}
}

// madeUpTypes reports whether a file is driven by a test whose time is made up: it has no synctest itself, and its
// package's tests run all of it in bubbles.
func madeUpTypes(name string) bool {
	return slices.Contains([]string{"internal/keeper/world_test.go", "internal/stack/cluster/plane_test.go"}, name)
}

// receives reports whether a node receives from a channel that it did not make for a moment.
func receives(n ast.Node) (yes bool) {
	ast.Inspect(n, func(n ast.Node) bool {
		if u, ok := n.(*ast.UnaryExpr); ok && u.Op == token.ARROW {
			call, ok := u.X.(*ast.CallExpr)
			yes = yes || !ok || !slices.Contains(calls(call), "time.After")
		}
		return true
	})
	return yes
}

// What a test draws while it goes over a map is another story each time, whatever its seed: maps have no order.
func TestNothingIsDrawnOverAMap(t *testing.T) {
	draws := []string{".Float64", ".IntN", ".Int64N", ".Uint64", ".Uint64N", ".Uint32", ".Perm", ".Shuffle", ".NormFloat64",
		".ExpFloat64", ".N"}
	for _, s := range testSources(t) {
		maps, sources := map[string]bool{}, map[string]bool{}
		isMap := func(e ast.Expr) bool {
			switch e := e.(type) {
			case *ast.CompositeLit:
				_, ok := e.Type.(*ast.MapType)
				return ok
			case *ast.CallExpr:
				f, ok := e.Fun.(*ast.Ident)
				if ok && f.Name == "make" && len(e.Args) > 0 {
					_, ok = e.Args[0].(*ast.MapType)
					return ok
				}
			case *ast.Ident:
				return maps[e.Name]
			case *ast.SelectorExpr:
				return maps[e.Sel.Name]
			}
			return false
		}
		isSource := func(e ast.Expr) bool {
			call, ok := e.(*ast.CallExpr)
			return ok && slices.ContainsFunc(calls(call), func(c string) bool { return c == "rand.New" || c == "testkit.Rand" })
		}
		ast.Inspect(s.File, func(n ast.Node) bool { // what is a map, and what is drawn from, by their names
			switch n := n.(type) {
			case *ast.AssignStmt:
				for i, right := range n.Rhs {
					if left, ok := n.Lhs[min(i, len(n.Lhs)-1)].(*ast.Ident); ok && len(n.Lhs) == len(n.Rhs) {
						maps[left.Name] = maps[left.Name] || isMap(right)
						sources[left.Name] = sources[left.Name] || isSource(right)
					}
				}
			case *ast.Field:
				_, ok := n.Type.(*ast.MapType)
				for _, name := range n.Names {
					maps[name.Name] = maps[name.Name] || ok
				}
			}
			return true
		})
		ast.Inspect(s.File, func(n ast.Node) bool {
			over, ok := n.(*ast.RangeStmt)
			if !ok || !isMap(over.X) {
				return true
			}
			ours := map[string]bool{} // made for each turn, by a seed that is the turn's
			ast.Inspect(over.Body, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.AssignStmt:
					for i, right := range n.Rhs {
						if left, ok := n.Lhs[min(i, len(n.Lhs)-1)].(*ast.Ident); ok && isSource(right) {
							ours[left.Name] = true
						}
					}
				case *ast.FuncType:
					for _, p := range n.Params.List {
						for _, name := range p.Names {
							ours[name.Name] = true
						}
					}
				}
				return true
			})
			ast.Inspect(over.Body, func(n ast.Node) bool {
				call, ok := n.(*ast.CallExpr)
				if !ok {
					return true
				}
				for _, arg := range call.Args {
					if x, ok := arg.(*ast.Ident); ok && sources[x.Name] && !ours[x.Name] {
						t.Errorf("%s draws while it goes over a map", s.at(call))
					}
				}
				f, ok := call.Fun.(*ast.SelectorExpr)
				if x, is := callee(f, ok); is && sources[x] && !ours[x] && slices.Contains(draws, "."+f.Sel.Name) {
					t.Errorf("%s draws while it goes over a map", s.at(call))
				}
				return true
			})
			return true
		})
	}
}

// callee is the name of the variable whose method is called.
func callee(f *ast.SelectorExpr, ok bool) (name string, is bool) {
	if !ok {
		return "", false
	}
	x, is := f.X.(*ast.Ident)
	if !is {
		return "", false
	}
	return x.Name, true
}
