package register

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/value"
)

// papers is a register of papers with values.
func papers(n int) []Row {
	rows := make([]Row, n)
	for i := range rows {
		rows[i] = Row{Number: Number{2026, i + 1}, Message: int64(i), State: Filed, Filed: 1, File: "paper.pdf",
			Subject: "dues", Values: []value.Value{
				{Name: "order", Type: value.Text, Text: fmt.Sprintf("BK-%d", 2000+i)},
				{Name: "total", Type: value.Amount, Text: fmt.Sprintf("%d.50 %s", i*10, []string{"EUR", "SEK"}[i%2])},
				{Name: "due", Type: value.Date, Text: time.Date(2026, 1, 1+i, 0, 0, 0, 0, time.UTC).Format(time.DateOnly)},
				{Name: "signed", Type: value.YesNo, Text: []string{"yes", "no", ""}[i%3]}}}
	}
	rows[0].Values = nil
	return rows
}

func TestTheRegisterIsSearchedByValues(t *testing.T) {
	x := &Index{}
	x.Put(papers(100)...)
	kept := &bytes.Buffer{}
	if err := x.Write(kept, "word"); err != nil {
		t.Fatal(err)
	}
	again := &Index{}
	if _, err := again.Read(kept); err != nil {
		t.Fatal(err)
	}
	for _, x := range []*Index{x, again} {
		if got := x.ValueNames(Query{Mailboxes: []string{"none"}}); len(got) > 0 {
			t.Errorf("who sees no mailbox is told of the values %v", got)
		}
		if got := x.ValueNames(Query{Mailboxes: []string{""}}); len(got) != 4 {
			t.Errorf("who sees the mailbox is told of the values %v", got)
		}
		if got := x.ValueNames(Query{}); !slices.Equal(got, []string{"due", "order", "signed", "total"}) {
			t.Fatalf("the values are %v", got)
		}
		for search, want := range map[string]int{
			"order:BK-2001": 1, "order:bk-200*": 9, "order:*1": 10, "order:201": 10, "order:BK-*5": 10, "order:*": 99,
			"total:>=500": 50, "total:>500,5": 49, "total:500.50": 1, "total:<=10,5": 1, "total:<20EUR": 0,
			"total:<=20.50EUR": 1, "total:*": 99, "total:nonsense": 0, "due:<2026-01-03": 1, "due:2026-01-31": 1,
			"due:2026-01": 30, "due:2026": 99, "due:>=1.4.2026": 10, "due:>31/3/2026": 10, "signed:yes": 33, "signed:ja": 33,
			"signed:no": 33, "BK-2050": 1, "order": 0, "amount": 0, "signed": 0, "BK-20 total:>900": 10,
			"without:BK-20": 1, `"order:BK-2001"`: 0, "unknown:x": 0,
		} {
			s, err := ParseSearch(search, time.UTC, x.ValueNames(Query{})...)
			if err != nil {
				t.Fatal(err)
			}
			if got := x.Find(Query{Search: s}).Total; got != want {
				t.Errorf("%s finds %d, want %d", search, got, want)
			}
		}
	}
	for _, c := range []struct {
		sort        Sort
		up          bool
		first, last int
	}{{"total", true, 2, 1}, {"total", false, 100, 1}, {"due", false, 100, 1}, {"order", true, 2, 1},
		{"signed", true, 99, 1}, {"nothing", true, 1, 100}} {
		found := x.Find(Query{Sort: c.sort, Ascending: c.up})
		first, last := found.Numbers[0].Number, found.Numbers[99].Number
		if c.sort != "signed" && first != c.first || last != c.last && c.sort != "signed" {
			t.Errorf("by %s, up %t: from %d to %d, want %d to %d", c.sort, c.up, first, last, c.first, c.last)
		}
	}
	sums := x.Sums(Query{})
	var told []string
	for i := range sums {
		told = append(told, fmt.Sprint(sums[i].Name, " ", sums[i].Total.String(), " ", sums[i].Currency, " ", sums[i].Count))
	}
	if want := []string{"total 24524.50 EUR 49", "total 25025.00 SEK 50"}; !slices.Equal(told, want) {
		t.Errorf("the sums are %q, want %q", told, want)
	}
	row := papers(2)[1]
	row.Values[0].Text = "CORRECTED"
	x.Put(row)
	for search, want := range map[string]int{"order:BK-2001": 0, "order:corrected": 1} {
		s, _ := ParseSearch(search, time.UTC, "order")
		if got := x.Find(Query{Search: s}).Total; got != want {
			t.Errorf("after the correction %s finds %d, want %d", search, got, want)
		}
	}
}

