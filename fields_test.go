package vaiven

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// used are the names of fields that a tree of folders sets, and those that it reads.
func used(t *testing.T, roots ...string) (set, read map[string]bool) {
	t.Helper()
	set, read = map[string]bool{}, map[string]bool{}
	for _, root := range roots {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
			if err != nil {
				return err
			}
			assigned := map[ast.Expr]bool{}
			ast.Inspect(f, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.AssignStmt:
					for _, left := range n.Lhs {
						if i, ok := left.(*ast.IndexExpr); ok { // an element of it
							left = i.X
						}
						if s, ok := left.(*ast.SelectorExpr); ok {
							set[s.Sel.Name], assigned[s] = true, true
						}
					}
				case *ast.KeyValueExpr:
					if key, ok := n.Key.(*ast.Ident); ok {
						set[key.Name] = true
					}
				case *ast.SelectorExpr:
					if !assigned[n] {
						read[n.Sel.Name] = true
					}
				}
				return true
			})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	return set, read
}

// fields are those of some structs of a file.
func fields(t *testing.T, file string, structs ...string) (list []string) {
	t.Helper()
	f, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	ast.Inspect(f, func(n ast.Node) bool {
		spec, ok := n.(*ast.TypeSpec)
		if !ok || !slices.Contains(structs, spec.Name.Name) {
			return true
		}
		for _, field := range spec.Type.(*ast.StructType).Fields.List {
			for _, name := range field.Names {
				list = append(list, name.Name)
			}
		}
		return false
	})
	if len(list) == 0 {
		t.Fatalf("%s has none of %v", file, structs)
	}
	return list
}

// What a front counts is judged, and what is judged some front counts: a number that nobody reads is a fault that
// nobody sees, and one that nobody fills is a guard that never trips.
func TestWhatFrontsCountIsJudged(t *testing.T) {
	filled, _ := used(t, "internal/front")
	_, judged := used(t, "internal/core/figures", "internal/core/guard", "internal/core/engine", "internal/core/backlog",
		"internal/core/crossing", "internal/core/situation")
	_, shown := used(t, "internal/people", "internal/words")
	counts := fields(t, "internal/core/reading/front.go", "Count", "Clients")
	for _, name := range counts {
		if filled[name] && !judged[name] {
			t.Errorf("fronts count %s, and nobody judges by it", name)
		}
	}
	for _, name := range slices.Concat(counts, fields(t, "internal/core/reading/front.go", "Front", "Side", "Capabilities"),
		fields(t, "internal/core/reading/queue.go", "Queue")) {
		switch {
		case !filled[name]:
			t.Errorf("%s is asked of fronts, and none tells it", name)
		case !judged[name] && !shown[name]:
			t.Errorf("fronts tell %s, and nobody reads it", name)
		}
	}
}
