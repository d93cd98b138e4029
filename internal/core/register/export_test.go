package register

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"inktray.example/inktray/internal/testbed"
)

// odd are texts that tables get wrong.
var odd = []string{"plain", `=HYPERLINK("http://x.example","click")`, "+1", "-2+3", "@SUM(A1)", "\ttab",
	"with \"quotes\"; and, commas", "two\nlines", "Ærø – Übersee 港", "'quoted", " spaces ", "0012", "1e5", "2026-05-12",
	"TRUE", "a\x01b\x0bc", strings.Repeat("long ", 60)}

func lines(n int) []Line {
	all := make([]Line, n)
	at := time.Date(2026, 3, 29, 0, 30, 0, 0, time.UTC)
	for i := range all {
		o := odd[i%len(odd)]
		all[i] = Line{Number: Number{2026, i + 1}, Filed: at.Add(time.Duration(i) * time.Minute),
			Received: at.Add(-time.Hour), SenderName: o, SenderAddress: "oda@tidewatch.example", Subject: o, File: o + ".pdf",
			Folder: "Gauges/2026", Cabinet: "harbour files",
			Mailbox: "gauges", Rule: "Tide gauge readings", Revision: 3, Kind: "pdf", Size: int64(i) * 1_234_567,
			Checksum: "abc", State: Filed, Notes: o,
			Place: Base(`\\files\harbour`).At("Gauges/2026/" + strings.ToValidUTF8(o, "") + ".pdf"), Message: "mid:1@x.example",
			Story: fmt.Sprintf("https://ink.example/register/2026-%d", i+1)}
	}
	all[0].State, all[0].Filed = Void, time.Time{}
	return all
}

func written(t *testing.T, make func(w *bytes.Buffer) (Writer, error), all []Line) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := make(&b)
	if err != nil {
		t.Fatal(err)
	}
	for i := range all {
		if err := w.Write(&all[i]); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// However a spreadsheet program parts cells, none of them begins a formula.
func TestNoSeparatorMakesAFormulaOfACell(t *testing.T) {
	for _, hostile := range []string{"=cmd|' /C calc'!A0", "a;=1+1", "a,=1+1", "a\t=1+1", "a|=1+1", "a\r\n=1+1", "  =1",
		"a;  @SUM(1)", "\"=1", "a\";=1", "a\",\"=1", "＝1", "-1", "a;+1;=2", "\t=1"} {
		l := lines(2)[0]
		l.Subject, l.SenderName, l.File = hostile, hostile, hostile
		data := written(t, func(w *bytes.Buffer) (Writer, error) { return NewCSV(w, Columns, zone) }, []Line{l})
		for _, comma := range []rune{',', ';', '\t', '|'} {
			for _, lazy := range []bool{true, false} { // with and without regard to quotation marks
				var rows [][]string
				if lazy {
					in := csv.NewReader(bytes.NewReader(data[3:]))
					in.Comma, in.LazyQuotes, in.FieldsPerRecord = comma, true, -1
					var err error
					if rows, err = in.ReadAll(); err != nil {
						t.Fatalf("%q, parted by %q: %v", hostile, comma, err)
					}
				} else {
					for _, row := range strings.Split(string(data[3:]), "\n") {
						rows = append(rows, strings.Split(row, string(comma)))
					}
				}
				for _, row := range rows {
					for _, cell := range row {
						if plain := strings.Trim(cell, " \"\r"); plain != "" && strings.ContainsRune("=+-@＝\t", []rune(plain)[0]) {
							t.Errorf("%q, parted by %q, becomes the cell %q", hostile, comma, cell)
						}
					}
				}
			}
		}
	}
}

func TestACSVTableIsReadBackAndHoldsNoFormula(t *testing.T) {
	all := lines(40)
	data := written(t, func(w *bytes.Buffer) (Writer, error) { return NewCSV(w, Columns, zone) }, all)
	if !bytes.HasPrefix(data, []byte("\xef\xbb\xbf")) || !bytes.Contains(data, []byte("\r\n")) {
		t.Error("there is no byte order mark, or no CRLF")
	}
	rows, err := csv.NewReader(bytes.NewReader(data[3:])).ReadAll()
	if err != nil || len(rows) != 41 || len(rows[0]) != len(Columns) {
		t.Fatalf("%d rows of %d columns, %v", len(rows), len(rows[0]), err)
	}
	for i, row := range rows[1:] {
		for k, cell := range row {
			if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
				t.Errorf("row %d, %s begins a formula: %q", i+1, Columns[k].Name, cell)
			}
		}
		subject := all[i].Subject
		if got := row[4]; got != subject && got != harmless(subject) {
			t.Errorf("row %d has the subject %q, want %q", i+1, got, subject)
		}
	}
	if rows[2][9] != "2026-03-29 02:31:00" { // of the zone
		t.Errorf("filed at %q", rows[2][9])
	}
	if rows[1][9] != "" || rows[1][8] != "void" {
		t.Errorf("a void number was filed at %q, is %q", rows[1][9], rows[1][8])
	}
}

