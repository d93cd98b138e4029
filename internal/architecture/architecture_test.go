// Package architecture checks that packages import only what the table in packages.go allows, and that none of them
// grows beyond its budget.
package architecture

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

const module = "inktray.example/inktray/"

// noIO names what core must not import: it knows no network, disk, database or
// command line. Clocks are handed in: time is allowed for its types.
var noIO = []string{"net", "net/http", "os", "os/exec", "database/sql", "io/ioutil", "log", "syscall", "gorm.io/",
	"github.com/gofiber/", "github.com/spf13/cobra", "github.com/emersion/"}

// packageOf finds the row of the table for a folder.
func packageOf(dir string) *Package {
	best := -1
	for i := range Packages {
		if p := Packages[i].Path; (dir == p || strings.HasPrefix(dir, p+"/")) &&
			(best < 0 || len(p) > len(Packages[best].Path)) {
			best = i
		}
	}
	if best < 0 {
		return nil
	}
	return &Packages[best]
}

func TestPackagesImportOnlyWhatTheTableAllows(t *testing.T) {
	root := filepath.Join("..", "..")
	files := 0
	err := filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git" || d.Name() == "dist") {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return nil
		}
		files++
		relative, err := filepath.Rel(root, name)
		if err != nil {
			return err
		}
		dir := path.Dir(filepath.ToSlash(relative))
		r := packageOf(dir)
		if r == nil {
			t.Errorf("%s has no row in the table", dir)
			return nil
		}
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, i := range f.Imports {
			imported, err := strconv.Unquote(i.Path.Value)
			if err != nil {
				return err
			}
			if inner, ours := strings.CutPrefix(imported, module); ours {
				if !slices.ContainsFunc(r.Imports,
					func(allowed string) bool { return inner == allowed || strings.HasPrefix(inner, allowed+"/") }) {
					t.Errorf("%s imports %s, which %s may not", relative, inner, r.Path)
				}
				continue
			}
			if strings.HasPrefix(r.Path, "internal/core") && slices.ContainsFunc(noIO, func(not string) bool {
				return imported == not || strings.HasSuffix(not, "/") && strings.HasPrefix(imported, not)
			}) {
				t.Errorf("%s imports %s: core knows no I/O", relative, imported)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if files < 30 {
		t.Errorf("only %d files were looked at", files)
	}
}

func TestCoreTakesItsClockFromItsCaller(t *testing.T) {
	err := filepath.WalkDir(filepath.Join("..", "core"), func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		fset := token.NewFileSet()
		f, err := parser.ParseFile(fset, name, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(f, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok {
				if x, ok := s.X.(*ast.Ident); ok && x.Name == "time" &&
					(s.Sel.Name == "Now" || s.Sel.Name == "Sleep" || s.Sel.Name == "Since") {
					t.Errorf("%s reads the clock", fset.Position(s.Pos()))
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

// Budgets: what a newcomer can hold in mind.
const (
	mostLines   = 3500 // hand-written lines of one package, tests not counted
	mostMethods = 40   // of one type
)

func TestNoPackageAndNoTypeGrowsBeyondItsBudget(t *testing.T) {
	lines, methods := map[string]int{}, map[string]int{}
	err := filepath.WalkDir(filepath.Join("..", ".."), func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git") {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") || strings.HasSuffix(name, ".gen.go") {
			return nil
		}
		dir, err := filepath.Rel(filepath.Join("..", ".."), filepath.Dir(name))
		if err != nil {
			return err
		}
		dir = filepath.ToSlash(dir)
		fset := token.NewFileSet()
		f, err := parser.ParseFile(fset, name, nil, 0)
		if err != nil {
			return err
		}
		lines[dir] += fset.Position(f.End()).Line
		for _, decl := range f.Decls {
			if fn, ok := decl.(*ast.FuncDecl); ok && fn.Recv != nil {
				receiver := fn.Recv.List[0].Type
				if star, ok := receiver.(*ast.StarExpr); ok {
					receiver = star.X
				}
				if id, ok := receiver.(*ast.Ident); ok {
					methods[dir+"."+id.Name]++
				}
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for dir, n := range lines {
		row := packageOf(dir)
		if n > mostLines && (row == nil || row.Path != dir || row.Large == "") {
			t.Errorf("%s has %d lines, which is more than %d; split it, or write the reason into the table", dir, n, mostLines)
		}
		if n <= mostLines && row != nil && row.Path == dir && row.Large != "" {
			t.Errorf("%s has only %d lines and needs no reason any more", dir, n)
		}
	}
	for name, n := range methods {
		if n > mostMethods {
			t.Errorf("%s has %d methods, which is more than %d", name, n, mostMethods)
		}
	}
}
