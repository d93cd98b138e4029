// Package architecture keeps the rooms of the house apart.
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

// may says which rooms a room may import. A room not named here may import none.
var may = map[string][]string{
	"cmd/inktray":         {"internal/cli"},
	"internal/core":       {"internal/core"},
	"internal/reach":      {},
	"internal/inbound":    {},
	"internal/proof":      {"internal/core"},
	"internal/source":     {"internal/core", "internal/disk", "internal/proof", "internal/inbound", "internal/reach", "internal/source"},
	"internal/disk":       {"internal/disk"},
	"internal/cabinet":    {"internal/core", "internal/disk", "internal/reach", "internal/cabinet"},
	"internal/store":      {"internal/core", "internal/source"},
	"internal/engine":     {"internal/child", "internal/core", "internal/proof", "internal/reach", "internal/scan", "internal/source", "internal/cabinet", "internal/disk", "internal/post", "internal/store"},
	"internal/api/client": {},
	"internal/api":        {"internal/core", "internal/engine", "internal/inbound", "internal/store"},
	"internal/console":    {},
	"internal/post":       {"internal/testbed"},
	"internal/child":      {"internal/core"},
	"internal/scan":       {"internal/testbed"},
	"internal/demo":       {"internal/core"},
	"internal/testbed":    {},
	"internal/cli":        {"internal"},
}

// noIO names what core must not import: it knows no network, disk, database or
// command line. Clocks are handed in: time is allowed for its types.
var noIO = []string{"net", "net/http", "os", "os/exec", "database/sql", "io/ioutil", "log", "syscall", "gorm.io/", "github.com/gofiber/", "github.com/spf13/cobra", "github.com/emersion/"}

func room(dir string) string {
	best := ""
	for r := range may {
		if (dir == r || strings.HasPrefix(dir, r+"/")) && len(r) > len(best) {
			best = r
		}
	}
	return best
}

func TestRoomsImportOnlyWhatTheyMay(t *testing.T) {
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
		r := room(dir)
		if r == "" {
			t.Errorf("%s belongs to no room of the table", dir)
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
				if !slices.ContainsFunc(may[r], func(allowed string) bool { return inner == allowed || strings.HasPrefix(inner, allowed+"/") }) {
					t.Errorf("%s imports %s, which %s may not", relative, inner, r)
				}
				continue
			}
			if r == "internal/core" && slices.ContainsFunc(noIO, func(not string) bool {
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
				if x, ok := s.X.(*ast.Ident); ok && x.Name == "time" && (s.Sel.Name == "Now" || s.Sel.Name == "Sleep" || s.Sel.Name == "Since") {
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
