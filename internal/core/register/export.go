package register

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/xuri/excelize/v2"

	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/value"
)

// Line is one line of the register with all that can be shown of it.
type Line struct {
	Number        Number
	Filed         time.Time // zero for not filed
	Received      time.Time
	SenderName    string
	SenderAddress string
	Subject       string
	File          string
	Folder        string
	Cabinet       string
	Mailbox       string
	Machine       string // of the office; "" where only one is asked
	Rule          string
	Revision      int
	Kind          string
	Size          int64  // octets
	Checksum      string // SHA-256, in hexadecimal
	State         State
	Remark        string // why a number is void, who took it back, what replaced it
	Notes         string
	Values        []value.Value // what was read of the file
	Place         Place         // of the file
	Message       string        // mid: URL
	Story         string        // web address of the filing in the console

	Files           []FileOf // of a line that represents a message
	numbers, states string   // likewise: all of them
}

// Column is one column of the register.
type Column struct {
	Name  string // as it is asked for
	Title string
	Means string
	Usual bool    // shown unless something else is chosen
	width float64 // in characters
	value func(l *Line) any
}

// link is a cell that opens something.
type link struct{ text, url string }

// Columns are all columns, in their usual order.
var Columns = []Column{
	{"number", "No.", "the register number", true, 11,
		func(l *Line) any { return link{cmp.Or(l.numbers, l.Number.String()), l.Story} }},
	{"file", "File", "the file's name; opens it where the cabinet has an address", true, 44,
		func(l *Line) any { return link{l.File, l.Place.URL} }},
	{"sender", "Sender", "the sender's name, or the address where there is none", true, 26, func(l *Line) any {
		if l.SenderName == "" {
			return l.SenderAddress
		}
		return l.SenderName
	}},
	{"received", "Received", "when the message was received", true, 17, func(l *Line) any { return l.Received }},
	{"subject", "Subject", "the message's subject", true, 44, func(l *Line) any { return l.Subject }},
	{"folder", "Folder", "the folder in the cabinet", true, 40, func(l *Line) any { return l.Folder }},
	{"rule", "Rule", "the rule that filed it", true, 26, func(l *Line) any { return l.Rule }},
	{"size", "Size", "octets", true, 12, func(l *Line) any { return l.Size }},
	{"state", "State", "its state", true, 12, func(l *Line) any { return cmp.Or(l.states, l.State.String()) }},
	{"filed", "Filed", "when it was filed", true, 17, func(l *Line) any { return l.Filed }},
	{"address", "Address", "the sender's address", false, 30, func(l *Line) any { return l.SenderAddress }},
	{"cabinet", "Cabinet", "the cabinet", false, 18, func(l *Line) any { return l.Cabinet }},
	{"place", "Place", "where the file is for colleagues", false, 60, func(l *Line) any { return l.Place.Shown }},
	{"mailbox", "Mailbox", "the mailbox", false, 16, func(l *Line) any { return l.Mailbox }},
	{"machine", "Machine", "the machine of the office", false, 16, func(l *Line) any { return l.Machine }},
	{"revision", "Revision", "which revision of the rule", false, 9, func(l *Line) any { return l.Revision }},
	{"kind", "Kind", "the kind of file", false, 14, func(l *Line) any { return l.Kind }},
	{"checksum", "SHA-256", "the file's checksum, in hexadecimal", false, 66, func(l *Line) any { return l.Checksum }},
	{"remark", "Remark", "why, by whom, by what", false, 30, func(l *Line) any { return l.Remark }},
	{"notes", "Notes", "what people wrote about it", false, 40, func(l *Line) any { return l.Notes }},
	{"message", "Message", "the message's address (RFC 2392)", false, 40,
		func(l *Line) any { return link{l.Message, l.Message} }},
}

// ValueColumn is the column of a value that rules read.
func ValueColumn(name string) Column {
	runes := []rune(strings.ReplaceAll(name, "-", " "))
	runes[0] = unicode.ToUpper(runes[0])
	return Column{Name: name, Title: string(runes), Means: "a value that rules read of the files", width: 18,
		value: func(l *Line) any { return typed(l.Values, name) }}
}

// money and day are cells of values.
type (
	money struct{ amount, currency string }
	day   struct{ time.Time }
)

