package register

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"
)

// A table with one line a message has a link for every file, and what its filings have apart.
func TestOneLineAMessageHasLinksToAllItsFiles(t *testing.T) {
	message := func(first, files int) Line {
		var all []Line
		for i := range files {
			l := lines(2)[1]
			l.Number.Number, l.Subject, l.File, l.Size = first+i, fmt.Sprintf("message %d", first),
				fmt.Sprintf("file %d.pdf", i), int64(10*(i+1))
			l.Place = Base(`\\files\harbour`).At("Gauges/" + l.File)
			l.Folder = []string{"Gauges", "Other"}[i%2]
			l.Story = "https://ink.example/register/" + l.Number.String()
			all = append(all, l)
		}
		void := all[0]
		void.State, void.File, void.Remark = Void, "", "it came to nothing"
		return Together(append(all, void))
	}
	all := []Line{message(1, 1), message(10, 3), message(100, mostFiles+3)}
	columns, err := ColumnsNamed([]string{"number", "file", "folder", "size", "state", "subject"})
	if err != nil {
		t.Fatal(err)
	}
	columns = ByMessage(columns, mostFiles+3)
	if len(columns) != 5+mostFiles {
		t.Fatalf("%d columns", len(columns))
	}
	data := written(t, func(w *bytes.Buffer) (Writer, error) { return NewCSV(w, columns, zone) }, all)
	rows, err := csv.NewReader(bytes.NewReader(data[3:])).ReadAll()
	if err != nil || len(rows) != 4 {
		t.Fatalf("%d rows, %v", len(rows), err)
	}
	if want := []string{"2026-10, 2026-11, 2026-12", "file 0.pdf", "file 1.pdf", "file 2.pdf",
		""}; !slices.Equal(rows[2][:5], want) {
		t.Errorf("the row begins %q, want %q", rows[2][:5], want)
	}
	if end := rows[2][1+mostFiles:]; !slices.Equal(end, []string{"Gauges\nOther", "60", "filed", "message 10"}) {
		t.Errorf("it ends %q", end)
	}
	if last := rows[3][mostFiles]; strings.Count(last, "\n") != 3 ||
		!strings.HasSuffix(last, fmt.Sprintf("file %d.pdf", mostFiles+2)) {
		t.Errorf("the last column holds %q", last)
	}
	book := written(t, func(w *bytes.Buffer) (Writer, error) { return NewXLSX(w, columns, zone, t.TempDir()) }, all)
	f, err := excelize.OpenReader(bytes.NewReader(book))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for i, cell := range []string{"B3", "C3", "D3"} {
		if formula, err := f.GetCellFormula("Register", cell); err != nil ||
			!strings.Contains(formula, fmt.Sprintf("file%%20%d.pdf", i)) {
			t.Errorf("%s opens %q, %v", cell, formula, err)
		}
	}
	if one := Together([]Line{{State: Void, Number: Number{2026, 7}}}); one.Number.Number != 7 || len(one.Files) != 0 {
		t.Errorf("of a void number alone: %+v", one)
	}
}