func TestAWorkbookHasTypedCellsLinksAndAHeadThatStays(t *testing.T) {
	all := lines(40)
	data := written(t, func(w *bytes.Buffer) (Writer, error) { return NewXLSX(w, Columns, zone, t.TempDir()) }, all)
	f, err := excelize.OpenReader(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	raw := excelize.Options{RawCellValue: true}
	for i := range all {
		row := i + 2
		at := func(column string) string {
			k := 0
			for Columns[k].Name != column {
				k++
			}
			name, _ := excelize.CoordinatesToCellName(k+1, row)
			return name
		}
		value, _ := f.GetCellValue("Register", at("subject"), raw)
		if formula, _ := f.GetCellFormula("Register", at("subject")); value != sound(all[i].Subject) || formula != "" {
			t.Errorf("row %d: subject %q, formula %q; want the text %q", row, value, formula, all[i].Subject)
		}
		if kind, _ := f.GetCellType("Register", at("size")); kind == excelize.CellTypeInlineString ||
			kind == excelize.CellTypeSharedString {
			t.Errorf("row %d: the size is a text", row)
		}
		if i == 1 {
			if value, _ := f.GetCellValue("Register", at("filed")); value != "2026-03-29 02:31" {
				t.Errorf("filed at %q", value)
			}
			if size, _ := f.GetCellValue("Register", at("size"), raw); size != "1234567" {
				t.Errorf("a size of %q", size)
			}
			formula, _ := f.GetCellFormula("Register", at("number"))
			if formula != `HYPERLINK("https://ink.example/register/2026-2","2026-2")` {
				t.Errorf("the number links with %q", formula)
			}
		}
	}
	panes, err := f.GetPanes("Register")
	if err != nil || !panes.Freeze || panes.YSplit != 1 {
		t.Errorf("the head: %+v, %v", panes, err)
	}
	tables, err := f.GetTables("Register")
	if err != nil || len(tables) != 1 || !strings.HasPrefix(tables[0].Range, "A1:") ||
		!strings.HasSuffix(tables[0].Range, "41") {
		t.Errorf("the filter is on %+v, %v", tables, err)
	}
}

func TestWhatDoesNotFitOnOneSheetGoesOnOnTheNext(t *testing.T) {
	all := lines(25)
	columns, err := ColumnsNamed([]string{"number", "file"})
	if err != nil {
		t.Fatal(err)
	}
	data := written(t, func(w *bytes.Buffer) (Writer, error) { return newXLSX(w, columns, zone, "", 11) }, all)
	f, err := excelize.OpenReader(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	total := 0
	for _, sheet := range f.GetSheetList() {
		rows, err := f.GetRows(sheet)
		if err != nil || rows[0][0] != "No." {
			t.Fatalf("%s: %v, %v", sheet, rows, err)
		}
		total += len(rows) - 1
	}
	if len(f.GetSheetList()) != 3 || total != 25 {
		t.Errorf("%d lines on %v", total, f.GetSheetList())
	}
}

func TestColumnsAreChosenByName(t *testing.T) {
	chosen, err := ColumnsNamed([]string{"size", "number", "size"})
	if err != nil || len(chosen) != 2 || chosen[0].Name != "size" {
		t.Errorf("%v, %v", chosen, err)
	}
	if _, err := ColumnsNamed([]string{"colour"}); err == nil ||
		!strings.Contains(err.Error(), "columns are number, file,") {
		t.Errorf("of a column that there is not: %v", err)
	}
	usual, err := ColumnsNamed(nil)
	if err != nil || len(usual) < 5 || usual[0].Name != "number" {
		t.Errorf("the usual ones: %v, %v", usual, err)
	}
}

// TestASpreadsheetProgramReadsTheTables converts both tables with LibreOffice, as
// somebody would open and save them, and compares every cell.
func TestASpreadsheetProgramReadsTheTables(t *testing.T) {
	office, err := exec.LookPath("soffice")
	if err != nil {
		if office, err = exec.LookPath("libreoffice"); err != nil {
			testbed.LeaveOut(t, "LibreOffice")
		}
	}
	all := lines(60)
	folder := t.TempDir()
	columns := Columns
	for name, make := range map[string]func(w *bytes.Buffer) (Writer, error){
		"book.xlsx": func(w *bytes.Buffer) (Writer, error) { return NewXLSX(w, columns, zone, "") },
		"plain.csv": func(w *bytes.Buffer) (Writer, error) { return NewCSV(w, columns, zone) },
	} {
		if err := os.WriteFile(filepath.Join(folder, name), written(t, make, all), 0o600); err != nil {
			t.Fatal(err)
		}
		// 44 is the comma, 34 the quote, 76 UTF-8; what is written are values, not their looks.
		reading := []string{}
		if name == "plain.csv" { // what the dialog proposes on seeing the byte order mark
			reading = []string{"--infilter=Text - txt - csv (StarCalc):44,34,76,1"}
		}
		run := exec.Command(office,
			append(reading, "--headless", "-env:UserInstallation=file://"+filepath.Join(folder, "profile"), "--convert-to",
				"csv:Text - txt - csv (StarCalc):44,34,76,1,,0,false,true,false", "--outdir", filepath.Join(folder, "out-"+name),
				filepath.Join(folder, name))...)
		if said, err := run.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, said)
		}
		data, err := os.ReadFile(filepath.Join(folder, "out-"+name, strings.TrimSuffix(name, filepath.Ext(name))+".csv"))
		if err != nil {
			t.Fatal(err)
		}
		r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(data, []byte(byteOrderMark))))
		rows, err := r.ReadAll()
		if err != nil || len(rows) != 61 {
			t.Fatalf("%s: %d rows, %v", name, len(rows), err)
		}
		for i, row := range rows {
			for k, c := range columns {
				want := c.Title
				if i > 0 {
					want = c.Text(&all[i-1], zone)
					switch {
					case name == "book.xlsx":
						want = sound(want)
					default:
						want = harmless(want)
					}
				}
				got := row[k]
				if name == "plain.csv" && i > 0 { // a program reads numbers and days of a plain table in its own way
					switch want {
					case "0012", "1e5", "2026-05-12", "TRUE":
						continue
					}
					got, want = strings.ReplaceAll(got, "\x0b", ""), strings.ReplaceAll(want, "\x0b", "")
					if strings.ContainsAny(want, "\x01") || c.Name == "filed" || c.Name == "received" {
						continue
					}
				}
				if got != want {
					t.Errorf("%s, row %d, %s: %q, want %q", name, i+1, c.Name, got, want)
				}
			}
		}
	}
}