// typed is a value as a cell; nil where there is none.
func typed(all []value.Value, name string) any {
	i := slices.IndexFunc(all, func(v value.Value) bool { return v.Name == name && v.Text != "" })
	if i < 0 {
		return nil
	}
	switch v := &all[i]; v.Type {
	case value.Number, value.Amount:
		amount, currency, _ := strings.Cut(v.Text, " ")
		return money{amount, currency}
	case value.Date:
		if at, err := time.Parse(time.DateOnly, v.Text); err == nil {
			return day{at}
		}
	}
	return all[i].Text
}

// ValuesNamed are those names of columns that only values can have.
func ValuesNamed(names []string) []string {
	return slices.DeleteFunc(slices.Clone(names), func(name string) bool {
		return !rule.ValueName.MatchString(name) || slices.Contains(rule.Taken, name)
	})
}

// ColumnsNamed finds columns by their names, those of values among them; none gives the usual ones.
func ColumnsNamed(names []string, values ...string) ([]Column, error) {
	var chosen []Column
	for _, name := range names {
		if slices.Contains(values, name) {
			if !slices.ContainsFunc(chosen, func(c Column) bool { return c.Name == name }) {
				chosen = append(chosen, ValueColumn(name))
			}
			continue
		}
		i := slices.IndexFunc(Columns, func(c Column) bool { return c.Name == name })
		if i < 0 {
			var all []string
			for _, c := range Columns {
				all = append(all, c.Name)
			}
			all = append(all, values...)
			return nil, &SearchError{fmt.Sprintf("there is no column “%s”; columns are %s", name, strings.Join(all, ", "))}
		}
		if !slices.ContainsFunc(chosen, func(c Column) bool { return c.Name == name }) {
			chosen = append(chosen, Columns[i])
		}
	}
	if len(chosen) == 0 {
		chosen = slices.DeleteFunc(slices.Clone(Columns), func(c Column) bool { return !c.Usual })
	}
	return chosen, nil
}

// WrittenWith is the column that says in every line with whose rights a table was written: what it holds does not
// depend on who opens it.
func WrittenWith(rights string) Column {
	return Column{Name: "rights", Title: "Written with the rights of", Means: "with whose rights the table was written",
		width: 26, value: func(*Line) any { return rights }}
}

// Writer writes lines as a table. Close ends the table; nothing is whole before.
// Discard gives it up instead.
type Writer interface {
	Write(l *Line) error
	Close() error
	Discard() error
}

// Text is how the column of a line reads.
func (c *Column) Text(l *Line, zone *time.Location) string {
	switch v := c.value(l).(type) {
	case time.Time:
		if v.IsZero() {
			return ""
		}
		return v.In(zone).Format("2006-01-02 15:04:05")
	case int64:
		return strconv.FormatInt(v, 10)
	case int:
		return strconv.Itoa(v)
	case link:
		return v.text
	case money:
		return strings.TrimSpace(v.amount + " " + v.currency)
	case day:
		return v.Format(time.DateOnly)
	case string:
		return v
	}
	return ""
}

// byteOrderMark tells spreadsheet programs that a CSV file is UTF-8.
const byteOrderMark = "\ufeff"

type csvWriter struct {
	w       *bufio.Writer
	columns []Column
	zone    *time.Location
}

// NewCSV writes lines as CSV (RFC 4180): UTF-8 with a byte order mark, CRLF, a
// head, times of the zone as 2026-05-12 14:03:11, sizes in octets. A text that a
// spreadsheet program would take for a formula gets an apostrophe before it, also
// where the program takes another character than the comma to part cells.
func NewCSV(w io.Writer, columns []Column, zone *time.Location) (Writer, error) {
	if _, err := io.WriteString(w, byteOrderMark); err != nil {
		return nil, err
	}
	c := &csvWriter{bufio.NewWriter(w), columns, zone}
	head := make([]string, len(columns))
	for i := range columns {
		head[i] = columns[i].Title
	}
	if err := c.row(head); err != nil {
		return nil, err
	}
	return c, nil
}

func (c *csvWriter) Write(l *Line) error {
	row := make([]string, len(c.columns))
	for i := range c.columns {
		row[i] = harmless(c.columns[i].Text(l, c.zone))
	}
	return c.row(row)
}

// row writes cells. A cell with a character that some program takes for a separator is quoted.
func (c *csvWriter) row(cells []string) error {
	for i, cell := range cells {
		if i > 0 {
			_ = c.w.WriteByte(',')
		}
		if strings.ContainsAny(cell, parting+"\"") || strings.TrimSpace(cell) != cell {
			cell = `"` + strings.ReplaceAll(cell, `"`, `""`) + `"`
		}
		_, _ = c.w.WriteString(cell)
	}
	_, err := c.w.WriteString("\r\n") // it keeps the first error
	return err
}