func TestASearchThatMayNameAValueIsTold(t *testing.T) {
	for search, want := range map[string]bool{"order:1": true, "words only": false, "sender:x kind:pdf": false,
		"known:1": false, `"order:1"`: false, "order:": false, "x Weight:>7": true, "http://a.example": true} {
		if got := MayNameValue(search, []string{"known"}); got != want {
			t.Errorf("%s: %t, want %t", search, got, want)
		}
	}
	for _, f := range Filters { // no value can have their names
		if !slices.Contains(rule.Taken, f.Name) {
			t.Errorf("a value can be called %s, as a filter is", f.Name)
		}
	}
	for _, c := range Columns {
		if !slices.Contains(rule.Taken, c.Name) {
			t.Errorf("a value can be called %s, as a column is", c.Name)
		}
	}
	for _, sort := range Sorts {
		if !slices.Contains(rule.Taken, string(sort)) {
			t.Errorf("a value can be called %s, as an order is", sort)
		}
	}
}

func TestValuesAreExportedAsTypedCells(t *testing.T) {
	columns, err := ColumnsNamed([]string{"number", "order", "total", "due", "signed", "count"}, "order", "total", "due",
		"signed", "count")
	if err != nil {
		t.Fatal(err)
	}
	lines := []Line{{Number: Number{2026, 1}}, {Number: Number{2026, 2}, Values: []value.Value{
		{Name: "order", Type: value.Text, Text: "=1+1"}, {Name: "total", Type: value.Amount, Text: "1180.50 EUR"},
		{Name: "due", Type: value.Date, Text: "2026-11-30"}, {Name: "signed", Type: value.YesNo, Text: "yes"},
		{Name: "count", Type: value.Number, Text: "12345678901234567890"}}}}
	var table bytes.Buffer
	w, err := NewCSV(&table, columns, time.UTC)
	for i := range lines {
		if err == nil {
			err = w.Write(&lines[i])
		}
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"No.,Order,Total,Due,Signed,Count", "2026-1,,,,,",
		"2026-2,'=1+1,1180.50 EUR,2026-11-30,yes,12345678901234567890"} {
		if !strings.Contains(table.String(), want) {
			t.Errorf("the CSV does not hold %q:\n%s", want, table.String())
		}
	}
	var book bytes.Buffer
	w, err = NewXLSX(&book, columns, time.UTC, t.TempDir())
	for i := range lines {
		if err == nil {
			err = w.Write(&lines[i])
		}
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	f, err := excelize.OpenReader(&book)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	sheet := f.GetSheetName(0)
	for cell, want := range map[string][2]string{"B3": {"=1+1", "=1+1"}, "C3": {"1180.5", "1,180.50 EUR"},
		"D3": {"46356", "2026-11-30"}, "E3": {"yes", "yes"}, "F3": {"12345678901234567890", "12345678901234567890"},
		"C2": {"", ""}} {
		raw, err := f.GetCellValue(sheet, cell, excelize.Options{RawCellValue: true})
		shown, err2 := f.GetCellValue(sheet, cell)
		if err != nil || err2 != nil || raw != want[0] || shown != want[1] {
			t.Errorf("%s is %q, shown as %q, %v %v; want %q", cell, raw, shown, err, err2, want)
		}
	}
}

// BenchmarkValues searches and orders a million filings by values, no two of which are alike.
func BenchmarkValues(b *testing.B) {
	x := &Index{}
	rows := make([]Row, 0, 1000)
	for i := range 1_000_000 {
		rows = append(rows, Row{Number: Number{2026, i + 1}, Message: int64(i), State: Filed, Filed: 1, File: "paper.pdf",
			Values: []value.Value{{Name: "order", Type: value.Text, Text: fmt.Sprintf("BK-%d", i)},
				{Name: "total", Type: value.Amount, Text: fmt.Sprintf("%d.%02d EUR", i%90_000, i%100)},
				{Name: "due", Type: value.Date, Text: time.Unix(int64(i)*1800, 0).UTC().Format(time.DateOnly)}}})
		if len(rows) == cap(rows) {
			x.Put(rows...)
			rows = rows[:0]
		}
	}
	for _, search := range []string{"order:BK-77*", "order:777", "total:>=80000", "total:505.05EUR", "due:<1980-01-01",
		"BK-777777"} {
		s, err := ParseSearch(search, time.UTC, "order", "total", "due")
		if err != nil {
			b.Fatal(err)
		}
		b.Run(search, func(b *testing.B) {
			for b.Loop() {
				if x.Find(Query{Search: s, Most: 50}).Total == 0 {
					b.Fatal("nothing is found")
				}
			}
		})
	}
	b.Run("in the order of the total", func(b *testing.B) {
		for b.Loop() {
			x.Find(Query{Sort: "total", Most: 50})
		}
	})
	b.Run("the sums", func(b *testing.B) {
		for b.Loop() {
			x.Sums(Query{})
		}
	})
}
