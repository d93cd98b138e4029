package architecture

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"
)

// longestFunction is how long a function of the command line may be.
const longestFunction = 80

// cleanup are calls that may be made whatever happened before them: they close, sync or remove what is no longer used.
var cleanup = map[string]bool{"Close": true, "closed": true, "Discard": true, "discard": true, "Remove": true,
	"RemoveAll": true, "Sync": true, "SyncDir": true, "Flush": true, "Unlock": true, "Sweep": true, "Stop": true,
	"stop": true, "end": true, "Err": true, "Error": true, "Errorf": true, "New": true}

// sources calls f with every file of the product's own code, without tests and what the tests use.
func sources(t *testing.T, f func(name string, set *token.FileSet, file *ast.File)) {
	t.Helper()
	err := filepath.WalkDir(filepath.Join("..", ".."), func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git" || d.Name() == "testbed" ||
			d.Name() == "cabinettest" || d.Name() == "sourcetest") {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, ".gen.go") || strings.HasSuffix(name, "_test.go") {
			return nil
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, name, nil, 0)
		if err != nil {
			return err
		}
		f(name, set, file)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// called is the name of what an expression calls, "" where it calls nothing. The error of a statement counts as its
// call.
func called(x ast.Expr) string {
	if s, ok := x.(*ast.SelectorExpr); ok && s.Sel.Name == "Error" {
		x = s.X
	}
	c, ok := x.(*ast.CallExpr)
	if !ok {
		return ""
	}
	switch f := c.Fun.(type) {
	case *ast.SelectorExpr:
		return f.Sel.Name
	case *ast.Ident:
		return f.Name
	}
	return "a function"
}

// errors.Join makes every call that it is given, also when the first one failed. So at most one of them may do
// something, and the others clean up after it.
func TestSequencesAreWrittenAsSequences(t *testing.T) {
	seen := 0
	sources(t, func(_ string, set *token.FileSet, file *ast.File) {
		ast.Inspect(file, func(n ast.Node) bool {
			c, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			s, ok := c.Fun.(*ast.SelectorExpr)
			if !ok || s.Sel.Name != "Join" {
				return true
			}
			if of, ok := s.X.(*ast.Ident); !ok || of.Name != "errors" {
				return true
			}
			seen++
			does := 0
			for _, a := range c.Args {
				if name := called(a); name != "" && !cleanup[name] {
					does++
				}
			}
			if does > 1 {
				t.Errorf("%s: errors.Join does %d things, of which all are done when the first one fails",
					set.Position(c.Pos()), does)
			}
			return true
		})
	})
	if seen < 20 {
		t.Errorf("only %d calls of errors.Join were looked at", seen)
	}
}

func TestFunctionsOfTheCommandLineAreShort(t *testing.T) {
	sources(t, func(name string, set *token.FileSet, file *ast.File) {
		if filepath.Base(filepath.Dir(name)) != "cli" {
			return
		}
		for _, d := range file.Decls {
			if f, ok := d.(*ast.FuncDecl); ok {
				if n := set.Position(f.End()).Line - set.Position(f.Pos()).Line + 1; n > longestFunction {
					t.Errorf("%s: %s has %d lines, want %d at most", set.Position(f.Pos()), f.Name.Name, n, longestFunction)
				}
			}
		}
	})
}