// parting are the characters that spreadsheet programs take to part cells and rows, by their language and settings.
const parting = ",;\t|\r\n"

// formula are the characters with which a formula begins, also in the width of East Asian scripts.
const formula = "=+-@＝＋－＠"

// harmless keeps a text from being taken for a formula.
func harmless(s string) string {
	if !strings.ContainsAny(s, formula+"\t\r\n") {
		return s
	}
	var b strings.Builder
	begins := true // a cell, for some program
	for _, r := range s {
		if r == '\r' || r == '\t' {
			r, begins = ' ', true
		}
		if begins && strings.ContainsRune(formula, r) {
			b.WriteByte('\'')
		}
		begins = strings.ContainsRune(parting, r) || begins && (r == ' ' || r == '"')
		b.WriteRune(r)
	}
	return b.String()
}

func (c *csvWriter) Close() error {
	return c.w.Flush()
}

func (c *csvWriter) Discard() error { return nil }

// What one sheet of a workbook holds at most.
const (
	mostRows = 1 << 20
	mostLink = 255 // octets of a text in a formula
	mostCell = 32767
)

type xlsxWriter struct {
	styles    map[string]int // those that were made as they were needed
	out       io.Writer
	file      *excelize.File
	sheet     *excelize.StreamWriter
	columns   []Column
	zone      *time.Location
	row       int
	sheets    int
	head      int // styles
	moment    int
	number    int
	linked    int
	rowsLimit int
}

// NewXLSX writes lines as a workbook (ECMA-376): typed cells, times of the zone,
// links, a head that stays in view with a filter on every column. What
// does not fit on one sheet goes on on the next. Temporary files are made in
// folder, "" for the system's.
func NewXLSX(w io.Writer, columns []Column, zone *time.Location, folder string) (Writer, error) {
	return newXLSX(w, columns, zone, folder, mostRows)
}

func newXLSX(w io.Writer, columns []Column, zone *time.Location, folder string, rows int) (*xlsxWriter, error) {
	x := &xlsxWriter{out: w, file: excelize.NewFile(excelize.Options{TmpDir: folder}), columns: columns, zone: zone,
		rowsLimit: rows}
	format := "yyyy-mm-dd hh:mm"
	var errs [4]error
	x.head, errs[0] = x.file.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true},
		Border: []excelize.Border{{Type: "bottom", Style: 1, Color: "555555"}}})
	x.moment, errs[1] = x.file.NewStyle(&excelize.Style{CustomNumFmt: &format})
	x.number, errs[2] = x.file.NewStyle(&excelize.Style{NumFmt: 3}) // #,##0
	x.linked, errs[3] = x.file.NewStyle(&excelize.Style{Font: &excelize.Font{Color: "1F3A5F", Underline: "single"}})
	if err := errors.Join(errs[:]...); err != nil {
		return nil, err
	}
	if err := x.begin(); err != nil {
		return nil, err
	}
	return x, nil
}

// begin begins a sheet.
func (x *xlsxWriter) begin() error {
	x.sheets++
	name := "Register"
	if x.sheets > 1 {
		name += " " + strconv.Itoa(x.sheets)
		if _, err := x.file.NewSheet(name); err != nil {
			return err
		}
	} else if err := x.file.SetSheetName("Sheet1", name); err != nil {
		return err
	}
	var err error
	if x.sheet, err = x.file.NewStreamWriter(name); err != nil {
		return err
	}
	for i, c := range x.columns {
		if err := x.sheet.SetColWidth(i+1, i+1, c.width); err != nil {
			return err
		}
	}
	if err := x.sheet.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2",
		ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	head := make([]any, len(x.columns))
	for i, c := range x.columns {
		head[i] = excelize.Cell{StyleID: x.head, Value: c.Title}
	}
	x.row = 1
	return x.sheet.SetRow("A1", head)
}

// end ends a sheet.
func (x *xlsxWriter) end() error {
	last, err := excelize.CoordinatesToCellName(len(x.columns), max(x.row, 2))
	if err != nil {
		return err
	}
	stripes := false
	return errors.Join(
		x.sheet.AddTable(&excelize.Table{Range: "A1:" + last, Name: "Register" + strconv.Itoa(x.sheets),
			StyleName: "TableStyleLight1", ShowRowStripes: &stripes}), x.sheet.Flush())
}

