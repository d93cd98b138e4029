package architecture

import (
	"go/scanner"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"
)

// mostColumns is how long a line may be, a tab counted as one column. Only raw strings in Go, such as SQL and the tags
// of fields, and rows of tables in documents may be longer. Prettier and eslint look after the console.
const mostColumns = 120

func TestLinesAreShort(t *testing.T) {
	err := filepath.WalkDir(filepath.Join("..", ".."), func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git" || d.Name() == "client") {
			return filepath.SkipDir
		}
		code, document := strings.HasSuffix(name, ".go"), strings.HasSuffix(name, ".md")
		other := slices.Contains([]string{".yaml", ".yml", ".sh"}, filepath.Ext(name)) ||
			slices.Contains([]string{"Makefile", "needs", "run"}, d.Name())
		if d.IsDir() || !code && !document && !other || strings.HasSuffix(name, ".gen.go") {
			return nil
		}
		source, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		raw := map[int]bool{}
		if code {
			raw = rawLines(source)
		}
		for i, line := range strings.Split(string(source), "\n") {
			if document && strings.HasPrefix(line, "|") {
				continue
			}
			if n := utf8.RuneCountInString(line); n > mostColumns && !raw[i+1] {
				t.Errorf("%s:%d has %d columns, want %d at most", name, i+1, n, mostColumns)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// rawLines finds the lines that a raw string touches.
func rawLines(source []byte) map[int]bool {
	fset := token.NewFileSet()
	file := fset.AddFile("", fset.Base(), len(source))
	var s scanner.Scanner
	s.Init(file, source, nil, 0)
	raw := map[int]bool{}
	for {
		pos, tok, text := s.Scan()
		if tok == token.EOF {
			return raw
		}
		if tok == token.STRING && strings.HasPrefix(text, "`") {
			first := fset.Position(pos).Line
			for n := range strings.Count(text, "\n") + 1 {
				raw[first+n] = true
			}
		}
	}
}
