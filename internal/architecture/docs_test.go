package architecture

import (
	"flag"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"inktray.example/inktray/internal/testbed"
)

var writeDocs = flag.Bool("write-docs", false, "write the table of packages into CONTRIBUTING.md")

// TestContributingHasTheTableOfPackages writes it with -write-docs.
func TestContributingHasTheTableOfPackages(t *testing.T) {
	var b strings.Builder
	b.WriteString("| folder | holds | may import |\n|---|---|---|\n")
	for _, p := range Packages {
		imports := slices.Clone(p.Imports)
		slices.Sort(imports)
		for i := range imports {
			imports[i] = strings.TrimPrefix(imports[i], "internal/")
			if imports[i] == "internal" {
				imports[i] = "everything"
			}
		}
		list := strings.Join(slices.Compact(imports), ", ")
		if list == "" {
			list = "-"
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", p.Path, p.Holds, list)
	}
	testbed.CheckSection(t, filepath.Join("..", "..", "CONTRIBUTING.md"), "packages", b.String(), *writeDocs)
}