func (x *xlsxWriter) Write(l *Line) error {
	if x.row == x.rowsLimit {
		if err := errors.Join(x.end(), x.begin()); err != nil {
			return err
		}
	}
	row := make([]any, len(x.columns))
	for i := range x.columns {
		row[i] = x.cell(x.columns[i].value(l))
	}
	x.row++
	return x.sheet.SetRow("A"+strconv.Itoa(x.row), row)
}

func (x *xlsxWriter) cell(value any) any {
	switch v := value.(type) {
	case time.Time:
		if v.IsZero() {
			return nil
		}
		return excelize.Cell{StyleID: x.moment, Value: wall(v.In(x.zone))}
	case int64:
		return excelize.Cell{StyleID: x.number, Value: v}
	case day:
		return excelize.Cell{StyleID: x.dayStyle(), Value: v.Time}
	case money:
		number, err := strconv.ParseFloat(v.amount, 64)
		if err != nil || len(strings.Trim(v.amount, "-.")) > mostExact {
			return strings.TrimSpace(v.amount + " " + v.currency)
		}
		return excelize.Cell{StyleID: x.moneyStyle(v), Value: number}
	case link:
		if v.url == "" || len(v.url) > mostLink || len(v.text) > mostLink {
			return sound(v.text)
		}
		return excelize.Cell{StyleID: x.linked,
			Formula: fmt.Sprintf(`HYPERLINK("%s","%s")`, doubled(v.url), doubled(sound(v.text))), Value: sound(v.text)}
	case string:
		return sound(v)
	}
	return value
}

// mostExact is how many digits a workbook holds exactly (ECMA-376: IEEE 754 double precision).
const mostExact = 15

func (x *xlsxWriter) dayStyle() int {
	return x.style("day", &excelize.Style{CustomNumFmt: ptr("yyyy-mm-dd")})
}

// moneyStyle shows a number with as many places as it has, and its currency.
func (x *xlsxWriter) moneyStyle(m money) int {
	_, places, _ := strings.Cut(m.amount, ".")
	format := "#,##0"
	if places != "" {
		format += "." + strings.Repeat("0", len(places))
	}
	if m.currency != "" {
		format += ` "` + m.currency + `"`
	}
	return x.style(format, &excelize.Style{CustomNumFmt: &format})
}

func ptr[T any](v T) *T { return &v }

// style is a style of the workbook, made the first time.
func (x *xlsxWriter) style(name string, s *excelize.Style) int {
	id, there := x.styles[name]
	if !there {
		var err error
		if id, err = x.file.NewStyle(s); err != nil {
			return 0 // the cell is shown as it is
		}
		if x.styles == nil {
			x.styles = map[string]int{}
		}
		x.styles[name] = id
	}
	return id
}

// wall is the time of a zone as a workbook has it: without a zone.
func wall(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.UTC)
}

func doubled(s string) string { return strings.ReplaceAll(s, `"`, `""`) }

// sound takes out what XML 1.0 (section 2.2) cannot hold, and cuts what is
// longer than a cell.
func sound(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < 0x20 && r != '\t' && r != '\n' || r == 0xFFFE || r == 0xFFFF || r == 0xFFFD {
			return -1
		}
		return r
	}, s)
	if len(s) > mostCell {
		n := 0
		for i := range s {
			if n++; n > mostCell {
				return s[:i]
			}
		}
	}
	return s
}

func (x *xlsxWriter) Close() error {
	err := x.end()
	if err == nil {
		_, err = x.file.WriteTo(x.out)
	}
	return errors.Join(err, x.file.Close())
}

func (x *xlsxWriter) Discard() error { return x.file.Close() }

// Table writes rows of cells as CSV in the form of NewCSV, the first row with the titles first.
func Table(w io.Writer, titles []string, rows iter.Seq[[]string]) error {
	if _, err := io.WriteString(w, byteOrderMark); err != nil {
		return err
	}
	c := &csvWriter{w: bufio.NewWriter(w)}
	if err := c.row(titles); err != nil {
		return err
	}
	for row := range rows {
		safe := make([]string, len(row))
		for i, cell := range row {
			safe[i] = harmless(cell)
		}
		if err := c.row(safe); err != nil {
			return err
		}
	}
	return c.Close()
}
